package transfer

import (
	"context"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// lookAgain finds out what is at the place of a write that failed. If it has the source's
// content, it was written by the attempt whose answer was lost, or before the run was
// interrupted, and the item is done.
func (a *attempt) lookAgain(ctx context.Context, place store.Ref, why error) (*Ending, error) {
	entry, err := store.Occupant(ctx, a.route.Target.Store, place)
	if store.KindOf(err) == store.ErrNotFound {
		if store.KindOf(why) == store.ErrExists && a.try > 1 {
			return nil, why // not what has the name: a file is where a folder is needed
		}
		a.item.Target = compare.Remembered{}
		a.notMoved()
		if a.item.Action == plan.Replace {
			a.item.Action = plan.Create
		}
		return nil, store.Errorf(store.ErrTryAgain, "%s is not there after all: %w", place, why)
	}
	if err != nil {
		return nil, err
	}
	unknown := store.KindOf(why) == store.ErrOutcomeUnknown
	if unknown && a.item.Action == plan.Replace && store.SameRevision(entry.Revision, a.item.Target.Revision) {
		return nil, store.Errorf(store.ErrTryAgain, "%s was not written after all: %w", place, why)
	}
	// What follows does not go on with an upload to this place.
	if err := a.giveUpUpload(ctx, place); err != nil {
		return nil, err
	}
	if entry.Kind == store.KindFile {
		same, verification, err := a.sameContent(ctx, place, entry)
		if err == nil && !same && entry.Size == a.item.Size {
			// A bit that flips on the way is no conflict: what seems to differ is read again.
			same, verification, err = a.sameContent(ctx, place, entry)
		}
		if err != nil {
			return nil, err
		}
		if same {
			if err := a.findKept(ctx); err != nil {
				return nil, err
			}
			ending := &Ending{State: Done, Verification: verification, Moved: max(0, entry.Size), Pair: a.pairWith(entry, verification)}
			a.changed(ctx, ending, place)
			return ending, nil
		}
	}
	return a.conflict(ctx, entry)
}

// pairWith returns the pair to record. verification is a text that starts with the hash if
// there is one.
func (a *attempt) pairWith(target store.Entry, verification string) *compare.Pair {
	pair := &compare.Pair{
		Key: a.item.Key, To: a.item.To, Source: a.item.Source, Target: compare.RememberedOf(target), Run: a.ID, Mark: a.item.Mark,
		Verification: hashIn(verification), Digest: a.digest,
	}
	if a.Rules.Type == plan.TwoWay { // what moves at the target is looked for too
		pair.TargetMark = compare.MarkOf(target)
	}
	if a.route.Back {
		pair.Source, pair.Target, pair.Mark, pair.TargetMark = pair.Target, pair.Source, pair.TargetMark, pair.Mark
		if pair.Key, pair.To = a.item.to(), a.item.Key; pair.To == pair.Key {
			pair.To = ""
		}
	}
	return pair
}

// hashIn is the hash that the words of a verification begin with; empty where there is none.
func hashIn(verification string) string {
	hash, _, _ := strings.Cut(verification, " ")
	if !strings.Contains(hash, "=") {
		return ""
	}
	return hash
}

// pairKey is the key under which the item is remembered.
func (a *attempt) pairKey() store.Key {
	if a.route.Back {
		return a.item.to()
	}
	return a.item.Key
}

// look compares contents where nothing that was listed decided.
func (a *attempt) look(ctx context.Context) (*Ending, error) {
	entry, err := store.Occupant(ctx, a.route.Target.Store, a.target())
	if store.KindOf(err) == store.ErrNotFound {
		return a.write(ctx, a.target(), store.Absent)
	}
	if err != nil {
		return nil, err
	}
	same, verification, err := a.sameContent(ctx, a.target(), entry)
	if err != nil {
		return nil, err
	}
	if !same {
		return a.conflict(ctx, entry)
	}
	if a.Resumed || a.try > 1 && a.item.Target.Revision == "" {
		ending := &Ending{State: Done, Verification: verification, Moved: max(0, entry.Size), Pair: a.pairWith(entry, verification)}
		if a.item.version != nil || a.item.Target.Revision == "" { // nothing was there before the run
			a.changed(ctx, ending, a.target())
		}
		return ending, nil
	}
	return a.foundSame(entry, verification), nil
}

// foundSame ends an item whose content the target already holds.
func (a *attempt) foundSame(entry store.Entry, verification string) *Ending {
	found := a.pairWith(entry, verification)
	found.Run = "" // no run has brought it about
	return &Ending{State: Skipped, Cause: plan.CauseSame, Verification: verification, Pair: found}
}

// recheck compares contents, as the metadata of the source has changed without its
// size and time, and overwrites the target where they differ.
func (a *attempt) recheck(ctx context.Context) (*Ending, error) {
	entry, err := a.route.Target.Store.Stat(ctx, a.target())
	if err == nil && !store.SameRevision(entry.Revision, a.item.Target.Revision) {
		return a.look(ctx) // it has changed too
	}
	if store.KindOf(err) == store.ErrNotFound {
		return a.write(ctx, a.target(), store.Absent)
	}
	if err != nil {
		return nil, err
	}
	same, verification, err := a.sameContent(ctx, a.target(), entry)
	if err != nil {
		return nil, err
	}
	if !same {
		return a.replaceKnown(ctx, entry)
	}
	return a.foundSame(entry, verification), nil
}

// replaceKnown overwrites a target with unchanged metadata if its content is unchanged, too.
// If it has changed, or if that is unknown, both sides count as changed.
func (a *attempt) replaceKnown(ctx context.Context, entry store.Entry) (*Ending, error) {
	pair, err := a.Records.Pair(ctx, a.route.Scope, a.pairKey())
	if err != nil {
		return nil, err
	}
	if a.route.Target.Store.Traits().Revisions != store.RevisionsOfContent || a.Rules.Verification == store.VerifyByReading {
		hash := ""
		if pair != nil {
			hash = pair.Verification
		}
		if err := a.route.Target.certain(ctx, a.target(), entry.Revision, hash); store.KindOf(err) == store.ErrChanged {
			return a.conflict(ctx, entry)
		} else if err != nil {
			return nil, err
		}
	}
	a.item.Action, a.chosen = plan.Replace, true
	return a.replace(ctx)
}
