package records

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// itemListSchema has decisions about single items, and items found by their cause.
var itemListSchema = []string{
	"ALTER TABLE items ADD COLUMN decision TEXT NOT NULL DEFAULT ''",
	"DROP INDEX items_causes",
	"CREATE INDEX items_causes ON items (run, cause, state, seq, size) WHERE cause <> ''",
}

// Item is an item of a run, with how it ended.
type Item struct {
	transfer.Item
	Ending transfer.Ending
}

// ItemFilter chooses items of a run; its zero value takes all.
type ItemFilter struct {
	State  transfer.State
	Cause  plan.Cause
	Action plan.Action
	// Below are the folders to look in: an item of one of them is taken.
	Below []ItemFolder
	// Text is in the path of the item at the source or the target, below the route. The case of
	// ASCII letters does not matter.
	Text string
}

// ItemFolder is a folder of a route.
type ItemFolder struct {
	Route    int
	AtTarget bool
	Prefix   store.Path // empty is all of the route
}

// slow reports whether the filter has to look at items that it does not take.
func (f ItemFilter) slow() bool { return f.Action != "" || f.Below != nil || f.Text != "" }

const (
	// itemStep is how many items a slow filter looks at in one statement, and searchTime how
	// long a page takes before it is returned with what it has.
	itemStep   = 20_000
	searchTime = 150 * time.Millisecond
)

// FindItems returns a page of the items that a filter takes, in order, after a seq, and the seq
// to go on after; 0 at the end. A filter by action, folder or text returns after a bounded time:
// its page may have fewer than most items, or none, and still go on.
func (db *DB) FindItems(ctx context.Context, run int64, filter ItemFilter, after int64, most int) (items []Item, next int64, err error) {
	if most < 1 || filter.Below != nil && len(filter.Below) == 0 {
		return nil, 0, nil
	}
	if !filter.slow() {
		items, err = db.findItems(ctx, run, filter, after, 0, most)
		if len(items) == most {
			next = items[most-1].Seq
		}
		return items, next, err
	}
	began := time.Now()
	for {
		stop, err := db.endOfStep(ctx, run, filter, after)
		if err != nil || stop == 0 {
			return items, 0, err
		}
		some, err := db.findItems(ctx, run, filter, after, stop, most-len(items))
		if err != nil {
			return nil, 0, err
		}
		if items = append(items, some...); len(items) == most {
			return items, items[most-1].Seq, nil
		}
		if after = stop; time.Since(began) >= searchTime {
			return items, after, nil
		}
	}
}

// endOfStep returns the seq of the last item that one step of a slow filter looks at; 0 if no
// item is left.
func (db *DB) endOfStep(ctx context.Context, run int64, filter ItemFilter, after int64) (stop int64, err error) {
	parts, args := itemParts(run, filter, after)
	for i := range parts {
		parts[i] = "SELECT * FROM (SELECT seq FROM " + parts[i] + " ORDER BY seq LIMIT ?)"
		args[i] = append(args[i], itemStep)
	}
	err = db.readPool.QueryRowContext(ctx, "SELECT coalesce(max(seq), 0) FROM (SELECT seq FROM ("+strings.Join(parts, " UNION ALL ")+
		") ORDER BY seq LIMIT ?)", append(slices.Concat(args...), itemStep)...).Scan(&stop)
	return stop, err
}

// itemParts returns the tables and conditions that together yield the items of a state and a cause
// after a seq, each in the order of seq by its index.
func itemParts(run int64, filter ItemFilter, after int64) (parts []string, args [][]any) {
	part := func(text string, values ...any) { parts, args = append(parts, text), append(args, values) }
	if filter.Cause != "" { // by state, as in their index
		states := []transfer.State{transfer.Waiting, transfer.Done, transfer.Skipped, transfer.Failed}
		if filter.State != "" {
			states = []transfer.State{filter.State}
		}
		for _, state := range states {
			part("items INDEXED BY items_causes WHERE run = ? AND cause <> '' AND cause = ? AND state = ? AND seq > ? AND NOT ("+halves+")",
				run, string(filter.Cause), string(state), after)
		}
		return parts, args
	}
	switch filter.State {
	case "":
		part("items WHERE run = ? AND seq > ? AND NOT ("+halves+")", run, after)
	case transfer.Failed, transfer.Skipped: // few, and in an index of their own
		part("items INDEXED BY items_unwell WHERE run = ? AND seq > ? AND state IN ('failed', 'skipped') AND state = '"+string(filter.State)+"'",
			run, after)
	case transfer.Waiting: // by phase, as in their index
		for phase := range plan.Phases {
			part("items INDEXED BY items_waiting WHERE run = ? AND writes = ? AND seq > ? AND state = 'waiting' AND NOT ("+halves+")",
				run, phase, after)
		}
	default:
		part("items WHERE run = ? AND seq > ? AND NOT ("+halves+") AND state = ?", run, after, string(filter.State))
	}
	return parts, args
}

// findItems reads at most so many items after a seq and, if stop is not 0, up to it.
func (db *DB) findItems(ctx context.Context, run int64, filter ItemFilter, after, stop int64, most int) ([]Item, error) {
	const columns = "SELECT " + itemColumns + ", verification, name, moved, attempts, ended FROM "
	parts, args := itemParts(run, filter, after)
	conditions, values := filter.conditions()
	if stop > 0 {
		conditions, values = conditions+" AND seq <= ?", append(values, stop)
	}
	for i := range parts {
		parts[i] = "SELECT * FROM (" + columns + parts[i] + conditions + " ORDER BY seq LIMIT ?)"
		args[i] = append(append(args[i], values...), most)
	}
	rows, err := db.readPool.QueryContext(ctx, strings.Join(parts, " UNION ALL ")+" ORDER BY seq LIMIT ?",
		append(slices.Concat(args...), most)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	return scanItems(rows)
}

func scanItems(rows *sql.Rows) (items []Item, err error) {
	for rows.Next() {
		var item Item
		var ended int64
		fields := append(scanItem(&item.Item), &item.Ending.Verification, &item.Ending.Name, &item.Ending.Moved, &item.Ending.Attempts, &ended)
		if err := rows.Scan(fields...); err != nil {
			return nil, err
		}
		restoreItem(&item.Item)
		item.Ending.Ended = fromNanoseconds(ended)
		items = append(items, item)
	}
	return items, rows.Err()
}

// conditions of a slow filter.
func (f ItemFilter) conditions() (text string, args []any) {
	if f.Action != "" {
		text, args = text+" AND action = ?", append(args, string(f.Action))
	}
	if f.Below != nil {
		var anyOf []string
		for _, folder := range f.Below {
			condition := "route = ?"
			args = append(args, folder.Route)
			if folder.Prefix != "" {
				at := "key"
				if folder.AtTarget {
					at = "coalesce(target_key, key)"
				}
				condition += " AND substr(" + at + ", 1, ?) = ?"
				args = append(args, len(folder.Prefix), []byte(folder.Prefix))
			}
			anyOf = append(anyOf, condition)
		}
		text += " AND (" + strings.Join(anyOf, " OR ") + ")"
	}
	if f.Text != "" {
		like := "%" + escapeLike(f.Text) + "%"
		text += " AND (CAST(key AS TEXT) LIKE ? ESCAPE '!' OR CAST(target_key AS TEXT) LIKE ? ESCAPE '!' OR name LIKE ? ESCAPE '!')"
		args = append(args, like, like, like)
	}
	return text, args
}

// escapeLike escapes what LIKE takes for a pattern, with "!" as the escape character.
func escapeLike(text string) string {
	return strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(text)
}

// DecideItems records a person's decision about some items of a run, by seq, and returns how many
// of them wait for a decision. An empty decision withdraws an earlier one.
func (db *DB) DecideItems(ctx context.Context, run int64, seqs []int64, decision plan.ConflictRule) (decided int64, err error) {
	err = db.transaction(ctx, func(tx *sql.Tx) error {
		statement, err := tx.PrepareContext(ctx,
			"UPDATE items SET decision = ? WHERE run = ? AND seq = ? AND state = 'waiting' AND action = 'ask'")
		if err != nil {
			return err
		}
		defer statement.Close()
		for _, seq := range seqs {
			result, err := statement.ExecContext(ctx, string(decision), run, seq)
			if err != nil {
				return err
			}
			n, err := result.RowsAffected()
			if err != nil {
				return err
			}
			decided += n
		}
		return nil
	})
	return decided, err
}

// HasDecided reports whether a person has decided about an item of the run that waits.
func (db *DB) HasDecided(ctx context.Context, run int64) (decided bool, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM items INDEXED BY items_waiting WHERE run = ? AND writes = ? AND "+
		"state = 'waiting' AND decision <> '')", run, plan.Ask.Phase(store.KindFile)).Scan(&decided)
	return decided, err
}
