package transfer

import (
	"context"
	"sync"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
)

// goThrough plans and feeds, once, or as often as something was touched.
func (r *Run) goThrough(ctx context.Context, tally Tally) {
	touched := Touched{All: len(r.Places) == 0, Places: r.Places}
	for {
		var planning sync.WaitGroup
		planning.Go(func() { r.plan(ctx, tally, touched) })
		r.feed(ctx)
		planning.Wait()
		if r.planErr != nil || ctx.Err() != nil || r.left.Load() != nil {
			return
		}
		r.settle()
		if err := r.keepTrust(ctx); err != nil {
			r.halt(plan.CauseFault, err.Error())
			return
		}
		if r.Again == nil {
			return
		}
		now := Passed{Items: r.progress.items.Load(), Failed: r.progress.failed.Load()}
		var ok bool
		if touched, ok = r.Again(ctx, Passed{now.Items - r.before.Items, now.Failed - r.before.Failed}); !ok || ctx.Err() != nil {
			return
		}
		r.before = now
		r.pass++
		r.Resumed, tally = false, Tally{}
		r.planErr, r.planned, r.started, r.begin = nil, make(chan struct{}), make(chan struct{}), sync.Once{}
		r.passes.Store(0)
	}
}

// plan queues what is to be done.
func (r *Run) plan(ctx context.Context, tally Tally, touched Touched) {
	defer close(r.planned)
	defer r.mayStart()
	if tally.Planned { // and judged, or let go by a person: see prepare
		r.planErr = r.Records.Judge(ctx, r.ID, r.seq, r.lost)
		return
	}
	// Where something may be removed, or the brake may hold, all is known before
	// anything is touched.
	if !r.Rules.WaitsForPlan() && !r.Rules.Brake.On() {
		if _, ok := spaceOf(ctx, r.Routes); !ok {
			r.mayStart() // there is nothing that the plan could find out first
		}
		timer := time.AfterFunc(r.HeadStart, func() { r.checkSpace(ctx); r.mayStart() })
		defer timer.Stop()
	}
	if r.pass > 0 && touched.All {
		r.progress.unchanged.Store(0)
	}
	queue := &queue{run: r, flushed: time.Now()}
	var totals plan.Totals
	r.planErr = r.planRoutes(ctx, touched, queue, &totals)
	if err := queue.flush(ctx); err != nil && r.planErr == nil {
		r.planErr = err
	}
	if r.planErr == nil && r.pass == 0 {
		r.planErr = r.Records.Planned(ctx, r.ID, totals)
	}
	if r.planErr == nil {
		r.progress.planned.Store(true)
		r.checkSpace(ctx)
		r.planErr = r.judge(ctx, totals)
	}
	if r.pass == 0 && !r.Rules.Clear {
		r.removeCanaries(context.WithoutCancel(ctx)) // both ends have been listed
	}
}

// judge lets the pass go on to what writes over something or removes, unless its
// plan, with what was lost lately, is more than the safety limits allow. What a person
// let go does not count later.
func (r *Run) judge(ctx context.Context, totals plan.Totals) error {
	loss := Loss{At: time.Now(), Removed: totals.Remove.Items - totals.Moved.Items, Replaced: totals.Replace.Items}
	if r.Released && r.pass == 0 {
		loss.Removed, loss.Replaced = 0, 0
	} else if held := r.overLimits(totals, r.lost.with(loss)); held != nil {
		r.hold(held.Cause, held.Why)
		return r.Records.Ask(context.WithoutCancel(ctx), r.ID, r.seq) // the hold has cancelled it
	}
	r.lost = r.lost.with(loss)
	return r.Records.Judge(ctx, r.ID, r.seq, r.lost)
}

// overLimits returns what of a pass is more than the safety limits allow; nil where
// nothing is, and where it takes nothing: losses are of the pass that made them.
func (r *Run) overLimits(totals plan.Totals, lost lost) *plan.Braked {
	if totals.Remove.Items == totals.Moved.Items && totals.Replace.Items == 0 && totals.Older.Items == 0 {
		return nil
	}
	removed, replaced := lost.sum()
	totals.Remove.Items, totals.Replace.Items = removed+totals.Moved.Items, replaced
	return r.Rules.Brake.Holds(totals)
}

func (r *Run) planRoutes(ctx context.Context, touched Touched, queue *queue, totals *plan.Totals) error {
	for i, route := range r.Routes {
		paths, some := touched.of(i, r.Routes)
		if route.Back || !some {
			continue
		}
		one := planning{
			Route: route, rules: r.Rules, began: r.Began, pairs: r.Records.Pairs(ctx, route.Scope), totals: totals, leftOut: leftOut{totals.LeftOut, totals.FoldersLeftOut},
			unchanged: r.unchanged, memory: r.Records, place: &position{},
		}
		if !touched.All {
			one.touched = paths
			if r.pass > 0 {
				one.unchanged = func(compare.Difference) bool { return false }
			}
		}
		err := r.persist(ctx, one.place.mayAgain, func() error {
			return planRoute(ctx, one, func(step plan.Step) error { return queue.add(ctx, i, step) })
		})
		if err != nil {
			return err
		}
		if touched.All {
			continue
		}
		// Of some places alone, nothing is said by how little they hold.
		totals.SourceListed, totals.TargetListed = -1, -1
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

// unchanged reports whether a file that needs nothing counts as in step: not
// where this very run brought it about before it was interrupted.
func (r *Run) unchanged(d compare.Difference) bool {
	if d.Pair != nil && d.Pair.Run == r.ID {
		return false
	}
	r.progress.unchanged.Add(1)
	return true
}
