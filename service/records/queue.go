package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"math"
	"time"

	"gorm.io/gorm"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

var _ transfer.Records = (*DB)(nil)

const itemColumns = `seq, route, key, target_key, kind, action, size, source_id, source_revision, source_time,
	target_revision, target_size, target_time, state, cause, why, mark, origin, decision`

// each runs a prepared statement for each row in one transaction.
func (db *DB) each(ctx context.Context, statement string, n int, row func(int) []any) error {
	return db.transaction(ctx, func(tx *sql.Tx) error { return eachIn(ctx, tx, statement, n, row) })
}

// uncancelled is for the many statements of one transaction: the driver starts a goroutine for
// each statement that can be cancelled. A transaction that has started is completed.
func uncancelled(ctx context.Context) context.Context { return context.WithoutCancel(ctx) }

func eachIn(ctx context.Context, tx *sql.Tx, statement string, n int, row func(int) []any) error {
	var prepared *sql.Stmt
	ctx = uncancelled(ctx)
	for i := range n {
		args := row(i)
		if args == nil {
			continue
		}
		if prepared == nil {
			var err error
			if prepared, err = tx.PrepareContext(ctx, statement); err != nil {
				return err
			}
			defer prepared.Close()
		}
		if _, err := prepared.ExecContext(ctx, args...); err != nil {
			return err
		}
	}
	return nil
}

const numberOf = "(SELECT number FROM runs WHERE id = ?)"

// mostNumbers bounds how many runs are known by their numbers.
const mostNumbers = 1000

// number returns the number under which a run's rows are kept, which it has for good.
func (db *DB) number(ctx context.Context, run string) (number int64, err error) {
	db.numbersMu.Lock()
	defer db.numbersMu.Unlock()
	if number, ok := db.numbers[run]; ok {
		return number, nil
	}
	defer func() {
		if err != nil {
			return
		}
		if db.numbers == nil || len(db.numbers) >= mostNumbers {
			db.numbers = map[string]int64{}
		}
		db.numbers[run] = number
	}()
	err = db.readPool.QueryRowContext(ctx, "SELECT number FROM runs WHERE id = ?", run).Scan(&number)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrNotFound
	}
	return number, err
}

// Enqueue implements transfer.Records.
func (db *DB) Enqueue(ctx context.Context, run string, items []transfer.Item) error {
	number, err := db.number(ctx, run)
	if err != nil {
		return err
	}
	return db.each(ctx, `INSERT INTO items (run, writes, `+itemColumns+`, verification, name, moved, attempts, ended)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', '', 0, 0, ?)`, len(items), func(i int) []any {
		item := &items[i]
		ended := int64(0)
		if item.State != transfer.Waiting {
			ended = time.Now().UnixNano()
		}
		return []any{
			number, item.Action.Phase(item.Kind), item.Seq, item.Route, []byte(item.Key), orNull(item.To), string(item.Kind), string(item.Action),
			item.Size,
			item.SourceID, item.Source.Revision, nanoseconds(item.Source.Modified), item.Target.Revision, item.Target.Size,
			nanoseconds(item.Target.Modified), string(item.State), string(item.Cause), item.Why, item.Mark, originText(item.Origin),
			string(item.Decision),
			ended,
		}
	})
}

// MarkMoved implements transfer.Records.
func (db *DB) MarkMoved(ctx context.Context, run string, route int, at []store.Key) (marked int64, err error) {
	number, err := db.number(ctx, run)
	if err != nil {
		return 0, err
	}
	err = db.transaction(ctx, func(tx *sql.Tx) error {
		mark, err := tx.PrepareContext(ctx, "UPDATE items INDEXED BY items_removing SET cause = 'moved' WHERE run = ? AND "+
			"coalesce(target_key, key) = ? AND writes = "+removes+" AND route = ? AND state = 'waiting' AND cause = ''")
		if err != nil {
			return err
		}
		defer mark.Close()
		for _, key := range at {
			result, err := mark.ExecContext(ctx, number, []byte(key), route)
			if err != nil {
				return err
			}
			n, err := result.RowsAffected()
			if err != nil {
				return err
			}
			marked += n
		}
		return nil
	})
	return marked, err
}

// halves matches the removals of moved files, for which other items stand.
const halves = "state = 'waiting' AND cause = 'moved'"

// Planned implements transfer.Records.
func (db *DB) Planned(ctx context.Context, run string, totals plan.Totals) error {
	encoded, err := json.Marshal(totals)
	if err != nil {
		return err
	}
	return db.write.WithContext(ctx).Exec("UPDATE runs SET planned = 1, totals = ? WHERE id = ?", string(encoded), run).Error
}

// Judge implements transfer.Records.
func (db *DB) Judge(ctx context.Context, run string, seq int64, lost []transfer.Loss, planned *plan.Totals) error {
	text, err := json.Marshal(lost)
	if err != nil {
		return err
	}
	if planned != nil {
		totals, err := json.Marshal(planned)
		if err != nil {
			return err
		}
		return db.write.WithContext(ctx).Exec("UPDATE runs SET planned = 1, totals = ?, judged = max(judged, ?), lost = ? WHERE id = ?",
			string(totals), seq, string(text), run).Error
	}
	return db.write.WithContext(ctx).Exec("UPDATE runs SET judged = max(judged, ?), lost = ? WHERE id = ?", seq, string(text), run).Error
}

// Ask implements transfer.Records.
func (db *DB) Ask(ctx context.Context, run string, seq int64) error {
	return db.write.WithContext(ctx).Exec("UPDATE runs SET asked = max(asked, ?) WHERE id = ?", seq, run).Error
}

// ForgetUnjudged implements transfer.Records.
func (db *DB) ForgetUnjudged(ctx context.Context, run string) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM items WHERE run = "+numberOf+" AND seq > "+judged+" AND state = 'waiting'", run,
		run).Error
}

const judged = "(SELECT judged FROM runs WHERE id = ?)"

// Claim implements transfer.Records.
func (db *DB) Claim(ctx context.Context, run string, phase plan.Phase, after int64, most int) ([]transfer.Item, error) {
	switch {
	case phase == plan.PhaseCreate:
		return db.items(ctx, "writes = ? AND seq > ? AND state = 'waiting' ORDER BY seq LIMIT ?", run, phase, after, most)
	case phase < plan.PhaseFolders:
		return db.items(ctx, "writes = ? AND seq > ? AND seq <= "+judged+" AND state = 'waiting' ORDER BY seq LIMIT ?", run, phase, after, run,
			most)
	case after == 0:
		after = math.MaxInt64
	}
	return db.items(ctx, "writes = ? AND seq < ? AND seq <= "+judged+" AND state = 'waiting' ORDER BY seq DESC LIMIT ?", run, phase, after,
		run, most)
}

// Removing implements transfer.Records.
func (db *DB) Removing(ctx context.Context, run string, route int, at store.Key) (bool, error) {
	return db.awaits(ctx, "items_removing", removes, run, route, at)
}

// Overwriting implements transfer.Records.
func (db *DB) Overwriting(ctx context.Context, run string, route int, at store.Key) (bool, error) {
	return db.awaits(ctx, "items_writing", writes, run, route, at)
}

// awaits reports whether an item of a phase waits at a key of the target, by the index
// of that phase.
func (db *DB) awaits(ctx context.Context, index, phase, run string, route int, at store.Key) (found bool, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM items INDEXED BY "+index+" WHERE run = "+numberOf+
		" AND coalesce(target_key, key) = ? AND writes = "+phase+" AND route = ? AND state = 'waiting')",
		run, []byte(at), route).Scan(&found)
	return found, err
}

// Largest implements transfer.Records.
func (db *DB) Largest(ctx context.Context, run string, phase plan.Phase, most int) ([]transfer.Item, error) {
	if phase == plan.PhaseCreate {
		return db.items(ctx, "writes = ? AND size >= "+large+" AND state = 'waiting' ORDER BY size DESC LIMIT ?", run, phase, most)
	}
	return db.items(ctx, "writes = ? AND size >= "+large+" AND seq <= "+judged+" AND state = 'waiting' ORDER BY size DESC LIMIT ?", run, phase,
		run, most)
}

// items returns items of a run.
func (db *DB) items(ctx context.Context, where string, args ...any) ([]transfer.Item, error) {
	rows, err := db.readPool.QueryContext(ctx, "SELECT "+itemColumns+" FROM items WHERE run = "+numberOf+" AND "+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var items []transfer.Item
	for rows.Next() {
		var item transfer.Item
		if err := rows.Scan(scanItem(&item)...); err != nil {
			return nil, err
		}
		restoreItem(&item)
		items = append(items, item)
	}
	return items, rows.Err()
}

// Finish implements transfer.Records.
func (db *DB) Finish(ctx context.Context, run string, scopes []string, endings []transfer.Ending) error {
	number, err := db.number(ctx, run)
	if err != nil {
		return err
	}
	return db.transaction(ctx, func(tx *sql.Tx) error {
		scopeNumbers, err := numberScopes(ctx, tx, scopes)
		if err != nil {
			return err
		}
		err = eachIn(ctx, tx, `UPDATE items SET state = ?, cause = ?, why = ?, verification = ?, name = ?, moved = ?, attempts = ?, ended = ?
			WHERE run = ? AND seq = ?`, len(endings), func(i int) []any {
			e := &endings[i]
			if e.Seq == 0 || e.Drop {
				return nil
			}
			return []any{string(e.State), string(e.Cause), e.Why, e.Verification, e.Name, e.Moved, e.Attempts, nanoseconds(e.Ended), number, e.Seq}
		})
		if err != nil {
			return err
		}
		err = eachIn(ctx, tx, "DELETE FROM items WHERE run = ? AND seq = ?", len(endings), func(i int) []any {
			if !endings[i].Drop {
				return nil
			}
			return []any{number, endings[i].Seq}
		})
		if err != nil {
			return err
		}
		if err := forgetIn(ctx, tx, scopeNumbers, endings); err != nil {
			return err
		}
		if err := holdIn(ctx, tx, endings); err != nil {
			return err
		}
		if err := saveChanges(ctx, tx, run, endings); err != nil {
			return err
		}
		return savePairs(ctx, tx, scopeNumbers, pairsOf(endings))
	})
}

// EndRest implements transfer.Records.
func (db *DB) EndRest(ctx context.Context, run string, state transfer.State, cause plan.Cause) (int64, error) {
	if err := db.write.WithContext(ctx).Exec("DELETE FROM items INDEXED BY items_waiting WHERE run = "+numberOf+" AND writes = "+removes+
		" AND "+halves, run).Error; err != nil {
		return 0, err
	}
	result := db.write.WithContext(ctx).Exec("UPDATE items SET state = ?, cause = ?, ended = ? WHERE state = 'waiting' AND run = "+numberOf,
		string(state), string(cause), time.Now().UnixNano(), run)
	return result.RowsAffected, result.Error
}

// EndStranded ends the items that still wait in ended runs, because the disk was full when
// their ends should have been recorded.
func (db *DB) EndStranded(ctx context.Context) error {
	const stranded = "(SELECT DISTINCT run FROM items INDEXED BY items_waiting JOIN runs ON runs.number = run WHERE items.state = " +
		"'waiting' AND ended_at IS NOT NULL)"
	return db.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE runs SET failed = max(failed, items - done - skipped) WHERE number IN " + stranded).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE items SET state = 'failed', cause = ?, ended = ? WHERE state = 'waiting' AND run IN "+stranded,
			string(plan.CauseStopped), time.Now().UnixNano()).Error
	})
}

// Forget implements transfer.Records.
func (db *DB) Forget(ctx context.Context, run string) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM items WHERE state <> 'done' AND run = "+numberOf, run).Error
}

// Tally implements transfer.Records.
func (db *DB) Tally(ctx context.Context, run string) (t transfer.Tally, err error) {
	kept, err := db.Run(ctx, run)
	if err != nil {
		return t, err
	}
	if t.Planned = kept.Planned; kept.Planned {
		t.Totals, t.Unchanged = kept.Totals, kept.Totals.Unchanged.Items
	}
	var lost string
	if err := db.readPool.QueryRowContext(ctx, "SELECT judged, asked, lost FROM runs WHERE number = ?", kept.Number).Scan(&t.Judged, &t.Asked,
		&lost); err != nil {
		return t, err
	}
	if err := json.Unmarshal([]byte(lost), &t.Lost); err != nil {
		return t, err
	}
	err = db.readPool.QueryRowContext(ctx, `SELECT count(*) - coalesce(sum(`+halves+`), 0), coalesce(max(seq), 0),
		coalesce(sum(state = 'done'), 0), coalesce(sum(state = 'skipped'), 0), coalesce(sum(state = 'failed'), 0),
		coalesce(sum(CASE WHEN state <> 'skipped' AND action NOT IN ('remove', 'clear', 'refuse') THEN max(size, 0) ELSE 0 END), 0),
		coalesce(sum(moved), 0),
		coalesce(sum(action IN ('remove', 'clear') AND state = 'done' AND cause <> 'moved'), 0),
		coalesce(sum(state = 'skipped' AND cause = ?), 0)
		FROM items WHERE run = ?`, string(plan.CauseLocked), kept.Number).Scan(&t.Items, &t.LastSeq, &t.Done, &t.Skipped, &t.Failed, &t.Bytes,
		&t.Moved, &t.Removed, &t.Locked)
	if err != nil {
		return t, err
	}
	gone, err := db.thinnedOf(ctx, kept.Number)
	t.Items, t.Done, t.Skipped = t.Items+gone.Items, t.Done+gone.Done, t.Skipped+gone.Skipped
	t.Bytes, t.Moved, t.Removed, t.LastSeq = t.Bytes+gone.Bytes, t.Moved+gone.Moved, t.Removed+gone.Removed, max(t.LastSeq, gone.Last)
	return t, err
}
