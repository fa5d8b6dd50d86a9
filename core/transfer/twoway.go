package transfer

import (
	"context"
	"errors"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// keepBoth settles a conflict of two contents under one name: the target's file keeps the
// name, at both sides, and the source's gets a name that says where it is from, at both
// sides. Nothing is overwritten before its content is at the other side. If keepBoth is
// interrupted, it starts again and finds what was done.
func (a *attempt) keepBoth(ctx context.Context) (*Ending, error) {
	place := a.target()
	if ending, err := a.lookAtBoth(ctx); ending != nil || err != nil {
		return ending, err
	}
	if taken, err := a.isTaken(ctx); err != nil {
		return nil, err
	} else if taken {
		return a.giveWay(ctx, false)
	}
	mine, beside, err := a.freePlaces(ctx)
	if err != nil {
		return nil, err
	}
	written, err := a.bring(ctx, a.route, a.source(), a.item.Source.Revision, beside)
	if err != nil {
		return nil, err
	}
	kept, err := a.bring(ctx, a.route.back(), beside, written.Revision, mine)
	if err != nil {
		return nil, err
	}
	now, verification, err := a.through(ctx, a.route.Target, a.route.Source, place, a.item.Target.Revision, a.source(),
		store.AtRevision(a.item.Source.Revision))
	if err != nil {
		return nil, again(err)
	}
	theirs := store.Entry{Kind: store.KindFile, Revision: a.item.Target.Revision, Size: a.item.Target.Size, Modified: a.item.Target.Modified}
	ending := &Ending{State: Done, Cause: plan.CauseKeptBoth, Name: beside.Name, Verification: verification,
		Moved: max(0, now.Size) + max(0, written.Size)}
	ending.Pair = a.pairOf(a.item.Key, a.item.to(), now, theirs, verification)
	ending.Also = []compare.Pair{*a.pairOf(keyBeside(a.item.Key, mine), keyBeside(a.item.to(), beside), kept, written, "")}
	ending.Changes = append(a.moved(a.route.Source, a.source(), mine), a.created(a.route.Target, beside)...)
	return ending, nil
}

// lookAtBoth looks both sides up again. It returns an ending if there is nothing left to
// settle.
func (a *attempt) lookAtBoth(ctx context.Context) (*Ending, error) {
	source, err := a.route.Source.Store.Stat(ctx, a.source())
	if err == nil {
		a.item.Source, a.item.Size = compare.RememberedOf(source), source.Size
		a.item.Mark = compare.MarkOf(source)
		var target store.Entry
		if target, err = store.Occupant(ctx, a.route.Target.Store, a.target()); err == nil {
			a.item.Target = compare.RememberedOf(target)
			return nil, nil
		}
	}
	if store.KindOf(err) == store.ErrNotFound {
		return &Ending{State: Skipped, Cause: plan.CauseLater}, nil
	}
	return nil, err
}

// isTaken reports whether the entry at the item's place at the target is synced with
// another entry of the source.
func (a *attempt) isTaken(ctx context.Context) (bool, error) {
	if a.route.Back {
		pair, err := a.Records.Pair(ctx, a.route.Scope, a.item.to())
		return pair != nil && pair.At() != a.item.Key, err
	}
	pair, err := a.Records.PairTo(ctx, a.route.Scope, a.item.to())
	return pair != nil && pair.Key != a.item.Key, err
}

// giveWay settles that a file of the source cannot have its name at the target, because a
// folder has it, or an entry that is synced with another one: the file gets a name that says
// where it is from, at both sides. known is set if the pair under its key belongs to the
// file.
func (a *attempt) giveWay(ctx context.Context, known bool) (*Ending, error) {
	if ending, err := a.lookAtBoth(ctx); ending != nil || err != nil {
		return ending, err
	}
	mine, beside, err := a.freePlaces(ctx)
	if err != nil {
		return nil, err
	}
	written, err := a.bring(ctx, a.route, a.source(), a.item.Source.Revision, beside)
	if err != nil {
		return nil, err
	}
	from := a.route.Source.Store
	moved, err := store.Move(ctx, from, a.source(), a.item.Source.Revision, mine)
	if store.KindOf(err) == store.ErrUnsupported || store.KindOf(err) == store.ErrExists {
		if moved, err = a.bring(ctx, a.route.back(), beside, written.Revision, mine); err == nil {
			_, err = from.Remove(ctx, a.source(), a.item.Source.Revision)
		}
	}
	if err != nil {
		return nil, again(err)
	}
	ending := &Ending{State: Done, Cause: plan.CauseGaveWay, Name: beside.Name, Moved: max(0, written.Size)}
	if known {
		ending.Forget = []store.Key{a.pairKey()}
	}
	ending.Pair = a.pairOf(keyBeside(a.item.Key, mine), keyBeside(a.item.to(), beside), moved, written, "")
	ending.Changes = append(a.moved(a.route.Source, a.source(), mine), a.created(a.route.Target, beside)...)
	return ending, nil
}

// again makes of what may have changed in the meantime something to be tried again.
func again(err error) error {
	switch store.KindOf(err) {
	case store.ErrNotFound, store.ErrChanged, store.ErrExists, store.ErrOutcomeUnknown:
		return store.Errorf(store.ErrTryAgain, "it has to be looked at again: %w", err)
	}
	return err
}

// keyBeside returns the key for the name of a place in the folder of a key.
func keyBeside(key store.Key, place store.Ref) store.Key {
	below, _ := key.Split(store.KindFile)
	return store.KeyOf(below, place.Name, store.KindFile)
}

// pairOf is the pair of what the two sides of the item's route hold.
func (a *attempt) pairOf(key, to store.Key, source, target store.Entry, verification string) *compare.Pair {
	one := attempt{Run: a.Run, route: a.route, item: &Item{
		Key: key, Source: compare.RememberedOf(source), Mark: compare.MarkOf(source),
	}}
	if to != key {
		one.item.To = to
	}
	return one.pairWith(target, verification)
}

// freePlaces returns places for the item's content, at the source and at the target.
// Their names say where it is from; they are free, or already hold that content.
func (a *attempt) freePlaces(ctx context.Context) (mine, beside store.Ref, err error) {
	at := a.item.Source.Modified
	if at.IsZero() {
		at = a.Began
	}
	for n := 1; n < 100; n++ {
		free := true
		for side, place := range map[*store.Ref]store.Ref{&mine: a.source(), &beside: a.target()} {
			*side = place.Folder.Ref(plan.BesideName(place.Name, a.route.Source.Account, at, n, 255))
		}
		known, err := a.isKnown(ctx, keyBeside(a.item.Key, mine), keyBeside(a.item.to(), beside))
		if err != nil {
			return mine, beside, err
		}
		if known { // it has a course of its own, even where it holds the same
			continue
		}
		for side, place := range map[*Side]store.Ref{&a.route.Source: mine, &a.route.Target: beside} {
			entry, err := side.Store.Stat(ctx, place)
			if store.KindOf(err) == store.ErrNotFound {
				continue
			}
			if err != nil {
				return mine, beside, err
			}
			same, err := a.holds(ctx, *side, place, entry)
			if err != nil {
				return mine, beside, err
			}
			if same && entry.Name != "" && entry.Name != place.Name { // by letter case
				called := place.Folder.Ref(entry.Name)
				if known, err = a.isKnown(ctx, keyBeside(a.item.Key, called), keyBeside(a.item.to(), called)); err != nil {
					return mine, beside, err
				}
			}
			free = free && same && !known
		}
		if free {
			return mine, beside, nil
		}
	}
	return mine, beside, store.Errorf(store.ErrRefused, "a hundred files are called like %s already", a.target().Name)
}

// isKnown reports whether anything is remembered by a key of either side of the
// item's route.
func (a *attempt) isKnown(ctx context.Context, key, to store.Key) (bool, error) {
	if a.route.Back {
		key, to = to, key
	}
	for _, one := range []store.Key{key, to} {
		if pair, err := a.Records.Pair(ctx, a.route.Scope, one); pair != nil || err != nil {
			return true, err
		}
	}
	pair, err := a.Records.PairTo(ctx, a.route.Scope, to)
	return pair != nil, err
}

// holds reports whether an entry of a side is the content of the item's source.
func (a *attempt) holds(ctx context.Context, side Side, place store.Ref, entry store.Entry) (bool, error) {
	if entry.Kind != store.KindFile {
		return false, nil
	}
	source, err := a.route.Source.Store.Stat(ctx, a.source())
	if err != nil {
		return false, compare.NewSourceError(err)
	}
	same, _, _, err := compare.Contents(ctx,
		compare.File{Store: a.route.Source.Store, Place: a.source(), Entry: source},
		compare.File{Store: side.Store, Place: place, Entry: entry}, a.reading())
	return same, err
}

// bring writes a file of one side of a route to a place of the other, where nothing
// is, unless an interrupted try has brought it there.
func (a *attempt) bring(ctx context.Context, route Route, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	if entry, err := route.Target.Store.Stat(ctx, to); err == nil {
		return entry, nil // freeName has found that it is the same
	} else if store.KindOf(err) != store.ErrNotFound {
		return entry, err
	}
	if err := a.folders.ensure(ctx, route.Target, to.Folder.Path); err != nil {
		return store.Entry{}, err
	}
	written, _, err := a.through(ctx, route.Source, route.Target, from, revision, to, store.Absent)
	return written, again(err)
}

// through writes what one place holds at a revision to another, and verifies it.
func (a *attempt) through(ctx context.Context, from, to Side, place store.Ref, revision string, at store.Ref,
	condition store.Condition) (store.Entry, string, error) {
	entry, err := from.Store.Stat(ctx, place)
	if err == nil && revision != "" && !store.SameRevision(entry.Revision, revision) {
		err = store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	if err != nil {
		return store.Entry{}, "", err
	}
	one := attempt{Run: a.Run, try: a.Retry.Tries, flight: a.flight, route: Route{Source: from, Target: to, Scope: a.route.Scope},
		from: &place, item: &Item{
			Kind: store.KindFile, Size: entry.Size, SourceID: entry.ID, Source: compare.RememberedOf(entry),
		}}
	written, verification, err := one.moveContent(ctx, at, condition)
	var source compare.SourceError
	if errors.As(err, &source) {
		err = again(err)
	}
	return written.Entry, verification, err
}
