package transfer

import (
	"context"

	"deftheron/core/plan"
	"deftheron/core/store"
)

// create brings a file to where nothing is.
func (a *attempt) create(ctx context.Context) (*Ending, error) {
	if a.item.Origin != nil {
		if ending, err := a.inside(ctx); ending != nil || err != nil {
			return ending, err
		}
	}
	if a.isWithin() {
		if ending, err := a.within(ctx); ending != nil || err != nil {
			return ending, err
		}
	}
	if a.Resumed && a.try == 1 && a.item.Size > worthALook {
		return a.look(ctx)
	}
	return a.write(ctx, a.target(), store.Absent)
}

// worthALook is the size from which a run that was interrupted checks whether a file
// has already arrived, before it sends it again.
const worthALook = 8 << 20

func (a *attempt) makeFolder(ctx context.Context) (*Ending, error) {
	target := a.target()
	if err := a.folders.ensure(ctx, a.route.Target, target.Folder.Path); err != nil {
		return nil, err
	}
	a.note("")
	err := a.folders.makeOnce(ctx, a.route.Target, target)
	ending := &Ending{State: Done}
	if a.Rules.Type == plan.TwoWay {
		ending.Pair = a.pairWith(store.Entry{Kind: store.KindFolder}, "")
	}
	return ending, err
}
