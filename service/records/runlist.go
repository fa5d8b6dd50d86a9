package records

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"deftheron/core/run"
)

// RunFilter chooses runs; its zero value takes all.
type RunFilter struct {
	Job     string
	Account string
	States  []run.State
	From    time.Time // created at or after
	To      time.Time // created before
	// Text is in the id, the name of the job, or an address, without regard to case.
	Text string
}

// textStep is how many runs a filter by text looks at before it returns what it found.
const textStep = 20_000

// FindRuns returns a page of the runs that a filter takes, before a number (0: the latest),
// newest first, and the number to go on before; 0 at the end. A filter by text looks at a
// bounded number of runs: its page may have fewer than most, or none, and still go on.
func (db *DB) FindRuns(ctx context.Context, filter RunFilter, before int64, most int) (runs []Run, next int64, err error) {
	var where []string
	var args []any
	and := func(condition string, values ...any) {
		where, args = append(where, condition), append(args, values...)
	}
	if before > 0 {
		and("number < ?", before)
	}
	if filter.Job != "" {
		and("job = ?", filter.Job)
	}
	low, high, err := db.numbersBetween(ctx, filter.From, filter.To)
	if err != nil {
		return nil, 0, err
	}
	if low > 0 {
		and("number BETWEEN ? AND ?", low, high)
	}
	stop := int64(0)
	if filter.Text != "" {
		if stop, err = db.stepBefore(ctx, before); err != nil {
			return nil, 0, err
		}
		like := "%" + escapeLike(filter.Text) + "%"
		and("number >= ? AND (id LIKE ? ESCAPE '!' OR job LIKE ? ESCAPE '!' OR routes LIKE ? ESCAPE '!')", stop, like, like, like)
	}
	if runs, err = db.findRuns(ctx, filter, where, args, most); err != nil {
		return nil, 0, err
	}
	switch {
	case len(runs) == most && most > 0:
		next = runs[most-1].Number
	case stop > 1:
		next = stop
	}
	return runs, next, nil
}

// findRuns reads runs in the order of the index that fits the filter best: the index of states,
// for a state that few runs have (all but done); otherwise of an account or a job; otherwise of
// their numbers.
func (db *DB) findRuns(ctx context.Context, filter RunFilter, where []string, args []any, most int) (runs []Run, err error) {
	read := func(from, order string, where []string, args []any) error {
		text := "SELECT runs.* FROM " + from
		if len(where) > 0 {
			text += " WHERE " + strings.Join(where, " AND ")
		}
		var some []Run
		err := db.read.WithContext(ctx).Raw(text+" ORDER BY "+order+" DESC LIMIT ?", append(args, most)...).Scan(&some).Error
		runs = append(runs, some...)
		return err
	}
	also := func(condition string, values ...any) ([]string, []any) {
		return append(where[:len(where):len(where)], condition), append(args[:len(args):len(args)], values...)
	}
	ofAll := func(where []string, args []any) error {
		switch {
		case filter.Account != "":
			for i := range where { // so that the order of the account's index is kept
				where[i] = strings.ReplaceAll(where[i], "number", "run_accounts.run")
			}
			return read("run_accounts CROSS JOIN runs ON runs.number = run_accounts.run", "run_accounts.run", append(where, "account = ?"),
				append(args, filter.Account))
		case filter.Job != "":
			return read("runs INDEXED BY runs_job", "number", where, args)
		}
		return read("runs", "number", where, args)
	}
	if len(filter.States) == 0 {
		return runs, ofAll(where, args)
	}
	const ofAccount = "EXISTS (SELECT 1 FROM run_accounts WHERE account = ? AND run = number)"
	for _, state := range filter.States {
		if state == run.Done {
			if err := ofAll(also("state = ?", state)); err != nil {
				return nil, err
			}
			continue
		}
		from, condition := "runs INDEXED BY runs_unwell", "state IN "+unwell+" AND state = ?" // as in their index
		if !state.Ended() {
			from, condition = "runs INDEXED BY runs_open", "ended_at IS NULL AND state = ?"
		}
		values := []any{state}
		if filter.Account != "" {
			condition, values = condition+" AND "+ofAccount, append(values, filter.Account)
		}
		conditions, arguments := also(condition, values...)
		if err := read(from, "number", conditions, arguments); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(runs, func(a, b Run) int { return cmp.Compare(b.Number, a.Number) })
	return runs[:min(most, len(runs))], nil
}

// numbersBetween returns the first and the last number of the runs that were created in a
// time; 0 if the time has no bounds. Numbers grow with the time of creation.
func (db *DB) numbersBetween(ctx context.Context, from, to time.Time) (low, high int64, err error) {
	if from.IsZero() && to.IsZero() {
		return 0, 0, nil
	}
	low, high = 1, 1<<62
	if !from.IsZero() {
		if low, err = db.firstCreated(ctx, from); err != nil {
			return 0, 0, err
		}
	}
	if !to.IsZero() {
		if high, err = db.firstCreated(ctx, to); err != nil {
			return 0, 0, err
		}
		high--
	}
	return low, high, nil
}

// firstCreated returns the number of the first run that was created at a moment or later; one
// after the last if there is none. It halves the numbers, so that times need no index.
func (db *DB) firstCreated(ctx context.Context, at time.Time) (number int64, err error) {
	var last int64
	if err := db.readPool.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM runs").Scan(&last); err != nil {
		return 0, err
	}
	low, high := int64(1), last+1
	for low < high {
		middle := (low + high) / 2
		var found int64
		var created time.Time
		if err := db.readPool.QueryRowContext(ctx, "SELECT number, created_at FROM runs WHERE number >= ? ORDER BY number LIMIT 1", middle).
			Scan(&found, &created); err != nil {
			return 0, err
		}
		if created.Before(at) {
			low = found + 1
		} else {
			high = middle
		}
	}
	return low, nil
}

// stepBefore returns the lowest number that one step of a filter by text looks at.
func (db *DB) stepBefore(ctx context.Context, before int64) (low int64, err error) {
	if before == 0 {
		if err := db.readPool.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) + 1 FROM runs").Scan(&before); err != nil {
			return 0, err
		}
	}
	return max(1, before-textStep), nil
}

// KeepFlows records how much a run has transferred between each two accounts. pairs holds the
// accounts of each route of its items. It reads all items of the run once.
func (db *DB) KeepFlows(ctx context.Context, run int64, pairs [][2]string) error {
	rows, err := db.readPool.QueryContext(ctx, "SELECT route, sum(moved) FROM items WHERE run = ? AND state = 'done' GROUP BY route", run)
	if err != nil {
		return err
	}
	sums := map[[2]string]int64{}
	for rows.Next() {
		var route int
		var bytes int64
		if err := rows.Scan(&route, &bytes); err != nil {
			rows.Close()
			return err
		}
		if route < len(pairs) && bytes > 0 {
			sums[pairs[route]] += bytes
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for pair, bytes := range sums {
			var before int64
			err := tx.QueryRowContext(ctx, "SELECT bytes FROM run_flows WHERE run = ? AND source = ? AND target = ?", run, pair[0],
				pair[1]).Scan(&before)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if bytes <= before { // nothing new, or items that were thinned since
				continue
			}
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO run_flows (run, source, target, bytes) VALUES (?, ?, ?, ?)", run, pair[0],
				pair[1], bytes); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO flow_days (day, job, source, target, bytes, runs) SELECT date('now'), "+flowJob+
				", ?, ?, ?, ? FROM runs WHERE number = ? ON CONFLICT DO UPDATE SET bytes = bytes + excluded.bytes, runs = runs + excluded.runs",
				pair[0], pair[1], bytes-before, before == 0, run); err != nil {
				return err
			}
		}
		return nil
	})
}

// DayBytes is what the runs of a job transferred between two accounts in a day.
type DayBytes struct {
	Day   string // YYYY-MM-DD, UTC
	Job   string // empty for all single copies and moves together
	From  string // the account of the source
	To    string
	Bytes int64
	Runs  int64
}

// BytesByDay returns what runs have transferred since a day, by day, job and accounts. A run that
// goes on is counted now and then.
func (db *DB) BytesByDay(ctx context.Context, since time.Time) (all []DayBytes, err error) {
	rows, err := db.readPool.QueryContext(ctx, "SELECT day, job, source, target, bytes, runs FROM flow_days WHERE day >= ? ORDER BY day, job",
		since.UTC().Format(time.DateOnly))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one DayBytes
		if err := rows.Scan(&one.Day, &one.Job, &one.From, &one.To, &one.Bytes, &one.Runs); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}
