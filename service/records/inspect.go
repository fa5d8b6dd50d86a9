package records

import (
	"context"
	"errors"
)

// Inspect checks the whole database, and returns an error that says what is damaged, and the version of
// SQLite. Runs continue meanwhile. It returns the context's error if the context ends first.
func (db *DB) Inspect(ctx context.Context) (sqlite string, err error) {
	if err := db.readPool.QueryRowContext(ctx, "SELECT sqlite_version()").Scan(&sqlite); err != nil {
		return "", err
	}
	var found string
	if err := db.readPool.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&found); err != nil {
		if ctx.Err() != nil {
			return sqlite, ctx.Err()
		}
		return sqlite, err
	}
	if found != "ok" {
		return sqlite, errors.New(found)
	}
	return sqlite, db.Check()
}
