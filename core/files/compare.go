package files

import (
	"context"
	"errors"
	"iter"

	"deftheron/core/compare"
	"deftheron/core/listing"
	"deftheron/core/names"
	"deftheron/core/store"
	"deftheron/core/view"
)

// Side is one of two places to be compared.
type Side struct {
	Store store.Store
	Place store.Ref
	// OnePlace is set if both sides are the same place at two times.
	OnePlace bool
}

// Outcome is what holding one key of two places against each other came to.
type Outcome string

// The outcomes.
const (
	OnlyHere  Outcome = "only-here"
	OnlyThere Outcome = "only-there"
	Differing Outcome = "differing"
	Equal     Outcome = "equal"
	// Untold: of the same size, and nothing that is told decides.
	Untold Outcome = "untold"
	// Unreadable: one of both could not be looked at.
	Unreadable Outcome = "unreadable"
)

// Compared is one key of two places.
type Compared struct {
	Key         store.Key
	To          store.Key // there, where the name may be translated
	Kind        store.Kind
	Here, There *store.Entry // nil where there is none
	Outcome     Outcome
	Evidence    compare.Evidence
	Why         string // of Unreadable
}

// Compare compares two places: two folders with everything in them, or two files.
// pairs are the records of copies from here to there. reading tells whether contents
// are read; compare.Read reads every two files of equal size. The sequence ends after
// an error, which means that it is incomplete.
func Compare(ctx context.Context, here, there Side, pairs iter.Seq2[compare.Pair, error],
	reading compare.Reading) iter.Seq2[Compared, error] {
	return func(yield func(Compared, error) bool) {
		// Documents are compared as what they are exported as by default, and
		// twins under names of their own: as a copy would make them.
		here.Store, there.Store = view.Exports(here.Store, nil), view.Exports(there.Store, nil)
		streams, err := streamsOf(ctx, here, there)
		if err != nil {
			yield(Compared{}, err)
			return
		}
		streams.Pairs = pairs
		streams.Names = names.NewMapper(here.Store.Traits(), here.Place.AsFolder().Path, there.Store.Traits(), there.Place.AsFolder().Path)
		streams.At, streams.AtSource = there.at, here.at
		sides := compare.Sides{Source: here.Store.Traits(), Target: there.Store.Traits(), OneStore: here.OnePlace && there.OnePlace}
		for d, err := range compare.Merge(ctx, streams, sides) {
			if err != nil {
				yield(Compared{}, err)
				return
			}
			one, err := settle(ctx, here, there, d, reading)
			if !yield(one, err) || err != nil {
				return
			}
		}
	}
}

func streamsOf(ctx context.Context, here, there Side) (streams compare.Streams, err error) {
	a, err := here.Store.Stat(ctx, here.Place)
	if err != nil {
		return streams, err
	}
	b, err := there.Store.Stat(ctx, there.Place)
	if err != nil {
		return streams, err
	}
	switch {
	case a.Kind == store.KindFolder && b.Kind == store.KindFolder:
		return compare.Streams{Source: here.listing(), Target: there.listing()}, nil
	case a.Kind == store.KindFolder || b.Kind == store.KindFolder:
		return streams, store.Errorf(store.ErrRefused, "one of both is a folder and the other is not; compare two folders, or two files")
	}
	return compare.Streams{Source: compare.OneFile(&a), Target: compare.OneFile(&b)}, nil
}

func (s Side) listing() compare.Listing {
	return func(ctx context.Context) iter.Seq2[store.Listed, error] {
		return listing.Flat(ctx, s.Store, s.Place.AsFolder())
	}
}

func (s Side) place(key store.Key, kind store.Kind) store.Ref {
	if key == "" {
		return s.Place
	}
	return key.Ref(s.Place.AsFolder().Path, kind)
}

// at looks at one entry; nil where there is none.
func (s Side) at(ctx context.Context, key store.Key, kind store.Kind) (*store.Entry, error) {
	entry, err := s.Store.Stat(ctx, s.place(key, kind))
	if store.KindOf(err) == store.ErrNotFound {
		return nil, nil
	}
	return &entry, err
}

// entry is the place of an entry that was listed, with its id.
func (s Side) entry(key store.Key, entry *store.Entry) store.Ref {
	place := s.place(key, entry.Kind)
	if key != "" {
		place.ID = entry.ID
	}
	return place
}

func settle(ctx context.Context, here, there Side, d compare.Difference, reading compare.Reading) (Compared, error) {
	one := Compared{Key: d.Key, To: d.To, Kind: d.Kind, Here: d.Source, There: d.Target, Evidence: d.Evidence}
	switch d.Verdict {
	case compare.OnlySource:
		one.Outcome = OnlyHere
	case compare.OnlyTarget:
		one.Outcome = OnlyThere
	case compare.Same:
		one.Outcome = Equal
		if d.Pair != nil && d.Pair.Kept && d.Evidence == compare.ByPair { // a conflict of theirs was settled, not its contents
			one.Outcome = Differing
		} else if d.Kind == store.KindFile && d.Evidence == compare.ByPair && d.Pair.Verification == "" { // no copy was verified
			one.Evidence = compare.ByTime
		}
	case compare.Differ:
		one.Outcome = Differing
	}
	if reading == compare.Read && d.Kind != store.KindFolder && d.Source != nil && d.Target != nil && d.Evidence != compare.BySize {
		one.Outcome = "" // whatever is reported or remembered
	}
	if one.Outcome != "" || d.Kind != store.KindFile && d.Kind != store.KindDocument {
		if one.Outcome == "" {
			one.Outcome = Untold
		}
		return one, nil
	}
	same, evidence, _, err := compare.Contents(ctx,
		compare.File{Store: here.Store, Place: here.entry(d.Key, d.Source), Entry: *d.Source},
		compare.File{Store: there.Store, Place: there.entry(d.To, d.Target), Entry: *d.Target}, reading)
	switch {
	case errors.Is(err, compare.ErrUntold):
		one.Outcome, one.Evidence = Untold, ""
	case ctx.Err() != nil:
		return one, ctx.Err()
	case store.WaitsForPerson(err):
		return one, err
	case err != nil:
		one.Outcome, one.Evidence, one.Why = Unreadable, "", err.Error()
	case same:
		one.Outcome, one.Evidence = Equal, evidence
	default:
		one.Outcome, one.Evidence = Differing, evidence
	}
	return one, nil
}
