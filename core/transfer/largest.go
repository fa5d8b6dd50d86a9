package transfer

import (
	"context"
	"sync"

	"deftheron/core/plan"
)

// Large is the size in bytes from which a file is started before its turn, so that a
// run does not end with a single lane busy with the largest file.
const Large = 64 << 20

// largeFrom is Large; tests have smaller files.
var largeFrom int64 = Large

// feedLargest hands the largest files, once all are known, to the lanes that are
// for them, largest first, until the others have been handed out as well. It
// returns the one that it held then.
func (r *Run) feedLargest(ctx context.Context, f *feeder, phase plan.Phase, early *early) (left *Item) {
	select {
	case <-r.planned:
	case <-ctx.Done():
		return nil
	}
	if !r.wasResumed && r.largeQueued[phase].Load() == 0 {
		return nil
	}
	items, err := r.Records.Largest(ctx, r.ID, phase, mostEarly)
	if err != nil {
		if ctx.Err() == nil {
			r.halt(plan.CauseFault, err.Error())
		}
		return nil
	}
	for i := range items {
		if f.has(items[i].Route) && early.take(items[i]) && !r.hand(ctx, f.large, &items[i]) {
			return &items[i]
		}
	}
	return nil
}

// mostEarly is the maximum number of files that are started before their turn.
const mostEarly = 1000

// early holds the items of a phase that were started before their turn.
type early struct {
	mu    sync.Mutex
	after int64 // up to here items had their turn
	taken map[int64]bool
}

// pass takes an item in its turn; false where it was taken before.
func (e *early) pass(item Item) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.after = item.Seq
	taken := e.taken[item.Seq]
	delete(e.taken, item.Seq)
	return !taken
}

// take takes an item before its turn; false where it had that.
func (e *early) take(item Item) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if item.Seq <= e.after {
		return false
	}
	if e.taken == nil {
		e.taken = map[int64]bool{}
	}
	e.taken[item.Seq] = true
	return true
}
