package records

import (
	"context"
	"database/sql"
	"errors"
	"iter"
	"strings"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
)

// historySchema has the changes of accounts, see [history.Change]. manifest is the number of the first
// change of the manifest that lists the change, 0 where none does. history_folders has when
// something in a folder was last overwritten, deleted or moved, history_accounts when anything
// of an account was changed last.
var historySchema = []string{
	`CREATE TABLE history_accounts (number INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, versions INTEGER NOT NULL DEFAULT 0,
		bytes INTEGER NOT NULL DEFAULT 0, last INTEGER NOT NULL DEFAULT 0)`,
	`CREATE TABLE history_parts (number INTEGER PRIMARY KEY, account INTEGER NOT NULL, name TEXT NOT NULL, run TEXT NOT NULL,
		job TEXT NOT NULL, began INTEGER NOT NULL)`,
	"CREATE UNIQUE INDEX history_parts_name ON history_parts (account, name)",
	"CREATE INDEX history_parts_began ON history_parts (account, began)",
	`CREATE TABLE history (number INTEGER PRIMARY KEY, account INTEGER NOT NULL, folder BLOB NOT NULL, name BLOB NOT NULL,
		at INTEGER NOT NULL, since INTEGER NOT NULL, how TEXT NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT NULL,
		hash TEXT NOT NULL, kept BLOB, moved_to BLOB, part INTEGER NOT NULL, locked INTEGER NOT NULL, manifest INTEGER NOT NULL,
		doomed INTEGER NOT NULL DEFAULT 0)`,
	"CREATE INDEX history_paths ON history (account, folder, name, at)",
	"CREATE INDEX history_of_parts ON history (part, manifest)",
	"CREATE INDEX history_below ON history (part, folder, at)",
	"CREATE INDEX history_doomed ON history (account, part, manifest) WHERE doomed <> 0",
	"CREATE INDEX history_moved ON history (account, moved_to, at) WHERE moved_to IS NOT NULL",
	"CREATE TABLE history_folders (account INTEGER NOT NULL, folder BLOB NOT NULL, last INTEGER NOT NULL, PRIMARY KEY (account, folder)) " +
		"WITHOUT ROWID",
}

// splitKey splits the key of a path into its folder and its name; the name of a folder ends
// with a slash.
func splitKey(key store.Key) (folder, name []byte) {
	text := string(key)
	cut := strings.LastIndexByte(strings.TrimSuffix(text, "/"), '/') + 1
	return []byte(text[:cut]), []byte(text[cut:])
}

const changeColumns = `history.number, folder, history.name, at, since, how, size, modified, hash, coalesce(kept, ''), version, revision, coalesce(moved_to, ''), locked,
	enforced, manifest, doomed, history_parts.name, run, job`

const fromHistory = " FROM history CROSS JOIN history_parts ON history_parts.number = part WHERE "

// HistoryRow is a change as it is recorded.
type HistoryRow struct {
	history.Numbered
	Manifest int64
	Doomed   int // 0 unless it goes
}

func scanChange(row interface{ Scan(...any) error }) (one HistoryRow, err error) {
	var folder, name, kept, to []byte
	var at, since, modified, locked int64
	var how string
	err = row.Scan(&one.Number, &folder, &name, &at, &since, &how, &one.Size, &modified, &one.Hash, &kept, &one.Version,
		&one.Revision, &to, &locked, &one.Enforced, &one.Manifest, &one.Doomed, &one.Part, &one.Run, &one.Job)
	one.Path, one.Kept, one.To = store.Key(folder)+store.Key(name), store.Key(kept), store.Key(to)
	one.At, one.Since, one.Modified, one.Locked = fromNanoseconds(at), fromNanoseconds(since), fromNanoseconds(modified),
		fromNanoseconds(locked)
	one.How = history.How(how)
	return one, err
}

func (db *DB) changes(ctx context.Context, where string, args ...any) (rows []HistoryRow, err error) {
	found, err := db.readPool.QueryContext(ctx, "SELECT "+changeColumns+fromHistory+where, args...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		row, err := scanChange(found)
		if err != nil {
			return nil, err
		}
		rows = append(rows, row)
	}
	return rows, found.Err()
}

// History returns the changes of an account, by its id.
func (db *DB) History(ctx context.Context, id string) (History, error) {
	var number int64
	err := db.readPool.QueryRowContext(ctx, "SELECT number FROM history_accounts WHERE id = ?", id).Scan(&number)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return History{db, number}, err
}

// History is the history of one account.
type History struct {
	db      *DB
	account int64
}

var _ history.Records = History{}

// First implements history.Records.
func (h History) First(ctx context.Context, path store.Key, after time.Time) (*history.Change, error) {
	folder, name := splitKey(path)
	rows, err := h.db.changes(ctx, "history.account = ? AND folder = ? AND history.name = ? AND at > ? AND how <> 'superseded' "+
		"ORDER BY at LIMIT 1", h.account, folder, name, after.UnixNano())
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0].Change, nil
}

// Of returns the changes of a path, the newest first.
func (h History) Of(ctx context.Context, path store.Key, most int) ([]HistoryRow, error) {
	folder, name := splitKey(path)
	return h.db.changes(ctx, "history.account = ? AND folder = ? AND history.name = ? ORDER BY at DESC LIMIT ?", h.account, folder, name, most)
}

// atOnce is how many changes of a folder one statement reads.
const atOnce = 10_000

// FirstIn implements history.Records.
func (h History) FirstIn(ctx context.Context, folder store.Path, after time.Time) iter.Seq2[history.Change, error] {
	return func(yield func(history.Change, error) bool) {
		nextFolder, stop := iter.Pull2(h.foldersIn(ctx, folder, after))
		defer stop()
		below, err, more := nextFolder()
		// foldersBefore yields the folders whose keys come before one; empty yields all.
		foldersBefore := func(key store.Key) bool {
			for ; more && (key == "" || err != nil || below < key); below, err, more = nextFolder() {
				if !yield(history.Change{Path: below}, err) || err != nil {
					return false
				}
			}
			return true
		}
		for change, err := range h.filesIn(ctx, folder, after) {
			if err != nil {
				yield(change, err)
				return
			}
			if !foldersBefore(change.Path) || !yield(change, nil) {
				return
			}
		}
		foldersBefore("")
	}
}

// filesIn yields the first change after a time of each file in a folder.
func (h History) filesIn(ctx context.Context, folder store.Path, after time.Time) iter.Seq2[history.Change, error] {
	return func(yield func(history.Change, error) bool) {
		var name, last []byte
		at, given := int64(-1), false
		for {
			page, err := h.pageOf(ctx, folder, name, at)
			if err != nil {
				yield(history.Change{}, err)
				return
			}
			for _, one := range page {
				name, at = one.name, one.at
				if one.at <= after.UnixNano() || given && string(one.name) == string(last) || strings.HasSuffix(string(one.name), "/") {
					continue
				}
				last, given = one.name, true
				rows, err := h.db.changes(ctx, "history.number = ?", one.number)
				if err != nil || len(rows) == 0 { // thinned meanwhile
					if err != nil && !yield(history.Change{}, err) {
						return
					}
					continue
				}
				if rows[0].How == history.Superseded { // nothing was at the path
					continue
				}
				if !yield(rows[0].Change, nil) {
					return
				}
			}
			if len(page) < atOnce {
				return
			}
		}
	}
}

// placed is a change as the index of paths has it.
type placed struct {
	number int64
	name   []byte
	at     int64
}

func (h History) pageOf(ctx context.Context, folder store.Path, name []byte, at int64) (page []placed, err error) {
	rows, err := h.db.readPool.QueryContext(ctx,
		"SELECT number, name, at FROM history WHERE account = ? AND folder = ? AND (name, at) > (?, ?) "+
			"ORDER BY name, at LIMIT ?", h.account, []byte(folder), append([]byte{}, name...), at, atOnce)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one placed
		if err := rows.Scan(&one.number, &one.name, &one.at); err != nil {
			return nil, err
		}
		page = append(page, one)
	}
	return page, rows.Err()
}

// foldersIn yields the folders in a folder below which something was overwritten, deleted or
// moved after a time, as keys from the account's start.
func (h History) foldersIn(ctx context.Context, folder store.Path, after time.Time) iter.Seq2[store.Key, error] {
	return func(yield func(store.Key, error) bool) {
		from, to := []byte(folder), upTo(folder)
		for {
			var found []byte
			err := h.db.readPool.QueryRowContext(ctx, "SELECT folder FROM history_folders WHERE account = ? AND folder > ? AND folder < ? AND "+
				"last > ? ORDER BY folder LIMIT 1", h.account, from, to, after.UnixNano()).Scan(&found)
			if errors.Is(err, sql.ErrNoRows) {
				return
			}
			if err != nil {
				yield("", err)
				return
			}
			rest := found[len(folder):]
			name := rest[:strings.IndexByte(string(rest), '/')+1]
			child := store.Path(folder) + store.Path(name)
			if !yield(store.Key(child), nil) {
				return
			}
			from = upTo(child)
		}
	}
}

// upTo is what comes after all that is below a folder.
func upTo(folder store.Path) []byte {
	if folder == "" {
		return []byte{0xff, 0xff, 0xff, 0xff}
	}
	return append([]byte(folder[:len(folder)-1]), '/'+1)
}

// Unlisted implements history.Unlisted.
func (db *DB) Unlisted(ctx context.Context, account, run string, most int) (unlisted []history.Numbered, err error) {
	var part int64
	err = db.readPool.QueryRowContext(ctx, `SELECT number FROM history_parts WHERE account = (SELECT number FROM history_accounts WHERE id =
		(SELECT id FROM accounts WHERE name = ?1)) AND (?2 = '' OR run = ?2) AND EXISTS (SELECT 1 FROM history INDEXED BY history_of_parts
		WHERE part = history_parts.number AND manifest = 0) LIMIT 1`, account, run).Scan(&part)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	rows, err := db.changes(ctx, "history.part = ? AND manifest = 0 ORDER BY history.number LIMIT ?", part, most)
	for _, row := range rows {
		unlisted = append(unlisted, row.Numbered)
	}
	return unlisted, err
}

// Listed implements history.Unlisted.
func (db *DB) Listed(ctx context.Context, _ string, changes []history.Numbered) error {
	return db.each(ctx, "UPDATE history SET manifest = ? WHERE number = ?", len(changes), func(i int) []any {
		return []any{changes[0].Number, changes[i].Number}
	})
}

// mostThinned is how many changes one step of thinning reads or removes.
const mostThinned = 2000
