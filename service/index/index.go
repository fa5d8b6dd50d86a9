package index

import (
	"context"
	"database/sql"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/tree"
)

// Account is an account that is searched.
type Account struct {
	Link     string // its id, which a name may pass on to another
	Name     string
	Contents bool // whether the contents of its files are searched too
}

// Options are what an index is opened with.
type Options struct {
	Dir    string // for the database
	Tree   *tree.Tree
	Reader Reader
	// Accounts returns the accounts that are searched now.
	Accounts func(ctx context.Context) ([]Account, error)
	// Listed, if not nil, is called with the entries of a folder as they are listed, some at
	// once.
	Listed func(ctx context.Context, folder store.Address, nodes []tree.Node) error
	// Moved, if not nil, is called with where a folder was that has come to another place, and
	// where it is now; link is the id of its account.
	Moved func(ctx context.Context, link string, from, to []store.Step)
	// Sweep is how often everything is listed again; 0 lists nothing but what is known to
	// have changed.
	Sweep time.Duration
	// Space is how many bytes the index may hold.
	Space int64
	Log   *slog.Logger
}

// Index is the search index of all accounts.
type Index struct {
	options Options
	db      *database
	tree    *tree.Tree
	full    atomic.Bool
	ids     map[int64]int64 // the next id of a day, for who writes
	goesOn  map[int64]int64 // where a day that is full goes on

	mu      sync.Mutex
	workers map[int64]*worker // by account
	resync  chan struct{}
	written chan struct{} // entries were, of which some may have text to read
}

// account is one in the database.
type account struct {
	id       int64
	link     string
	name     string
	contents bool
	root     int64 // the entry of its start
	cursor   string
}

const (
	// lookEvery is how often it is looked for what is due, besides when it is told.
	lookEvery = 20 * time.Second
	// failedWait is when a folder is listed again that could not be.
	failedWait = 10 * time.Minute
	// feedWait is how long a change feed is waited on, and pollEvery how often one is asked that
	// cannot be waited on.
	feedWait, pollEvery = 45 * time.Second, 20 * time.Second
)

// Open opens the index in a folder.
func Open(ctx context.Context, options Options) (*Index, error) {
	db, err := openDatabase(ctx, options.Dir, options.Log)
	if err != nil {
		return nil, err
	}
	return &Index{options: options, db: db, tree: options.Tree, workers: map[int64]*worker{},
		ids: map[int64]int64{}, goesOn: map[int64]int64{},
		resync:  make(chan struct{}, 1),
		written: make(chan struct{}, 1)}, nil
}

// Close closes the index, after Run has ended.
func (x *Index) Close() { x.db.close() }

func (x *Index) now() time.Time { return time.Now() }

// AccountsChanged has the accounts looked at again.
func (x *Index) AccountsChanged() {
	select {
	case x.resync <- struct{}{}:
	default:
	}
}

// Run keeps the index up to date until the context ends.
func (x *Index) Run(ctx context.Context) {
	var group sync.WaitGroup
	defer group.Wait()
	ctx, cancel := context.WithCancel(gate.WithShare(ctx, gate.NewShare(1)))
	defer cancel()
	group.Go(func() { x.loop(ctx, "reading texts", x.written, x.readTexts) })
	group.Go(func() { x.loop(ctx, "cleaning up", nil, x.db.clean) })
	for {
		if err := x.sync(ctx, &group); err != nil && ctx.Err() == nil {
			x.options.Log.Error("the accounts that are searched could not be read", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-x.resync:
		case <-time.After(time.Minute):
		}
	}
}

// loop does something as long as there is anything to do, and looks when it is woken, and
// now and then.
func (x *Index) loop(ctx context.Context, what string, woken <-chan struct{}, do func(context.Context) (bool, error)) {
	for ctx.Err() == nil {
		more, err := do(ctx)
		if err != nil && ctx.Err() == nil {
			x.options.Log.Error("the search index is behind", "doing", what, "error", err)
		}
		if more && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-woken:
		case <-time.After(5 * time.Second):
		}
	}
}

// sync brings the accounts of the index in line with those that are linked.
func (x *Index) sync(ctx context.Context, group *sync.WaitGroup) error {
	linked, err := x.options.Accounts(ctx)
	if err != nil {
		return err
	}
	known, err := x.accounts(ctx)
	if err != nil {
		return err
	}
	wanted := map[string]Account{}
	for _, one := range linked {
		wanted[one.Link] = one
	}
	for _, one := range known {
		now, is := wanted[one.link]
		delete(wanted, one.link)
		switch {
		case !is:
			err = x.drop(ctx, one)
		case now.Name != one.name || now.Contents != one.contents:
			w := x.tell(one, now)
			if err = x.change(ctx, one, now); w != nil {
				w.wake(false)
			}
		}
		if err != nil {
			return err
		}
	}
	for _, one := range wanted {
		if err := x.addAccount(ctx, one); err != nil {
			return err
		}
	}
	if known, err = x.accounts(ctx); err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, one := range known {
		if w := x.workers[one.id]; w != nil {
			w.set(one)
			continue
		}
		w := newWorker(x, one)
		x.workers[one.id] = w
		group.Go(func() { w.run(ctx) })
	}
	return nil
}

func (x *Index) accounts(ctx context.Context) (all []account, err error) {
	rows, err := x.db.read.QueryContext(ctx, "SELECT a.id, a.link, a.name, a.contents, a.cursor, e.id FROM accounts a "+
		"CROSS JOIN entries e ON e.account = a.id AND e.parent = 0 ORDER BY a.name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one account
		if err := rows.Scan(&one.id, &one.link, &one.name, &one.contents, &one.cursor, &one.root); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// addAccount adds an account, with its start as a folder that is due.
func (x *Index) addAccount(ctx context.Context, one Account) error {
	return x.db.change(ctx, func(tx *sql.Tx) error {
		result, err := tx.ExecContext(ctx, "INSERT INTO accounts (link, name, contents) VALUES (?, ?, ?)", one.Link, one.Name, one.Contents)
		if err != nil {
			return err
		}
		id, err := result.LastInsertId()
		if err != nil {
			return err
		}
		root, err := x.nextID(ctx, tx, 0)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO entries (id, account, parent, key, name, folder, kind, size, modified, revision, ref) VALUES "+
			"(?, ?, 0, '', '', 1, ?, 0, 0, '', '')", root, id, store.KindFolder)
		return err
	})
}

// tell has the worker of an account work as the account is from now on, and returns it; nil for none.
// It comes before the folders are due: a listing that began in between would be as the account was
// before, and they would not be listed again.
func (x *Index) tell(before account, after Account) *worker {
	before.name, before.contents = after.Name, after.Contents
	x.mu.Lock()
	defer x.mu.Unlock()
	w := x.workers[before.id]
	if w != nil {
		w.set(before)
	}
	return w
}

// change gives an account another name, or has its contents searched or not any more.
func (x *Index) change(ctx context.Context, before account, after Account) error {
	err := x.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE accounts SET name = ?, contents = ? WHERE id = ?", after.Name, after.Contents,
			before.id); err != nil {
			return err
		}
		if before.contents || !after.Contents {
			return nil
		}
		// Each folder is listed again, which finds the files that have text.
		_, err := tx.ExecContext(ctx, "UPDATE entries SET due = 0 WHERE account = ? AND folder = 1 AND parent >= 0", before.id)
		return err
	})
	for more := before.contents && !after.Contents; more && err == nil; {
		more, err = x.forgetTexts(ctx, before.id)
	}
	return err
}

// forgetTexts removes some of the texts of an account, and reports whether there may be more.
func (x *Index) forgetTexts(ctx context.Context, account int64) (more bool, err error) {
	return more, x.db.change(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT "+columns+" FROM entries WHERE account = ? AND folder = 0 AND state <> 0 LIMIT ?", account,
			batch)
		if err != nil {
			return err
		}
		all, err := scanRows(rows)
		if err != nil {
			return err
		}
		for i := range all {
			if err := forgetText(ctx, tx, &all[i]); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "UPDATE entries SET state = 0, why = '' WHERE id = ?", all[i].id); err != nil {
				return err
			}
		}
		more = len(all) == batch
		return nil
	})
}

// drop removes an account; what it held is cleaned up later.
func (x *Index) drop(ctx context.Context, one account) error {
	x.mu.Lock()
	if w := x.workers[one.id]; w != nil {
		w.stop()
		delete(x.workers, one.id)
	}
	x.mu.Unlock()
	return x.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM accounts WHERE id = ?", one.id); err != nil {
			return err
		}
		return doom(ctx, tx, row{id: one.root, folder: true})
	})
}

// Touched says that what a folder holds, by its address, may have changed: it is listed
// again soon, if it is known.
func (x *Index) Touched(address store.Address) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, w := range x.workers {
		if w.named(address.Account) {
			w.touch(address.Steps)
			return
		}
	}
}

// TouchedBelow says that anything in a folder, by its address, may have changed.
func (x *Index) TouchedBelow(address store.Address) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, w := range x.workers {
		if w.named(address.Account) {
			w.touchBelow(address.Steps)
		}
	}
}

// TouchedAll says that anything of an account may have changed.
func (x *Index) TouchedAll(name string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, w := range x.workers {
		if w.named(name) {
			w.wake(true)
		}
	}
}
