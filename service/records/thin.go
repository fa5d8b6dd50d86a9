package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"deftheron/core/transfer"
)

// What grows is thinned after a time: the items of runs that were done or skipped, what
// was measured of accounts, and changes of links long ago. What failed stays for good, as
// do the totals of runs. It goes in small steps, so that nothing waits long for it.

// thinStep is how many rows go in one step.
const thinStep = 2000

// thinned is what the items came to that are not kept any more.
type thinned struct {
	Items, Done, Skipped  int64
	Bytes, Moved, Removed int64
	Last                  int64 // the highest Seq
}

// Thin removes one step of what ended before a moment, and reports whether there may be
// more of it.
func (db *DB) Thin(ctx context.Context, before time.Time) (more bool, err error) {
	run, err := db.toThin(ctx, before)
	if err != nil || run == 0 {
		return false, err
	}
	return true, db.thinRun(ctx, run, before)
}

// toThin is the number of a run that has something to be thinned; 0 for none. A run that
// goes on for good has its items in the order of time.
func (db *DB) toThin(ctx context.Context, before time.Time) (number int64, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT number FROM runs INDEXED BY runs_kept WHERE thinned = 0 AND ended_at < ? ORDER BY "+
		"ended_at LIMIT 1", before).Scan(&number)
	if errors.Is(err, sql.ErrNoRows) {
		err = db.readPool.QueryRowContext(ctx,
			`SELECT number FROM runs INDEXED BY runs_open WHERE ended_at IS NULL AND created_at < ? AND EXISTS (SELECT 1 FROM
			(SELECT ended, state FROM items WHERE run = number AND seq > runs.thinned_to ORDER BY seq LIMIT 1) WHERE state <> 'waiting' AND ended < ?) LIMIT 1`,
			before, before.UnixNano()).Scan(&number)
	}
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return number, err
}

func (db *DB) thinRun(ctx context.Context, run int64, before time.Time) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		var text string
		var after int64
		var ended sql.NullTime
		if err := tx.QueryRowContext(ctx, "SELECT thin, thinned_to, ended_at FROM runs WHERE number = ?", run).Scan(&text, &after,
			&ended); err != nil {
			return err
		}
		var sum thinned
		if err := json.Unmarshal([]byte(text), &sum); err != nil {
			return err
		}
		rows, err := tx.QueryContext(ctx, "SELECT seq, state, action, cause, size, moved, ended FROM items WHERE run = ? AND seq > ? ORDER "+
			"BY seq LIMIT ?", run, after, thinStep)
		if err != nil {
			return err
		}
		read, last, stopped := 0, after, false
		for rows.Next() {
			var seq, size, moved, at int64
			var state, action, cause string
			if err := rows.Scan(&seq, &state, &action, &cause, &size, &moved, &at); err != nil {
				rows.Close()
				return err
			}
			if !ended.Valid && (state == string(transfer.Waiting) || at >= before.UnixNano()) {
				stopped = true // what comes after is later
				break
			}
			read++
			last = seq
			takes := action == "remove" || action == "clear"
			switch transfer.State(state) {
			case transfer.Done:
				sum.Done++
				sum.Moved += moved
				if !takes {
					sum.Bytes += max(0, size)
				} else if cause != "moved" {
					sum.Removed++
				}
			case transfer.Skipped:
				sum.Skipped++
			default:
				continue
			}
			sum.Items++
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		sum.Last = max(sum.Last, last)
		if _, err := tx.ExecContext(ctx, "DELETE FROM items WHERE run = ? AND seq > ? AND seq <= ? AND state IN ('done', 'skipped')", run, after,
			last); err != nil {
			return err
		}
		encoded, err := json.Marshal(sum)
		if err != nil {
			return err
		}
		all := ended.Valid && read < thinStep && !stopped
		if _, err = tx.ExecContext(ctx, "UPDATE runs SET thin = ?, thinned_to = ?, thinned = ? WHERE number = ?", string(encoded), last, all,
			run); err != nil {
			return err
		}
		return thinCourse(ctx, tx, run, all)
	})
}

// thinCourse removes the progress and the events of a run that is thinned, and of one that goes
// on all but its latest events.
func thinCourse(ctx context.Context, tx *sql.Tx, run int64, all bool) error {
	if !all {
		_, err := tx.ExecContext(ctx, "DELETE FROM run_events WHERE run = ? AND number <= (SELECT number FROM run_events WHERE run = ? ORDER BY "+
			"number DESC "+
			"LIMIT 1 OFFSET 1000)", run, run)
		return err
	}
	_, err := tx.ExecContext(ctx, "DELETE FROM run_series WHERE run = ?", run)
	if err == nil {
		_, err = tx.ExecContext(ctx, "DELETE FROM run_events WHERE run = ?", run)
	}
	return err
}

// thinnedOf is what the items of a run came to that are not kept any more.
func (db *DB) thinnedOf(ctx context.Context, run int64) (sum thinned, err error) {
	var text string
	if err := db.readPool.QueryRowContext(ctx, "SELECT thin FROM runs WHERE number = ?", run).Scan(&text); err != nil {
		return sum, err
	}
	return sum, json.Unmarshal([]byte(text), &sum)
}

// IsThinned reports whether some items of a run are not kept any more.
func (db *DB) IsThinned(ctx context.Context, run int64) (bool, error) {
	sum, err := db.thinnedOf(ctx, run)
	return sum.Items > 0, err
}

// ThinSamples thins the measurements of accounts. Of the samples from before a time it keeps one
// a day, for two years; of each account the last hundred speed checks and the last thousand
// events; and the daily transfers for three years.
func (db *DB) ThinSamples(ctx context.Context, before time.Time) error {
	rows, err := db.Accounts(ctx)
	if err != nil {
		return err
	}
	const flowsKept = 3 // years
	if err := db.write.WithContext(ctx).Exec("DELETE FROM flow_days WHERE day < ?", before.AddDate(-flowsKept, 0, 0).Format(time.DateOnly)).
		Error; err != nil {
		return err
	}
	for _, row := range rows {
		if err := thinUsage(ctx, db.writePool, row.ID, time.Now()); err != nil {
			return err
		}
		for _, one := range []struct {
			statement string
			args      []any
		}{
			{"DELETE FROM space_samples WHERE account = ? AND at < ? AND strftime('%H', at) <> '12'", []any{row.ID, before}},
			{"DELETE FROM space_samples WHERE account = ? AND at < ?", []any{row.ID, before.AddDate(-2, 0, 0)}},
			{"DELETE FROM speeds WHERE account = ? AND seq <= (SELECT seq FROM speeds WHERE account = ? ORDER BY seq DESC LIMIT 1 OFFSET 100)",
				[]any{row.ID, row.ID}},
			{"DELETE FROM link_events WHERE account = ? AND what IN ('changed', 'refused', 'sign-in-expired', 'suspended', 'resumed') AND seq " +
				"<= (SELECT seq FROM link_events WHERE account = ? ORDER BY seq DESC LIMIT 1 OFFSET 1000)", []any{row.ID, row.ID}},
		} {
			if err := db.write.WithContext(ctx).Exec(one.statement, one.args...).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// keptFree is how many free pages stay in the file, as they are used again soon.
const keptFree = 256

// Shrink gives a step of what the file does not need back to the disk, and reports
// whether there is more.
func (db *DB) Shrink(ctx context.Context) (more bool, err error) {
	var free int64
	if err := db.writePool.QueryRowContext(ctx, "PRAGMA freelist_count").Scan(&free); err != nil || free < keptFree {
		return false, err
	}
	rows, err := db.writePool.QueryContext(ctx, "PRAGMA incremental_vacuum(500)")
	if err != nil {
		return false, err
	}
	for rows.Next() {
	}
	return true, errors.Join(rows.Err(), rows.Close())
}
