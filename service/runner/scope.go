package runner

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// ScopeOf returns what a user sees of the tree. It is access.Access.ScopeOf.
type ScopeOf func(ctx context.Context, user string) (tree.Scope, error)

type ownerKey struct{}

// WithOwner returns a context in which jobs are made, and runs started, in the name of a user.
func WithOwner(ctx context.Context, user string) context.Context {
	return context.WithValue(ctx, ownerKey{}, user)
}

// ownerOf is in whose name something is done; the owner of the service unless it is known.
func ownerOf(ctx context.Context) string {
	if user, ok := ctx.Value(ownerKey{}).(string); ok && user != "" {
		return user
	}
	return records.OwnerID
}

// endOf is where a route begins or ends, for what a scope says of it: of all folders of an account
// of members, the folder that holds them.
func endOf(text string) (store.Address, error) {
	return store.ParseAddress(strings.TrimSuffix(text, "/*"))
}

// seesRoutes reports whether the scope of a context shows both ends of every route.
func seesRoutes(ctx context.Context, routes []records.Route) bool {
	return tree.ScopeOf(ctx) == nil || checkRoutes(ctx, routes, func(ctx context.Context, _ bool, address store.Address) error {
		return tree.CheckSeen(ctx, address)
	}) == nil
}

// mayRun returns an error unless the scope of a context shows every route of a run and lets it
// change what the run changes: the targets, and the sources if both says so.
func mayRun(ctx context.Context, routes []records.Route, both bool) error {
	if tree.ScopeOf(ctx) == nil {
		return nil
	}
	return checkRoutes(ctx, routes, func(ctx context.Context, target bool, address store.Address) error {
		if target || both {
			return tree.CheckChange(ctx, address)
		}
		return tree.CheckSeen(ctx, address)
	})
}

func checkRoutes(ctx context.Context, routes []records.Route, check func(ctx context.Context, target bool,
	address store.Address) error) error {
	for _, route := range routes {
		for i, text := range []string{route.From, route.To} {
			address, err := endOf(text)
			if err == nil {
				err = check(ctx, i == 1, address)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// changesBoth reports whether runs of a type change their sources too.
func changesBoth(rules plan.Rules, spec job.Spec) bool {
	return rules.Clear || rules.Type == plan.TwoWay || spec.Type == job.Migrate && spec.Migrate.Clear
}

// checkScope returns an error unless the scope of a context lets a job do what it says.
func checkScope(ctx context.Context, spec job.Spec) error {
	rules, err := readSpec(spec)
	if err != nil {
		return err
	}
	return mayRun(ctx, keptRoutes(spec), changesBoth(rules, spec))
}

// CheckJobSeen returns an error unless the scope of a context shows a job and, if changes says so,
// lets it be changed and started.
func (r *Runner) CheckJobSeen(ctx context.Context, name string, changes bool) error {
	row, err := r.kept(ctx, name)
	if err != nil || !changes {
		return err
	}
	return checkScope(ctx, keptSpec(row))
}

// CheckRunSeen returns an error unless the scope of a context shows a run and, if changes says so,
// lets it be stopped, continued and decided about. records.ErrNotFound if it does not show it.
func (r *Runner) CheckRunSeen(ctx context.Context, id string, changes bool) error {
	row, err := r.db.Run(ctx, id)
	if err != nil {
		return err
	}
	if !seesRoutes(ctx, row.Routes) {
		return records.ErrNotFound
	}
	if changes {
		return mayRun(ctx, row.Routes, changesBoth(row.Rules, job.Spec{}))
	}
	return nil
}

// checkOwner returns an error unless the user in whose name a run goes still sees, and may change,
// what the run is about.
func (r *Runner) checkOwner(ctx context.Context, row records.Run) error {
	if r.ScopeOf == nil {
		return nil
	}
	owner, err := r.db.OwnerOfJob(ctx, row.Job)
	if errors.Is(err, records.ErrNotFound) {
		owner, err = records.OwnerID, nil // the job was removed; its run was started before that
	}
	if err != nil {
		return err
	}
	scope, err := r.ScopeOf(ctx, owner)
	if err != nil {
		return err
	}
	return mayRun(tree.WithScope(ctx, scope), row.Routes, changesBoth(row.Rules, job.Spec{}))
}

// Regranted has the runs of a user looked at again after the user's role or grants changed: those
// that may not go on are interrupted and held, and those that were held for it continue.
func (r *Runner) Regranted(user string) {
	rows, err := r.db.OpenRuns(r.ctx)
	if err != nil {
		r.log.Error("could not list the runs that have not ended", "error", err)
	}
	for _, row := range rows {
		if owner, err := r.db.OwnerOfJob(r.ctx, row.Job); err != nil || owner != user {
			continue
		}
		allowed := r.checkOwner(r.ctx, row) == nil
		switch {
		case row.State == run.Held && plan.Cause(row.Cause) == plan.CauseOwner && allowed:
			if err := r.take(r.ctx, row); err != nil {
				r.log.Error("could not continue a run", "run", row.ID, "error", err)
			}
		case !allowed:
			r.interrupt(row.ID)
		}
	}
}

// mostLooked is how many runs are looked at for a page of those that a scope shows, and lookedStep
// how many of them at once.
const mostLooked, lookedStep = 2_000, 500

// findRuns returns a page of the runs that a filter takes and the scope of a context shows, and the
// number to go on before; 0 at the end. A page may have fewer runs than most, or none, and still go
// on: a bounded number is looked at.
func (r *Runner) findRuns(
	ctx context.Context, filter records.RunFilter, before int64, most int,
) (seen []records.Run, next int64, err error) {
	if tree.Sees(ctx, store.Address{}) == tree.Seen {
		return r.db.FindRuns(ctx, filter, before, most)
	}
	for looked := 0; looked < mostLooked; {
		rows, after, err := r.runsOfSeen(ctx, filter, before)
		if err != nil {
			return nil, 0, err
		}
		for _, row := range rows {
			if !seesRoutes(ctx, row.Routes) {
				continue
			}
			if seen = append(seen, row); len(seen) == most {
				return seen, row.Number, nil
			}
		}
		if after == 0 {
			return seen, 0, nil
		}
		before = after
		if looked += max(len(rows), lookedStep); filter.Text != "" {
			break // a filter by text has a bound of its own
		}
	}
	return seen, before, nil
}

// runsOfSeen returns some of the runs, newest first, that a filter takes and that read from or write
// to an account of which the scope of a context shows anything, and the number to go on before.
func (r *Runner) runsOfSeen(ctx context.Context, filter records.RunFilter, before int64) (rows []records.Run, next int64, err error) {
	accounts, err := r.accounts.Visible(ctx)
	if err != nil {
		return nil, 0, err
	}
	found := map[int64]records.Run{}
	for _, account := range accounts {
		if filter.Account != "" && filter.Account != account.Name {
			continue
		}
		one := filter
		one.Account = account.Name
		some, after, err := r.db.FindRuns(ctx, one, before, lookedStep/len(accounts)+1)
		if err != nil {
			return nil, 0, err
		}
		for _, row := range some {
			found[row.Number] = row
		}
		next = max(next, after) // below it, not all are known
	}
	for number, row := range found {
		if number >= next {
			rows = append(rows, row)
		}
	}
	slices.SortFunc(rows, func(a, b records.Run) int { return cmp.Compare(b.Number, a.Number) })
	return rows, next, nil
}

// CountHeld counts the runs that wait for a person, of those that the scope of a context shows.
func (r *Runner) CountHeld(ctx context.Context) (held int64, err error) {
	if tree.ScopeOf(ctx) == nil {
		return r.db.CountHeld(ctx)
	}
	rows, err := r.db.OpenRuns(ctx)
	for _, row := range rows {
		if row.State == run.Held && seesRoutes(ctx, row.Routes) {
			held++
		}
	}
	return held, err
}

// SeesRun reports whether the scope of a context shows a run.
func (r *Runner) SeesRun(ctx context.Context, shown contract.Run) bool {
	if tree.ScopeOf(ctx) == nil {
		return true
	}
	if shown.MoreRoutes > 0 {
		return r.CheckRunSeen(ctx, shown.ID, false) == nil
	}
	routes := make([]records.Route, len(shown.Routes))
	for i, route := range shown.Routes {
		routes[i] = records.Route{From: route.From, To: route.To}
	}
	return seesRoutes(ctx, routes)
}

// interrupt has a run stop and be taken up again, as after a restart of the service.
func (r *Runner) interrupt(id string) {
	r.mu.Lock()
	a, going := r.active[id]
	r.mu.Unlock()
	if !going {
		return
	}
	a.do(func(s *runState) { s.aside = true })
	a.cancel(nil)
	r.takeUp(a)
}
