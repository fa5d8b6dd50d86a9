package records

import (
	"context"
	"database/sql"
	"time"

	"deftheron/core/arrival"
	"deftheron/core/store"
)

var incomingSchema = []string{
	`CREATE TABLE incoming (
		job TEXT NOT NULL, route INTEGER NOT NULL, key BLOB NOT NULL, mark TEXT NOT NULL, since INTEGER NOT NULL,
		state TEXT NOT NULL, run TEXT NOT NULL, size INTEGER NOT NULL, PRIMARY KEY (job, route, key)) WITHOUT ROWID`,
	"CREATE INDEX incoming_open ON incoming (job, state, since) WHERE state IN ('resting', 'ready')",
	"CREATE INDEX incoming_latest ON incoming (job, since) WHERE state <> 'there'",
	"ALTER TABLE jobs ADD COLUMN watched_at DATETIME",
	"ALTER TABLE runs ADD COLUMN places TEXT",
}

const incomingColumns = "job, route, key, mark, since, state, run, size"

// Place is one of those that a run is about; none: all of its routes.
type Place struct {
	Route int    `json:"route"`
	Path  []byte `json:"path"`
}

// SaveIncoming saves arrivals.
func (db *DB) SaveIncoming(ctx context.Context, all []arrival.Incoming) error {
	return db.each(ctx, "INSERT OR REPLACE INTO incoming ("+incomingColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?)", len(all), func(i int) []any {
		one := &all[i]
		return []any{one.Job, one.Route, []byte(one.Key), one.Mark, nanoseconds(one.Since), one.State, one.Run, one.Size}
	})
}

// Incoming returns one arrival, and false if nothing is recorded of it.
func (db *DB) Incoming(ctx context.Context, job string, route int, key store.Key) (arrival.Incoming, bool, error) {
	all, err := db.incoming(ctx, "job = ? AND route = ? AND key = ?", job, route, []byte(key))
	if err != nil || len(all) == 0 {
		return arrival.Incoming{}, false, err
	}
	return all[0], true, nil
}

// IncomingAfter returns the arrivals of a route after a key (nil: from the first), in order.
func (db *DB) IncomingAfter(ctx context.Context, job string, route int, after *store.Key, most int) ([]arrival.Incoming, error) {
	if after == nil {
		return db.incoming(ctx, "job = ? AND route = ? ORDER BY key LIMIT ?", job, route, most)
	}
	return db.incoming(ctx, "job = ? AND route = ? AND key > ? ORDER BY key LIMIT ?", job, route, []byte(*after), most)
}

// IncomingIn returns those that are resting, or ready, the one that has waited longest
// first.
func (db *DB) IncomingIn(ctx context.Context, job string, state arrival.State, most int) ([]arrival.Incoming, error) {
	// The states are named so that the index is used, which has these alone.
	return db.incoming(ctx, "job = ? AND state IN ('resting', 'ready') AND state = ? ORDER BY since LIMIT ?", job, state, most)
}

// LatestIncoming returns what arrived last, the latest first.
func (db *DB) LatestIncoming(ctx context.Context, job string, most int) ([]arrival.Incoming, error) {
	return db.incoming(ctx, "job = ? AND state <> 'there' ORDER BY since DESC LIMIT ?", job, most)
}

func (db *DB) incoming(ctx context.Context, where string, args ...any) ([]arrival.Incoming, error) {
	rows, err := db.readPool.QueryContext(ctx, "SELECT "+incomingColumns+" FROM incoming WHERE "+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []arrival.Incoming
	for rows.Next() {
		var one arrival.Incoming
		if err := rows.Scan(&one.Job, &one.Route, (*keyBytes)(&one.Key), &one.Mark, scannedTime{&one.Since}, &one.State, &one.Run,
			&one.Size); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// ForgetIncoming removes arrivals that are gone.
func (db *DB) ForgetIncoming(ctx context.Context, all []arrival.Incoming) error {
	return db.each(ctx, "DELETE FROM incoming WHERE job = ? AND route = ? AND key = ?", len(all), func(i int) []any {
		return []any{all[i].Job, all[i].Route, []byte(all[i].Key)}
	})
}

// ForgetArrivals drops all that is known of the arrivals of a job, as its sources are
// others now.
func (db *DB) ForgetArrivals(ctx context.Context, job string) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM incoming WHERE job = ?", job)
		if err == nil {
			_, err = tx.ExecContext(ctx, "UPDATE jobs SET watched_at = NULL WHERE id = ?", job)
		}
		return err
	})
}

// Watched records the time from which arrivals of a job are looked for.
func (db *DB) Watched(ctx context.Context, job string, at time.Time) error {
	return db.write.WithContext(ctx).Exec("UPDATE jobs SET watched_at = ? WHERE id = ?", at, job).Error
}

// TakeIncoming begins a run for an arrival, in one transaction: once each, whatever
// happens to the process. ErrTaken where it is no longer ready with that mark.
func (db *DB) TakeIncoming(ctx context.Context, one arrival.Incoming, run *Run) error {
	tx := db.write.WithContext(ctx).Begin()
	defer tx.Rollback()
	taken := tx.Exec("UPDATE incoming SET state = ?, run = ? WHERE job = ? AND route = ? AND key = ? AND mark = ? AND state = ?",
		arrival.Taken, run.ID, one.Job, one.Route, []byte(one.Key), one.Mark, arrival.Ready)
	if taken.Error != nil {
		return taken.Error
	}
	if taken.RowsAffected != 1 {
		return ErrTaken
	}
	if err := tx.Create(run).Error; err != nil {
		return found(err)
	}
	return tx.Commit().Error
}

// OpenRunsOf is how many runs of a job have not ended.
func (db *DB) OpenRunsOf(ctx context.Context, job string) (n int, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT count(*) FROM runs INDEXED BY runs_open WHERE job = ? AND ended_at IS NULL", job).Scan(&n)
	return n, err
}
