package records

import (
	"context"
	"database/sql"
	"errors"

	"deftheron/core/store"
	"deftheron/core/transfer"
)

var contentSchema = []string{
	"CREATE TABLE contents (scope TEXT NOT NULL, size INTEGER NOT NULL, hash TEXT NOT NULL, path BLOB NOT NULL, revision TEXT NOT NULL, " +
		"PRIMARY KEY (scope, size, hash)) WITHOUT ROWID",
}

// HeldOfSize implements transfer.Contents.
func (db *DB) HeldOfSize(ctx context.Context, scope string, size int64) (some bool, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM contents WHERE scope = ? AND size = ?)", scope, size).Scan(&some)
	return some, err
}

// HeldContent implements transfer.Contents.
func (db *DB) HeldContent(ctx context.Context, scope string, size int64, hash string) (*transfer.HeldFile, error) {
	held := transfer.HeldFile{Scope: scope, Size: size, Hash: hash}
	var path []byte
	err := db.readPool.QueryRowContext(ctx, "SELECT path, revision FROM contents WHERE scope = ? AND size = ? AND hash = ?", scope, size,
		hash).Scan(&path, &held.Revision)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	held.Path = store.Path(path)
	return &held, err
}

// holdIn keeps what targets hold, in a transaction.
func holdIn(ctx context.Context, tx *sql.Tx, endings []transfer.Ending) error {
	var all []transfer.HeldFile
	for i := range endings {
		all = append(all, endings[i].Held...)
	}
	if len(all) == 0 {
		return nil
	}
	return eachIn(ctx, tx, "INSERT OR REPLACE INTO contents (scope, size, hash, path, revision) VALUES (?, ?, ?, ?, ?)", len(all),
		func(i int) []any {
			held := &all[i]
			return []any{held.Scope, held.Size, held.Hash, []byte(held.Path), held.Revision}
		})
}

// ForgetContents removes the recorded contents of a target.
func (db *DB) ForgetContents(ctx context.Context, scope string) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM contents WHERE scope = ?", scope).Error
}
