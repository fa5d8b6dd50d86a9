package transfer

import (
	"context"
	"fmt"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// prepare makes the targets ready. For a run that was interrupted it removes leftovers
// and returns its counts so far.
func (r *Run) prepare(ctx context.Context) (Tally, error) {
	for i, route := range r.Routes {
		if route.Unopened != nil {
			r.leaveRoute(ctx, i, route.Unopened)
		}
	}
	for i := range r.Routes {
		if err := r.prepareRoute(ctx, i); err != nil {
			return Tally{}, err
		}
	}
	if !r.Resumed {
		return Tally{}, nil
	}
	if err := r.settleKept(ctx); err != nil {
		return Tally{}, fmt.Errorf("could not find what the interrupted run has moved to history: %w", err)
	}
	if err := r.settleNotes(ctx); err != nil {
		return Tally{}, fmt.Errorf("could not find out what the interrupted run has written: %w", err)
	}
	tally, err := r.Records.Tally(ctx, r.ID)
	if err != nil {
		return Tally{}, err
	}
	if tally, err = r.forgetUnjudged(ctx, tally); err != nil {
		return Tally{}, err
	}
	if tally.Planned {
		r.whole.Store(&tally.Totals)
	}
	r.lost = tally.Lost
	r.progress.restore(tally)
	r.seq = tally.LastSeq
	return tally, nil
}

// forgetUnjudged drops what an interrupted pass had queued and the safety limits had
// not passed, unless a person has been asked about it and let it go. It is planned and
// judged again.
func (r *Run) forgetUnjudged(ctx context.Context, tally Tally) (Tally, error) {
	letGo := r.Approved && tally.Asked >= tally.LastSeq
	if tally.Planned && (tally.LastSeq <= tally.Judged || letGo) {
		return tally, nil
	}
	forget := r.Records.Forget
	if tally.Planned && tally.Judged > 0 {
		forget = r.Records.ForgetUnjudged // those before are still to be done
	}
	if err := forget(ctx, r.ID); err != nil {
		return tally, err
	}
	planned := tally.Planned && tally.Judged > 0
	tally, err := r.Records.Tally(ctx, r.ID)
	tally.Planned = planned
	return tally, err
}

// prepareRoute makes the target of a route ready, and removes there what an interrupted
// run left behind. A route that is away is left alone.
func (r *Run) prepareRoute(ctx context.Context, i int) error {
	if r.absentOf(i) != nil {
		return nil
	}
	route := r.Routes[i]
	here := func() bool { return r.isThere(ctx, i) }
	err := r.persist(ctx, here, func() error { return store.Prepare(ctx, route.Target.Store) })
	if err == nil && r.Resumed {
		if err = r.persist(ctx, here, func() error { return r.cleanRoute(ctx, i) }); err != nil {
			err = fmt.Errorf("could not remove what the interrupted run left behind: %w", err)
		}
	}
	if r.leaveRoute(ctx, i, err) {
		return nil
	}
	return err
}

// beginRoutes makes the routes ready that are there and are not yet: it writes their
// canaries, and finds out whether what is remembered of them is believed.
func (r *Run) beginRoutes(ctx context.Context) error {
	for i := range r.Routes {
		if r.Routes[i].Back || r.absentOf(i) != nil || r.states.begun[i] {
			continue
		}
		here := func() bool { return r.isThere(ctx, i) }
		var err error
		for _, begin := range []func(context.Context, int) error{r.markFresh, r.writeCanaries, r.findTrust} {
			if err = r.persist(ctx, here, func() error { return begin(ctx, i) }); err != nil {
				break
			}
		}
		switch {
		case err == nil:
			r.states.begun[i] = true
		case !r.leaveRoute(ctx, i, err):
			return err
		}
	}
	return r.saveFresh(ctx)
}

// clean removes temporary files and uploads of this run, but for the uploads
// that the records know and that it will go on with.
func (r *Run) clean(ctx context.Context) error {
	for i := range r.Routes {
		if r.absentOf(i) != nil {
			continue
		}
		if err := r.cleanRoute(ctx, i); err != nil {
			return err
		}
	}
	return nil
}

func (r *Run) cleanRoute(ctx context.Context, i int) error {
	route := r.Routes[i]
	uploads, err := r.Records.Uploads(ctx, r.ID)
	if err != nil {
		return err
	}
	if r.wasResumed && !route.Back {
		r.removeOldCanaries(ctx, route)
	}
	cleaning := store.Cleaning{Run: r.ID, Folder: cleaningFolder(route), Keep: map[string]bool{}}
	for _, pending := range uploads {
		if pending.Item.Route != i {
			continue
		}
		cleaning.Uploads = append(cleaning.Uploads, route.Target.place(pending.Item.to(), pending.Item.Kind))
		cleaning.Keep[pending.Upload.ID] = pending.Upload.ID != ""
	}
	// A server may still be tidying up after a connection that broke, and a listing
	// that meets it break off.
	cleaned, err := retry.Read(ctx, func() ([]store.Leftover, error) { return store.Clean(ctx, route.Target.Store, cleaning) })
	for _, leftover := range cleaned {
		r.Log.Info("removed a leftover", "run", r.ID, "account", route.Target.Account, "place", leftover.Place.String())
	}
	return err
}

// CleanAgain removes what somebody who copied for a run that has ended may have left at the target of a
// route since: a process that was frozen, and is killed before it has tidied up.
func CleanAgain(ctx context.Context, run string, route Route) error {
	_, err := retry.Read(ctx, func() ([]store.Leftover, error) {
		return store.Clean(ctx, route.Target.Store, store.Cleaning{Run: run, Folder: cleaningFolder(route)})
	})
	return err
}

func cleaningFolder(route Route) store.Folder {
	return route.Target.Root.Folder // of a single file, too, the folder that it is in
}

// persist does something again where it failed in a way that may pass: as often, and
// for as long, as an item is tried, and where it may be.
func (r *Run) persist(ctx context.Context, may func() bool, do func() error) error {
	again := r.Retry
	again.May = func(err error) bool { return retry.MayPass(err) && (may == nil || may()) }
	again.Failed = func(try int, err error) { r.Log.Info("an item is retried", "run", r.ID, "try", try, "error", err) }
	return again.Do(ctx, do)
}
