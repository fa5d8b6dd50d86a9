package runner

import (
	"context"
	"slices"
	"time"

	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/live"
	"deftheron/service/records"
)

// held leaves a run until what it waits for was mended.
func (r *Runner) held(a *active, row records.Run, result transfer.Result) {
	r.become(&row, run.Hold, result.Cause, result.Why)
	row.Approved = row.Approved && !result.Cause.IsSafety() // that word is used up
	columns := []string{"state", "cause", "why", "approved"}
	if work := a.now().run; work != nil {
		setCounts(&row, work.Snapshot())
		columns = append(columns, "items", "done", "skipped", "failed", "removed", "unchanged", "bytes", "moved")
	}
	r.hands.Lock()
	if err := r.db.SaveRun(context.WithoutCancel(r.ctx), row, columns...); err != nil {
		r.log.Error("could not save that a run is held", "run", row.ID, "error", err)
	}
	row = r.withTotals(row, a.now().run)
	r.mu.Lock()
	delete(r.active, row.ID)
	r.count(a, "")
	r.mu.Unlock()
	state := a.now()
	r.hands.Unlock()
	row.Cancelling = state.row.Cancelling
	again := state.resume || row.Cancelling
	r.log.Warn("run", "run", row.ID, "state", row.State, "cause", row.Cause, "why", row.Why)
	r.hub.Publish(live.Runs, r.contract(row, nil))
	if !again {
		r.Notify(r.contract(row, nil))
	}
	if row.Needs() == run.NeedsSpace {
		r.group.Go(func() { r.awaitSpace(row) })
	}
	r.group.Go(func() {
		for _, account := range changed(row) { // so that it shows which of them it is
			if _, err := r.accounts.Check(r.ctx, account); err != nil {
				r.log.Info("an account failed its check", "account", account, "error", err)
			}
		}
	})
	if again && r.ctx.Err() == nil {
		if err := r.take(r.ctx, row); err != nil {
			r.log.Error("could not continue a run", "run", row.ID, "error", err)
		}
	}
}

// withTotals returns a run with its planned totals: from run if that is not nil, otherwise
// from the records.
func (r *Runner) withTotals(row records.Run, run *transfer.Run) records.Run {
	if run != nil {
		if totals, ok := run.PlannedTotals(); ok {
			row.Totals, row.Planned = totals, true
			return row
		}
	}
	if kept, err := r.db.Run(context.WithoutCancel(r.ctx), row.ID); err == nil {
		row.Totals, row.Planned = kept.Totals, kept.Planned
	}
	return row
}

// spaceEvery is how often it is looked whether a target has space again; one that
// does not tell is simply tried, less often.
const (
	spaceEvery = 20 * time.Second
	untoldTime = 10 * time.Minute
)

// awaitSpace goes on with a run that is held for a lack of space, once there is some.
func (r *Runner) awaitSpace(row records.Run) {
	ticker := time.NewTicker(spaceEvery)
	defer ticker.Stop()
	for begun := time.Now(); ; {
		select {
		case <-ticker.C:
		case <-r.ctx.Done():
			return
		}
		now, err := r.db.Run(r.ctx, row.ID)
		if err != nil || now.State != run.Held || now.Cause != row.Cause {
			return // a person has decided
		}
		routes, err := r.open(r.ctx, row.Routes)
		if err != nil {
			continue
		}
		space, err := store.SpaceOf(r.ctx, routes[0].Target.Store)
		told := err == nil && space.Free >= 0
		if told && space.Free < max(1, row.Bytes-row.Moved) || !told && time.Since(begun) < untoldTime {
			continue
		}
		if err := r.take(r.ctx, now); err != nil {
			r.log.Error("could not continue a run", "run", row.ID, "error", err)
		}
		return
	}
}

// Reauthorized takes up the runs that were held for an account.
func (r *Runner) Reauthorized(account string) {
	rows, err := r.db.OpenRuns(r.ctx)
	if err != nil {
		r.log.Error("could not list the held runs", "error", err)
	}
	for _, row := range rows {
		if row.State == run.Held && !row.Needs().OfPerson() && slices.Contains(changed(row), account) {
			if err := r.take(r.ctx, row); err != nil {
				r.log.Error("could not continue a run", "run", row.ID, "error", err)
			}
		}
	}
}
