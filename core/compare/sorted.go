package compare

import (
	"context"
	"fmt"
	"iter"
	"slices"

	"golang.org/x/sync/errgroup"

	"deftheron/core/names"
	"deftheron/core/remedy"
	"deftheron/core/spill"
	"deftheron/core/store"
)

// named is an entry of the source with the key that it is to have.
type named struct {
	Listed  store.Listed
	To      store.Key
	Refused string // why the target cannot hold it
}

// sorting is the three streams, sorted by what their keys match at the target.
type sorting struct {
	source spill.Sorter[named]
	target spill.Sorter[store.Listed]
	pairs  spill.Sorter[Pair]
}

// mergeSorted merges streams whose target is in another order.
func mergeSorted(ctx context.Context, streams Streams, sides Sides) iter.Seq2[Difference, error] {
	return func(yield func(Difference, error) bool) {
		s := &sorting{}
		defer s.source.Close()
		defer s.target.Close()
		defer s.pairs.Close()
		group, listing := errgroup.WithContext(ctx)
		group.Go(func() error {
			if err := s.takeSource(streams, streams.Source(listing)); err != nil {
				return err
			}
			return s.takePairs(streams)
		})
		group.Go(func() error {
			for listed, err := range streams.Target(listing) {
				if err == nil {
					err = s.target.Add(streams.Names.Match(listed.Key()), string(listed.Key()), listed)
				}
				if err != nil {
					return err
				}
			}
			return listing.Err()
		})
		if err := group.Wait(); err != nil {
			yield(Difference{}, err)
			return
		}
		source, stopSource := iter.Pull2(s.source.All())
		target, stopTarget := iter.Pull2(s.target.All())
		pairs, stopPairs := iter.Pull2(s.pairs.All())
		defer stopPairs()
		defer stopTarget()
		defer stopSource()
		m := groupMerger{
			looker: looker{streams: streams}, names: streams.Names, sides: sides,
			source: groups[named]{next: source}, target: groups[store.Listed]{next: target}, pairs: groups[Pair]{next: pairs},
		}
		if err := m.run(ctx, yield); err != nil {
			yield(Difference{}, err)
		}
	}
}

func (s *sorting) takeSource(streams Streams, listing iter.Seq2[store.Listed, error]) error {
	for listed, err := range listing {
		if err != nil {
			return err
		}
		if !streams.Names.Names(listed.Kind) {
			continue
		}
		one := named{Listed: listed, To: listed.Key()}
		if to, err := streams.Names.Key(listed); err != nil {
			one.Refused = err.Error()
		} else {
			one.To = to
		}
		if err := s.source.Add(streams.Names.Match(one.To), string(listed.Key()), one); err != nil {
			return err
		}
	}
	return nil
}

// takePairs sorts the record of earlier runs by the keys that its sources would have now.
func (s *sorting) takePairs(streams Streams) error {
	for pair, err := range streams.Pairs {
		if err != nil {
			return fmt.Errorf("could not read the record of earlier runs: %w", err)
		}
		below, name := pair.Key.Split(pair.kind())
		to, err := streams.Names.Key(store.Listed{Below: below,
			Entry: store.Entry{Name: name, Kind: pair.kind(), Modified: pair.Source.Modified}})
		if err != nil {
			continue // nothing can be at the target by that name
		}
		if err := s.pairs.Add(streams.Names.Match(to), string(pair.Key), pair); err != nil {
			return err
		}
	}
	return nil
}

// groups hands out the values of a sorted stream that have one key together.
type groups[T any] struct {
	next   func() (spill.Sorted[T], error, bool)
	head   spill.Sorted[T]
	primed bool
	done   bool
	err    error
}

// key returns the key of the next group; ok is false at the end.
func (g *groups[T]) key() (key string, ok bool) {
	if !g.primed {
		g.advance()
		g.primed = true
	}
	return g.head.Key, !g.done
}

func (g *groups[T]) advance() {
	var ok bool
	g.head, g.err, ok = g.next()
	g.done = !ok || g.err != nil
}

// take returns the group of a key, passing over those before it.
func (g *groups[T]) take(key string) (values []T) {
	for next, ok := g.key(); ok && next <= key; next, ok = g.key() {
		if next == key {
			values = append(values, g.head.Value)
		}
		g.advance()
	}
	return values
}

// groupMerger merges groups of what matches at the target.
type groupMerger struct {
	looker
	names  *names.Mapper
	sides  Sides
	source groups[named]
	target groups[store.Listed]
	pairs  groups[Pair]
}

func (m *groupMerger) run(ctx context.Context, yield func(Difference, error) bool) error {
	for {
		mine, fromSource := m.source.key()
		theirs, fromTarget := m.target.key()
		for _, err := range []error{m.source.err, m.target.err, m.pairs.err, ctx.Err()} {
			if err != nil {
				return err
			}
		}
		remembered, fromPairs := "", false
		if m.streams.whole() {
			remembered, fromPairs = m.pairs.key()
		}
		switch {
		case !fromSource && !fromTarget && !fromPairs:
			return nil
		case !fromSource || fromTarget && theirs < mine:
			mine, fromSource = theirs, fromTarget
		}
		if !fromSource || fromPairs && remembered < mine {
			mine = remembered
		}
		goOn, err := m.group(ctx, m.source.take(mine), m.target.take(mine), m.pairs.take(mine), yield)
		if err != nil || !goOn {
			return err
		}
	}
}

// group yields what matches one key. Of several of the source one has the place;
// the others are its twins, and have names of their own.
func (m *groupMerger) group(ctx context.Context, sources []named, targets []store.Listed, pairs []Pair,
	yield func(Difference, error) bool) (bool, error) {
	byPlace := map[string][]named{}
	var places []string
	for _, source := range sources {
		place := ""
		if to, ok := m.remembersPlace(source, pairs); ok {
			source.To, place, source.Refused = to, m.names.Match(to), ""
		} else if m.names.Moved(source.Listed) { // into a folder that is a twin
			to, err := m.names.Key(source.Listed)
			if err != nil {
				source.Refused = err.Error()
			} else {
				source.To, place = to, m.names.Match(to)
			}
		}
		if source.Refused != "" {
			place = nowhere
		}
		if byPlace[place] == nil {
			places = append(places, place)
		}
		byPlace[place] = append(byPlace[place], source)
	}
	var target *store.Listed
	if len(targets) > 0 {
		target = &targets[0]
	}
	used := map[store.Key]bool{}
	if byPlace[""] == nil && target != nil { // nothing of the source has it
		d, ok, err := m.onlyTarget(ctx, target, pairs)
		if err != nil {
			return false, err
		}
		used[d.Key] = true
		if ok && !yield(d, nil) {
			return false, nil
		}
	}
	for _, source := range sources {
		used[source.Listed.Key()] = true
	}
	if goOn, err := m.gone(ctx, sources, pairs, used, yield); err != nil || !goOn {
		return false, err
	}
	for _, place := range places {
		there := target
		if place != "" {
			there = nil
		}
		if place != "" && place != nowhere {
			entry, err := m.look(ctx, byPlace[place][0].To, byPlace[place][0].Listed.Kind)
			if err != nil {
				return false, err
			}
			if entry != nil {
				below, _ := byPlace[place][0].To.Split(entry.Kind)
				there = &store.Listed{Below: below, Entry: *entry}
			}
		}
		goOn, err := m.place(ctx, byPlace[place], there, pairs, yield)
		if err != nil || !goOn {
			return goOn, err
		}
	}
	return true, nil
}

// onlyTarget is the difference of what no source has the place of; ok is false where
// it is there for a source that has another.
func (m *groupMerger) onlyTarget(ctx context.Context, target *store.Listed, pairs []Pair) (d Difference, ok bool, err error) {
	d = Difference{Key: target.Key(), To: target.Key(), Kind: target.Kind, Target: &target.Entry}
	home, err := m.displaced(ctx, d.To, d.Kind)
	if err != nil || home.elsewhere {
		return d, false, err
	}
	d.Key, d.Pair = home.key, home.pair
	for i := range pairs {
		if m.streams.whole() && d.Pair == nil && m.names.Match(pairs[i].At()) == m.names.Match(d.To) {
			d.Key, d.Pair = pairs[i].Key, &pairs[i]
		}
	}
	d.Verdict, d.Evidence = Judge(nil, d.Target, nil, m.sides)
	return d, true, nil
}

// gone yields the pairs that neither side holds, and those whose place has an entry of the
// source that differs by letter case.
func (m *groupMerger) gone(ctx context.Context, sources []named, pairs []Pair, used map[store.Key]bool,
	yield func(Difference, error) bool) (bool, error) {
	for i := range pairs {
		if !m.streams.whole() || used[pairs[i].Key] {
			continue
		}
		if slices.ContainsFunc(sources, func(source named) bool { return m.names.Match(source.To) == m.names.Match(pairs[i].At()) }) {
			if !yield(goneOf(&pairs[i]), nil) {
				return false, nil
			}
			continue
		}
		if ok, err := m.isGone(ctx, &pairs[i]); err != nil {
			return false, err
		} else if ok && !yield(goneOf(&pairs[i]), nil) {
			return false, nil
		}
	}
	return true, nil
}

// remembersPlace is where an entry of the source is remembered to be at the target,
// where that is another place than its name would have: it keeps it.
func (m *groupMerger) remembersPlace(source named, pairs []Pair) (store.Key, bool) {
	pair := pairOf(pairs, source.Listed.Key())
	if !m.streams.whole() || pair == nil || m.names.Match(pair.At()) == m.names.Match(source.To) {
		return "", false
	}
	if source.Listed.Kind == store.KindFolder {
		m.names.Follow(pair.Key, pair.At())
	}
	return pair.At(), true
}

// nowhere is the place of what cannot be held; no key matches it.
const nowhere = "\x00"

// place yields the sources that have the same place at the target, and the entry there.
func (m *groupMerger) place(ctx context.Context, sources []named, target *store.Listed, pairs []Pair,
	yield func(Difference, error) bool) (bool, error) {
	first := keeper(sources, target, pairs)
	sources[0], sources[first] = sources[first], sources[0]
	taken := sources[0].To
	if target != nil {
		taken = target.Key()
	}
	for i, source := range sources {
		entry := source.Listed.Entry
		d := Difference{Key: source.Listed.Key(), To: source.To, Kind: entry.Kind, Source: &entry}
		switch {
		case source.Refused != "":
			d.Refused = store.Errorf(store.ErrNameRefused, "%w", remedy.New(source.Refused))
		case i == 0 && target != nil:
			d.To, d.Target = target.Key(), &target.Entry
		case i > 0:
			to, err := m.names.Twin(source.Listed, source.To, taken)
			if err != nil {
				d.Refused = err
				break
			}
			d.To = to
			if d.Target, err = m.look(ctx, to, d.Kind); err != nil {
				return false, err
			}
		}
		d.Pair = pairOf(pairs, d.Key)
		// What is remembered where another source has the place has gone from there.
		if i == 0 || d.Pair == nil || m.names.Match(d.Pair.At()) != m.names.Match(taken) {
			if err := m.remembered(ctx, &d); err != nil {
				return false, err
			}
		}
		d.Verdict, d.Evidence = Judge(d.Source, d.Target, d.Pair, m.sides)
		m.enter(d)
		if !yield(d, nil) {
			return false, nil
		}
	}
	return true, nil
}

// keeper returns which of several sources gets the place: the one that was copied
// there, or the one with exactly the name there, or otherwise the first.
func keeper(sources []named, target *store.Listed, pairs []Pair) int {
	if target == nil || len(sources) == 1 {
		return 0
	}
	for i, source := range sources {
		if pair := pairOf(pairs, source.Listed.Key()); pair != nil && pair.Target.Is(&target.Entry) {
			return i
		}
	}
	called := target.Key()
	return max(0, slices.IndexFunc(sources, func(source named) bool { return source.To == called }))
}

func pairOf(pairs []Pair, key store.Key) *Pair {
	for i := range pairs {
		if pairs[i].Key == key {
			return &pairs[i]
		}
	}
	return nil
}
