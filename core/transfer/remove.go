package transfer

import (
	"context"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/history"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// remove removes a file or folder of the target that the source no longer has. It looks it
// up once more: only what has not changed since that was decided is removed.
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
	} else if kept, failed := a.keepsDeleted(ctx); failed != nil {
		return nil, failed
	} else if kept {
		err = a.deleteKept(ctx, place, ending)
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
		if a.item.version != nil { // this run has moved it to history before it was interrupted
			a.kept(ctx, ending, history.Deleted)
			return ending, nil
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

// moveInside moves a file within the target that was renamed or moved at the source, if
// its old place is about to be removed. It returns neither an ending nor an error if the
// file must be copied or sent instead.
func (a *attempt) moveInside(ctx context.Context, origin plan.Origin) (*Ending, error) {
	target := a.route.Target
	if !a.Rules.Type.Removes() || !store.CanMove(target.Store) {
		return nil, nil
	}
	if a.item.movedFrom != "" { // an earlier try has moved it
		return a.lookAgain(ctx, a.target(), store.Errorf(store.ErrOutcomeUnknown, "it was moved there already"))
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
	if err := a.noteMove(target.place(origin.Key, store.KindFile), origin.Hash); err != nil {
		return nil, err
	}
	entry, err := store.Move(ctx, target.Store, target.place(origin.Key, store.KindFile), origin.Revision, place)
	switch store.KindOf(err) {
	case nil:
	case store.ErrSignInExpired, store.ErrSuspended, store.ErrNoSpace:
		return nil, err
	case store.ErrExists:
		a.notMoved()
		return a.lookAgain(ctx, place, err)
	case store.ErrOutcomeUnknown:
		return a.lookAgain(ctx, place, err)
	default: // it is another, or is not there any more
		a.notMoved()
		return nil, ctx.Err()
	}
	if entry.Size >= 0 && entry.Size != a.item.Size {
		return a.lookAgain(ctx, place, store.Errorf(store.ErrExists, "what was moved to %s is of another size", place))
	}
	verification := strings.TrimSpace(origin.Hash + " (moved inside the account)")
	ending := &Ending{State: Done, Cause: plan.CauseMoved, Verification: verification, Pair: a.pairWith(entry, origin.Hash)}
	a.changed(ctx, ending, place)
	return ending, nil
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

// clearOne removes a file at the source whose copy at the target is verified. It looks the
// copy up once more: the verification holds for that revision alone.
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
