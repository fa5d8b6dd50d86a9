package records

import (
	"context"
	"database/sql"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
)

// Thinning has two steps, each of which may be interrupted and started again: Doom marks the
// changes that retention drops, path by path, and TakeDoomed returns the marked changes,
// manifest by manifest, until DropDoomed has removed them.

// HistoryCount is how many changes with contents there are of something, and their bytes.
type HistoryCount struct {
	Versions int64 `json:"versions"`
	Bytes    int64 `json:"bytes"`
}

// Thinner decides about the changes of one path, in the order of time.
type Thinner func(changes []history.Change, wanted func(*history.Change) (bool, error)) ([]history.Decision, error)

// Doom calls a Thinner for each path of the account, and marks the changes that it drops, unless
// dry is set. It returns their count.
func (h History) Doom(ctx context.Context, dry bool, thin Thinner) (going HistoryCount, err error) {
	var folder, name []byte
	var held []HistoryRow // of the path that a page ended in
	var moves bool
	if err := h.db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM history INDEXED BY history_moved WHERE account = ? AND "+
		"moved_to IS NOT NULL)", h.account).Scan(&moves); err != nil {
		return going, err
	}
	for {
		where := "history.account = ? AND doomed = 0 AND (folder, history.name, at) > (?, ?, ?) ORDER BY folder, history.name, at LIMIT ?"
		after := int64(-1)
		if len(held) > 0 {
			after = held[len(held)-1].At.UnixNano()
		}
		page, err := h.db.changes(ctx, where, h.account, append([]byte{}, folder...), append([]byte{}, name...), after, mostThinned)
		if err != nil {
			return going, err
		}
		last := len(page) < mostThinned
		held = append(held, page...)
		if len(page) > 0 {
			folder, name = splitKey(page[len(page)-1].Path)
		}
		var marks []mark
		for len(held) > 0 {
			n := 1
			for n < len(held) && held[n].Path == held[0].Path {
				n++
			}
			if n == len(held) && !last && n < mostOfPath {
				break // there may be more of it
			}
			some, err := h.thin(ctx, held[:n], moves, thin, &going)
			if err != nil {
				return going, err
			}
			marks, held = append(marks, some...), held[n:]
		}
		held = append([]HistoryRow{}, held...)
		if !dry {
			if err := h.db.each(ctx, "UPDATE history SET doomed = ? WHERE number = ?", len(marks), func(i int) []any {
				return []any{marks[i].how, marks[i].number}
			}); err != nil {
				return going, err
			}
		}
		if last {
			return going, nil
		}
	}
}

// mostOfPath is how many changes of one path are read together.
const mostOfPath = 20_000

type mark struct {
	number int64
	how    int
}

func (h History) thin(ctx context.Context, rows []HistoryRow, moves bool, thin Thinner, going *HistoryCount) (marks []mark, err error) {
	changes := make([]history.Change, len(rows))
	for i := range rows {
		changes[i] = rows[i].Change
	}
	decisions, err := thin(changes, func(change *history.Change) (wanted bool, err error) {
		if !moves {
			return false, nil
		}
		err = h.db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM history INDEXED BY history_moved WHERE account = ? AND "+
			"moved_to = ? AND at >= ? AND at < ? AND doomed = 0)", h.account, []byte(change.Path), nanoseconds(change.Since),
			change.At.UnixNano()).Scan(&wanted)
		return wanted, err
	})
	if err != nil {
		return nil, err
	}
	for i, decision := range decisions {
		if decision == history.Keep {
			continue
		}
		if rows[i].HasContent() {
			going.Versions++
			going.Bytes += max(0, rows[i].Size)
		}
		marks = append(marks, mark{rows[i].Number, int(decision)})
	}
	return marks, nil
}

var _ history.Thinning = History{}

// TakeDoomed implements history.Thinning.
func (h History) TakeDoomed(ctx context.Context) (doomed history.Doomed, err error) {
	var part int64
	err = h.db.readPool.QueryRowContext(ctx, `SELECT part, history_parts.name, manifest FROM history INDEXED BY history_doomed
		CROSS JOIN history_parts ON history_parts.number = part WHERE doomed <> 0 AND history.account = ? LIMIT 1`,
		h.account).Scan(&part, &doomed.Part, &doomed.Manifest)
	if err == sql.ErrNoRows {
		return doomed, nil
	}
	if err != nil {
		return doomed, err
	}
	if doomed.Manifest == 0 {
		rows, err := h.db.changes(ctx, "part = ? AND manifest = 0 AND doomed <> 0 ORDER BY history.number LIMIT ?", part, mostThinned)
		for _, row := range rows {
			doomed.Gone = append(doomed.Gone, going(row))
		}
		return doomed, err
	}
	rows, err := h.db.changes(ctx, "part = ? AND manifest = ? ORDER BY history.number", part, doomed.Manifest)
	if err != nil {
		return doomed, err
	}
	for _, row := range rows {
		switch row.Doomed {
		case 0:
			doomed.Stay = append(doomed.Stay, row.Change)
			continue
		case int(history.Empty):
			doomed.Stay = append(doomed.Stay, emptied(row.Change))
		}
		doomed.Gone = append(doomed.Gone, going(row))
	}
	return doomed, nil
}

func going(row HistoryRow) history.Going {
	return history.Going{Numbered: row.Numbered, Decision: history.Decision(row.Doomed)}
}

func emptied(change history.Change) history.Change {
	change.How, change.Kept, change.Version, change.Locked = history.Thinned, "", "", time.Time{}
	return change
}

// DropDoomed implements history.Thinning. A part without changes is forgotten.
func (h History) DropDoomed(ctx context.Context, doomed history.Doomed) (last bool, err error) {
	err = h.db.transaction(ctx, func(tx *sql.Tx) error {
		if err := eachIn(ctx, tx, "DELETE FROM history WHERE number = ?", len(doomed.Gone), func(i int) []any {
			if doomed.Gone[i].Decision != history.Drop {
				return nil
			}
			return []any{doomed.Gone[i].Number}
		}); err != nil {
			return err
		}
		if err := eachIn(ctx, tx, "UPDATE history SET how = 'thinned', kept = NULL, version = '', revision = '', locked = 0, doomed = 0 "+
			"WHERE number = ?", len(doomed.Gone),
			func(i int) []any {
				if doomed.Gone[i].Decision != history.Empty {
					return nil
				}
				return []any{doomed.Gone[i].Number}
			}); err != nil {
			return err
		}
		writer := newHistoryWriter(tx)
		for _, going := range doomed.Gone {
			if going.HasContent() {
				writer.count(h.account, -1, -max(0, going.Size))
			}
		}
		if err := writer.end(ctx); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx, `DELETE FROM history_parts WHERE account = ? AND name = ? AND NOT EXISTS
			(SELECT 1 FROM history INDEXED BY history_of_parts WHERE part = history_parts.number)`, h.account, doomed.Part)
		if err != nil {
			return err
		}
		n, err := result.RowsAffected()
		last = n > 0
		return err
	})
	return last, err
}

// Parts returns which parts of a list are in the records.
func (h History) Parts(ctx context.Context, names []string) (known map[string]bool, err error) {
	known = map[string]bool{}
	for _, name := range names {
		var there bool
		err := h.db.readPool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM history_parts WHERE account = ? AND name = ?)", h.account,
			name).Scan(&there)
		if err != nil {
			return nil, err
		}
		known[name] = there
	}
	return known, nil
}

// ImportPart adds a part of an account, by its name, with changes that were read from its
// manifests and its contents: all of it, or nothing.
func (db *DB) ImportPart(ctx context.Context, account, part string,
	read func(add func(manifest int64, change history.Change) error) error) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		writer := newHistoryWriter(tx)
		number, err := writer.account(ctx, account)
		if err != nil {
			return err
		}
		_, run, _ := history.ParsePart(part)
		id, err := writer.part(ctx, number, part, run, "")
		if err != nil {
			return err
		}
		for _, statement := range []string{
			"CREATE TEMP TABLE IF NOT EXISTS imported (kept BLOB PRIMARY KEY) WITHOUT ROWID", "DELETE FROM imported",
		} {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		highest := int64(0)
		err = read(func(manifest int64, change history.Change) error {
			if highest = max(highest, manifest); manifest == 0 {
				// Its own manifest is to have a name that none of the part has.
				if err := raiseNumbers(ctx, tx, highest+history.MostInManifest); err != nil {
					return err
				}
			}
			if change.Job != "" {
				if _, err := tx.ExecContext(ctx, "UPDATE history_parts SET job = ? WHERE number = ? AND job = ''", change.Job, id); err != nil {
					return err
				}
			}
			if change.Kept != "" { // what a manifest has listed is not added again from its content
				content := []byte(change.Kept + "\x00" + store.Key(change.Version))
				result, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO imported (kept) VALUES (?)", content)
				if err != nil {
					return err
				}
				if n, err := result.RowsAffected(); err != nil || n == 0 {
					return err
				}
			}
			return writer.add(ctx, number, id, manifest, &change)
		})
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM imported"); err != nil {
			return err
		}
		return writer.end(ctx)
	})
}

// raiseNumbers has changes that are added from now on have numbers above one.
func raiseNumbers(ctx context.Context, tx *sql.Tx, above int64) error {
	var highest int64
	err := tx.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM history").Scan(&highest)
	if err != nil || highest > above {
		return err
	}
	// The highest number decides about the next.
	_, err = tx.ExecContext(ctx, "UPDATE history SET number = ? WHERE number = ?", above+1, highest)
	return err
}

// ForgetHistory removes the records of an account's history, by its id: they are read again
// from the account.
func (db *DB) ForgetHistory(ctx context.Context, id string) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		const number = " WHERE account = (SELECT number FROM history_accounts WHERE id = ?)"
		for _, table := range []string{"history", "history_parts", "history_folders"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+number, id); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "UPDATE history_accounts SET versions = 0, bytes = 0 WHERE id = ?", id)
		return err
	})
}

// HistoryPart is a part of an account's history: what one run, or a day of it, has changed.
type HistoryPart struct {
	Name, Run, Job string
	Began          time.Time
	Changed        int64 // changes below the folder that was asked about
	First, Last    time.Time
}

// PartsOf returns the parts that have changes in a folder or below it, the newest first, of
// those that began before one.
func (h History) PartsOf(ctx context.Context, folder store.Path, before time.Time, most int) (parts []HistoryPart, err error) {
	rows, err := h.db.readPool.QueryContext(ctx, `SELECT number, name, run, job, began FROM history_parts INDEXED BY history_parts_began
		WHERE account = ? AND began < ? AND EXISTS (SELECT 1 FROM history INDEXED BY history_below WHERE part = history_parts.number AND
			folder >= ? AND folder < ?) ORDER BY began DESC LIMIT ?`, h.account, before.UnixNano(), []byte(folder), upTo(folder), most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var numbers []int64
	for rows.Next() {
		var part HistoryPart
		var number, began int64
		if err := rows.Scan(&number, &part.Name, &part.Run, &part.Job, &began); err != nil {
			return nil, err
		}
		part.Began = fromNanoseconds(began)
		parts, numbers = append(parts, part), append(numbers, number)
	}
	for i := range parts {
		var first, last sql.NullInt64
		err := h.db.readPool.QueryRowContext(ctx, `SELECT count(*), min(at), max(at) FROM (SELECT at FROM history INDEXED BY history_below
			WHERE part = ? AND folder >= ? AND folder < ? LIMIT 10000)`, numbers[i], []byte(folder), upTo(folder)).Scan(&parts[i].Changed,
			&first, &last)
		if err != nil {
			return nil, err
		}
		parts[i].First, parts[i].Last = fromNanoseconds(first.Int64), fromNanoseconds(last.Int64)
	}
	return parts, rows.Err()
}

// Held returns what the history of an account holds.
func (h History) Held(ctx context.Context) (count HistoryCount, err error) {
	err = h.db.readPool.QueryRowContext(ctx, "SELECT versions, bytes FROM history_accounts WHERE number = ?", h.account).Scan(&count.Versions,
		&count.Bytes)
	if err == sql.ErrNoRows {
		err = nil
	}
	return count, err
}

// All returns every change of the account, in the order of numbers.
func (h History) All(ctx context.Context) ([]HistoryRow, error) {
	return h.db.changes(ctx, "history.account = ? ORDER BY history.number", h.account)
}
