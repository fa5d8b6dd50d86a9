package transfer

import (
	"context"
	"sync"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// goThrough plans and feeds, once, or as often as something was touched. A pass has a
// further round whenever a route that was left alone is back.
func (r *Run) goThrough(ctx context.Context, tally Tally) {
	touched := Touched{All: len(r.Places) == 0, Places: r.Places}
	for i := range r.Routes {
		r.states.listed[i] = tally.Planned && !r.Routes[i].Back
	}
	for {
		var planning sync.WaitGroup
		planning.Go(func() { r.plan(ctx, tally, touched) })
		r.feed(ctx)
		planning.Wait()
		if r.planErr != nil || ctx.Err() != nil {
			return
		}
		if r.left.Load() != nil && !r.someAbsent() {
			return
		}
		r.settle()
		if r.someAbsent() {
			if !r.awaitRoutes(ctx) {
				return
			}
			if err := r.beginRoutes(ctx); err != nil {
				r.planErr = err
				return
			}
			tally = Tally{}
			r.nextRound()
			continue
		}
		if err := r.keepTrust(ctx); err != nil {
			r.halt(plan.CauseFault, err.Error())
			return
		}
		if r.Again == nil {
			return
		}
		now := PassResult{Items: r.progress.items.Load(), Failed: r.progress.failed.Load()}
		var ok bool
		if touched, ok = r.Again(ctx, PassResult{now.Items - r.before.Items, now.Failed - r.before.Failed}); !ok || ctx.Err() != nil {
			return
		}
		r.before = now
		r.pass++
		r.Resumed, tally = false, Tally{}
		r.totals = plan.Totals{}
		for i := range r.Routes {
			r.setListed(i, false)
		}
		r.nextRound()
	}
}

func (r *Run) nextRound() {
	r.planErr, r.planned, r.start = nil, make(chan struct{}), newStart()
	for _, f := range r.feeders {
		f.passes.Store(0)
	}
	r.folders.forget() // some may have been removed meanwhile
}

// plan queues the items of a pass.
func (r *Run) plan(ctx context.Context, tally Tally, touched Touched) {
	defer close(r.planned)
	start := r.start
	defer start.now()
	if tally.Planned { // and judged, or let go by a person: see prepare
		r.planErr = r.Records.Judge(ctx, r.ID, r.seq, r.lost, nil)
		return
	}
	// Where something may be removed, or the safety limits may hold, all is known before
	// anything is touched.
	if !r.Rules.WaitsForPlan() && !r.Rules.Safety.On() && !r.hasSiblings() {
		if _, ok := spaceOf(ctx, r.Routes); !ok {
			start.now() // there is nothing that the plan could find out first
		}
		timer := time.AfterFunc(r.HeadStart, func() { r.checkSpace(ctx); start.now() })
		defer timer.Stop()
	}
	if r.pass > 0 && touched.All && !r.someListed() {
		r.progress.unchanged.Store(0)
	}
	queue := &queue{run: r, flushed: time.Now()}
	before := r.totals
	r.planErr = r.planRoutes(ctx, touched, queue, &r.totals)
	if err := queue.flush(ctx); err != nil && r.planErr == nil {
		r.planErr = err
	}
	if r.planErr == nil {
		whole := !r.someAbsent()
		if whole && r.pass == 0 {
			totals := r.totals
			r.whole.Store(&totals)
		}
		r.progress.planned.Store(whole)
		r.checkSpace(ctx)
		r.planErr = r.judge(ctx, before)
	}
}

// PlannedTotals returns to what the first pass comes; false while it is being planned.
func (r *Run) PlannedTotals() (plan.Totals, bool) {
	if totals := r.whole.Load(); totals != nil {
		return *totals, true
	}
	return plan.Totals{}, false
}

// someListed reports whether this round is not the first of its pass.
func (r *Run) someListed() bool {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	for _, listed := range r.states.listed {
		if listed {
			return true
		}
	}
	return false
}

// judge lets the pass overwrite and remove, unless its plan, with the recent losses, is
// more than the safety limits allow. before holds what an earlier round of the pass has
// judged. Losses that a person approved do not count later.
func (r *Run) judge(ctx context.Context, before plan.Totals) error {
	totals, planned := r.totals, r.whole.Load()
	if r.pass > 0 {
		planned = nil // of the first pass, and kept
	}
	loss := Loss{
		At: time.Now(), Removed: totals.Remove.Items - totals.Moved.Items - (before.Remove.Items - before.Moved.Items),
		Replaced: totals.Replace.Items - before.Replace.Items,
	}
	if r.Approved && r.pass == 0 {
		loss.Removed, loss.Replaced = 0, 0
	} else if held := r.overLimits(totals, r.lost.with(loss)); held != nil {
		r.hold(held.Cause, held.Why)
		if planned != nil {
			if err := r.Records.Planned(context.WithoutCancel(ctx), r.ID, *planned); err != nil {
				return err
			}
		}
		return r.Records.Ask(context.WithoutCancel(ctx), r.ID, r.seq) // the hold has cancelled it
	}
	r.lost = r.lost.with(loss)
	return r.Records.Judge(ctx, r.ID, r.seq, r.lost, planned)
}

// overLimits returns what of a pass is more than the safety limits allow; nil where
// nothing is, and where it takes nothing: losses are of the pass that made them.
func (r *Run) overLimits(totals plan.Totals, lost lost) *plan.OverLimits {
	if totals.Remove.Items == totals.Moved.Items && totals.Replace.Items == 0 && totals.Older.Items == 0 {
		return nil
	}
	removed, replaced := lost.sum()
	totals.Remove.Items, totals.Replace.Items = removed+totals.Moved.Items, replaced
	return r.Rules.Safety.Holds(totals)
}

// planRoutes queues the items of the routes whose accounts are there and that were not
// listed in this pass.
func (r *Run) planRoutes(ctx context.Context, touched Touched, queue *queue, totals *plan.Totals) error {
	for i := range r.Routes {
		if r.Routes[i].Back || r.isListed(i) || r.absentOf(i) != nil {
			continue
		}
		paths, some := touched.of(i, r.Routes)
		if r.states.whole[i] { // what had changed while it was away is not known
			paths, some = nil, true
		}
		if !some {
			r.setListed(i, true)
			continue
		}
		one := planning{
			Route: r.Routes[i], rules: r.Rules, began: r.Began, pairs: r.Records.Pairs(ctx, r.Routes[i].Scope), totals: totals,
			excluded:  excluded{totals.Excluded, totals.FoldersExcluded},
			unchanged: r.unchanged, memory: r.Records, place: r.placeOf(i),
		}
		if paths != nil {
			one.touched = paths
			if r.pass > 0 {
				one.unchanged = func(compare.Difference) bool { return false }
			}
		}
		one.moved = func(back bool, at store.Key) error { return queue.moved(ctx, i, back, at) }
		err := r.persist(ctx, func() bool { return one.place.mayAgain() && r.isThere(ctx, i) }, func() error {
			return planRoute(ctx, one, func(step plan.Step) error { return queue.add(ctx, i, step) })
		})
		if err == nil {
			err = queue.mark(ctx)
		}
		switch {
		case err == nil:
			r.setListed(i, true)
			delete(r.states.whole, i)
			if r.pass == 0 && !r.Rules.Clear {
				r.removeCanary(context.WithoutCancel(ctx), r.Routes[i]) // both ends have been listed
			}
		case one.place.mayAgain() && r.leaveRoute(ctx, i, err):
			r.states.whole[i] = true
		default:
			return err
		}
		if paths != nil {
			// Of some places alone, nothing is said by how little they hold.
			totals.SourceListed, totals.TargetListed = -1, -1
		}
	}
	if touched.All {
		return nil
	}
	totals.Known = 0
	for _, route := range r.Routes { // what was lost lately was of any of them
		if route.Back {
			continue
		}
		known, err := r.Records.Known(ctx, route.Scope)
		if err != nil {
			return err
		}
		totals.Known += known
	}
	return nil
}

// unchanged reports whether a file that needs nothing counts as in sync: not
// where this very run brought it about before it was interrupted.
func (r *Run) unchanged(d compare.Difference) bool {
	if d.Pair != nil && d.Pair.Run == r.ID {
		return false
	}
	r.progress.unchanged.Add(1)
	return true
}
