package runner

import (
	"context"
	"errors"
	"time"

	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/core/view"
	"deftheron/service/live"
	"deftheron/service/records"
)

// reach opens the accounts of a run. Where none of its routes can be reached for now, it
// is tried again until one can: the run stays queued meanwhile, for as long as its rules
// allow. A route whose accounts are away, or wait for a person, has Unopened.
func (r *Runner) reach(ctx context.Context, a *active) ([]transfer.Route, error) {
	for begun := time.Now(); ; {
		returned := r.returning.wait()
		// A run that was cancelled is opened too: it has leftovers to remove.
		row := a.now().row
		routes, err := r.openEach(r.ctx, row)
		if err == nil || store.KindOf(err) != store.ErrTryAgain || time.Since(begun) > transfer.WaitsWithin(row.Rules) {
			return routes, err
		}
		a.do(func(s *runState) {
			r.become(&s.row, run.Await, plan.CauseOf(err), err.Error())
			row = s.row
		})
		r.log.WarnContext(ctx, "a run waits for an account", "run", row.ID, "error", err)
		r.hub.Publish(live.Runs, r.contract(row, nil))
		timer := time.NewTimer(reopenWait)
		select {
		case <-timer.C:
		case <-returned:
			timer.Stop()
		case <-ctx.Done():
			timer.Stop()
			return nil, ctx.Err()
		}
	}
}

// openEach opens the routes of a run, each by itself. It returns an error if none of them
// can be used.
func (r *Runner) openEach(ctx context.Context, row records.Run) ([]transfer.Route, error) {
	var routes []transfer.Route
	var first error
	unopened := 0
	for _, one := range row.Routes {
		opened, err := r.openAs(ctx, []records.Route{one}, row.Rules)
		if err == nil {
			routes = append(routes, opened...)
			continue
		}
		if store.KindOf(err) != store.ErrTryAgain && !store.WaitsForPerson(err) {
			return nil, err
		}
		route, wrong := r.unopened(one, err)
		if wrong != nil {
			return nil, wrong
		}
		if unopened++; first == nil || store.KindOf(err) == store.ErrTryAgain { // that is waited for
			first = err
		}
		routes = append(routes, route)
	}
	if unopened == len(row.Routes) {
		return nil, first
	}
	return routes, nil
}

// unopened returns a route with an account that cannot be opened now.
func (r *Runner) unopened(row records.Route, why error) (transfer.Route, error) {
	route := transfer.Route{Scope: row.Scope, Contents: row.Contents, Unopened: why}
	var err error
	if route.Source.Address, err = store.ParseAddress(row.From); err != nil {
		return route, err
	}
	if route.Target.Address, err = store.ParseAddress(row.To); err != nil {
		return route, err
	}
	for _, side := range []*transfer.Side{&route.Source, &route.Target} {
		side.Account, side.Store, side.Gate = side.Address.Account, view.Unavailable(why), gate.New("unopened", 1, 1)
		side.Root, _ = side.Address.Place()
	}
	return route, nil
}

// endUnopened ends a run whose accounts cannot be opened.
func (r *Runner) endUnopened(a *active, err error) transfer.Result {
	if store.WaitsForPerson(err) {
		return transfer.Result{State: run.Held, Cause: plan.CauseOf(err), Why: err.Error()}
	}
	result := transfer.Result{State: run.Failed, Cause: plan.CauseOf(err), Why: err.Error()}
	rest, cause := transfer.Failed, plan.CauseStopped
	if errors.Is(err, transfer.ErrCancelled) {
		result = transfer.Result{State: run.Cancelled, Cause: plan.CauseCancelled, Why: "it was cancelled by a person"}
		rest, cause = transfer.Skipped, plan.CauseCancelled
	}
	if _, err := r.db.EndRest(context.WithoutCancel(r.ctx), a.id, rest, cause); err != nil {
		r.log.Error("could not end the items of a run", "run", a.id, "error", err)
	}
	return result
}
