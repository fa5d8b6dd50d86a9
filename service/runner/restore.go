package runner

import (
	"context"
	"time"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// Restore starts a run that brings back what an address was at a time.
func (r *Runner) Restore(ctx context.Context, request contract.Restore) (contract.Started, error) {
	p, err := r.prepareRestore(ctx, request)
	if err != nil {
		return contract.Started{}, err
	}
	if err := mayRun(ctx, p.rows, false); err != nil {
		return contract.Started{}, err
	}
	return r.start(ctx, p.rows, p.rules)
}

// PlanRestore returns what it would do.
func (r *Runner) PlanRestore(ctx context.Context, request contract.Restore) (contract.Plan, error) {
	p, err := r.prepareRestore(ctx, request)
	if err != nil {
		return contract.Plan{}, err
	}
	return r.plan(ctx, p)
}

// prepareRestore checks a request before anything is changed. Files that are restored in place
// are compared with the present ones, which become versions first.
func (r *Runner) prepareRestore(ctx context.Context, request contract.Restore) (p prepared, err error) {
	from, err := store.ParseAddress(request.Address)
	if err != nil {
		return p, asInput(err)
	}
	switch {
	case from.IsRoot():
		return p, asInput(remedy.Errorf("/ is the root of all accounts; restore one account, or something in it"))
	case request.At.IsZero():
		return p, asInput(remedy.Errorf("a restore needs the time of what is restored; give one"))
	case request.At.After(time.Now()):
		return p, asInput(remedy.Errorf("%s has not come yet; give a time in the past", request.At.Format(time.RFC3339)))
	}
	p.rules = plan.Rules{At: request.At, Conflict: plan.Source, Documents: plan.NoExports(), Tracked: true, Priority: plan.High}
	if request.Exact {
		p.rules.Type = plan.Mirror
	}
	source, err := r.locate(ctx, from)
	if err != nil {
		return p, asInput(err)
	}
	target := source
	if request.To != "" {
		to, err := store.ParseAddress(request.To)
		if err != nil {
			return p, asInput(err)
		}
		folder, err := r.locate(ctx, to)
		if err != nil {
			return p, asInput(err)
		}
		target = child(folder, nameIn(source, folder, plan.TranslateNames))
		if request.Exact {
			return p, asInput(remedy.Errorf("exact deletes what came since, where the files were; leave it out to restore to %s", request.To))
		}
	}
	row, route, err := r.between(ctx, source, target)
	if err != nil {
		return p, err
	}
	row.Scope += "\nat " + request.At.UTC().Format(time.RFC3339Nano) + " " + newID(time.Now())
	route.Scope = row.Scope
	p.rows, p.routes = []records.Route{row}, []transfer.Route{route}
	if err := r.asTheyWere(ctx, p.routes, p.rules); err != nil {
		return p, err
	}
	asFiles(p.routes, p.rules)
	if err := transfer.CheckRestore(ctx, p.routes[0]); err != nil {
		return p, err
	}
	return p, r.checkKept(ctx, p.rules, false, p.routes)
}

// forgetRestore removes the pairs of a restore that is done: each restore has a scope of its own.
func (r *Runner) forgetRestore(row records.Run) {
	if row.Rules.At.IsZero() || row.State != run.Done {
		return
	}
	r.group.Go(func() {
		for _, route := range row.Routes {
			if err := r.db.ForgetScope(r.ctx, route.Scope); err != nil && r.ctx.Err() == nil {
				r.log.Warn("could not forget the pairs of a restore", "run", row.ID, "error", err)
			}
		}
	})
}
