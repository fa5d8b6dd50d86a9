package transfer

import (
	"context"
	"sync"
	"time"

	"deftheron/core/history"
)

// unlisted are the changes that no manifest lists yet, by account.
type unlisted struct {
	mu     sync.Mutex
	since  time.Time // of the oldest
	counts map[string]int
	most   int
}

// listedWithin is how long a change may wait for its manifest.
const listedWithin = time.Minute

func (u *unlisted) add(changes []history.Change) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, change := range changes {
		if u.counts == nil {
			u.counts, u.since = map[string]int{}, time.Now()
		}
		u.counts[change.Account]++
		u.most = max(u.most, u.counts[change.Account])
	}
}

func (u *unlisted) isDue() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return len(u.counts) > 0 && (u.most >= history.MostInManifest || time.Since(u.since) > listedWithin)
}

// take returns how many wait for each account, and begins anew.
func (u *unlisted) take() map[string]int {
	u.mu.Lock()
	defer u.mu.Unlock()
	counts := u.counts
	u.counts, u.most = nil, 0
	return counts
}

// writeManifests writes manifests of what the run has changed. Those that cannot be written
// now are written later.
func (r *Run) writeManifests(ctx context.Context) {
	counts := r.unlisted.take()
	for _, route := range r.routesNow() {
		account := route.Target.Account
		if counts[account] == 0 {
			continue
		}
		if _, err := history.WriteManifests(ctx, route.Target.Store, account, r.ID, r.Records); err != nil {
			r.Log.Warn("could not write a manifest of history", "run", r.ID, "account", account, "error", err)
		}
		delete(counts, account)
	}
}

// saveFresh writes down which targets were not there before the run.
func (r *Run) saveFresh(ctx context.Context) error {
	if len(r.firstChanges) == 0 {
		return nil
	}
	if err := r.Records.Finish(ctx, r.ID, r.scopes, r.firstChanges); err != nil {
		return err
	}
	for _, ending := range r.firstChanges {
		r.unlisted.add(ending.Changes)
	}
	r.firstChanges = nil
	return nil
}
