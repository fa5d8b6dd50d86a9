package runner

import (
	"context"
	"slices"
	"time"

	"deftheron/core/job"
	"deftheron/core/transfer"
	"deftheron/service/messages"
	"deftheron/service/records"
	"deftheron/service/workers"
)

// crewOf returns the workers that copy for a run, and what ends them; nil if no worker may open both
// accounts of any of its routes.
func (r *Runner) crewOf(ctx context.Context, a *active, routes []transfer.Route, resumed bool) (crew *workers.Crew, end func()) {
	if r.Workers == nil || !r.Workers.Running() {
		return nil, func() {}
	}
	able := r.crewRoutes(ctx, routes)
	if len(able) == 0 {
		return nil, func() {}
	}
	crew = r.Workers.Crew(a.id, able, &a.bandwidth)
	a.crew.Store(crew)
	return crew, func() {
		crew.Close()
		a.crew.Store(nil)
		r.keepCarried(a, crew.Carried())
		if crew.Lost() || resumed { // who was lost when it was interrupted, nobody knows
			r.group.Go(func() { r.cleanAgain(a.id, routes) })
		}
	}
}

// crewRoutes are the routes whose accounts workers may open, by number. What is wrong with one that cannot
// be opened, the run finds out.
func (r *Runner) crewRoutes(ctx context.Context, routes []transfer.Route) map[int]workers.CrewRoute {
	able := map[int]workers.CrewRoute{}
	for i, route := range routes {
		if route.Unopened != nil {
			continue
		}
		source, ok, err := r.accounts.ForWorkers(ctx, route.Source.Account)
		if err != nil || !ok {
			continue
		}
		target, ok, err := r.accounts.ForWorkers(ctx, route.Target.Account)
		if err == nil && ok && target.Watcher != nil {
			able[i] = workers.CrewRoute{Source: source, Target: target}
		}
	}
	return able
}

// waysOf returns, for each route, which way the bytes take: workers copy them, or they pass through the
// service because an account is at a site.
func (r *Runner) waysOf(ctx context.Context, routes []transfer.Route) (ways []string) {
	if r.Workers == nil || !r.Workers.Running() {
		return nil
	}
	able := r.crewRoutes(ctx, routes)
	for i, route := range routes {
		between, ok := able[i]
		if !ok {
			continue
		}
		at := between.Source.Site
		if at == "" {
			at = between.Target.Site
		}
		way := messages.Way(route.Source.Account, route.Target.Account, at, r.Workers.Able(between), r.Workers.Only())
		if way != "" && !slices.Contains(ways, way) {
			ways = append(ways, way)
		}
	}
	return ways
}

// workersCould reports whether workers may open both accounts of some route of a run, if they are granted.
func (r *Runner) workersCould(ctx context.Context, row records.Run) bool {
	for _, route := range row.Routes {
		from, to, err := addressesOf(job.Route{From: route.From, To: route.To})
		if err == nil && from.Account != to.Account && r.accounts.CheckForWorkers(ctx, from.Account) == nil &&
			r.accounts.CheckForWorkers(ctx, to.Account) == nil {
			return true
		}
	}
	return false
}

// lateWorkers is how long a worker that was lost may go on: it hears within this time that it is not
// wanted, or is gone.
const lateWorkers = 20 * time.Second

// cleanAgain removes what workers that were lost have left behind since.
func (r *Runner) cleanAgain(id string, routes []transfer.Route) {
	within := time.Minute
	select {
	case <-time.After(lateWorkers):
	case <-r.ctx.Done(): // the service ends, and does not wait for long
		within = 5 * time.Second
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.ctx), within)
	defer cancel()
	for _, route := range routes {
		if route.Unopened != nil {
			continue
		}
		if err := transfer.CleanAgain(ctx, id, route); err != nil {
			r.log.Warn("could not look for what workers left behind", "run", id, "error", err)
		}
	}
}

// keepCarried records what workers have copied for a run.
func (r *Runner) keepCarried(a *active, carried []workers.Carried) {
	if len(carried) == 0 {
		return
	}
	var row records.Run
	a.do(func(s *runState) {
		s.row.Workers = withCarried(s.row.Workers, carried)
		row = s.row
	})
	if err := r.db.SaveRun(context.WithoutCancel(r.ctx), row, "workers"); err != nil {
		r.log.Error("could not record what workers have copied", "run", row.ID, "error", err)
	}
}

// withCarried adds to what workers had copied what they have copied since.
func withCarried(before []records.CarriedBy, since []workers.Carried) []records.CarriedBy {
	all := slices.Clone(before)
	for _, one := range since {
		at := slices.IndexFunc(all, func(other records.CarriedBy) bool { return other.Worker == one.Worker })
		if at < 0 {
			at = len(all)
			all = append(all, records.CarriedBy{Worker: one.Worker})
		}
		all[at].Items += one.Items
		all[at].Bytes += one.Bytes
		all[at].Now = one.Now
	}
	return all
}

// rowNow is the row of a run that is active, with what workers have copied until now.
func (a *active) rowNow(row records.Run) records.Run {
	if crew := a.crew.Load(); crew != nil {
		row.Workers = withCarried(row.Workers, crew.Carried())
	}
	return row
}
