package runner

import (
	"context"
	"runtime/debug"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/live"
	"deftheron/service/records"
)

// ended keeps how a run ended. One that was interrupted stays as it is.
func (r *Runner) ended(a *active, result transfer.Result) {
	state := a.now()
	row := state.row
	r.Ended(changed(row))
	defer func() { r.wrote(row) }()
	if result.State == "" {
		r.interrupted(a, row)
		return
	}
	if result.State == run.Held {
		r.held(a, row, result)
		return
	}
	now := time.Now()
	came, _ := run.EventOf(result.State)
	r.become(&row, came, result.Cause, result.Why)
	row.EndedAt = &now
	r.thinAfter(changed(row))
	r.forgetRestore(row)
	if state.run != nil {
		setCounts(&row, state.run.Snapshot())
	}
	columns := []string{"state", "cause", "why", "ended_at", "items", "done", "skipped", "failed", "removed", "unchanged", "bytes", "moved"}
	r.hands.Lock()
	err := r.db.SaveRun(context.WithoutCancel(r.ctx), row, columns...)
	if err != nil {
		r.log.Error("could not save the result of a run", "run", row.ID, "error", err)
	}
	if err != nil || result.Cause == plan.CauseFault {
		r.group.Go(func() { r.keepEnd(row, columns, err) })
	}
	row = r.withTotals(row, state.run)
	r.mu.Lock()
	delete(r.active, row.ID)
	r.count(a, row.State)
	idle := len(r.active) == 0
	r.mu.Unlock()
	r.hands.Unlock()
	r.keepFlows(row)
	if idle {
		r.freeSoon()
	}
	r.log.Info("run", "run", row.ID, "state", row.State, "cause", row.Cause, "done", row.Done, "skipped", row.Skipped, "failed", row.Failed,
		"moved", row.Moved)
	shown := r.contract(row, nil)
	r.showWaits(r.ctx, row, &shown)
	r.hub.Publish(live.Runs, shown)
	r.Notify(shown)
	r.scheduler.arrivalEnded(row.Job)
	if row.Step != "" {
		r.hub.Publish(live.Jobs, row.Job)
		r.goOn(r.ctx, row.Job)
	}
}

// keepFlows records how much a run has transferred between which accounts.
func (r *Runner) keepFlows(row records.Run) {
	if row.Moved == 0 {
		return
	}
	routes := Addressed(row)
	step := max(1, len(routes)/max(1, len(row.Routes))) // of a two-way run, each is followed by the one back
	different := false
	pairs := make([][2]string, len(routes))
	for i, route := range routes {
		pairs[i] = [2]string{route.Source.Address.Account, route.Target.Address.Account}
		different = different || i%step == 0 && pairs[i] != pairs[0]
	}
	if !different { // the records count a run between two accounts as it goes on
		return
	}
	if err := r.db.KeepFlows(context.WithoutCancel(r.ctx), row.Number, pairs); err != nil {
		r.log.Error("could not save what a run has transferred between its accounts", "run", row.ID, "error", err)
	}
}

// freeAfter is how long nothing has to run before memory is given back.
const freeAfter = time.Second

// freeSoon gives the memory of a run back to the system within seconds, unless other runs
// have started by then: of many small runs in a row, the last one does.
func (r *Runner) freeSoon() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.freeing != nil {
		r.freeing.Reset(freeAfter)
		return
	}
	r.freeing = time.AfterFunc(freeAfter, func() {
		r.mu.Lock()
		idle := len(r.active) == 0
		r.mu.Unlock()
		if idle {
			debug.FreeOSMemory()
		}
	})
}

// keepEvery is how often it is tried to keep how a run ended, while the disk is full.
const keepEvery = 10 * time.Second

// keepEnd keeps how a run ended, and ends its items, until that is written down: a disk
// that was full may have room later. failed is how it went at first.
func (r *Runner) keepEnd(row records.Run, columns []string, failed error) {
	for {
		if failed != nil {
			failed = r.db.SaveRun(r.ctx, row, columns...)
		}
		if failed == nil {
			failed = r.db.EndStranded(r.ctx)
		}
		if failed == nil || retry.Sleep(r.ctx, keepEvery) != nil {
			return
		}
	}
}

// interrupted leaves a run as it is, to be taken up at the next start; one that
// a person paused, to be taken up when they say so.
func (r *Runner) interrupted(a *active, row records.Run) {
	r.hands.Lock()
	state := a.now()
	if state.aside && !state.paused {
		r.mu.Lock()
		delete(r.active, row.ID)
		r.mu.Unlock()
	}
	if !state.paused {
		if state.run != nil { // what it has come to is told until it goes on
			setCounts(&row, state.run.Snapshot())
			if err := r.db.SaveRun(context.WithoutCancel(r.ctx), row, "items", "done", "skipped", "failed", "removed", "unchanged", "bytes",
				"moved"); err != nil {
				r.log.Error("could not save the counts of a run", "run", row.ID, "error", err)
			}
		}
		r.hands.Unlock()
		r.log.Info("a run was interrupted and continues later", "run", row.ID)
		return
	}
	r.become(&row, run.Pause, state.pauseCause, state.pauseWhy)
	columns := []string{"state", "cause", "why"}
	if state.run != nil {
		setCounts(&row, state.run.Snapshot())
		columns = append(columns, "items", "done", "skipped", "failed", "removed", "unchanged", "bytes", "moved")
	}
	if err := r.db.SaveRun(context.WithoutCancel(r.ctx), row, columns...); err != nil {
		r.log.Error("could not save that a run is paused", "run", row.ID, "error", err)
	}
	r.log.Info("run", "run", row.ID, "state", row.State)
	r.mu.Lock()
	delete(r.active, row.ID)
	r.count(a, "")
	r.mu.Unlock()
	state = a.now()
	r.hands.Unlock()
	row.Cancelling = state.row.Cancelling
	again := state.resume || row.Cancelling // a person was faster than the pause
	r.hub.Publish(live.Runs, r.contract(row, nil))
	if again && r.ctx.Err() == nil {
		if err := r.take(r.ctx, row); err != nil {
			r.log.Error("could not continue a run", "run", row.ID, "error", err)
		}
	}
}

// changed are the accounts that a run may have changed.
func changed(row records.Run) (accounts []string) {
	for _, route := range row.Routes {
		for _, text := range []string{route.From, route.To} {
			if address, err := store.ParseAddress(text); err == nil {
				accounts = append(accounts, address.Account)
			}
		}
	}
	return accounts
}

func setCounts(row *records.Run, s transfer.Snapshot) {
	row.Items, row.Done, row.Skipped, row.Failed, row.Unchanged = s.Items, s.Done, s.Skipped, s.Failed, s.Unchanged
	row.Bytes, row.Moved, row.Planned, row.Removed = s.Bytes, s.Moved, s.Planned, s.Removed
}
