package records

import (
	"context"
	"errors"
)

// Inspect looks at the whole database, and returns an error that says what is damaged, and the version
// of SQLite. Runs go on meanwhile. It ends with the context's error where that ends first.
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
