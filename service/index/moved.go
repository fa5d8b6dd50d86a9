package index

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"iter"

	"deftheron/core/store"
	"deftheron/core/tree"
)

// telling yields nodes, and has those who listen told of them, some at once.
func (x *Index) telling(ctx context.Context, folder store.Address, nodes iter.Seq2[tree.Node, error]) iter.Seq2[tree.Node, error] {
	if x.options.Listed == nil {
		return nodes
	}
	return func(yield func(tree.Node, error) bool) {
		var some []tree.Node
		tell := func() {
			if err := x.options.Listed(ctx, folder, some); err != nil && ctx.Err() == nil {
				x.options.Log.Debug("nobody could be told of what a folder holds", "folder", folder.String(), "error", err)
			}
			some = some[:0]
		}
		for node, err := range nodes {
			if err == nil {
				if some = append(some, node); len(some) == batch {
					tell()
				}
			}
			if !yield(node, err) {
				return
			}
		}
		tell()
	}
}

// folderMove is where a folder was, and where it is now.
type folderMove struct{ from, to []store.Step }

// moved takes a folder along that has the provider's id of a new one, with everything in it.
func (w *writer) moved(ctx context.Context, tx *sql.Tx, one change) (bool, error) {
	var before row
	err := before.scan(tx.QueryRowContext(ctx, "SELECT "+columns+" FROM entries WHERE account = ? AND ref = ? AND "+
		"ref <> '' AND folder = 1 LIMIT 1",
		w.account.id, one.after.ref).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if before.parent == one.parent && bytes.Equal(before.key, one.after.key) {
		return false, nil
	}
	if err := w.noteMove(ctx, before, one); err != nil {
		return false, err
	}
	_, err = tx.ExecContext(ctx, "UPDATE entries SET parent = ?, key = ?, name = ?, step = ?, modified = ? WHERE id = ?", one.parent,
		one.after.key,
		one.after.name, one.after.step, one.after.modified, before.id)
	if err != nil || before.name == one.after.name {
		return err == nil, err
	}
	after := one.after
	after.id = before.id
	return true, w.rename(ctx, tx, &after)
}

// noteMove remembers that a folder was moved, as far as both places are known.
func (w *writer) noteMove(ctx context.Context, before row, one change) error {
	from, known, err := w.index.pathOf(ctx, before.parent, nil)
	if err != nil || !known {
		return err
	}
	to, known, err := w.index.pathOf(ctx, one.parent, nil)
	if err != nil || !known {
		return err
	}
	w.moves = append(w.moves, folderMove{withStep(store.Address{Steps: from}, before).Steps,
		withStep(store.Address{Steps: to}, one.after).Steps})
	return nil
}
