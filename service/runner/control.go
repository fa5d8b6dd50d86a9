package runner

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// refused is a change of state that does not fit the state.
func refused(row records.Run, format string, args ...any) error {
	return store.Errorf(store.ErrRefused, "the run %s is %s; %s", row.ID, row.State, fmt.Sprintf(format, args...))
}

// Cancel ends a run. What has moved stays; nothing half done is left.
func (r *Runner) Cancel(ctx context.Context, id string) error {
	row, a, err := r.find(ctx, id)
	if err != nil {
		return err
	}
	if row.Ended() {
		return refused(row, "there is nothing to cancel")
	}
	if err := r.db.SaveRun(ctx, records.Run{Number: row.Number, Cancelling: true}, "cancelling"); err != nil {
		return err
	}
	if a != nil {
		a.do(func(s *runState) { s.row.Cancelling = true })
		a.cancel(transfer.ErrCancelled)
		return nil
	}
	row.Cancelling = true // it is paused: it is taken up to end in good order
	return r.take(ctx, row)
}

// find returns a run, and its active part where it has not ended and is not
// paused.
func (r *Runner) find(ctx context.Context, id string) (records.Run, *active, error) {
	r.mu.Lock()
	a, ok := r.active[id]
	r.mu.Unlock()
	if ok {
		return a.now().row, a, nil
	}
	row, err := r.db.Run(ctx, id)
	return row, nil, err
}

// Pause interrupts a run until it is resumed, over restarts of the service too.
// What is on its way is broken off and sent again; parts that have arrived are
// not.
func (r *Runner) Pause(ctx context.Context, id string) error {
	return r.pause(ctx, id, plan.CauseNone, "")
}

func (r *Runner) pause(ctx context.Context, id string, cause plan.Cause, why string) error {
	row, a, err := r.find(ctx, id)
	switch {
	case err != nil:
		return err
	case row.State.Ended():
		return refused(row, "there is nothing to pause")
	case row.State == run.Held:
		return refused(row, "nothing of it moves")
	case a == nil:
		return nil // paused already
	}
	a.do(func(s *runState) {
		s.paused, s.resume = true, false
		s.pauseCause, s.pauseWhy = cause, why
	})
	if err := r.db.PauseRun(ctx, row); err != nil {
		return err
	}
	a.cancel(transfer.ErrPaused)
	return nil
}

// Continue takes a paused run up again.
func (r *Runner) Continue(ctx context.Context, id string) error {
	row, _, err := r.find(ctx, id)
	switch {
	case err != nil:
		return err
	case row.Ended():
		return messages.With(refused(row, "retry what failed"), "heron run retry "+id)
	}
	return r.take(ctx, row)
}

// take continues a paused run, unless another caller was faster. A run that is just being
// paused continues after that.
func (r *Runner) take(ctx context.Context, row records.Run) error {
	r.hands.Lock()
	defer r.hands.Unlock()
	r.mu.Lock()
	a, going := r.active[row.ID]
	r.mu.Unlock()
	if going {
		a.do(func(s *runState) { s.resume = s.paused })
		return nil
	}
	taken, err := r.db.ResumeRun(ctx, row)
	if err == nil && taken {
		r.become(&row, run.Resume, plan.Cause(row.Cause), row.Why)
		r.launch(row, row.StartedAt != nil)
	}
	return err
}

// Retry takes up a run that has ended without all of its items: those that
// failed, and those that were left when it was cancelled. It returns how many.
func (r *Runner) Retry(ctx context.Context, id string) (int64, error) {
	row, _, err := r.find(ctx, id)
	switch {
	case err != nil:
		return 0, err
	case !row.State.Ended():
		return 0, refused(row, "wait until it has ended")
	case !run.Can(row.State, run.Retry):
		return 0, refused(row, "nothing is left to be tried again")
	}
	if len(row.Routes) > 0 && row.Routes[0].Scope == "" {
		return 0, messages.With(refused(row, "it had not started, so nothing of it can be retried; start the job"), "heron job start "+row.Job)
	}
	// Found out before anything is changed.
	if _, err := r.open(ctx, row.Routes); err != nil {
		return 0, err
	}
	items, err := r.db.Retry(ctx, &row)
	if errors.Is(err, records.ErrNotFound) {
		return 0, refused(row, "it was taken up again already")
	}
	if err != nil {
		return 0, err
	}
	r.launch(row, true)
	return items, nil
}

// UsedBy returns the runs that have not ended and use an account.
func (r *Runner) UsedBy(ctx context.Context, account string) (ids []string, err error) {
	rows, err := r.db.OpenRuns(ctx)
	for _, row := range rows {
		if slices.Contains(changed(row), account) {
			ids = append(ids, row.ID)
		}
	}
	return ids, err
}

// checkMove holds a move to what can be moved without loss: nothing is at the
// target, and the source can be cleared.
func checkMove(ctx context.Context, route transfer.Route) error {
	if route.Source.Root.IsStart() {
		return store.Errorf(store.ErrRefused, "%s is the start of an account, which cannot be moved; name what is in it", route.Source.Address)
	}
	if route.Source.Store.Traits().ReadOnly {
		return store.Errorf(store.ErrRefused, "/%s is linked to be read only, and nothing can be moved away from there; copy it instead",
			route.Source.Account)
	}
	_, err := route.Target.Store.Stat(ctx, route.Target.Root)
	if err == nil {
		return store.Errorf(store.ErrExists, "%s already exists; choose another name, or move it out of the way", route.Target.Address)
	}
	if store.KindOf(err) != store.ErrNotFound {
		return err
	}
	return nil
}

// moving are the rules of a move.
var moving = plan.Rules{Conflict: plan.KeepBoth, Clear: true, Annotations: true}
