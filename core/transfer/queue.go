package transfer

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// queue collects steps into batches.
type queue struct {
	run     *Run
	items   []Item
	flushed time.Time
	marks   map[int][]store.Key // by route, files that have moved
}

// flushEvery is how long a step waits for others to be written with.
const flushEvery = 250 * time.Millisecond

func (q *queue) add(ctx context.Context, route int, step plan.Step) error {
	r := q.run
	if step.Action == plan.Forget {
		r.endings <- Ending{Route: route, Forget: []store.Key{step.Key}}
		return nil
	}
	if step.Action == plan.Remember {
		if !r.Resumed || step.Kind == store.KindFolder {
			if step.Kind != store.KindFolder {
				r.progress.unchanged.Add(1)
			}
			r.endings <- Ending{Route: route, Pair: r.pairOf(route, step)}
			return nil
		}
		// An interrupted run may have written it without writing that down.
		step.Action = plan.Look
	}
	from, to, key, at := &step.Source, step.Target, step.Key, step.To
	if step.Back {
		route, key, at = route+1, at, key
		if from, to = step.Target, &step.Source; from == nil {
			from = &store.Entry{}
		}
	}
	r.seq++
	item := Item{
		Seq: r.seq, Route: route, Key: key, Kind: step.Kind, Action: step.Action, Size: step.Size(),
		SourceID: from.ID, Source: compare.RememberedOf(*from), State: Waiting,
		Mark: compare.MarkOf(*from), Origin: step.Origin,
		Cause: step.Cause, Why: step.Why,
	}
	if at != key {
		item.To = at
	}
	if to != nil {
		item.Target = compare.RememberedOf(*to)
	}
	switch step.Action {
	case plan.Skip:
		item.State = Skipped
	case plan.Refuse:
		item.State = Failed
	}
	if phase := item.Action.Phase(item.Kind); item.State == Waiting && phase >= 0 && phase < plan.Phases {
		r.queued[phase].Add(1)
		if item.Size >= largeFrom {
			r.largeQueued[phase].Add(1)
		}
	}
	r.progress.queued(item)
	q.items = append(q.items, item)
	if len(q.items) >= batch || time.Since(q.flushed) > flushEvery {
		return q.flush(ctx)
	}
	return ctx.Err()
}

func (q *queue) flush(ctx context.Context) error {
	if len(q.items) == 0 {
		return nil
	}
	if err := q.run.Records.Enqueue(ctx, q.run.ID, q.items); err != nil {
		return err
	}
	q.items, q.flushed = q.items[:0], time.Now()
	for _, f := range q.run.feeders {
		select {
		case f.more <- struct{}{}:
		default:
		}
	}
	return nil
}

// moved collects a file that is removed because it has moved.
func (q *queue) moved(ctx context.Context, route int, back bool, at store.Key) error {
	if back {
		route++
	}
	if q.marks == nil {
		q.marks = map[int][]store.Key{}
	}
	q.marks[route] = append(q.marks[route], at)
	if len(q.marks[route]) < batch {
		return nil
	}
	return q.mark(ctx)
}

// mark has moved files count once: their removals are the other halves of items that
// bring them to where they are now.
func (q *queue) mark(ctx context.Context) error {
	if len(q.marks) == 0 {
		return nil
	}
	if err := q.flush(ctx); err != nil { // they may be among those
		return err
	}
	for route, at := range q.marks {
		n, err := q.run.Records.MarkMoved(ctx, q.run.ID, route, at)
		if err != nil {
			return err
		}
		q.run.progress.items.Add(-n)
		delete(q.marks, route)
	}
	return nil
}

// pairOf is the pair of two files that were found to be the same. It is of no
// run, as none has brought it about.
func (r *Run) pairOf(route int, step plan.Step) *compare.Pair {
	pair := &compare.Pair{
		Key: step.Key, Source: compare.RememberedOf(step.Source), Target: compare.RememberedOf(*step.Target),
		Mark: compare.MarkOf(step.Source),
	}
	if r.Rules.Type == plan.TwoWay {
		pair.TargetMark = compare.MarkOf(*step.Target)
	}
	if step.To != step.Key {
		pair.To = step.To
	}
	return pair
}

// feed hands items to the lanes of all feeders. Where several targets are written from one
// source, each has its own, so that none waits for another.
func (r *Run) feed(ctx context.Context) {
	var group sync.WaitGroup
	for _, f := range r.feeders {
		group.Go(func() { r.feedOne(ctx, f) })
	}
	group.Wait()
}

// feedOne hands items to the lanes: first those that write where nothing is, while
// the plan is still being made; then, once both listings are complete, those
// that overwrite something; then, each when all before has ended, those that
// remove. What waited for something in its way is tried once more at the end.
func (r *Run) feedOne(ctx context.Context, f *feeder) {
	defer f.pending.Wait()
	select {
	case <-r.start.begun:
	case <-ctx.Done():
		return
	}
	for phase := range plan.Phases {
		if !r.Rules.Type.Removes() && r.Rules.Type != plan.Clearing && phase >= plan.PhaseRemove {
			return
		}
		if phase > plan.PhaseCreate {
			<-r.planned
			if r.planErr != nil {
				return
			}
			if r.hasNone(phase) {
				continue
			}
		}
		if phase >= plan.PhaseRemove {
			f.pending.Wait()
		}
		if phase == plan.PhaseRemove && !r.Rules.At.IsZero() {
			r.settleOne(f) // what is restored may be a copy of what is removed
		}
		if phase == plan.PhaseRemove && !r.rootsAreThere(ctx, f) {
			return
		}
		if !r.feedPhase(ctx, f, phase) {
			return
		}
	}
	for f.pending.Wait(); f.again.Swap(false); f.pending.Wait() {
		r.settleOne(f)
		f.passes.Add(1)
		if !r.feedPhase(ctx, f, plan.PhaseCreate) || !r.feedPhase(ctx, f, plan.PhaseWrite) {
			return
		}
	}
}

// hasNone reports whether a phase has no items. If folders are removed, the phase that removes
// files counts as one with items, because it checks first that the roots are there.
func (r *Run) hasNone(phase plan.Phase) bool {
	n := r.queued[phase].Load()
	if phase == plan.PhaseRemove {
		n += r.queued[plan.PhaseFolders].Load()
	}
	return n == 0 && !r.wasResumed
}

// mayWait reports whether the entry in an item's way may be gone at the next attempt:
// after the removals, or after a file was renamed.
func (a *attempt) mayWait() bool {
	f := a.feederOf(a.item)
	wait := a.Rules.Type.Removes() && f.passes.Load() < 2
	if wait {
		f.again.Store(true)
	}
	return wait
}

// rootsAreThere checks once more, before anything is removed, that the synced folders exist:
// a missing folder does not mean that its files were deleted.
func (r *Run) rootsAreThere(ctx context.Context, f *feeder) bool {
	for i, route := range r.Routes {
		if !f.has(i) || r.absentOf(i) != nil {
			continue
		}
		kept := route.Source // says what is kept, or removed, at the other side
		root := kept.Root.As(store.KindFolder)
		if r.Rules.Type == plan.Clearing {
			kept, root = route.Target, route.Target.Root
		}
		err := r.persist(ctx, func() bool { return r.isThere(ctx, i) }, func() error {
			_, err := kept.Store.Stat(ctx, root)
			if err == nil {
				err = store.Check(ctx, kept.Store)
			}
			return err
		})
		if r.leaveRoute(ctx, i, err) {
			continue
		}
		if err != nil && ctx.Err() == nil {
			r.halt(plan.CauseListing, fmt.Sprintf("%s cannot be looked at any more, and nothing is removed: %v", kept.Address, err))
		}
		if err != nil {
			return false
		}
	}
	return true
}

func (r *Run) feedPhase(ctx context.Context, f *feeder, phase plan.Phase) bool {
	early := &early{}
	var group sync.WaitGroup
	ending, end := context.WithCancel(ctx)
	defer group.Wait()
	defer end()
	var left *Item
	if phase < plan.PhaseRemove && !r.Rules.IdenticalOnce { // else all go in their order
		group.Go(func() { left = r.feedLargest(ending, f, phase, early) })
	}
	muster := r.newMuster(f, phase)
	defer muster.drop()
	var after int64
	handed := map[string]bool{} // what folders lie in that are being removed
	for {
		complete := false
		select {
		case <-r.planned:
			complete = true
		default:
		}
		items, err := r.Records.Claim(ctx, r.ID, phase, after, batch)
		if err != nil {
			r.halt(plan.CauseFault, err.Error())
			return false
		}
		for i := range items {
			after = items[i].Seq
			if !f.has(items[i].Route) {
				continue
			}
			if phase == plan.PhaseFolders {
				f.awaitInside(items[i], handed)
			}
			if early.pass(items[i]) && !muster.hand(ctx, &items[i]) {
				return false
			}
		}
		if len(items) == 0 && !muster.flush(ctx) {
			return false
		}
		switch {
		case len(items) > 0:
		case complete:
			end()
			group.Wait()
			return left == nil || r.hand(ctx, f.work, left)
		default:
			select {
			case <-f.more:
			case <-r.planned:
			case <-ctx.Done():
				return false
			}
		}
	}
}

// awaitInside waits until the folders inside a folder are removed. above holds all parents of
// the folders that were handed out since the last wait.
func (f *feeder) awaitInside(item Item, above map[string]bool) {
	name := func(key string) string { return fmt.Sprint(item.Route, " ", key) }
	key := string(item.to())
	if above[name(key)] {
		f.pending.Wait()
		clear(above)
	}
	for {
		at := strings.LastIndexByte(strings.TrimSuffix(key, "/"), '/')
		if key = key[:at+1]; above[name(key)] {
			return // and so is all above it
		}
		above[name(key)] = true
		if key == "" {
			return
		}
	}
}

// hand gives an item to a lane.
func (r *Run) hand(ctx context.Context, to chan<- *Item, item *Item) bool {
	pending := &r.feederOf(item).pending
	pending.Add(1)
	if r.takesTurns(item) {
		r.identical.enter(item)
	}
	select {
	case to <- item:
		return true
	case <-ctx.Done():
		pending.Done()
		return false
	}
}
