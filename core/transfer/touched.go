package transfer

import (
	"context"
	"iter"
	"slices"
	"strings"
	"time"

	"deftheron/core/compare"
	"deftheron/core/listing"
	"deftheron/core/names"
	"deftheron/core/store"
)

// Touched holds the places to look at, because they may have changed.
type Touched struct {
	All    bool // everything
	Places []TouchedPlace
}

// PassResult is what came of a pass: how many items it had, and how many of them failed.
type PassResult struct{ Items, Failed int64 }

// TouchedPlace is a file, or a folder with all that is in it, that may have changed.
type TouchedPlace struct {
	Route int // by its number in Options.Routes, before those back
	// Target says that it is at the route's target.
	Target bool
	Path   store.Path // below the route's end
}

// touch is a place at both sides of a route.
type touch struct{ source, target store.Path }

// of returns the places of a route, and whether there is anything to look at.
func (t Touched) of(i int, routes []Route) ([]touch, bool) {
	if t.All {
		return nil, true
	}
	number := 0
	for _, route := range routes[:i] {
		if !route.Back {
			number++
		}
	}
	var touches []touch
	for _, place := range t.Places {
		switch {
		case place.Route != number:
		case place.Target:
			touches = append(touches, touch{target: place.Path})
		default:
			touches = append(touches, touch{source: place.Path})
		}
	}
	return touches, len(touches) > 0
}

// narrow limits the streams to the touched places.
func (p planning) narrow(ctx context.Context, streams *bothSides) error {
	var places []touch
	for _, one := range p.touched {
		both, err := p.atBoth(ctx, one, streams)
		if err != nil {
			return err
		}
		places = append(places, both)
	}
	if twins, err := p.haveTwins(ctx, places); twins || err != nil {
		return err // names that depend on others: all is looked at
	}
	sources := apart(places, func(t touch) store.Path { return t.source })
	targets := apart(places, func(t touch) store.Path { return t.target })
	streams.Unordered = true
	streams.Source = p.Source.listingOf(sources)
	streams.Target = p.Target.listingOf(targets)
	streams.Pairs = func(yield func(compare.Pair, error) bool) {
		for _, path := range sources {
			for pair, err := range p.memory.PairsUnder(ctx, p.Scope, path) {
				if !yield(pair, err) || err != nil {
					return
				}
			}
		}
	}
	return nil
}

// haveTwins reports whether anything on the way to a place at the source has a twin by
// letter case there, where that does not count at the target.
func (p planning) haveTwins(ctx context.Context, places []touch) (bool, error) {
	if !p.Target.Store.Traits().CaseIgnored || p.Source.Store.Traits().CaseIgnored {
		return false, nil
	}
	looked := map[store.Path]map[string]int{}
	for _, place := range places {
		for path := place.source; path != ""; {
			parent, name := path.Split()
			path = parent
			if looked[parent] == nil {
				looked[parent] = map[string]int{}
				folder := store.Folder{Path: p.Source.Root.AsFolder().Path + parent}
				for entry, err := range p.Source.Store.List(ctx, folder) {
					if store.KindOf(err) == store.ErrNotFound {
						break
					}
					if err != nil {
						return false, err
					}
					looked[parent][names.Fold(entry.Name)]++
				}
			}
			if looked[parent][names.Fold(name)] > 1 {
				return true, nil
			}
		}
	}
	return false, nil
}

// atBoth is where a place that was touched at one side is at the other.
func (p planning) atBoth(ctx context.Context, one touch, streams *bothSides) (touch, error) {
	for _, kind := range []store.Kind{store.KindFile, store.KindFolder} {
		path := one.source
		if one.target != "" {
			path = one.target
		}
		below, name := path.Split()
		key := store.KeyOf(below, name, kind)
		if one.target != "" {
			pair, err := p.memory.PairTo(ctx, p.Scope, key)
			if err != nil {
				return one, err
			}
			if pair != nil {
				one.source = pathOf(pair.Key)
			}
			continue
		}
		pair, err := p.memory.Pair(ctx, p.Scope, key)
		if err != nil {
			return one, err
		}
		if pair != nil {
			one.target = pathOf(pair.At())
			return one, nil
		}
	}
	switch {
	case one.source == "":
		below, name := one.target.Split()
		one.source = one.target
		if back, ok := streams.Names.Back(store.KeyOf(below, name, store.KindFile), store.KindFile); ok {
			one.source = pathOf(back)
		}
	case one.target == "":
		below, name := one.source.Split()
		if to, err := streams.Names.Key(store.Listed{Below: below, Entry: store.Entry{Name: name, Kind: store.KindFile}}); err == nil {
			one.target = pathOf(to)
		}
	}
	return one, nil
}

// pathOf is the path of what a key names.
func pathOf(key store.Key) store.Path {
	kind := store.KindFile
	if strings.HasSuffix(string(key), "/") {
		kind = store.KindFolder
	}
	below, name := key.Split(kind)
	return below.Child(name)
}

// apart returns paths of which none is inside another.
func apart(places []touch, of func(touch) store.Path) (paths []store.Path) {
	for _, place := range places {
		if path := of(place); path != "" {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	kept := paths[:0]
	for _, path := range paths {
		if len(kept) > 0 && strings.HasPrefix(string(path), string(kept[len(kept)-1])) {
			continue
		}
		kept = append(kept, path)
	}
	return kept
}

// listingOf lists the entries at some paths below a side's root.
func (s Side) listingOf(paths []store.Path) compare.Listing {
	return func(ctx context.Context) iter.Seq2[store.Listed, error] {
		return func(yield func(store.Listed, error) bool) {
			for _, path := range paths {
				if !s.listAt(ctx, path, yield) {
					return
				}
			}
		}
	}
}

// listAt yields the entries with a name: the file, and the folder with everything in it.
func (s Side) listAt(ctx context.Context, path store.Path, yield func(store.Listed, error) bool) bool {
	below, name := path.Split()
	ref := store.Folder{Path: s.Root.AsFolder().Path + below}.Ref(name)
	kinds := []store.Kind{""}
	if s.Store.Traits().FileBesideFolder {
		kinds = []store.Kind{store.KindFile, store.KindFolder}
	}
	for _, kind := range kinds {
		entry, err := s.Store.Stat(ctx, ref.As(kind))
		if store.KindOf(err) == store.ErrNotFound {
			continue
		}
		if err != nil {
			yield(store.Listed{}, err)
			return false
		}
		if entry.Name == "" {
			entry.Name = name
		}
		if !yield(store.Listed{Below: below, Entry: entry}, nil) {
			return false
		}
		if entry.Kind == store.KindFolder && !s.listBelow(ctx, below.Child(entry.Name), entry.Folder(ref.Folder), yield) {
			return false
		}
	}
	return ctx.Err() == nil
}

func (s Side) listBelow(ctx context.Context, below store.Path, folder store.Folder, yield func(store.Listed, error) bool) bool {
	for listed, err := range listing.Flat(ctx, s.Store, folder) {
		if store.KindOf(err) == store.ErrNotFound {
			err = store.Errorf(store.ErrTryAgain, "%s went while it was listed", folder.Path.Ref())
		}
		listed.Below = below + listed.Below
		if !yield(listed, err) || err != nil {
			return false
		}
	}
	return true
}

// Loss is how many files a pass removed for good and wrote over, without those that it
// moved.
type Loss struct {
	At                time.Time
	Removed, Replaced int64
}

// lost holds the losses of the last hour, so that many small losses add up.
type lost []Loss

// lately is for how long losses add up.
const lately = time.Hour

// with returns the losses of the last hour, with another loss added. Losses within a minute
// are merged, so there are 61 at most.
func (l lost) with(loss Loss) lost {
	kept := slices.DeleteFunc(slices.Clone(l), func(one Loss) bool { return loss.At.Sub(one.At) > lately })
	if loss.Removed == 0 && loss.Replaced == 0 {
		return kept
	}
	if last := len(kept) - 1; last >= 0 && loss.At.Sub(kept[last].At) < time.Minute {
		kept[last].Removed += loss.Removed
		kept[last].Replaced += loss.Replaced
		return kept
	}
	return append(kept, loss)
}

func (l lost) sum() (removed, replaced int64) {
	for _, one := range l {
		removed += one.Removed
		replaced += one.Replaced
	}
	return removed, replaced
}
