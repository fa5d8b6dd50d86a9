// Package records keeps what the service must not forget, in one SQLite
// database in its data folder: accounts with their sealed secrets, jobs, runs
// with their items, the pairs, and who may sign in. It is the only place that
// knows SQL. *DB implements transfer.Records.
//
// There is one writer. What a run writes goes in batches, as prepared
// statements in a transaction, past the mapper: a row costs microseconds so.
// Reading has connections of its own, which the write-ahead log lets go on
// while something is written.
package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/transfer"
)

// FileName is the database's name in the data folder.
const FileName = "heron.db"

// ErrNewer is the error if a newer version has written the database.
var ErrNewer = errors.New("the records were written by a newer version")

// ErrNotFound is the error if there is no such row.
var ErrNotFound = errors.New("not in the records")

// ErrTaken is the error if a name is taken.
var ErrTaken = errors.New("the name is taken")

// DB is the database.
type DB struct {
	write *gorm.DB
	read  *gorm.DB
	// The pools beneath, for statements in batches.
	writePool, readPool *sql.DB
	// path of the database's file, and the file as it was opened.
	path   string
	opened os.FileInfo
	notes  *notebook

	numbersMu sync.Mutex
	numbers   map[string]int64 // of runs, by id

	accounts accountCache
}

// ErrMoved is the error if the database's file was moved or removed while the service
// runs: everything that is written from then on is lost.
var ErrMoved = errors.New("the records are not at their place any more")

// Check returns ErrMoved where the file that is written to is not the one at its path.
func (db *DB) Check() error {
	now, err := os.Stat(db.path)
	if err != nil || !os.SameFile(now, db.opened) {
		return remedy.Errorf("%w: %s was moved, removed or replaced while the service runs; put it back, and start the service again", ErrMoved,
			db.path)
	}
	return nil
}

// Open opens the database in a data folder, making or migrating it. The caller
// holds the folder's lock.
func Open(dir string) (*DB, error) {
	path := filepath.Join(dir, FileName)
	if err := makePrivate(path); err != nil {
		return nil, fmt.Errorf("could not make %s: %w", path, err)
	}
	write, err := open(path, "rwc&_txlock=immediate", 1)
	if err != nil {
		return nil, fmt.Errorf("could not open %s: %w", path, err)
	}
	db := &DB{write: write, path: path}
	if db.writePool, err = write.DB(); err != nil {
		return nil, err
	}
	if err := canShrink(db.writePool); err != nil {
		return nil, fmt.Errorf("could not prepare %s: %w", path, err)
	}
	if err := keepAside(db.writePool, path); err != nil {
		db.writePool.Close()
		return nil, err
	}
	if err := migrate(write); err != nil {
		db.writePool.Close()
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return nil, ErrNewer
		}
		return nil, fmt.Errorf("could not bring %s up to date: %w", path, err)
	}
	if db.read, err = open(path, "ro&_query_only=1", 4); err != nil {
		return nil, err
	}
	if db.readPool, err = db.read.DB(); err != nil {
		return nil, err
	}
	if db.opened, err = os.Stat(path); err != nil {
		return nil, err
	}
	db.notes, err = openNotebook(dir)
	return db, err
}

// canShrink has the file of a database give back pages that it does not need. One that
// was made otherwise is written again, once.
func canShrink(pool *sql.DB) error {
	var mode int
	if err := pool.QueryRow("PRAGMA auto_vacuum").Scan(&mode); err != nil || mode == 2 {
		return err
	}
	if _, err := pool.Exec("PRAGMA auto_vacuum = INCREMENTAL"); err != nil {
		return err
	}
	_, err := pool.Exec("VACUUM")
	return err
}

// makePrivate makes the database readable by its owner alone, however the folder and the
// process are set. Its journals get the same mode.
func makePrivate(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer file.Close()
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		if err := os.Chmod(name, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// driverName is the name of the SQLite driver; tests use one that records the statements.
var driverName = sqlite.DriverName

func open(path, mode string, connections int) (*gorm.DB, error) {
	escaped := strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
	dsn := "file:" + escaped + "?_journal_mode=WAL&_synchronous=FULL&_busy_timeout=10000&_foreign_keys=1" +
		"&_cache_size=-4000&_stmt_cache_size=128&_mutex=no&mode=" + mode
	db, err := gorm.Open(sqlite.New(sqlite.Config{DriverName: driverName, DSN: dsn}), &gorm.Config{
		Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true,
	})
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	return db, nil
}

// Close closes the database.
func (db *DB) Close() error {
	return errors.Join(db.notes.close(), db.readPool.Close(), db.writePool.Close())
}

func migrate(db *gorm.DB) error {
	options := *gormigrate.DefaultOptions
	options.ValidateUnknownMigrations = true
	options.UseTransaction = true
	return gormigrate.New(db, &options, migrations).Migrate()
}

var migrations = []*gormigrate.Migration{migration("0001-one-tree-one-copy", firstSchema), migration("0002-working-with-files", []string{
	"ALTER TABLE accounts ADD COLUMN read_only INTEGER NOT NULL DEFAULT 0",
	"CREATE TABLE arrivals (run TEXT PRIMARY KEY, address TEXT NOT NULL) WITHOUT ROWID",
}), migration("0003-consent", []string{
	"ALTER TABLE accounts ADD COLUMN owner TEXT NOT NULL DEFAULT ''",
	"CREATE TABLE definitions (name TEXT PRIMARY KEY, text TEXT NOT NULL, created_at DATETIME NOT NULL) WITHOUT ROWID",
	"CREATE TABLE registrations (provider TEXT PRIMARY KEY, client_id TEXT NOT NULL, secret BLOB, created_at DATETIME NOT NULL) WITHOUT ROWID",
}), migration("0004-the-life-of-a-link", linkSchema), migration("0005-names-and-renames", []string{
	"ALTER TABLE items ADD COLUMN target_key BLOB",
	"ALTER TABLE items ADD COLUMN origin TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE items ADD COLUMN mark TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE pairs ADD COLUMN target_key BLOB",
	"ALTER TABLE pairs ADD COLUMN mark TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE pairs ADD COLUMN proof TEXT NOT NULL DEFAULT ''",
	"CREATE INDEX pairs_mark ON pairs (scope, mark) WHERE mark <> ''",
}), migration("0006-largest-first", []string{
	"CREATE INDEX items_large ON items (run, writes, size) WHERE state = 'waiting' AND size >= " + large,
}), migration("0007-jobs", jobSchema), migration("0008-migrations", certificateSchema), migration("0009-arrivals", incomingSchema),
	migration("0010-contents", contentSchema), migration("0011-certainty", []string{
		"ALTER TABLE runs ADD COLUMN judged INTEGER NOT NULL DEFAULT 0",
		"ALTER TABLE runs ADD COLUMN asked INTEGER NOT NULL DEFAULT 0",
		"ALTER TABLE scopes ADD COLUMN place TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE scopes ADD COLUMN token TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE scopes ADD COLUMN next TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE scopes ADD COLUMN ends TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE pairs ADD COLUMN digest TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE certificate_files ADD COLUMN digest TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE link_events ADD COLUMN mark TEXT NOT NULL DEFAULT ''",
		"CREATE INDEX link_events_mark ON link_events (mark, seq) WHERE mark <> ''",
		"CREATE INDEX link_events_name ON link_events (name, seq)",
		"CREATE INDEX link_events_ended ON link_events (at, account) WHERE what = 'ended'",
		"CREATE INDEX runs_open ON runs (job, number) WHERE ended_at IS NULL",
		"CREATE INDEX items_writing ON items (run, coalesce(target_key, key)) WHERE writes = " + writes,
	}), migration("0012-kept-counts", []string{
		"ALTER TABLE runs ADD COLUMN lost TEXT NOT NULL DEFAULT '[]'",
		"ALTER TABLE scopes ADD COLUMN known INTEGER NOT NULL DEFAULT 0",
		"UPDATE scopes SET known = (SELECT count(*) FROM pairs WHERE scope = scopes.number AND kept = 0 AND substr(key, -1) <> CAST('/' " +
			"AS BLOB))",
	}), migration("0013-sessions", []string{
		"ALTER TABLE accounts ADD COLUMN origin TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE tokens ADD COLUMN \"from\" TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE tokens ADD COLUMN client TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE tokens ADD COLUMN seen_at DATETIME",
	}), migration("0014-thinning", []string{
		"ALTER TABLE runs ADD COLUMN thinned INTEGER NOT NULL DEFAULT 0",
		"ALTER TABLE runs ADD COLUMN thinned_to INTEGER NOT NULL DEFAULT 0",
		"ALTER TABLE runs ADD COLUMN thin TEXT NOT NULL DEFAULT '{}'",
		"CREATE INDEX runs_kept ON runs (ended_at) WHERE thinned = 0 AND ended_at IS NOT NULL",
	}), migration("0015-open-uploads", openUploadSchema), migration("0016-causes", []string{
		"CREATE INDEX items_causes ON items (run, state, cause, size) WHERE cause <> ''",
	}), renameMigration(), migration("0018-lists-of-runs", runListSchema),
	migration("0019-lists-of-items", itemListSchema),
	migration("0020-usage", usageSchema), migration("0021-history", historySchema),
	migration("0022-rehearsals", rehearsalSchema), migration("0023-account-notes", accountNoteSchema),
	migration("0024-store-locks", []string{"ALTER TABLE history ADD COLUMN enforced INTEGER NOT NULL DEFAULT 0"}),
	migration("0025-people", peopleSchema),
	migration("0026-share-lists", sharesSchema),
	migration("0027-search", []string{"ALTER TABLE accounts ADD COLUMN search TEXT NOT NULL DEFAULT ''"}),
	migration("0028-share-links", shareLinksSchema), migration("0029-annotations", annotationSchema),
	migration("0030-gateway", gatewaySchema),
	migration("0031-own-versions", []string{
		"ALTER TABLE history ADD COLUMN version TEXT NOT NULL DEFAULT ''",
		"ALTER TABLE history ADD COLUMN revision TEXT NOT NULL DEFAULT ''",
	}), migration("0032-workers", workersSchema), migration("0033-worker-grants", workerGrantsSchema),
	migration("0034-worker-managers", workerManagersSchema)}

// migration is one of several statements.
func migration(id string, statements []string) *gormigrate.Migration {
	return &gormigrate.Migration{ID: id, Migrate: func(tx *gorm.DB) error {
		for _, statement := range statements {
			if err := tx.Exec(statement).Error; err != nil {
				return err
			}
		}
		return nil
	}}
}

// writes and removes are plan.PhaseWrite and plan.PhaseRemove, as an index has to have
// them.
var writes, removes = strconv.Itoa(int(plan.PhaseWrite)), strconv.Itoa(int(plan.PhaseRemove))

var jobSchema = []string{
	"ALTER TABLE jobs ADD COLUMN spec TEXT NOT NULL DEFAULT '{}'",
	"ALTER TABLE jobs ADD COLUMN suspended INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE jobs ADD COLUMN seen_at DATETIME",
	"ALTER TABLE jobs ADD COLUMN changed_at DATETIME",
	"ALTER TABLE runs ADD COLUMN type TEXT NOT NULL DEFAULT 'copy'",
	"ALTER TABLE runs ADD COLUMN started_by TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE runs ADD COLUMN released INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE runs ADD COLUMN removed INTEGER NOT NULL DEFAULT 0",
	`CREATE TABLE notices (
		seq INTEGER PRIMARY KEY, at DATETIME NOT NULL, event TEXT NOT NULL, subject TEXT NOT NULL, text TEXT NOT NULL, payload TEXT NOT NULL,
		channel TEXT NOT NULL, tries INTEGER NOT NULL, due_at DATETIME NOT NULL, sent_at DATETIME, given_up INTEGER NOT NULL, why TEXT NOT NULL)`,
	"CREATE INDEX notices_due ON notices (due_at) WHERE sent_at IS NULL AND given_up = 0",
	"CREATE INDEX runs_job ON runs (job, number)",
	"ALTER TABLE pairs ADD COLUMN target_mark TEXT NOT NULL DEFAULT ''",
	"CREATE INDEX pairs_target_mark ON pairs (scope, target_mark) WHERE target_mark <> ''",
	"CREATE INDEX pairs_target_key ON pairs (scope, target_key) WHERE target_key IS NOT NULL",
	"CREATE INDEX items_removing ON items (run, coalesce(target_key, key)) WHERE writes = " + removes,
}

// large is transfer.Large, as an index has to have it.
var large = strconv.Itoa(transfer.Large)

var linkSchema = []string{
	"ALTER TABLE accounts ADD COLUMN suspended INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE accounts ADD COLUMN seen_at DATETIME",
	"ALTER TABLE accounts ADD COLUMN mark TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE accounts ADD COLUMN signed_in TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE jobs ADD COLUMN once INTEGER NOT NULL DEFAULT 1",
	`CREATE TABLE link_events (
		seq INTEGER PRIMARY KEY, account TEXT NOT NULL, name TEXT NOT NULL, at DATETIME NOT NULL, what TEXT NOT NULL,
		by TEXT NOT NULL, why TEXT NOT NULL, settings TEXT NOT NULL)`,
	"CREATE INDEX link_events_account ON link_events (account, seq)",
	// Accounts that were linked before begin their history with what they are.
	`INSERT INTO link_events (account, name, at, what, by, why, settings)
		SELECT id, name, created_at, 'linked', '', '', json_object('provider', provider, 'options', json(options), 'start', start,
			'read_only', json(CASE WHEN read_only THEN 'true' ELSE 'false' END), 'owner', owner) FROM accounts`,
	"CREATE TABLE space_samples (account TEXT NOT NULL, at DATETIME NOT NULL, used INTEGER NOT NULL, free INTEGER NOT NULL, total INTEGER " +
		"NOT NULL)",
	"CREATE INDEX space_samples_account ON space_samples (account, at)",
	"CREATE TABLE speeds (seq INTEGER PRIMARY KEY, account TEXT NOT NULL, at DATETIME NOT NULL, result TEXT NOT NULL)",
	"CREATE INDEX speeds_account ON speeds (account, seq)",
}

var firstSchema = []string{
	`CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID`,
	`CREATE TABLE accounts (
		id TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, provider TEXT NOT NULL, options TEXT NOT NULL,
		start TEXT NOT NULL, secret BLOB, created_at DATETIME NOT NULL)`,
	`CREATE TABLE tokens (
		id TEXT PRIMARY KEY, kind TEXT NOT NULL, hash BLOB NOT NULL UNIQUE, role TEXT NOT NULL,
		created_at DATETIME NOT NULL, expires_at DATETIME)`,
	`CREATE TABLE jobs (
		id TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, type TEXT NOT NULL, routes TEXT NOT NULL, rules TEXT NOT NULL,
		created_at DATETIME NOT NULL)`,
	`CREATE TABLE runs (
		number INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, job TEXT NOT NULL, state TEXT NOT NULL, cause TEXT NOT NULL,
		why TEXT NOT NULL, routes TEXT NOT NULL, rules TEXT NOT NULL, planned INTEGER NOT NULL, totals TEXT NOT NULL,
		cancelling INTEGER NOT NULL, items INTEGER NOT NULL, done INTEGER NOT NULL, skipped INTEGER NOT NULL,
		failed INTEGER NOT NULL, unchanged INTEGER NOT NULL, bytes INTEGER NOT NULL, moved INTEGER NOT NULL,
		interruptions INTEGER NOT NULL, created_at DATETIME NOT NULL, started_at DATETIME, ended_at DATETIME)`,
	`CREATE TABLE items (
		run INTEGER NOT NULL, seq INTEGER NOT NULL, route INTEGER NOT NULL, key BLOB NOT NULL, kind TEXT NOT NULL,
		action TEXT NOT NULL, writes INTEGER NOT NULL, size INTEGER NOT NULL, source_id TEXT NOT NULL,
		source_revision TEXT NOT NULL, source_time INTEGER NOT NULL,
		target_revision TEXT NOT NULL, target_size INTEGER NOT NULL, target_time INTEGER NOT NULL,
		state TEXT NOT NULL, cause TEXT NOT NULL, why TEXT NOT NULL, proof TEXT NOT NULL, name TEXT NOT NULL,
		moved INTEGER NOT NULL, attempts INTEGER NOT NULL, ended INTEGER NOT NULL,
		PRIMARY KEY (run, seq)) WITHOUT ROWID`,
	`CREATE INDEX items_waiting ON items (run, writes, seq) WHERE state = 'waiting'`,
	`CREATE INDEX items_unwell ON items (run, state, seq) WHERE state IN ('failed', 'skipped')`,
	`CREATE TABLE uploads (
		run INTEGER NOT NULL, seq INTEGER NOT NULL, upload TEXT NOT NULL, revision TEXT NOT NULL, part_size INTEGER NOT NULL,
		PRIMARY KEY (run, seq)) WITHOUT ROWID`,
	`CREATE TABLE parts (
		run INTEGER NOT NULL, seq INTEGER NOT NULL, number INTEGER NOT NULL, size INTEGER NOT NULL, tag TEXT NOT NULL,
		hash TEXT NOT NULL, PRIMARY KEY (run, seq, number)) WITHOUT ROWID`,
	`CREATE TABLE scopes (number INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)`,
	`CREATE TABLE pairs (
		scope INTEGER NOT NULL, key BLOB NOT NULL,
		source_revision TEXT NOT NULL, source_size INTEGER NOT NULL, source_time INTEGER NOT NULL,
		target_revision TEXT NOT NULL, target_size INTEGER NOT NULL, target_time INTEGER NOT NULL,
		kept INTEGER NOT NULL, run TEXT NOT NULL, PRIMARY KEY (scope, key)) WITHOUT ROWID`,
}

// transaction runs prepared statements in one transaction of the writer.
func (db *DB) transaction(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := db.writePool.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// found turns the mapper's errors into ours.
func found(err error) error {
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return ErrTaken
	}
	return err
}

// Meta returns a value kept under a name, empty where there is none.
func (db *DB) Meta(ctx context.Context, name string) (value string, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT value FROM meta WHERE name = ?", name).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// SetMeta keeps a value under a name.
func (db *DB) SetMeta(ctx context.Context, name, value string) error {
	return db.write.WithContext(ctx).Exec(
		"INSERT INTO meta (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, value).Error
}
