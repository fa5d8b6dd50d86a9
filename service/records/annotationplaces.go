package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"deftheron/core/store"
)

// AnnotatedAfter returns a page of the annotated entries below a folder, or in all accounts if
// account is empty, that follow an entry returned before, in the order of account and place.
func (db *DB) AnnotatedAfter(ctx context.Context, account string, folder store.Path, after Annotated, most int) ([]Annotated, error) {
	const from = "(account, folder, name, is_folder) > (?, ?, ?, ?) "
	isFolder := boolAsInt(after.IsFolder)
	if after.Account == "" {
		after.Account, after.Folder, isFolder = account, folder, -1
	}
	args := []any{after.Account, []byte(after.Folder), []byte(after.Name), isFolder}
	where := "WHERE " + from
	if account != "" {
		where += "AND account = ? AND folder < ? "
		args = append(args, account, append([]byte(folder), 0xff))
	}
	return db.annotatedRows(ctx, where+"ORDER BY account, folder, name, is_folder LIMIT ?", append(args, most)...)
}

// SetLock locks an entry, or renews its lock.
func (db *DB) SetLock(ctx context.Context, account string, place store.Ref, lock Lock) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		id, err := ensureAnnotated(ctx, tx, account, place)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO locks (entry, user, by, at, until, reason, token, held_until) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?)", id, lock.User, lock.By, lock.At, lock.Until, lock.Reason, lock.Token, lock.HeldUntil)
		return err
	})
}

// RemoveLock ends the lock of an entry.
func (db *DB) RemoveLock(ctx context.Context, id int64) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM locks WHERE entry = ?", id); err != nil {
			return err
		}
		return dropBare(ctx, tx, id)
	})
}

// Locked returns all entries of an account that are locked, or of all accounts if it is
// empty, with their locks.
func (db *DB) Locked(ctx context.Context, account string) ([]Annotated, error) {
	rows, err := db.annotatedRows(ctx, "WHERE id IN (SELECT entry FROM locks) AND (?1 = '' OR account = ?1) ORDER BY account, folder, name",
		account)
	if err != nil {
		return nil, err
	}
	return rows, db.FillAnnotated(ctx, rows)
}

// MoveAnnotated moves the annotations of an entry, and of everything in it if it is a folder,
// after a move within an account. It returns the number of annotated entries that moved.
func (db *DB) MoveAnnotated(ctx context.Context, account string, from, to store.Ref) (moved int64, err error) {
	return moved, db.transaction(ctx, func(tx *sql.Tx) error {
		var id int64
		err := tx.QueryRowContext(ctx, "SELECT id, ref FROM annotated WHERE account = ? AND folder = ? AND name = ? AND is_folder = ?", account,
			[]byte(from.Folder.Path), []byte(from.Name), from.Kind == store.KindFolder).Scan(&id, &to.ID)
		switch {
		case err == nil:
			if to.Kind, moved = from.Kind, 1; from.ID != "" {
				to.ID = from.ID // as it is now
			}
			if err := placeAnnotated(ctx, tx, id, account, to); err != nil {
				return err
			}
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		if from.Kind != store.KindFolder {
			return nil
		}
		n, err := moveBelow(ctx, tx, account, from.AsFolder().Path, to.AsFolder().Path)
		moved += n
		return err
	})
}

// moveBelow gives the annotated entries of a folder their new places. Annotations that were at
// one of the new places are displaced.
func moveBelow(ctx context.Context, tx *sql.Tx, account string, from, to store.Path) (int64, error) {
	const below = "account = ? AND folder >= ? AND folder < ?"
	within := func(path store.Path) []any { return []any{account, []byte(path), append([]byte(path), 0xff)} }
	var some bool
	err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM annotated WHERE "+below+")", within(from)...).Scan(&some)
	if err != nil || !some {
		return 0, err
	}
	const taken = " AND EXISTS (SELECT 1 FROM annotated o WHERE o.account = annotated.account AND o.folder = " +
		"CAST(? || substr(annotated.folder, ?) AS BLOB) AND o.name = annotated.name AND o.is_folder = annotated.is_folder)"
	if err := displace(ctx, tx, below+taken, append(within(to), []byte(from), len(to)+1)...); err != nil {
		return 0, err
	}
	result, err := tx.ExecContext(ctx, "UPDATE annotated SET folder = CAST(? || substr(folder, ?) AS BLOB) WHERE "+below,
		append([]any{[]byte(to), len(from) + 1}, within(from)...)...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// FoundAnnotated notes where an entry is now, and its id.
func (db *DB) FoundAnnotated(ctx context.Context, id int64, account string, place store.Ref) error {
	return db.transaction(ctx, func(tx *sql.Tx) error { return placeAnnotated(ctx, tx, id, account, place) })
}

// MissAnnotated notes that an entry, and everything in it, is not there any more. Their locks
// end.
func (db *DB) MissAnnotated(ctx context.Context, account string, place store.Ref, at time.Time) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		err := miss(ctx, tx, at, "account = ? AND folder = ? AND name = ? AND is_folder = ?", account, []byte(place.Folder.Path),
			[]byte(place.Name), place.Kind == store.KindFolder)
		if err != nil || place.Kind != store.KindFolder {
			return err
		}
		path := []byte(place.AsFolder().Path)
		return miss(ctx, tx, at, "account = ? AND folder >= ? AND folder < ?", account, path, append(path[:len(path):len(path)], 0xff))
	})
}

func miss(ctx context.Context, tx *sql.Tx, at time.Time, where string, args ...any) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM locks WHERE entry IN (SELECT id FROM annotated WHERE "+where+")", args...); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE annotated SET missing_at = ? WHERE "+where+" AND missing_at IS NULL", append([]any{at}, args...)...)
	return err
}

// ForgetMissing removes the annotations of entries that have been missing since before a time.
// The entries of unlinked accounts count as missing from now on.
func (db *DB) ForgetMissing(ctx context.Context, now, before time.Time) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE annotated SET missing_at = ? WHERE missing_at IS NULL AND account NOT IN (SELECT id FROM "+
			"accounts)", now); err != nil {
			return err
		}
		return dropAnnotated(ctx, tx, "missing_at IS NOT NULL AND missing_at < ?", before)
	})
}
