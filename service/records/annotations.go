package records

import (
	"context"
	"database/sql"
	"time"

	"deftheron/core/store"
)

// Annotated is a file or folder that has tags, comments or a lock.
type Annotated struct {
	ID      int64
	Account string // the id of its account
	Folder  store.Path
	Name    string
	// IsFolder tells it from a file of its name.
	IsFolder bool
	// Ref is the provider's id, by which it is known after it was moved; empty where there
	// is none.
	Ref string
	// MissingAt is since when it was not there; nil if it was when it was last looked at.
	MissingAt *time.Time

	Tags     []string
	Comments []Comment
	// CommentCount is how many comments it has, also where they were not read.
	CommentCount int
	Lock         *Lock
}

// Place is where the entry was when it was last looked at.
func (a *Annotated) Place() store.Ref {
	kind := store.KindFile
	if a.IsFolder {
		kind = store.KindFolder
	}
	place := store.Folder{Path: a.Folder}.Ref(a.Name).As(kind)
	place.ID = a.Ref
	return place
}

// Comment is a comment of a user on an entry.
type Comment struct {
	ID       int64
	User     string // the id of who wrote it
	By       string // their name then
	At       time.Time
	EditedAt *time.Time
	Text     string
}

// Lock is a lock on an entry.
type Lock struct {
	User   string
	By     string
	At     time.Time
	Until  time.Time
	Reason string
	// Token is the token of the lock at the server, if there is one, and HeldUntil its end.
	Token     string
	HeldUntil time.Time
}

var annotationSchema = []string{
	`CREATE TABLE annotated (
		id INTEGER PRIMARY KEY, account TEXT NOT NULL, folder BLOB NOT NULL, name BLOB NOT NULL, is_folder INTEGER NOT NULL,
		ref TEXT NOT NULL, missing_at DATETIME)`,
	"CREATE UNIQUE INDEX annotated_place ON annotated (account, folder, name, is_folder)",
	"CREATE INDEX annotated_ref ON annotated (account, ref) WHERE ref <> ''",
	"CREATE INDEX annotated_missing ON annotated (missing_at) WHERE missing_at IS NOT NULL",
	`CREATE TABLE tags (
		entry INTEGER NOT NULL, fold TEXT NOT NULL, tag TEXT NOT NULL, by TEXT NOT NULL, at DATETIME NOT NULL, PRIMARY KEY (entry, fold))
		WITHOUT ROWID`,
	"CREATE INDEX tags_fold ON tags (fold, entry)",
	"CREATE TABLE tag_counts (fold TEXT PRIMARY KEY, tag TEXT NOT NULL, entries INTEGER NOT NULL) WITHOUT ROWID",
	"CREATE INDEX tag_counts_order ON tag_counts (entries DESC, fold)",
	`CREATE TRIGGER tags_added AFTER INSERT ON tags BEGIN
		INSERT INTO tag_counts (fold, tag, entries) VALUES (new.fold, new.tag, 1) ON CONFLICT DO UPDATE SET entries = entries + 1; END`,
	`CREATE TRIGGER tags_removed AFTER DELETE ON tags BEGIN
		UPDATE tag_counts SET entries = entries - 1 WHERE fold = old.fold;
		DELETE FROM tag_counts WHERE fold = old.fold AND entries < 1; END`,
	`CREATE TABLE comments (
		id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, user TEXT NOT NULL, by TEXT NOT NULL, at DATETIME NOT NULL, edited_at DATETIME,
		text TEXT NOT NULL)`,
	"CREATE INDEX comments_entry ON comments (entry, id)",
	`CREATE TABLE locks (
		entry INTEGER PRIMARY KEY, user TEXT NOT NULL, by TEXT NOT NULL, at DATETIME NOT NULL, until DATETIME NOT NULL,
		reason TEXT NOT NULL, token TEXT NOT NULL, held_until DATETIME NOT NULL)`,
}

const annotatedColumns = "id, account, folder, name, is_folder, ref, missing_at"

func scanAnnotated(rows *sql.Rows) (all []Annotated, err error) {
	defer rows.Close()
	for rows.Next() {
		var one Annotated
		var folder, name []byte
		if err := rows.Scan(&one.ID, &one.Account, &folder, &name, &one.IsFolder, &one.Ref, &one.MissingAt); err != nil {
			return nil, err
		}
		one.Folder, one.Name = store.Path(folder), string(name)
		all = append(all, one)
	}
	return all, rows.Err()
}

func (db *DB) annotatedRows(ctx context.Context, where string, args ...any) ([]Annotated, error) {
	rows, err := db.readPool.QueryContext(ctx, "SELECT "+annotatedColumns+" FROM annotated "+where, args...)
	if err != nil {
		return nil, err
	}
	return scanAnnotated(rows)
}

// AnnotatedIn returns the annotated entries directly in a folder, from one name to another.
// The rows have no tags and comments yet, see [DB.FillAnnotated].
func (db *DB) AnnotatedIn(ctx context.Context, account string, folder store.Path, first, last string) ([]Annotated, error) {
	return db.annotatedRows(ctx, "WHERE account = ? AND folder = ? AND name BETWEEN ? AND ?", account, []byte(folder), []byte(first),
		[]byte(last))
}

// AnnotatedAt returns the annotated entry at a place; ErrNotFound if there is none.
func (db *DB) AnnotatedAt(ctx context.Context, account string, place store.Ref) (Annotated, error) {
	rows, err := db.annotatedRows(ctx, "WHERE account = ? AND folder = ? AND name = ? AND is_folder = ?", account,
		[]byte(place.Folder.Path), []byte(place.Name), place.Kind == store.KindFolder)
	return oneAnnotated(rows, err)
}

// AnnotatedByRef returns the annotated entry with a provider's id; ErrNotFound if there is none.
// It prefers an existing entry to a missing one.
func (db *DB) AnnotatedByRef(ctx context.Context, account, ref string) (Annotated, error) {
	rows, err := db.annotatedRows(ctx, "WHERE account = ? AND ref = ? AND ref <> '' ORDER BY missing_at IS NOT NULL LIMIT 1", account, ref)
	return oneAnnotated(rows, err)
}

func oneAnnotated(rows []Annotated, err error) (Annotated, error) {
	if err == nil && len(rows) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Annotated{}, err
	}
	return rows[0], nil
}

// annotatedPage is how many entries are read at once.
const annotatedPage = 500

// AnnotatedBelow calls each with the annotated entries anywhere below a folder, in the order of
// folder and name, until it returns an error. The folder itself is left out.
func (db *DB) AnnotatedBelow(ctx context.Context, account string, folder store.Path, each func(*Annotated) error) error {
	from, after, isFolder := []byte(folder), []byte{}, -1
	for {
		rows, err := db.annotatedRows(ctx, "WHERE account = ? AND (folder, name, is_folder) > (?, ?, ?) AND folder < ? "+
			"ORDER BY folder, name, is_folder LIMIT ?", account, from, after, isFolder, append([]byte(folder), 0xff), annotatedPage)
		if err == nil {
			err = db.FillAnnotated(ctx, rows)
		}
		for i := range rows {
			if err == nil {
				err = each(&rows[i])
			}
		}
		if err != nil || len(rows) < annotatedPage {
			return err
		}
		last := rows[len(rows)-1]
		from, after, isFolder = []byte(last.Folder), []byte(last.Name), boolAsInt(last.IsFolder)
	}
}

func boolAsInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// fillAtOnce is of how many entries the tags, comments and locks are read at once.
const fillAtOnce = 500

// FillAnnotated reads the tags, the comments and the locks of entries.
func (db *DB) FillAnnotated(ctx context.Context, entries []Annotated) error {
	for len(entries) > 0 {
		n := min(len(entries), fillAtOnce)
		if err := db.fillSome(ctx, entries[:n]); err != nil {
			return err
		}
		entries = entries[n:]
	}
	return nil
}

func (db *DB) fillSome(ctx context.Context, entries []Annotated) error {
	byID, ids := make(map[int64]*Annotated, len(entries)), make([]int64, len(entries))
	for i := range entries {
		one := &entries[i]
		one.Tags, one.Comments, one.CommentCount, one.Lock = nil, nil, 0, nil
		byID[one.ID], ids[i] = one, one.ID
	}
	var tags []struct {
		Entry int64
		Tag   string
	}
	var comments []struct {
		Comment
		Entry int64
	}
	var locks []struct {
		Lock
		Entry int64
	}
	query := func(statement string, into any) error {
		return db.read.WithContext(ctx).Raw(statement, ids).Scan(into).Error
	}
	err := query("SELECT entry, tag FROM tags WHERE entry IN ? ORDER BY entry, fold", &tags)
	if err == nil {
		err = query("SELECT * FROM comments WHERE entry IN ? ORDER BY entry, id", &comments)
	}
	if err == nil {
		err = query("SELECT * FROM locks WHERE entry IN ?", &locks)
	}
	for _, tag := range tags {
		byID[tag.Entry].Tags = append(byID[tag.Entry].Tags, tag.Tag)
	}
	for _, comment := range comments {
		one := byID[comment.Entry]
		one.Comments, one.CommentCount = append(one.Comments, comment.Comment), one.CommentCount+1
	}
	for i := range locks {
		byID[locks[i].Entry].Lock = &locks[i].Lock
	}
	return err
}

// HasAnnotated reports whether anything of an account is annotated.
func (db *DB) HasAnnotated(ctx context.Context, account string) (has bool, err error) {
	return has, db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM annotated WHERE account = ?)", account).Scan(&has)
}

// ensureAnnotated returns the id of the entry at a place, which is added if it is new. The
// place has the id that the entry has now; see [DB.FoundAnnotated] for one that was moved.
func ensureAnnotated(ctx context.Context, tx *sql.Tx, account string, place store.Ref) (id int64, err error) {
	err = tx.QueryRowContext(ctx, "INSERT INTO annotated (account, folder, name, is_folder, ref) VALUES (?, ?, ?, ?, ?) "+
		"ON CONFLICT (account, folder, name, is_folder) DO UPDATE SET missing_at = NULL, ref = excluded.ref RETURNING id", account,
		[]byte(place.Folder.Path), []byte(place.Name), place.Kind == store.KindFolder, place.ID).Scan(&id)
	return id, err
}

// placeAnnotated notes where an entry is now, and its id. What was annotated there is not there any more.
func placeAnnotated(ctx context.Context, tx *sql.Tx, id int64, account string, place store.Ref) error {
	args := []any{account, []byte(place.Folder.Path), []byte(place.Name), place.Kind == store.KindFolder, id}
	if err := displace(ctx, tx, "account = ? AND folder = ? AND name = ? AND is_folder = ? AND id <> ?", args...); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE annotated SET account = ?, folder = ?, name = ?, is_folder = ?, ref = ?, missing_at = NULL "+
		"WHERE id = ?", append(args[:4:4], place.ID, id)...)
	return err
}

// displace marks entries whose place is unknown. They are found again by their ids, if they
// have any.
func displace(ctx context.Context, tx *sql.Tx, where string, args ...any) error {
	_, err := tx.ExecContext(ctx, "UPDATE annotated SET folder = CAST(x'ff' || id AS BLOB), missing_at = coalesce(missing_at, ?) WHERE "+where,
		append([]any{time.Now()}, args...)...)
	return err
}

// Placed reports whether it is known where the entry is, or was.
func (a *Annotated) Placed() bool { return len(a.Folder) == 0 || a.Folder[0] != 0xff }

// dropAnnotated removes entries with all that is noted about them.
func dropAnnotated(ctx context.Context, tx *sql.Tx, where string, args ...any) error {
	for _, table := range []string{"tags", "comments", "locks"} {
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE entry IN (SELECT id FROM annotated WHERE "+where+")", args...); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "DELETE FROM annotated WHERE "+where, args...)
	return err
}

// dropBare removes an entry about which nothing is noted any more.
func dropBare(ctx context.Context, tx *sql.Tx, id int64) error {
	_, err := tx.ExecContext(ctx, "DELETE FROM annotated WHERE id = ?1 AND NOT EXISTS (SELECT 1 FROM tags WHERE entry = ?1) "+
		"AND NOT EXISTS (SELECT 1 FROM comments WHERE entry = ?1) AND NOT EXISTS (SELECT 1 FROM locks WHERE entry = ?1)", id)
	return err
}
