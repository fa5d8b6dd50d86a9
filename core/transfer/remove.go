package transfer

import (
	"context"
	"fmt"
	"path"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// remove removes at the target what the source no longer holds, after looking there
// once more: only what is still as it was when that was decided.
func (a *attempt) remove(ctx context.Context) (*Ending, error) {
	source, err := a.route.Source.Store.Stat(ctx, a.source())
	folder := a.item.Kind == store.KindFolder
	switch {
	case err == nil && (source.Kind == store.KindFolder) == folder:
		return &Ending{State: Skipped, Cause: plan.CauseNotRemoved}, nil
	case err != nil && store.KindOf(err) != store.ErrNotFound:
		return nil, compare.NewSourceError(err)
	}
	place := a.target()
	ending := &Ending{State: Done, Cause: plan.CauseRemoved, Forget: []store.Key{a.pairKey()}}
	if folder {
		_, err = a.route.Target.Store.RemoveFolder(ctx, place)
		a.folders.forget()
	} else if a.Rules.Deletions == plan.KeepVersion {
		ending.Cause = plan.CauseVersionKept
		ending.Why, err = a.keepVersion(ctx, place, a.item.Target.Revision)
	} else if kept, failed := a.isKept(ctx); failed != nil {
		return nil, failed
	} else if kept {
		ending.Cause = plan.CauseVersionKept
		ending.Why, err = a.keepVersion(ctx, place, a.item.Target.Revision)
	} else if err = a.untouched(ctx); err == nil {
		_, err = a.route.Target.Store.Remove(ctx, place, a.item.Target.Revision)
	}
	switch store.KindOf(err) {
	case nil:
		// Where something failed it may be the other half, and what was removed is told.
		ending.Drop = a.item.marked() && a.progress.failed.Load() == 0
		return ending, nil
	case store.ErrNotFound: // it has moved, or somebody was faster
		ending.Drop = a.item.marked()
		if _, err := a.route.Target.Store.Stat(ctx, place); store.KindOf(err) != store.ErrNotFound {
			a.folders.forget() // what is not there is where it was to go
			return nil, store.Errorf(store.ErrTryAgain, "%s is still there, and has to be looked at again", place)
		}
		ending.Cause, ending.Why = plan.CauseMoved, ""
		if folder {
			ending.Cause = plan.CauseRemoved
		}
		return ending, nil
	case store.ErrChanged:
		return &Ending{State: Skipped, Cause: plan.CauseNotRemoved}, nil
	case store.ErrRefused, store.ErrExists:
		if folder { // it is remembered again when both sides have it again
			ending.State, ending.Cause = Skipped, plan.CauseHoldsMore
			return ending, nil
		}
	}
	return nil, err
}

// keepVersion takes a file out of the way, to where it can be restored from, and
// returns where that is, in words.
func (a *attempt) keepVersion(ctx context.Context, place store.Ref, revision string) (string, error) {
	version, err := a.historyPlace(ctx, place)
	if err != nil {
		return "", err
	}
	side := a.route.Target
	_, err = store.Move(ctx, side.Store, place, revision, version)
	if store.KindOf(err) == store.ErrUnsupported {
		if err = a.keepCopy(ctx, place, revision, version); err == nil {
			_, err = side.Store.Remove(ctx, place, revision)
		}
	}
	if store.KindOf(err) == store.ErrOutcomeUnknown {
		if _, looked := side.Store.Stat(ctx, place); store.KindOf(looked) == store.ErrNotFound {
			err = nil
		}
	}
	return "kept as /" + side.Account + version.String(), err
}

// historyPlace is a free place for what is moved to history by this run.
func (a *attempt) historyPlace(ctx context.Context, place store.Ref) (store.Ref, error) {
	side := a.route.Target
	folder := plan.HistoryFolder.Child(plan.HistoryName(a.Began))
	for _, name := range place.Folder.Path.Names() {
		folder = folder.Child(name)
	}
	if err := a.folders.ensure(ctx, side, folder); err != nil {
		return store.Ref{}, err
	}
	extension := path.Ext(place.Name)
	for n := 1; ; n++ {
		name := place.Name
		if n > 1 {
			name = fmt.Sprint(strings.TrimSuffix(place.Name, extension), " ", n, extension)
		}
		free := store.Folder{Path: folder}.Ref(name)
		if _, err := side.Store.Stat(ctx, free); store.KindOf(err) == store.ErrNotFound {
			return free, nil
		} else if err != nil {
			return free, err
		}
	}
}

// keepCopy copies a file of the target within it: inside, where it can, or else by
// reading and writing it.
func (a *attempt) keepCopy(ctx context.Context, from store.Ref, revision string, to store.Ref) error {
	side := a.route.Target
	_, err := store.Copy(ctx, side.Store, from, revision, to, a.ID)
	if store.KindOf(err) != store.ErrUnsupported {
		return err
	}
	_, _, err = a.through(ctx, side, side, from, revision, to, store.Absent)
	return err
}

// replace overwrites what the target holds. Where it is nothing that a run brought,
// or is newer than what comes, it is kept out of the way first.
func (a *attempt) replace(ctx context.Context) (*Ending, error) {
	if a.item.Cause == plan.CauseVersionKept {
		version, err := a.historyPlace(ctx, a.target())
		if err == nil {
			err = a.keepCopy(ctx, a.target(), a.item.Target.Revision, version)
		}
		switch store.KindOf(err) {
		case nil:
		case store.ErrNotFound, store.ErrChanged:
			return a.lookAgain(ctx, a.target(), err)
		default:
			return nil, err
		}
		a.item.Cause = plan.CauseNone // another try keeps no second copy
	} else if err := a.untouched(ctx); err != nil {
		if store.KindOf(err) == store.ErrChanged || store.KindOf(err) == store.ErrNotFound {
			return a.lookAgain(ctx, a.target(), err)
		}
		return nil, err
	}
	return a.write(ctx, a.target(), store.AtRevision(a.item.Target.Revision))
}

// moveInside moves within the target what has another name or folder at the source
// now, where what is there is about to be removed. It returns neither an ending nor
// an error where it has to be copied or sent.
func (a *attempt) moveInside(ctx context.Context, origin plan.Origin) (*Ending, error) {
	target := a.route.Target
	if !a.Rules.Type.Removes() || !store.CanMove(target.Store) {
		return nil, nil
	}
	if target.Store.Traits().Revisions == store.RevisionsOfTimes {
		err := target.certain(ctx, target.place(origin.Key, store.KindFile), origin.Revision, origin.Hash)
		switch store.KindOf(err) {
		case nil:
		case store.ErrNotFound, store.ErrChanged:
			return nil, ctx.Err()
		default:
			return nil, err
		}
	}
	leaves, err := a.Records.Removing(ctx, a.ID, a.item.Route, origin.Key)
	if err != nil || !leaves {
		return nil, err
	}
	place := a.target()
	if err := a.folders.ensure(ctx, target, place.Folder.Path); err != nil {
		return nil, err
	}
	a.note(hashIn(origin.Hash))
	entry, err := store.Move(ctx, target.Store, target.place(origin.Key, store.KindFile), origin.Revision, place)
	switch store.KindOf(err) {
	case nil:
	case store.ErrSignInExpired, store.ErrSuspended, store.ErrNoSpace:
		return nil, err
	case store.ErrExists, store.ErrOutcomeUnknown:
		return a.lookAgain(ctx, place, err)
	default: // it is another, or is not there any more
		return nil, ctx.Err()
	}
	if entry.Size >= 0 && entry.Size != a.item.Size {
		return a.lookAgain(ctx, place, store.Errorf(store.ErrExists, "what was moved to %s is of another size", place))
	}
	verification := strings.TrimSpace(origin.Hash + " (moved inside the account)")
	return &Ending{State: Done, Cause: plan.CauseMoved, Verification: verification, Pair: a.pairWith(entry, origin.Hash)}, nil
}

// clearFile removes the item's file at the source.
func (a *attempt) clearFile(ctx context.Context) (store.Removal, error) {
	pair, err := a.Records.Pair(ctx, a.route.Scope, a.item.Key)
	if err != nil {
		return "", err
	}
	file := sourceFile{source: a.source(), target: a.target(), revision: a.item.Source.Revision}
	if pair != nil {
		file.hash = pair.Verification
	}
	return a.removeSource(ctx, a.route, file)
}

// clearOne removes at the source what is verified at the target, after looking there
// once more: the verification is of that revision alone.
func (a *attempt) clearOne(ctx context.Context) (*Ending, error) {
	folder := a.item.Kind == store.KindFolder
	target, err := a.route.Target.Store.Stat(ctx, a.target())
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return &Ending{State: Skipped, Cause: plan.CauseNotThere}, nil
	case err != nil:
		return nil, err
	case (target.Kind == store.KindFolder) != folder || !folder && !a.item.Target.Is(&target):
		return &Ending{State: Skipped, Cause: plan.CauseDiffers}, nil
	}
	var removal store.Removal
	if folder {
		removal, err = a.route.Source.Store.RemoveFolder(ctx, a.source())
	} else {
		removal, err = a.clearFile(ctx)
	}
	ending := &Ending{State: Done, Cause: plan.CauseCleared}
	if !folder {
		ending.Forget = []store.Key{a.item.Key}
	}
	if removal == store.RemovedToTrash {
		ending.Why = "in the provider's trash"
	}
	switch store.KindOf(err) {
	case nil, store.ErrNotFound: // an earlier try, or somebody, was faster
		return ending, nil
	case store.ErrChanged:
		return &Ending{State: Skipped, Cause: plan.CauseLater}, nil
	case store.ErrRefused:
		if folder {
			return &Ending{State: Skipped, Cause: plan.CauseHoldsMore}, nil
		}
	}
	return nil, compare.NewSourceError(err)
}
