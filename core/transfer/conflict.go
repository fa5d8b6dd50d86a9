package transfer

import (
	"context"
	"errors"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// conflictRules are the rules that settle a conflict of the item.
func (a *attempt) conflictRules() plan.Rules {
	rules := a.Rules
	if a.item.Decision != "" {
		rules.Conflict = a.item.Decision
	}
	return rules
}

// conflict settles by the rules that the target holds something else.
func (a *attempt) conflict(ctx context.Context, target store.Entry) (*Ending, error) {
	if err := a.findKept(ctx); err != nil {
		return nil, err
	}
	a.otherwise(ctx)
	step := a.conflictRules().Settle(plan.Step{
		Key: a.item.Key, Kind: a.item.Kind, Source: store.Entry{Modified: a.item.Source.Modified},
		Target: &store.Entry{Modified: target.Modified},
	})
	if target.Kind == store.KindFolder && a.Rules.Type.Removes() && a.feederOf(a.item).passes.Load() == 0 {
		return nil, store.Errorf(store.ErrExists, "a folder is at %s, and a file was to go there", a.target())
	}
	if target.Kind == store.KindFolder && a.Rules.Type == plan.TwoWay {
		return a.giveWay(ctx, true)
	}
	if target.Kind == store.KindFolder && step.Action == plan.Replace {
		return nil, store.Errorf(store.ErrExists, "a folder is at %s, and a file was to go there", a.target())
	}
	a.item.Target = compare.RememberedOf(target)
	a.item.Action = step.Action
	switch step.Action {
	case plan.Skip:
		return &Ending{State: Skipped, Cause: step.Cause}, nil
	case plan.Ask:
		return nil, errAsks
	case plan.Replace:
		a.chosen = true
		if a.Rules.Type.Removes() && a.Rules.Deletions == plan.KeepVersion {
			a.item.Cause = plan.CauseVersionKept
		}
		return a.replace(ctx)
	}
	return a.beside(ctx, a.item.Target)
}

// beside writes the content under a name that keeps both, and remembers that
// the conflict with what the target holds is settled.
func (a *attempt) beside(ctx context.Context, kept compare.Remembered) (*Ending, error) {
	if a.Rules.Type == plan.TwoWay {
		return a.keepBoth(ctx)
	}
	place := a.target()
	at := a.item.Source.Modified
	if at.IsZero() {
		at = time.Now()
	}
	var name string
	for n := 1; ; n++ {
		name = plan.BesideName(place.Name, a.route.Source.Account, at, n, 255)
		beside := place.Folder.Ref(name)
		entry, err := a.route.Target.Store.Stat(ctx, beside)
		if store.KindOf(err) == store.ErrNotFound {
			break
		}
		if err != nil {
			return nil, err
		}
		same, verification, err := a.sameContent(ctx, beside, entry)
		if err != nil {
			return nil, err
		}
		if same {
			ending := a.settled(&Ending{State: Done, Verification: verification, Moved: max(0, entry.Size)}, name, kept)
			if a.try > 1 { // an earlier try, whose answer was lost, has put it there
				ending.Changes = a.created(a.route.Target, beside)
			}
			return ending, nil
		}
		if n > 99 {
			return nil, store.Errorf(store.ErrRefused, "a hundred files are called like %s already", name)
		}
	}
	if err := a.folders.ensure(ctx, a.route.Target, place.Folder.Path); err != nil {
		return nil, err
	}
	written, verification, err := a.moveContent(ctx, place.Folder.Ref(name), store.Absent)
	if err != nil {
		if store.KindOf(err) == store.ErrExists || store.KindOf(err) == store.ErrOutcomeUnknown {
			err = store.Errorf(store.ErrTryAgain, "%s has to be looked at again: %w", name, err)
		}
		var source compare.SourceError
		if errors.As(err, &source) && store.KindOf(err) == store.ErrChanged {
			err = a.refresh(ctx, err)
		}
		return nil, err
	}
	ending := a.settled(&Ending{State: Done, Verification: verification, Moved: max(0, written.Size)}, name, kept)
	ending.Changes = a.created(a.route.Target, place.Folder.Ref(name))
	return ending, nil
}

func (a *attempt) settled(ending *Ending, name string, kept compare.Remembered) *Ending {
	ending.Cause, ending.Name = plan.CauseKeptBoth, name
	ending.Pair = &compare.Pair{Key: a.item.Key, Source: a.item.Source, Target: kept, Kept: true, Run: a.ID}
	return ending
}
