package index

import (
	"context"
	"errors"

	"deftheron/core/store"
	"deftheron/core/tree"
)

// State says how far the index of an account has come.
type State struct {
	Account  string
	Contents bool
	Entries  int64
	Waiting  int64 // folders that were not listed yet
	Texts    int64 // files whose text is searched
	Due      int64 // files whose text is to be read
	Unread   int64 // files whose text could not be read
}

// States returns how far the index of each account has come.
func (x *Index) States(ctx context.Context) (states []State, err error) {
	all, err := x.accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range all {
		state := State{Account: one.name, Contents: one.contents}
		const counted = "SELECT (SELECT count(*) FROM entries INDEXED BY entries_place WHERE account = ?1) - 1, " +
			"(SELECT count(*) FROM entries INDEXED BY entries_new WHERE account = ?1 AND folder = 1 AND parent >= 0 AND listed = 0), " +
			"(SELECT count(*) FROM entries INDEXED BY entries_stated WHERE account = ?1 AND folder = 0 AND state <> 0), " +
			"(SELECT count(*) FROM entries INDEXED BY entries_texts WHERE account = ?1 AND state = 1), " +
			"(SELECT count(*) FROM entries INDEXED BY entries_unread WHERE account = ?1 AND state = 3)"
		stated := int64(0)
		err := x.db.read.QueryRowContext(ctx, counted, one.id).Scan(&state.Entries, &state.Waiting, &stated, &state.Due, &state.Unread)
		if err != nil {
			return nil, err
		}
		state.Texts = stated - state.Due - state.Unread
		states = append(states, state)
	}
	return states, nil
}

// Listing returns the accounts of which not everything was listed yet.
func (x *Index) Listing(ctx context.Context) (names []string, err error) {
	rows, err := x.db.read.QueryContext(ctx, "SELECT name FROM accounts a WHERE EXISTS (SELECT 1 FROM entries e WHERE e.account = a.id AND "+
		"e.folder = 1 AND e.parent >= 0 AND e.listed = 0) ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, rows.Err()
}

// Unread is a file whose text could not be read.
type Unread struct {
	Address store.Address
	Why     string
}

// Unreads returns files of an account whose text could not be read, after an id that was
// returned before; 0 begins.
func (x *Index) Unreads(ctx context.Context, name string, after int64, most int) (all []Unread, next int64, err error) {
	rows, err := x.db.read.QueryContext(ctx, "SELECT "+columns+", why, account FROM entries WHERE account = (SELECT id FROM accounts WHERE "+
		"name = ?) "+
		"AND state = 3 AND id > ? ORDER BY id LIMIT ?", name, after, most)
	if err != nil {
		return nil, 0, err
	}
	type found struct {
		row
		why     string
		account int64
	}
	var read []found
	for rows.Next() {
		var one found
		if err := one.scan(func(into ...any) error { return rows.Scan(append(into, &one.why, &one.account)...) }); err != nil {
			rows.Close()
			return nil, 0, err
		}
		read = append(read, one)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, 0, err
	}
	for _, one := range read {
		next = one.id
		address, ok, err := x.addressOf(ctx, one.account, one.row)
		if err != nil {
			return nil, 0, err
		}
		if ok && tree.Sees(ctx, address) == tree.Seen {
			all = append(all, Unread{Address: address, Why: one.why})
		}
	}
	if len(read) < most {
		next = 0
	}
	return all, next, nil
}

// Sizes say what the index takes, in bytes.
type Sizes struct {
	Text  int64 // that was read
	Kept  int64 // compressed, for excerpts
	Words int64 // of the index of words, names included
	Parts int64 // of the index of parts of names
	File  int64
}

// Sizes returns what the index takes; what cannot be told is 0.
func (x *Index) Sizes(ctx context.Context) (sizes Sizes) {
	for statement, to := range map[string]*int64{
		"SELECT coalesce(sum(length), 0) FROM texts": &sizes.Text, "SELECT coalesce(sum(length(kept)), 0) FROM texts": &sizes.Kept,
		"SELECT coalesce(sum(length(block)), 0) FROM words_data": &sizes.Words, "SELECT coalesce(sum(length(block)), 0) FROM " +
			"parts_data": &sizes.Parts,
	} {
		if err := x.db.read.QueryRowContext(ctx, statement).Scan(to); err != nil {
			*to = 0
		}
	}
	sizes.File, _ = x.db.size(ctx)
	return sizes
}
