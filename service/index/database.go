// Package index finds files by name and by content over all accounts. It keeps what it has
// listed in a database of its own beside the records, which can be lost: it is then built
// again beside the work.
//
// An [Index] lists each account gently, folder by folder, and again after a while; follows
// the change feeds of those that have one; and lists a folder at once that is known to have
// changed. Of accounts whose contents are searched too, it reads the text of each file in a
// process that can do nothing else (package preview).
package index

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"github.com/mattn/go-sqlite3"
)

// FileName is the database's name in the data folder.
const FileName = "search.db"

// format is the version of the schema. A database of another one is built again.
const format = 2

var schema = []string{
	// An account's entries hang on its folder 0. due is when a folder is listed next, in
	// seconds since 1970, and listed whether it ever was. state is that of the text; ref is the
	// provider's id, by which what was moved is known again.
	`CREATE TABLE accounts (id INTEGER PRIMARY KEY, link TEXT NOT NULL UNIQUE, name TEXT NOT NULL, contents INTEGER NOT NULL,
		cursor TEXT NOT NULL DEFAULT '', swept INTEGER NOT NULL DEFAULT 0)`,
	`CREATE TABLE entries (id INTEGER PRIMARY KEY, account INTEGER NOT NULL, parent INTEGER NOT NULL, key BLOB NOT NULL, name TEXT NOT NULL,
		step TEXT NOT NULL DEFAULT '', folder INTEGER NOT NULL, kind TEXT NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT NULL,
		revision TEXT NOT NULL, ref TEXT NOT NULL, due INTEGER NOT NULL DEFAULT 0, listed INTEGER NOT NULL DEFAULT 0,
		state INTEGER NOT NULL DEFAULT 0, why TEXT NOT NULL DEFAULT '', tries INTEGER NOT NULL DEFAULT 0)`,
	"CREATE UNIQUE INDEX entries_place ON entries (account, parent, key)",
	"CREATE INDEX entries_due ON entries (account, due) WHERE folder = 1 AND parent >= 0",
	"CREATE INDEX entries_new ON entries (account) WHERE folder = 1 AND parent >= 0 AND listed = 0",
	"CREATE INDEX entries_ref ON entries (account, ref) WHERE ref <> ''",
	"CREATE INDEX entries_texts ON entries (state, due) WHERE state = 1",
	"CREATE INDEX entries_unread ON entries (account, id) WHERE state = 3",
	"CREATE INDEX entries_stated ON entries (account) WHERE folder = 0 AND state <> 0",
	"CREATE INDEX entries_doomed ON entries (id) WHERE parent = -1",
	"CREATE TABLE texts (id INTEGER PRIMARY KEY, length INTEGER NOT NULL, kept BLOB NOT NULL)",
	// The words of texts are in the first column, whose entries are two bytes shorter.
	"CREATE VIRTUAL TABLE words USING fts5(text, name, content='', contentless_delete=1, tokenize=\"unicode61 remove_diacritics 2\")",
	"CREATE VIRTUAL TABLE parts USING fts5(name, content='', contentless_delete=1, tokenize='trigram remove_diacritics 1')",
	fmt.Sprintf("PRAGMA user_version = %d", format),
}

// The states of an entry's text.
const (
	textNone   = 0 // it has none that is read
	textDue    = 1
	textRead   = 2
	textUnread = 3 // it could not be read; see why
)

// driverName is SQLite's.
var driverName = "sqlite3"

// doomed is the parent of what is removed and not cleaned up yet.
const doomed = -1

// database is the file and its connections: one writes, several read.
type database struct {
	path        string
	write, read *sql.DB
	writing     sync.Mutex
}

// openDatabase opens the database in a folder. One that is damaged, or of another version,
// is removed and made again.
func openDatabase(ctx context.Context, dir string, log *slog.Logger) (*database, error) {
	path := filepath.Join(dir, FileName)
	db, err := tryOpen(ctx, path)
	if err == nil {
		return db, nil
	}
	if !errors.Is(err, errOther) && !isDamage(err) {
		return nil, err
	}
	log.Warn("the search index is built again", "file", path, "why", err)
	if err := remove(path); err != nil {
		return nil, err
	}
	return tryOpen(ctx, path)
}

func remove(path string) error {
	var all error
	for _, file := range []string{path, path + "-wal", path + "-shm"} {
		if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
			all = errors.Join(all, err)
		}
	}
	return all
}

// errOther says that a database is of another version.
var errOther = errors.New("it was written by another version")

// isDamage reports whether an error says that the file is no database any more.
func isDamage(err error) bool {
	var failed sqlite3.Error
	return errors.As(err, &failed) && (failed.Code == sqlite3.ErrCorrupt || failed.Code == sqlite3.ErrNotADB)
}

func tryOpen(ctx context.Context, path string) (_ *database, err error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("could not open the search index: %w", err)
	}
	if err := errors.Join(file.Chmod(0o600), file.Close()); err != nil {
		return nil, err
	}
	// The index can be lost, so that it need not be on the disk before it goes on.
	options := "?_journal_mode=WAL&_synchronous=NORMAL&_busy_timeout=10000&_cache_size=-8000&_stmt_cache_size=64"
	db := &database{path: path}
	if db.write, err = sql.Open(driverName, "file:"+path+options+"&_txlock=immediate"); err != nil {
		return nil, err
	}
	db.write.SetMaxOpenConns(1)
	defer func() {
		if err != nil {
			db.close()
		}
	}()
	version := 0
	if err := db.write.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
		return nil, err
	}
	if version == 0 {
		if err := db.make(ctx); err != nil {
			return nil, err
		}
	} else if version != format {
		return nil, errOther
	}
	var check string
	if err := db.write.QueryRowContext(ctx, "SELECT count(*) || '' FROM accounts").Scan(&check); err != nil {
		return nil, err
	}
	if db.read, err = sql.Open(driverName, "file:"+path+options+"&mode=ro&_query_only=1"); err != nil {
		return nil, err
	}
	db.read.SetMaxOpenConns(3)
	db.read.SetMaxIdleConns(1)
	return db, nil
}

// make makes the tables.
func (db *database) make(ctx context.Context) error {
	if _, err := db.write.ExecContext(ctx, "PRAGMA auto_vacuum = INCREMENTAL"); err != nil {
		return err
	}
	return db.change(ctx, func(tx *sql.Tx) error {
		for _, statement := range schema {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return fmt.Errorf("could not make the search index: %w", err)
			}
		}
		return nil
	})
}

// change writes in one transaction.
func (db *database) change(ctx context.Context, do func(tx *sql.Tx) error) error {
	db.writing.Lock()
	defer db.writing.Unlock()
	tx, err := db.write.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

func (db *database) close() {
	for _, pool := range []*sql.DB{db.read, db.write} {
		if pool != nil {
			pool.Close()
		}
	}
}

// size returns how many bytes the database holds.
func (db *database) size(ctx context.Context) (bytes int64, err error) {
	err = db.read.QueryRowContext(ctx,
		"SELECT (page_count - freelist_count) * page_size FROM pragma_page_count, pragma_freelist_count, pragma_page_size").Scan(&bytes)
	return bytes, err
}
