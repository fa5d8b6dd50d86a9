package runner

import (
	"context"
	"time"

	"deftheron/core/files"
	"deftheron/core/retry"
)

// tidyEvery is how often it is looked for what may go.
const tidyEvery = 12 * time.Hour

// firstTidy is how long after a start that is first done: what a person starts comes
// before it.
const firstTidy = 2 * time.Minute

// Tidy removes what has been kept for long enough, until ctx ends.
func (r *Runner) Tidy(ctx context.Context) {
	for wait := firstTidy; retry.Sleep(ctx, wait) == nil; wait = tidyEvery {
		r.ExpireHistory(ctx, time.Now())
		if err := r.Thin(ctx, time.Now()); err != nil && ctx.Err() == nil {
			r.log.Error("the records could not be thinned", "error", err)
		}
	}
}

// thinPause is left between two steps, for whoever else writes.
const thinPause = 20 * time.Millisecond

// Thin removes what has been in the records for longer than KeepItems before a moment,
// and gives the room back to the disk.
func (r *Runner) Thin(ctx context.Context, now time.Time) error {
	if r.KeepItems > 0 {
		before := now.Add(-r.KeepItems)
		for more := true; more; {
			var err error
			if more, err = r.db.Thin(ctx, before); err != nil || retry.Sleep(ctx, thinPause) != nil {
				return err
			}
		}
		if err := r.db.ThinSamples(ctx, before); err != nil {
			return err
		}
	}
	for more := true; more; {
		var err error
		if more, err = r.db.Shrink(ctx); err != nil || retry.Sleep(ctx, thinPause) != nil {
			return err
		}
	}
	return nil
}

// ExpireHistory removes what runs took out of the way more than KeepHistory before a
// moment, in all accounts that can be written to. One that is away has its turn the
// next time.
func (r *Runner) ExpireHistory(ctx context.Context, now time.Time) {
	if r.KeepHistory <= 0 {
		return
	}
	rows, err := r.db.Accounts(ctx)
	if err != nil {
		r.log.Error("could not look for expired history", "error", err)
		return
	}
	for _, row := range rows {
		if row.Suspended || row.ReadOnly {
			continue
		}
		account, err := r.accounts.Open(ctx, row.Name)
		var removed files.Count
		if err == nil && !account.Store.Traits().ReadOnly {
			removed, err = files.Expire(ctx, account.Store, now.Add(-r.KeepHistory))
		}
		if removed != (files.Count{}) {
			r.log.Info("deleted expired history", "account", row.Name, "files", removed.Files, "bytes", removed.Bytes, "older_than",
				r.KeepHistory)
		}
		if err != nil && ctx.Err() == nil {
			r.log.Warn("could not delete expired history", "account", row.Name, "error", err)
		}
	}
}
