package transfer

import (
	"context"
	"slices"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/unit"
	"deftheron/core/view"
)

// Crew are other processes that copy for a run: the ones that reach both accounts of a route. All
// methods may be called from many goroutines.
type Crew interface {
	// Lanes returns how many members of the crew copy for a route, and how many parallel transfers they have
	// together; 0 if none reaches both accounts now.
	Lanes(route int) (members, lanes int)
	// Only reports whether the crew alone is to copy what it can, and this process nothing of it.
	Only() bool
	// Carry has a unit of a route copied and returns what became of its copies, in any order, and who
	// did it. It waits until somebody is free. An error means that nobody reported what became of them:
	// they may have been copied all the same, or in part.
	Carry(ctx context.Context, route int, u unit.Unit) (by string, copied []unit.Copied, err error)
	// Distrust says that somebody's report of a copy was false: they are given nothing more.
	Distrust(ctx context.Context, by string, why error)
}

const (
	// mostOfUnit and bytesOfUnit bound a unit, and mostOfLane the part of it for one lane.
	mostOfUnit, bytesOfUnit, mostOfLane = 64, 8 << 20, 4
	// ahead is how many items the crew may hold for each of its lanes, and into how many units for each
	// lane the rest is cut: no lane is idle while the next unit is on its way, nor at the end while
	// another is busy. A member of the crew holds unitsAhead units at most, if they are larger.
	ahead, unitsAhead = 3, 2
)

// muster gathers items into units of a phase for the crew, and gives them to the lanes of this process
// while the crew is busy.
type muster struct {
	run    *Run
	feeder *feeder
	phase  plan.Phase
	routes map[int]*gathered
	handed int64 // items that were given to somebody
}

// gathered is what waits to be given to somebody, of one route.
type gathered struct {
	items []*Item
	bytes int64
}

func (r *Run) newMuster(f *feeder, phase plan.Phase) *muster {
	return &muster{run: r, feeder: f, phase: phase, routes: map[int]*gathered{}}
}

// mayCarry reports whether the crew may copy an item: one that writes a file under a condition, and
// needs nothing else of the run.
func (r *Run) mayCarry(item *Item) bool {
	if r.Crew == nil || item.Kind != store.KindFile || r.Rules.Type == plan.TwoWay || !r.Rules.At.IsZero() || r.Rules.IdenticalOnce {
		return false
	}
	route := r.Routes[item.Route]
	switch {
	case route.Contents != "" || route.Source.Account == route.Target.Account || r.siblings[item.Route] > 1 || r.absentOf(item.Route) != nil:
		return false
	case item.Origin != nil || item.Decision != "" || view.ExportedAs(store.Entry{ID: item.SourceID}) != "":
		return false
	case r.Resumed && item.Size > worthALook:
		return false
	case item.Action == plan.Replace:
		if r.Rules.KeepsVersions() || item.Target.Revision == "" || route.Target.Store.Traits().Revisions == store.RevisionsOfTimes {
			return false
		}
	case item.Action != plan.Create:
		return false
	}
	if _, _, parts := store.Parts(route.Target.Store, item.Size); parts {
		return false // its parts may be carried
	}
	_, lanes := r.Crew.Lanes(item.Route)
	return lanes > 0
}

// hand gives an item to the first who is free: a lane or the crew. It is false if the run was interrupted.
func (m *muster) hand(ctx context.Context, item *Item) bool {
	if !m.run.mayCarry(item) {
		m.handed++
		return m.run.hand(ctx, m.feeder.work, item)
	}
	g := m.routes[item.Route]
	if g == nil {
		g = &gathered{}
		m.routes[item.Route] = g
	}
	m.feeder.pending.Add(1)
	g.items, g.bytes = append(g.items, item), g.bytes+max(0, item.Size)
	if len(g.items) < m.size(item.Route) && g.bytes < bytesOfUnit {
		return true
	}
	return m.give(ctx, item.Route, g)
}

// flush gives away all gathered items.
func (m *muster) flush(ctx context.Context) bool {
	for route, g := range m.routes {
		for len(g.items) > 0 {
			if !m.give(ctx, route, g) {
				return false
			}
		}
	}
	return true
}

// drop forgets what waits: the run is interrupted, and its records know it.
func (m *muster) drop() {
	for _, g := range m.routes {
		m.feeder.pending.Add(-len(g.items))
		g.items = nil
	}
}

// size is how many items a unit has: few where few are left.
func (m *muster) size(route int) int {
	members, lanes := m.run.Crew.Lanes(route)
	most := min(mostOfUnit, mostOfLane*lanes/max(1, members))
	select {
	case <-m.run.planned:
	default:
		return max(1, most)
	}
	if !m.run.wasResumed { // else nobody has counted what is left
		left := m.run.queued[m.phase].Load() - m.handed
		most = min(most, int(left/int64(ahead*max(1, lanes))))
	}
	return max(1, most)
}

// give gives the items of a route to the crew as a unit if there is room, or waits for room while the
// lanes of this process take items one by one.
func (m *muster) give(ctx context.Context, route int, g *gathered) bool {
	r := m.run
	for {
		var own chan<- *Item
		members, lanes := r.Crew.Lanes(route)
		if lanes == 0 || !r.Crew.Only() {
			own = m.feeder.work
		}
		size := m.size(route)
		n := min(len(g.items), size)
		if out := r.carried.Load(); lanes > 0 && (out == 0 || out+int64(n) <= int64(max(ahead*lanes, unitsAhead*members*size))) {
			m.launch(ctx, route, g, n)
			return true
		}
		timer := time.NewTimer(time.Second) // somebody of the crew may come or go
		select {
		case own <- g.items[0]:
			m.handed++
			g.bytes -= max(0, g.items[0].Size)
			g.items = g.items[1:]
		case <-r.crewFree:
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
		if ctx.Err() != nil {
			return false
		}
		if len(g.items) == 0 {
			return true
		}
	}
}

// launch lets the crew copy the first n of the gathered items.
func (m *muster) launch(ctx context.Context, route int, g *gathered, n int) {
	items := slices.Clone(g.items[:n])
	g.items = slices.Delete(g.items, 0, n)
	for _, item := range items {
		g.bytes -= max(0, item.Size)
	}
	m.handed += int64(len(items))
	m.run.carried.Add(int64(len(items)))
	m.run.lanes.Go(func() {
		rest := m.run.carry(ctx, route, items)
		for _, item := range rest { // nobody of the crew has done it
			select {
			case m.feeder.work <- item:
			case <-ctx.Done():
				m.feeder.pending.Done()
			}
		}
	})
}

// returned says that items are not with the crew any more.
func (r *Run) returned(items int) {
	r.carried.Add(-int64(items))
	select {
	case r.crewFree <- struct{}{}:
	default:
	}
}

// carry has the crew copy items and returns those that were not: the lanes of this process find out
// what became of them.
func (r *Run) carry(ctx context.Context, route int, items []*Item) (rest []*Item) {
	u := unit.Unit{Run: r.ID, Verification: r.Rules.Verification, Digest: r.Rules.Digest || r.Rules.TracksFiles()}
	sent := map[int64]*attempt{}
	for _, item := range items {
		a := &attempt{Run: r, item: item, try: 1, route: r.Routes[route]}
		if err := r.folders.ensure(ctx, a.route.Target, a.target().Folder.Path); err != nil {
			rest = append(rest, item)
			continue
		}
		condition := store.Absent
		if item.Action == plan.Replace {
			condition = store.AtRevision(item.Target.Revision)
		}
		sent[item.Seq] = a
		u.Copies = append(u.Copies, unit.Copy{Seq: item.Seq, From: a.source(), To: a.target(), Revision: item.Source.Revision, Size: item.Size,
			Modified: item.Source.Modified, If: condition})
	}
	if len(u.Copies) == 0 {
		r.returned(len(items))
		return rest
	}
	by, copied, err := r.Crew.Carry(ctx, route, u)
	r.returned(len(items))
	if err == nil {
		err = r.sample(ctx, by, copied, sent)
	}
	if err != nil {
		r.broke.Store(true) // whoever had it may have left something behind
		r.Log.Debug("a unit was not carried", "run", r.ID, "by", by, "items", len(sent), "error", err)
		copied = nil
	}
	for _, one := range copied {
		a := sent[one.Seq]
		if a == nil || one.Err != nil {
			if retry.MayPass(one.Err) || store.KindOf(one.Err) == store.ErrOutcomeUnknown {
				r.broke.Store(true)
			}
			continue
		}
		delete(sent, one.Seq)
		a.landed(ctx, one)
	}
	for _, item := range items {
		if sent[item.Seq] != nil {
			rest = append(rest, item)
		}
	}
	return rest
}

// landed ends an item that somebody of the crew has copied.
func (a *attempt) landed(ctx context.Context, copied unit.Copied) {
	if a.item.Size < 0 {
		a.progress.resize(a.item, copied.Size)
		a.item.Size = copied.Size
	}
	a.digest = copied.Digest
	ending := &Ending{State: Done, Verification: copied.Verification, Moved: copied.Size, Pair: a.pairWith(copied.Entry, copied.Verification)}
	a.changed(ctx, ending, a.target())
	a.end(ctx, a.complete(ending), 1)
}
