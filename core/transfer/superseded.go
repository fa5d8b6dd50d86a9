package transfer

import (
	"context"
	"strings"
	"time"

	"deftheron/core/history"
	"deftheron/core/names"
	"deftheron/core/store"
)

// superseded returns the change for the version that an earlier run has written to its own
// folder; nil if there is none, or if this run continues in that folder.
func (a *attempt) superseded(ctx context.Context) (*history.Change, error) {
	pair, err := a.Records.Pair(ctx, a.route.Scope, a.pairKey())
	if err != nil || pair == nil || pair.To == "" || pair.To == a.item.to() || pair.Kept || pair.Target.Revision == "" {
		return nil, err
	}
	template, err := names.ParseTemplate(a.Rules.As)
	if err != nil {
		return nil, err
	}
	lasting := a.item.to()
	for range template.RunSteps() {
		_, rest, found := strings.Cut(string(lasting), "/")
		if !found {
			return nil, nil
		}
		lasting = store.Key(rest)
	}
	until := a.lockedUntil()
	change := &history.Change{
		Account: a.route.Target.Account, Path: history.KeyOf(a.route.Target.place(lasting, store.KindFile)), At: time.Now(),
		How:  history.Superseded,
		Size: pair.Target.Size, Modified: pair.Target.Modified, Hash: pair.Digest, Run: a.ID, Job: a.Job, Locked: until,
		Kept: history.KeyOf(a.route.Target.place(pair.To, store.KindFile)), Revision: pair.Target.Revision,
	}
	if change.Hash == "" {
		change.Hash = pair.Verification
	}
	change.Enforced = a.enforce(ctx, change.Content(), until)
	return change, nil
}
