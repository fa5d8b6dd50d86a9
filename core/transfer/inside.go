package transfer

import (
	"context"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/view"
)

// inside copies within the target what an earlier run has put there, instead of
// sending it again: a file that was renamed at the source, or exists there twice. It
// returns neither an ending nor an error if the bytes must be sent after all.
func (a *attempt) inside(ctx context.Context) (*Ending, error) {
	origin := a.item.Origin
	a.item.Origin = nil // another try sends it
	if is, err := a.isOrigin(ctx, *origin); err != nil || !is {
		return nil, err
	}
	if ending, err := a.moveInside(ctx, *origin); ending != nil || err != nil {
		return ending, err
	}
	return a.copyInside(ctx, store.Origin{File: a.route.Target.place(origin.Key, store.KindFile), Revision: origin.Revision}, *origin)
}

// isOrigin reports whether the source has the content of an origin. A mark without a hash
// only identifies the file, so the file is read: inodes are reused, and archives restore
// times.
func (a *attempt) isOrigin(ctx context.Context, origin plan.Origin) (bool, error) {
	if compare.MarkIsContent(a.item.Mark) {
		return true, nil
	}
	err := a.route.Source.certain(ctx, a.source(), a.item.Source.Revision, origin.Hash)
	switch {
	case store.KindOf(err) == store.ErrChanged:
		return false, nil // it is sent, and what has become of it found out then
	case err != nil:
		return false, compare.NewSourceError(err)
	}
	return true, nil
}

// within copies a file between two places of one account, or of it and what it was.
func (a *attempt) within(ctx context.Context) (*Ending, error) {
	from := store.Origin{File: a.source(), Revision: a.item.Source.Revision}
	if find := a.route.Source.Store.Capabilities().Origin; find != nil {
		var err error
		if from, err = find(ctx, from.File, from.Revision); err != nil {
			return nil, compare.NewSourceError(err)
		}
	}
	return a.copyInside(ctx, from, plan.Origin{Revision: from.Revision})
}

// isWithin reports whether the file can be copied within its account: not the
// export of a document, which is not a file there.
func (a *attempt) isWithin() bool {
	source, target := a.route.Source, a.route.Target
	return source.Account == target.Account && a.item.Size > 0 && a.try == 1 && store.CanCopy(target.Store) &&
		view.ExportedAs(store.Entry{ID: a.item.SourceID}) == ""
}

func (a *attempt) copyInside(ctx context.Context, from store.Origin, origin plan.Origin) (*Ending, error) {
	target, place := a.route.Target, a.target()
	if err := a.folders.ensure(ctx, target, place.Folder.Path); err != nil {
		return nil, err
	}
	a.note(hashIn(origin.Hash))
	entry, err := store.CopyOrigin(ctx, target.Store, from, place, a.ID)
	switch store.KindOf(err) {
	case nil:
	case store.ErrSignInExpired, store.ErrSuspended, store.ErrNoSpace:
		return nil, err
	case store.ErrExists, store.ErrOutcomeUnknown:
		return a.lookAgain(ctx, place, err)
	default: // it is not there any more, or is another, or cannot be copied
		a.Log.Debug("an item is sent, because the account cannot copy it", "run", a.ID, "item", a.route.SourceAddress(*a.item), "error", err)
		return nil, ctx.Err()
	}
	if entry.Size < 0 {
		entry.Size = a.item.Size // what was copied has the source's content
	}
	verification, err := a.verifyInside(ctx, place, entry, origin)
	if err != nil || verification == "" {
		return nil, err
	}
	return &Ending{State: Done, Verification: verification, Pair: a.pairWith(entry, verification),
		Changes: a.created(target, place)}, nil
}

// verifyInside holds the copy against the hash that its origin was verified with, or
// else against the source. An empty verification says that it is another: it is removed.
func (a *attempt) verifyInside(ctx context.Context, place store.Ref, entry store.Entry, origin plan.Origin) (string, error) {
	target := a.route.Target.Store
	const how = " (copied inside the account)"
	if target.Traits().Revisions == store.RevisionsOfContent && entry.Revision != "" && store.SameRevision(entry.Revision, origin.Revision) &&
		!a.Rules.Digest && a.Rules.Verification != store.VerifyByReading {
		verification := hashIn(origin.Hash) // it has the revision of its origin, which is of the content
		if verification == "" {
			verification = "the same revision as its source"
		}
		return verification + how, nil
	}
	if wanted, ok := store.ParseHash(origin.Hash); ok && entry.Size == a.item.Size {
		sum, err := a.sumAtTarget(ctx, place, entry, wanted.Kind)
		if err != nil {
			return "", err
		}
		if sum == wanted {
			return wanted.String() + how, nil
		}
	} else if same, verification, err := a.sameContent(ctx, place, entry); err != nil {
		return "", err
	} else if same {
		return verification + how, nil
	}
	_, err := target.Remove(ctx, place, entry.Revision)
	return "", err
}
