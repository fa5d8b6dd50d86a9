package transfer

import (
	"context"
	"fmt"
	"iter"
	"time"

	"deftheron/core/compare"
	"deftheron/core/listing"
	"deftheron/core/names"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/view"
)

// Memory is the part of Records that a plan needs.
type Memory interface {
	Pairs(ctx context.Context, scope string) iter.Seq2[compare.Pair, error]
	Find(ctx context.Context, scope, mark string, back bool) (*plan.Origin, error)
	PairTo(ctx context.Context, scope string, to store.Key) (*compare.Pair, error)
	Pair(ctx context.Context, scope string, key store.Key) (*compare.Pair, error)
	PairsUnder(ctx context.Context, scope string, path store.Path) iter.Seq2[compare.Pair, error]
	Known(ctx context.Context, scope string) (int64, error)
}

// PlanListener has functions that are called while a plan is made. Each may be nil.
type PlanListener struct {
	// Step is called with each step. Its error ends the planning.
	Step func(route int, step plan.Step) error
	// Moved is called with each file that is deleted because it has moved, after all steps of its
	// route.
	Moved func(route int, back bool, at store.Key)
	// Filtered is called with what the filter took and excluded at the source of a route.
	Filtered func(route int, sieve *plan.Sieve)
}

// Plan computes what a run over the routes would do, or over some of their places if
// there are any, and calls each, if not nil, with every step. It writes nothing
// except what store.Prepare may write. At the end of a route it calls moved, if not nil, for
// each removed file that has only moved.
func Plan(ctx context.Context, routes []Route, rules plan.Rules, memory Memory, places []TouchedPlace,
	listener PlanListener) (plan.Totals, error) {
	var totals plan.Totals
	var twins twins
	defer twins.sorter.Close()
	for i, route := range routes {
		touched, some := Touched{All: len(places) == 0, Places: places}.of(i, routes)
		if !some {
			continue
		}
		one := planning{Route: route, rules: rules, touched: touched, began: time.Now(), pairs: memory.Pairs(ctx, route.Scope), totals: &totals,
			excluded: excluded{totals.Excluded, totals.FoldersExcluded}, memory: memory}
		one.moved = func(back bool, at store.Key) error {
			if listener.Moved != nil {
				listener.Moved(i, back, at)
			}
			return nil
		}
		if listener.Filtered != nil {
			one.filtered = func(sieve *plan.Sieve) { listener.Filtered(i, sieve) }
		}
		if err := planRoute(ctx, one, func(step plan.Step) error {
			if err := twins.add(route, step); err != nil || listener.Step == nil {
				return err
			}
			return listener.Step(i, step)
		}); err != nil {
			return totals, err
		}
	}
	return totals, twins.count(&totals)
}

// planning is a route to be planned.
type planning struct {
	Route
	rules     plan.Rules
	began     time.Time
	pairs     iter.Seq2[compare.Pair, error]
	totals    *plan.Totals
	excluded  excluded                      // of the routes before
	unchanged func(compare.Difference) bool // nil counts all
	memory    Memory
	// touched holds the places to look at; nil means all.
	touched []touch
	place   *position // how far an earlier try came; nil for none
	// moved is called for each file that is removed because it has moved.
	moved func(back bool, at store.Key) error
	// filtered, if not nil, is called at the end with what a filter took and excluded.
	filtered func(*plan.Sieve)
}

// excluded is how much a filter has left out.
type excluded struct {
	files   plan.Count
	folders int64
}

// and is it with what a sieve has left out.
func (l excluded) and(sieve *plan.Sieve) (plan.Count, int64) {
	return plan.Count{Items: l.files.Items + sieve.Excluded.Items, Bytes: l.files.Bytes + sieve.Excluded.Bytes}, l.folders + sieve.Folders
}

// position is up to which key a route was planned, where its keys come in order: what
// is before it has been dealt with.
type position struct {
	key   store.Key
	kind  store.Kind
	begun bool
	// disorder says that keys do not come in order, and steps how many were made.
	disorder bool
	steps    int
}

// mayAgain reports whether the route can be planned again from where it was.
func (p *position) mayAgain() bool { return !p.disorder || p.steps == 0 }

// passed reports whether a key was dealt with.
func (p *position) passed(key store.Key, kind store.Kind) bool {
	return p != nil && p.begun && !p.disorder && store.CompareKeys(key, kind, p.key, p.kind) <= 0
}

// reach moves the position on to a key.
func (p *position) reach(key store.Key, kind store.Kind) {
	if p != nil {
		p.steps++
	}
	if p != nil && !p.passed(key, kind) {
		p.key, p.kind, p.begun = key, kind, true
	}
}

// origins finds the contents of new files among the files of the target, or, on the way
// back, of the source.
func (p planning) origins(ctx context.Context, back bool) func(store.Entry) (*plan.Origin, error) {
	to := p.Target
	if back {
		to = p.Source
	}
	if !store.CanCopy(to.Store) && !(p.rules.Type.Removes() && store.CanMove(to.Store)) {
		return nil
	}
	known, err := p.memory.Known(ctx, p.Scope)
	nothing := err == nil && known == 0
	return func(entry store.Entry) (*plan.Origin, error) {
		mark := compare.MarkOf(entry)
		// Where nothing was known, all there is was brought by this run, and no file has
		// come a second time but by its content.
		if mark == "" || nothing && !compare.MarkIsContent(mark) {
			return nil, nil
		}
		return p.memory.Find(ctx, p.Scope, mark, back)
	}
}

func planRoute(ctx context.Context, p planning, each func(plan.Step) error) error {
	route, rules, totals := p.Route, p.rules, p.totals
	streams, sieve, err := p.streams(ctx)
	if err != nil {
		return err
	}
	if sieve != nil {
		before := p.excluded
		defer func() {
			totals.Excluded, totals.FoldersExcluded = before.and(sieve)
			totals.Taken.Items, totals.Taken.Bytes = totals.Taken.Items+sieve.Taken.Items, totals.Taken.Bytes+sieve.Taken.Bytes
			if p.filtered != nil {
				p.filtered(sieve)
			}
		}()
	}
	sides := route.sides(p.isRestore())
	planner := p.planner(ctx, sides)
	if rules.Type == plan.Clearing && !streams.single && !route.Source.Root.IsStart() {
		// The folder itself goes last, and so comes first.
		step := plan.Step{Kind: store.KindFolder, Action: plan.Clear}
		totals.Add(step)
		if err := each(step); err != nil {
			return err
		}
	}
	something := false
	var moves moves
	defer moves.close()
	for step, err := range planner.Steps(p.differences(ctx, streams.Streams, sides, &something)) {
		if err != nil {
			return fmt.Errorf("%s and %s could not be compared to the end: %w", route.Source.Address, route.Target.Address, err)
		}
		totals.Add(step)
		if err := moves.add(step); err != nil {
			return err
		}
		if err := each(step); err != nil {
			return err
		}
		p.place.reach(step.Key, step.Kind)
	}
	if err := moves.count(&totals.Moved, p.moved); err != nil {
		return err
	}
	if rules.Type == plan.TwoWay && p.touched == nil && totals.Known > 0 && totals.TargetListed == 0 {
		if _, err := route.Target.Store.Stat(ctx, route.Target.Root.As(store.KindFolder)); err != nil {
			return rootGone{fmt.Errorf("%s is not there any more, and what was in it is remembered: %w", route.Target.Address, err)}
		}
	}
	if !something && ctx.Err() == nil && p.touched == nil && rules.Type != plan.Clearing {
		return planEmpty(ctx, route, totals, each)
	}
	return ctx.Err()
}

// streams returns the listings of the route to compare, without what its filter excludes. The
// sieve counts the excluded entries; it is nil if there is no filter.
func (p planning) streams(ctx context.Context) (streams bothSides, sieve *plan.Sieve, err error) {
	route, rules := p.Route, p.rules
	for _, side := range []Side{route.Source, route.Target} {
		if err := store.Check(ctx, side.Store); err != nil {
			return streams, nil, rootGone{fmt.Errorf("/%s: %w", side.Account, err)}
		}
	}
	if err := store.Prepare(ctx, route.Target.Store); err != nil {
		return streams, nil, err
	}
	if streams, err = route.streams(ctx, rules); err != nil {
		return streams, nil, err
	}
	streams.Pairs = p.pairs
	if streams.Names, err = route.mapper(rules, p.began); err != nil {
		return streams, nil, err
	}
	streams.At = route.Target.at
	if rules.Type.Removes() {
		if streams.single {
			return streams, nil, store.Errorf(store.ErrRefused,
				"%s is a file; a %s keeps folders in sync, so name its folder, and include the file alone", route.Source.Address, rules.Type)
		}
		streams.AtSource = route.Source.at
		streams.PairAt = func(ctx context.Context, key store.Key) (*compare.Pair, error) {
			return p.memory.Pair(ctx, p.Scope, key)
		}
		streams.PairTo = func(ctx context.Context, to store.Key) (*compare.Pair, error) {
			return p.memory.PairTo(ctx, p.Scope, to)
		}
	}
	if p.place != nil {
		p.place.disorder = !streams.Names.InOrder() || rules.WaitsForPlan() || p.touched != nil
	}
	if p.touched != nil {
		if err := p.narrow(ctx, &streams); err != nil {
			return streams, nil, err
		}
	}
	if streams.single {
		return streams, nil, nil
	}
	sieve, err = p.sift(&streams)
	return streams, sieve, err
}

// sift leaves out of the streams what the filter does.
func (p planning) sift(streams *bothSides) (*plan.Sieve, error) {
	sieve, err := p.rules.Filter.Sieve(p.began)
	if err != nil || sieve == nil {
		return nil, err
	}
	source := streams.Source
	streams.Source = func(ctx context.Context) iter.Seq2[store.Listed, error] { return sieve.Of(source(ctx)) }
	if p.rules.Type.Removes() { // what is left out is left alone at both sides
		target := streams.Target
		other, err := p.rules.Filter.Sieve(p.began) // each listing is read by a goroutine of its own
		if err != nil {
			return nil, err
		}
		streams.Target = func(ctx context.Context) iter.Seq2[store.Listed, error] { return other.Of(target(ctx)) }
	}
	return sieve, nil
}

// planner is what makes steps of differences.
func (p planning) planner(ctx context.Context, sides compare.Sides) plan.Planner {
	return plan.Planner{
		Rules: p.rules, Merges: p.Merges, Totals: p.totals, Whole: p.Source.Root.IsStart(),
		Believed:    sides.Source.Revisions == store.RevisionsOfContent && sides.Target.Revisions == store.RevisionsOfContent,
		LargestFile: sides.Target.LargestFile, LargestBack: sides.Source.LargestFile,
		Find: p.origins(ctx, false), FindBack: p.origins(ctx, true),
		Unchanged: func(d compare.Difference) {
			if p.unchanged == nil || p.unchanged(d) {
				p.totals.Unchanged.Items++
				p.totals.Unchanged.Bytes += max(0, d.Source.Size)
			}
		},
	}
}

// differences compares the streams, from where an earlier attempt stopped. It sets something
// if the source holds anything.
func (p planning) differences(ctx context.Context, streams compare.Streams, sides compare.Sides,
	something *bool) iter.Seq2[compare.Difference, error] {
	return func(yield func(compare.Difference, error) bool) {
		for d, err := range compare.Merge(ctx, streams, sides) {
			*something = *something || d.Source != nil
			if err == nil && d.Source != nil && p.place.passed(d.Key, d.Kind) {
				continue
			}
			if !yield(d, err) {
				return
			}
			// Of a folder it is known only later whether it is empty.
			if err == nil && d.Source != nil && d.Kind != store.KindFolder {
				p.place.reach(d.Key, d.Kind)
			}
		}
	}
}

// rootGone says that a folder which was kept in sync is not there.
type rootGone struct{ error }

func (e rootGone) Unwrap() error { return e.error }

// mapper returns what translates the names of the source for the target.
func (r Route) mapper(rules plan.Rules, began time.Time) (*names.Mapper, error) {
	mapper := names.NewMapper(r.Source.Store.Traits(), r.Source.Root.AsFolder().Path, r.Target.Store.Traits(), r.Target.Root.AsFolder().Path)
	mapper.Refuse = rules.Names == plan.RefuseNames
	if rules.As != "" {
		template, err := names.ParseTemplate(rules.As)
		if err != nil {
			return nil, err
		}
		mapper.Template = template.For(r.Source.Account, began)
	}
	return mapper, nil
}

// at looks at one entry of a side; nil where there is none.
func (s Side) at(ctx context.Context, key store.Key, kind store.Kind) (*store.Entry, error) {
	entry, err := s.Store.Stat(ctx, s.place(key, kind))
	if store.KindOf(err) == store.ErrNotFound {
		return nil, nil
	}
	return &entry, err
}

// planEmpty makes the target of a source that holds nothing.
func planEmpty(ctx context.Context, route Route, totals *plan.Totals, each func(plan.Step) error) error {
	if route.Target.Root.IsStart() {
		return nil
	}
	_, err := route.Target.Store.Stat(ctx, route.Target.Root)
	if store.KindOf(err) != store.ErrNotFound {
		return err
	}
	step := plan.Step{Kind: store.KindFolder, Action: plan.MakeFolder}
	totals.Add(step)
	return each(step)
}

// bothSides are the streams of a route.
type bothSides struct {
	compare.Streams
	single bool // it is of one file
}

// streams lists both sides: everything below two folders, or one file and what is at
// its target. It does not list folders that the rules exclude.
func (r Route) streams(ctx context.Context, rules plan.Rules) (streams bothSides, err error) {
	entry, err := r.Source.Store.Stat(ctx, r.Source.Root)
	if err != nil {
		return streams, err
	}
	if entry.Kind == store.KindFolder {
		leaves := rules.Filter.Leaves
		streams.Source = r.Source.listing(listing.Walk{Leave: leaves(), Ours: r.canaries.watch(false)})
		if rules.As != "" { // the target's folders are others
			leaves = func() func(store.Listed) bool { return nil }
		}
		streams.Target = compare.OrEmpty(r.Target.listing(listing.Walk{Leave: leaves(), Ours: r.canaries.watch(true)}))
		return streams, nil
	}
	streams.single, streams.Source, streams.Target = true, compare.OneFile(&entry), compare.OneFile(nil)
	target, err := store.Occupant(ctx, r.Target.Store, r.Target.Root.As(store.KindFile))
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return streams, nil
	case err != nil:
		return streams, err
	case target.Kind == store.KindFolder:
		return streams, store.Errorf(store.ErrExists, "a folder is at %s, where the file %s was to go", r.Target.Address, r.Source.Address)
	}
	streams.Target = compare.OneFile(&target)
	return streams, nil
}

func (s Side) listing(how listing.Walk) compare.Listing {
	return func(ctx context.Context) iter.Seq2[store.Listed, error] {
		// Of a target, too, twins are told apart: a merge needs each key once.
		return listing.FlatWithout(ctx, view.Exports(s.Store, plan.NoExports()), s.Root.AsFolder(), how)
	}
}
