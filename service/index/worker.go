package index

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"sync"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// worker keeps the index of one account up to date.
type worker struct {
	index  *Index
	woken  chan struct{}
	ended  chan struct{}
	ending sync.Once

	mu      sync.Mutex
	account account
	touched []touch
	below   []touch   // folders with everything in them
	all     bool      // everything is due
	first   time.Time // when touched was empty last, and then something changed
	last    time.Time // when something changed last
}

// What has changed is listed once nothing has for rest, so that a folder which a run fills is
// listed once and beside nothing; but no later than mostRest after the first change.
const rest, mostRest = 500 * time.Millisecond, 10 * time.Second

// touch is a folder that may have changed.
type touch []store.Step

// mostTouched is how many folders are remembered as changed; with more, all are due.
const mostTouched = 10_000

func newWorker(index *Index, of account) *worker {
	return &worker{index: index, account: of, woken: make(chan struct{}, 1), ended: make(chan struct{})}
}

func (w *worker) stop() { w.ending.Do(func() { close(w.ended) }) }

func (w *worker) set(now account) {
	w.mu.Lock()
	changed := w.account.contents != now.contents
	now.cursor = w.account.cursor
	w.account = now
	w.mu.Unlock()
	if changed {
		w.wake(false)
	}
}

func (w *worker) now() account {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.account
}

func (w *worker) named(name string) bool { return w.now().name == name }

func (w *worker) wake(all bool) {
	w.mu.Lock()
	w.all = w.all || all
	w.mu.Unlock()
	select {
	case w.woken <- struct{}{}:
	default:
	}
}

// pending reports whether something is known to have changed.
func (w *worker) pending() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.touched)+len(w.below) > 0 || w.all
}

// restless is for how long the changes that are known are left alone still.
func (w *worker) restless(now time.Time) time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.touched) == 0 || w.all {
		return 0
	}
	return min(rest-now.Sub(w.last), mostRest-now.Sub(w.first))
}

func (w *worker) touch(steps []store.Step) {
	w.mu.Lock()
	w.last = time.Now()
	if len(w.touched) == 0 {
		w.first = w.last
	}
	if len(w.touched) >= mostTouched {
		w.touched, w.all = nil, true
	} else if !slices.ContainsFunc(w.touched[max(0, len(w.touched)-20):], func(one touch) bool { return slices.Equal(one, steps) }) {
		w.touched = append(w.touched, slices.Clone(steps))
	}
	w.mu.Unlock()
	w.wake(false)
}

// run lists what is due until the context ends or the account is dropped.
func (w *worker) run(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var group sync.WaitGroup
	defer group.Wait()
	group.Go(func() {
		select {
		case <-w.ended:
			cancel()
		case <-ctx.Done():
		}
	})
	group.Go(func() { w.follow(ctx) })
	for ctx.Err() == nil {
		if wait := w.restless(time.Now()); wait > 0 {
			_ = retry.Sleep(ctx, wait) // also if it is woken
			continue
		}
		err := w.work(ctx)
		if err == nil && w.pending() {
			continue
		}
		if err != nil && ctx.Err() == nil {
			w.index.options.Log.Debug("an account could not be listed for the search index", "account", w.now().name, "error", err)
			_ = retry.Sleep(ctx, lookEvery) // also if it is woken: it would fail again
			continue
		}
		select {
		case <-ctx.Done():
		case <-w.woken:
		case <-time.After(lookEvery):
		}
	}
}

// work lists what is known to have changed, and then what is due. What it could not list is
// still known to have changed.
func (w *worker) work(ctx context.Context) (err error) {
	w.mu.Lock()
	touched, below, all := w.touched, w.below, w.all
	w.touched, w.below, w.all = nil, nil, false
	w.mu.Unlock()
	listed := 0
	defer func() {
		if err == nil {
			return
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		w.touched, w.below, w.all = append(touched[listed:], w.touched...), append(below, w.below...), w.all || all
	}()
	if all {
		if err := w.dueAll(ctx); err != nil {
			return err
		}
	}
	for _, steps := range below {
		if err := w.dueBelow(ctx, steps); err != nil {
			return err
		}
	}
	since := map[int64]bool{} // listed since all of these changed
	for _, steps := range touched {
		begun := time.Now()
		id, _, err := w.index.folderAt(ctx, w.now(), steps) // or the innermost one that is known
		if err == nil && !since[id] {
			err = w.list(ctx, id)
		}
		if err != nil {
			return err
		}
		listed++
		if since[id] {
			continue
		}
		since[id] = true
		_ = retry.Sleep(ctx, min(2*time.Since(begun), 5*time.Second)) // a run wakes the worker for each file
	}
	if w.index.options.Sweep == 0 && !all && len(below) == 0 {
		return nil
	}
	for ctx.Err() == nil {
		id, ok, err := w.nextDue(ctx)
		if err != nil || !ok {
			return err
		}
		begun := time.Now()
		if err := w.list(ctx, id); err != nil {
			return err
		}
		// Two thirds of the time are others'.
		w.pause(ctx, min(2*time.Since(begun), 5*time.Second))
		if w.pending() {
			return nil // what has changed is listed first
		}
	}
	return nil
}

func (w *worker) touchBelow(steps []store.Step) {
	w.mu.Lock()
	if !slices.ContainsFunc(w.below, func(one touch) bool { return slices.Equal(one, steps) }) {
		w.below = append(w.below, slices.Clone(steps))
	}
	w.mu.Unlock()
	w.wake(false)
}

// dueBelow has a folder listed, and every one below it.
func (w *worker) dueBelow(ctx context.Context, steps []store.Step) error {
	of := w.now()
	id, known, err := w.index.folderAt(ctx, of, steps)
	if err != nil {
		return err
	}
	if !known {
		return w.list(ctx, id) // what is new there is due by itself
	}
	return w.index.db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "WITH RECURSIVE below(id) AS (SELECT ?1 UNION ALL SELECT e.id FROM below b CROSS JOIN entries e "+
			"ON e.account = ?2 AND e.parent = b.id WHERE e.folder = 1) UPDATE entries SET due = 0 WHERE id IN (SELECT id FROM below)", id, of.id)
		return err
	})
}

// pause waits, until it is woken or the context ends.
func (w *worker) pause(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-w.woken:
	case <-timer.C:
	}
}

func (w *worker) dueAll(ctx context.Context) error {
	return w.index.db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE entries SET due = 0 WHERE account = ? AND folder = 1 AND parent >= 0", w.now().id)
		return err
	})
}

// nextDue returns the folder that is due for longest.
func (w *worker) nextDue(ctx context.Context) (id int64, ok bool, err error) {
	err = w.index.db.read.QueryRowContext(ctx, "SELECT id FROM entries WHERE account = ? AND folder = 1 AND parent >= 0 AND due <= ? ORDER "+
		"BY due LIMIT 1",
		w.now().id, w.index.now().Unix()).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// list lists one folder. A failure that concerns it alone has it listed later.
func (w *worker) list(ctx context.Context, id int64) error {
	of := w.now()
	steps, ok, err := w.index.pathOf(ctx, id, nil)
	if err != nil || !ok {
		return err
	}
	address := store.Address{Account: of.name, Steps: steps, Folder: len(steps) > 0}
	// Who has the folder listed again meanwhile sets another time than this one.
	listing := w.index.now().Add(failedWait)
	if err := w.index.db.dueAt(ctx, id, listing); err != nil {
		return err
	}
	writing := &writer{index: w.index, account: of}
	err = writing.merge(ctx, id, inOrder(w.index.telling(ctx, address, w.index.tree.List(ctx, address))))
	again := w.index.options.Sweep
	if again == 0 {
		again = 100 * 365 * 24 * time.Hour
	}
	switch kind := store.KindOf(err); {
	case ctx.Err() != nil:
		return ctx.Err()
	case kind == store.ErrNotFound && id != of.root:
		return w.index.db.change(ctx, func(tx *sql.Tx) error { return doom(ctx, tx, row{id: id, folder: true}) })
	case err != nil:
		w.index.options.Log.Debug("a folder could not be listed for the search index", "address", address.String(), "error", err)
		again = failedWait
	}
	if failed := w.index.db.listedAt(ctx, id, listing, w.index.now().Add(again)); failed != nil {
		return failed
	}
	if store.WaitsForPerson(err) || store.KindOf(err) == store.ErrTryAgain {
		return err // it concerns all folders
	}
	return nil
}

// follow follows the account's change feed, if it has one.
func (w *worker) follow(ctx context.Context) {
	for ctx.Err() == nil {
		wait := 5 * time.Minute
		if w.index.options.Sweep > 0 {
			begun := time.Now()
			followed, err := w.changes(ctx)
			if followed && err == nil { // a feed that cannot be waited on answers at once
				wait = max(time.Second, pollEvery-time.Since(begun))
			}
		}
		if retry.Sleep(ctx, wait) != nil {
			return
		}
	}
}

// changes takes the changes since the cursor that is kept, and waits for some.
func (w *worker) changes(ctx context.Context) (followed bool, err error) {
	of := w.now()
	located, err := w.index.tree.Locate(ctx, store.Address{Account: of.name})
	if err != nil || located.Store.Capabilities().Changes == nil {
		return false, err
	}
	begins := of.cursor == ""
	page, err := store.AwaitChanges(ctx, located.Store, store.Folder{}, of.cursor, feedWait)
	switch {
	case store.KindOf(err) == store.ErrChanged: // the feed is lost
		if err := w.setCursor(ctx, ""); err != nil {
			return false, err
		}
		w.wake(true)
		return false, nil
	case err != nil:
		return false, err
	case begins:
		w.wake(true) // what changed before is found by listing everything once more
	}
	for _, one := range page.Changes {
		if err := w.changed(ctx, one); err != nil {
			return false, err
		}
	}
	return true, w.setCursor(ctx, page.Cursor)
}

func (w *worker) setCursor(ctx context.Context, cursor string) error {
	w.mu.Lock()
	w.account.cursor = cursor
	id := w.account.id
	w.mu.Unlock()
	return w.index.db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE accounts SET cursor = ? WHERE id = ?", cursor, id)
		return err
	})
}

// changed has the folder listed in which something changed. Of what is gone, a provider may
// tell no more than its id.
func (w *worker) changed(ctx context.Context, one store.Change) error {
	if one.Gone && one.Place.Name == "" && one.Place.ID != "" {
		var parent int64
		err := w.index.db.read.QueryRowContext(ctx, "SELECT parent FROM entries WHERE account = ? AND ref = ? AND ref <> '' LIMIT 1", w.now().id,
			one.Place.ID).Scan(&parent)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		steps, ok, err := w.index.pathOf(ctx, parent, nil)
		if ok {
			w.touch(steps)
		}
		return err
	}
	var steps []store.Step
	for _, name := range one.Place.Folder.Path.Names() {
		steps = append(steps, store.Step{Name: name})
	}
	w.touch(steps)
	return nil
}
