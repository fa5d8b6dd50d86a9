package index

import (
	"bytes"
	"context"
	"database/sql"
	"iter"
	"slices"
	"strings"
	"time"

	"deftheron/core/plaintext"
	"deftheron/core/store"
	"deftheron/core/tree"
)

// row is an entry in the database.
type row struct {
	id, parent int64
	key        []byte
	name, step string // step is set if the entry is addressed by its id
	folder     bool
	kind       store.Kind
	size       int64
	modified   int64
	revision   string
	ref        string
	state      int
}

const columns = "id, parent, key, name, step, folder, kind, size, modified, revision, ref, state"

func (r *row) scan(scan func(...any) error) error {
	return scan(&r.id, &r.parent, &r.key, &r.name, &r.step, &r.folder, &r.kind, &r.size, &r.modified, &r.revision, &r.ref, &r.state)
}

// rowOf is an entry as it is listed.
func rowOf(node tree.Node) row {
	r := row{name: node.Name, folder: node.Kind == store.KindFolder, kind: node.Kind, size: node.Size, revision: node.Revision, ref: node.ID}
	if node.Identity != "" {
		r.ref = node.Identity
	}
	if node.Elsewhere {
		r.ref = "" // it is listed in several folders
	}
	if !node.Modified.IsZero() {
		r.modified = node.Modified.Unix()
	}
	r.key = []byte(r.name)
	if r.folder {
		r.key = append(r.key, '/')
	}
	if steps := node.Address.Steps; len(steps) > 0 && steps[len(steps)-1].ID != "" {
		r.step = steps[len(steps)-1].ID
		r.key = append(append(r.key, 0), r.step...)
	}
	return r
}

// same reports whether an entry is as it was.
func (r *row) same(other *row) bool {
	return r.kind == other.kind && r.size == other.size && r.modified == other.modified && r.revision == other.revision && r.ref == other.ref
}

// inOrder yields rows by their keys: of twins, which are listed one after the other, by
// their ids.
func inOrder(nodes iter.Seq2[tree.Node, error]) iter.Seq2[row, error] {
	return func(yield func(row, error) bool) {
		var twins []row
		flush := func() bool {
			slices.SortFunc(twins, func(a, b row) int { return bytes.Compare(a.key, b.key) })
			for _, one := range twins {
				if !yield(one, nil) {
					return false
				}
			}
			twins = twins[:0]
			return true
		}
		for node, err := range nodes {
			if err != nil {
				if flush() {
					yield(row{}, err)
				}
				return
			}
			one := rowOf(node)
			if len(twins) > 0 && (twins[0].name != one.name || twins[0].folder != one.folder) && !flush() {
				return
			}
			twins = append(twins, one)
		}
		flush()
	}
}

// children yields what a folder held when it was last listed, by key.
func (db *database) children(ctx context.Context, account, parent int64) iter.Seq2[row, error] {
	return func(yield func(row, error) bool) {
		const page = 1000
		for after := []byte{}; ; {
			rows, err := db.read.QueryContext(ctx, "SELECT "+columns+" FROM entries WHERE account = ? AND parent = ? AND key > ? ORDER BY key "+
				"LIMIT ?",
				account, parent, after, page)
			if err != nil {
				yield(row{}, err)
				return
			}
			found, err := scanRows(rows)
			if err != nil {
				yield(row{}, err)
				return
			}
			for _, one := range found {
				if !yield(one, nil) {
					return
				}
				after = one.key
			}
			if len(found) < page {
				return
			}
		}
	}
}

func scanRows(rows *sql.Rows) (all []row, err error) {
	defer rows.Close()
	for rows.Next() {
		var one row
		if err := one.scan(rows.Scan); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// writer writes changes of entries, several in a transaction.
type writer struct {
	index   *Index
	account account
	pending []change
	moves   []folderMove // of folders, which are written with what is pending
}

// change is what becomes of an entry: it is added, as before is empty; changed; or, as
// after is empty, removed.
type change struct {
	before, after row
	parent        int64
}

// batch is how many changes are written in one transaction.
const batch = 500

func (w *writer) add(ctx context.Context, one change) error {
	if w.pending = append(w.pending, one); len(w.pending) < batch {
		return nil
	}
	return w.flush(ctx)
}

func (w *writer) flush(ctx context.Context) error {
	if len(w.pending) == 0 {
		return nil
	}
	err := w.index.db.change(ctx, func(tx *sql.Tx) error {
		uncancelled := context.WithoutCancel(ctx) // the driver starts a goroutine for each statement that can be cancelled
		for _, one := range w.pending {
			if err := w.apply(uncancelled, tx, one); err != nil {
				return err
			}
		}
		return nil
	})
	w.pending = w.pending[:0]
	for _, one := range w.moves {
		if err == nil && w.index.options.Moved != nil {
			w.index.options.Moved(ctx, w.account.link, one.from, one.to)
		}
	}
	w.moves = w.moves[:0]
	select {
	case w.index.written <- struct{}{}:
	default:
	}
	return err
}

func (w *writer) apply(ctx context.Context, tx *sql.Tx, one change) error {
	if one.before.id == 0 {
		return w.insert(ctx, tx, one)
	}
	there := 0
	err := tx.QueryRowContext(ctx, "SELECT count(*) FROM entries WHERE id = ? AND parent = ? AND key = ?", one.before.id, one.before.parent,
		one.before.key).Scan(&there)
	switch removed := one.after.key == nil; {
	case err != nil:
		return err
	case removed && there == 0: // an entry before this one has taken it along
		return nil
	case removed:
		return doom(ctx, tx, one.before)
	case there == 0:
		one.parent = one.before.parent
		return w.insert(ctx, tx, one)
	}
	after := one.after
	if !after.folder { // it has another id, by its time, and its text is read again
		if err := erase(ctx, tx, one.before.id); err != nil {
			return err
		}
		after.ref = "" // nothing is taken along
		if err := w.insert(ctx, tx, change{after: after, parent: one.before.parent}); err != nil || one.after.ref == "" {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE entries SET ref = ? WHERE account = ? AND parent = ? AND key = ?", one.after.ref, w.account.id,
			one.before.parent, after.key)
		return err
	}
	_, err = tx.ExecContext(ctx, "UPDATE entries SET modified = ?, revision = ?, ref = ? WHERE id = ?", after.modified, after.revision,
		after.ref, one.before.id)
	return err
}

// An entry's id begins with the day on which it was changed, so that the newest have the
// largest: the indexes yield those of a frequent word in that order at once. A day that is
// full goes on in the next one. The fewer ids a day has, the fewer bytes tell them apart.
const idsOfDay = 1 << 10

// mostDays is how many days are remembered.
const mostDays = 10_000

// nextID returns an id for an entry that was changed at a time, in seconds since 1970.
func (x *Index) nextID(ctx context.Context, tx *sql.Tx, modified int64) (int64, error) {
	first := max(0, modified/86_400) + 1
	for day := first; ; {
		if after, full := x.goesOn[day]; full {
			day = after
			continue
		}
		next, known := x.ids[day]
		if !known {
			err := tx.QueryRowContext(ctx, "SELECT coalesce(max(id) + 1, ?1) FROM entries WHERE id >= ?1 AND id < ?2", day*idsOfDay,
				(day+1)*idsOfDay).Scan(&next)
			if err != nil {
				return 0, err
			}
			if len(x.ids)+len(x.goesOn) > mostDays {
				clear(x.ids)
				clear(x.goesOn)
			}
		}
		if next < (day+1)*idsOfDay {
			x.ids[day] = next + 1
			if day != first {
				x.goesOn[first] = day // and all between
			}
			return next, nil
		}
		delete(x.ids, day)
		x.goesOn[day] = day + 1
		day++
	}
}

// stateOf says whether the text of an entry is to be read.
func (w *writer) stateOf(r *row) int {
	if r.folder || !w.account.contents || !readable(r.name, r.kind, r.size) {
		return textNone
	}
	return textDue
}

// readable reports whether the text of such an entry can be read.
func readable(name string, kind store.Kind, size int64) bool {
	return kind == store.KindDocument || kind == store.KindFile && plaintext.Reads(name) && size > 0 && size <= MostRead
}

// insert adds an entry. A folder that was moved here keeps what is known of it.
func (w *writer) insert(ctx context.Context, tx *sql.Tx, one change) error {
	after := one.after
	if after.ref != "" && after.folder {
		moved, err := w.moved(ctx, tx, one)
		if moved || err != nil {
			return err
		}
	}
	after.state = w.stateOf(&after)
	var err error
	if after.id, err = w.index.nextID(ctx, tx, after.modified); err != nil {
		return err
	}
	result, err := tx.ExecContext(ctx, "INSERT INTO entries (id, account, parent, key, name, step, folder, kind, size, modified, revision, "+
		"ref, state) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING", after.id, w.account.id, one.parent, after.key, after.name,
		after.step,
		after.folder, after.kind, after.size, after.modified, after.revision, after.ref, after.state)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return err
	}
	if err := addNames(ctx, tx, &after); err != nil || after.ref == "" || after.state != textDue {
		return err
	}
	return w.takeText(ctx, tx, &after)
}

func addNames(ctx context.Context, tx *sql.Tx, r *row) error {
	name := strings.ToValidUTF8(r.name, "\ufffd")
	if _, err := tx.ExecContext(ctx, "INSERT INTO words (rowid, name, text) VALUES (?, ?, '')", r.id, name); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO parts (rowid, name) VALUES (?, ?)", r.id, name)
	return err
}

// rename gives an entry another name in the indexes, and its text again.
func (w *writer) rename(ctx context.Context, tx *sql.Tx, r *row) error {
	text, err := keptText(ctx, tx, r.id)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM parts WHERE rowid = ?", r.id); err != nil {
		return err
	}
	name := strings.ToValidUTF8(r.name, "\ufffd")
	if _, err := tx.ExecContext(ctx, "INSERT INTO parts (rowid, name) VALUES (?, ?)", r.id, name); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO words (rowid, name, text) VALUES (?, ?, ?)", r.id, name, text)
	return err
}

// merge brings what is known of a folder up to date with its listing.
func (w *writer) merge(ctx context.Context, parent int64, listing iter.Seq2[row, error]) error {
	next, stop := iter.Pull2(w.index.db.children(ctx, w.account.id, parent))
	defer stop()
	known, err, ok := next()
	for listed, failed := range listing {
		if failed != nil {
			return failed
		}
		for ok && err == nil && bytes.Compare(known.key, listed.key) < 0 {
			if err := w.add(ctx, change{before: known, parent: parent}); err != nil {
				return err
			}
			known, err, ok = next()
		}
		if err != nil {
			return err
		}
		switch {
		case !ok || !bytes.Equal(known.key, listed.key):
			err := w.add(ctx, change{after: listed, parent: parent})
			if err != nil {
				return err
			}
			continue
		case !known.same(&listed), known.state == textNone && w.stateOf(&listed) == textDue:
			if err := w.add(ctx, change{before: known, after: listed, parent: parent}); err != nil {
				return err
			}
		}
		known, err, ok = next()
	}
	for ; ok; known, err, ok = next() {
		if err != nil {
			return err
		}
		if err := w.add(ctx, change{before: known, parent: parent}); err != nil {
			return err
		}
	}
	return w.flush(ctx)
}

// dueAt records when a folder is due.
func (db *database) dueAt(ctx context.Context, id int64, due time.Time) error {
	return db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE entries SET due = ? WHERE id = ?", due.Unix(), id)
		return err
	})
}

// listedAt records that a folder was listed, and when it is due again, unless that has been
// changed since it was due at another time.
func (db *database) listedAt(ctx context.Context, id int64, before, due time.Time) error {
	return db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE entries SET due = CASE due WHEN ? THEN ? ELSE due END, listed = 1 WHERE id = ?", before.Unix(),
			due.Unix(), id)
		return err
	})
}
