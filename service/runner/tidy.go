package runner

import (
	"context"
	"time"

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
		r.ThinHistory(ctx, time.Now())
		if err := r.Thin(ctx, time.Now()); err != nil && ctx.Err() == nil {
			r.log.ErrorContext(ctx, "the records could not be thinned", "error", err)
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
