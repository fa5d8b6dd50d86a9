package index

import (
	"context"
	"database/sql"
	"errors"
)

// doom removes an entry. A folder is hidden at once with all that is in it, which is cleaned
// up later.
func doom(ctx context.Context, tx *sql.Tx, r row) error {
	if r.folder {
		_, err := tx.ExecContext(ctx, "UPDATE entries SET parent = ?, key = CAST(id AS BLOB), due = 0 WHERE id = ?", doomed, r.id)
		return err
	}
	return erase(ctx, tx, r.id)
}

// erase removes an entry from all tables.
func erase(ctx context.Context, tx *sql.Tx, id int64) error {
	for _, statement := range []string{"DELETE FROM words WHERE rowid = ?", "DELETE FROM parts WHERE rowid = ?",
		"DELETE FROM texts WHERE id = ?",
		"DELETE FROM entries WHERE id = ?"} {
		if _, err := tx.ExecContext(ctx, statement, id); err != nil {
			return err
		}
	}
	return nil
}

// clean removes some of what is doomed, and reports whether there may be more.
func (db *database) clean(ctx context.Context) (more bool, err error) {
	var id int64
	err = db.read.QueryRowContext(ctx, "SELECT id FROM entries WHERE parent = -1 LIMIT 1").Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return db.tidy(ctx)
	}
	if err != nil {
		return false, err
	}
	return true, db.change(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT "+columns+" FROM entries WHERE account = (SELECT account FROM entries WHERE id = ?1) AND "+
			"parent = ?1 LIMIT ?2",
			id, batch)
		if err != nil {
			return err
		}
		found, err := scanRows(rows)
		if err != nil {
			return err
		}
		for _, one := range found {
			if err := doom(ctx, tx, one); err != nil {
				return err
			}
		}
		if len(found) == batch {
			return nil
		}
		return erase(ctx, tx, id)
	})
}

// tidy merges some of the pieces that the indexes were written in, which makes them smaller
// and faster, and reports whether there may be more.
func (db *database) tidy(ctx context.Context) (more bool, err error) {
	return more, db.change(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"words", "parts"} {
			var before, after int64
			if err := tx.QueryRowContext(ctx, "SELECT total_changes()").Scan(&before); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO "+table+" ("+table+", rank) VALUES ('merge', 100)"); err != nil {
				return err
			}
			if err := tx.QueryRowContext(ctx, "SELECT total_changes()").Scan(&after); err != nil {
				return err
			}
			more = more || after-before >= 2 // as FTS5's documentation says
		}
		return nil
	})
}
