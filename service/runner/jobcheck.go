package runner

import (
	"context"
	"errors"
	"strings"
	"time"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// checkJob checks a job by itself, and against the accounts and the other jobs. along are
// jobs that are created or changed with it. leaveMark leaves a mark at the targets, by
// which they are recognised through other accounts.
func (r *Runner) checkJob(ctx context.Context, spec job.Spec, along []job.Spec, leaveMark bool) (prepared, error) {
	return r.checkJobAs(ctx, spec, along, leaveMark, false)
}

// checkJobAs is checkJob. starting is set if the job was checked when it was created: then
// accounts that are away, or wait for a person, do not prevent its start. Its run handles
// the accounts that are there, and waits for the rest.
func (r *Runner) checkJobAs(ctx context.Context, spec job.Spec, along []job.Spec, leaveMark, starting bool) (prepared, error) {
	p := prepared{spec: spec}
	if err := spec.Check(); err != nil {
		return p, &InputError{err}
	}
	var err error
	if p.rules, err = readSpec(spec); err != nil {
		return p, err
	}
	if p.rows, p.routes, err = r.jobRoutes(ctx, spec, p.rules, leaveMark, starting); err != nil {
		return p, err
	}
	if err := r.checkKept(ctx, p.rules, spec.Migrate.Clear, p.routes); err != nil {
		return p, err
	}
	return p, r.checkRing(ctx, spec, along)
}

// checkNew holds a job that is made or changed against all that checkJob does, and its
// timetable against the time: unless that is the job's already, there is a moment to come.
func (r *Runner) checkNew(ctx context.Context, spec job.Spec, along []job.Spec, leaveMark bool) (prepared, error) {
	kept, err := r.db.KeptJob(ctx, spec.Name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return prepared{}, err
	}
	if err != nil || kept.Spec.When != spec.When {
		if err := spec.CheckComing(time.Now()); err != nil {
			return prepared{}, &InputError{err}
		}
	}
	return r.checkJob(ctx, spec, along, leaveMark)
}

// jobRoutes opens the routes of a job and checks them. Of two sides that are kept in
// step, one where letter case does not count comes second: what the first tells
// apart has a name of its own there.
func (r *Runner) jobRoutes(ctx context.Context, spec job.Spec, rules plan.Rules, leaveMark,
	starting bool) ([]records.Route, []transfer.Route, error) {
	var rows []records.Route
	var routes []transfer.Route
	each, err := r.eachFolder(ctx, spec, rules, starting)
	if err != nil {
		return nil, nil, err
	}
	for _, one := range each {
		from, to, err := addressesOf(one)
		if err != nil {
			return nil, nil, err
		}
		row, route, err := r.resolve(ctx, from, to)
		if starting && (store.KindOf(err) == store.ErrTryAgain || store.WaitsForPerson(err)) {
			if row, err = r.rowAsBefore(ctx, spec, row, rules, err); err == nil {
				route, err = r.unopened(row, errNotOpened)
			}
		}
		if err != nil {
			return nil, nil, err
		}
		rows, routes = append(rows, row), append(routes, route)
	}
	for i, route := range routes {
		if route.Unopened != nil {
			continue
		}
		asFiles(routes[i:i+1], rules)
		if rules.Type == plan.TwoWay && route.Source.Store.Traits().CaseIgnored && !route.Target.Store.Traits().CaseIgnored {
			rows[i].From, rows[i].To = rows[i].To, rows[i].From
			routes[i].Source, routes[i].Target = routes[i].Target, routes[i].Source
		}
		if err := r.checkJobRoute(ctx, routes[i], rules, spec.Migrate.Clear, leaveMark); err != nil {
			return nil, nil, err
		}
	}
	return rows, routes, nil
}

// resolve locates the ends of a route, each once. If an account cannot be opened, the row is
// returned with the error.
func (r *Runner) resolve(ctx context.Context, from, to store.Address) (records.Route, transfer.Route, error) {
	row, route, err := r.between(ctx, transfer.Side{Address: from}, transfer.Side{Address: to})
	if err != nil {
		return row, route, err
	}
	if route.Source, err = r.locate(ctx, from); err != nil {
		return row, route, err
	}
	if route.Target, err = r.locate(ctx, to); err != nil {
		return row, route, err
	}
	return row, route, nil
}

var errNotOpened = store.Errorf(store.ErrTryAgain, "it is opened when the run begins")

// rowAsBefore is a route that cannot be opened now, as the last run had it: which side of
// a two-way route comes first depends on what the accounts can do. why is the error where
// that is not known.
func (r *Runner) rowAsBefore(ctx context.Context, spec job.Spec, row records.Route, rules plan.Rules, why error) (records.Route, error) {
	if rules.Type != plan.TwoWay {
		return row, nil
	}
	last, err := r.db.LastRun(ctx, spec.Name)
	if err != nil {
		return row, why
	}
	for _, one := range last.Routes {
		if one.From == row.From && one.To == row.To || one.From == row.To && one.To == row.From {
			row.From, row.To = one.From, one.To
			return row, nil
		}
	}
	return row, why
}

// checkJobRoute checks a route against its rules. clears is set if the source is cleared
// in the end.
func (r *Runner) checkJobRoute(ctx context.Context, route transfer.Route, rules plan.Rules, clears, leaveMark bool) error {
	if err := transfer.Check(ctx, route); err != nil {
		return err
	}
	if err := checkDocuments([]transfer.Route{route}, rules.Documents); err != nil && rules.Type != plan.TwoWay {
		return &InputError{err}
	}
	if !rules.Type.Removes() && !clears {
		return nil
	}
	for _, account := range []string{route.Source.Account, route.Target.Account} {
		if !leaveMark {
			break
		}
		if err := r.accounts.LeaveMark(ctx, account); err != nil {
			return err
		}
	}
	from := store.Locate(route.Source.Store, route.Source.Root.AsFolder())
	to := store.Locate(route.Target.Store, route.Target.Root.AsFolder())
	if from != "" && to != "" && strings.HasPrefix(from, to) {
		return store.Errorf(store.ErrRefused, "the source %s is inside its target %s and would be deleted; choose separate folders",
			route.Source.Address, route.Target.Address)
	}
	if err := r.checkSamePlace(ctx, route, leaveMark); err != nil {
		return err
	}
	if clears && route.Source.Store.Traits().ReadOnly {
		return store.Errorf(store.ErrRefused, "/%s is read-only and cannot be cleared; link it for writing, or do not clear",
			route.Source.Account)
	}
	if rules.Type == plan.TwoWay && route.Source.Store.Traits().ReadOnly {
		return store.Errorf(store.ErrRefused, "/%s can only be read, and cannot be kept in sync; mirror it instead", route.Source.Account)
	}
	return nil
}

// checkSamePlace refuses ends that overlap through two accounts that are one place.
func (r *Runner) checkSamePlace(ctx context.Context, route transfer.Route, leaveMark bool) error {
	one, other := route.Target.Account, route.Source.Account
	source, target := string(route.Source.Root.AsFolder().Path), string(route.Target.Root.AsFolder().Path)
	if one == other || !strings.HasPrefix(source, target) && !strings.HasPrefix(target, source) {
		return nil
	}
	same, err := r.accounts.SamePlace(ctx, one, other, leaveMark)
	if err == nil && same {
		err = store.Errorf(store.ErrRefused, "/%s and /%s are the same place, as the mark that was left there tells, and %s and %s overlap; "+
			"choose folders apart",
			other, one, route.Source.Address, route.Target.Address)
	}
	return err
}

// checkRing refuses two-way jobs that lead around.
func (r *Runner) checkRing(ctx context.Context, spec job.Spec, along []job.Spec) error {
	rows, err := r.db.KeptJobs(ctx)
	if err != nil {
		return err
	}
	others, hidden := along, map[string]bool{}
	for _, row := range rows {
		hidden[row.Name] = !seesRoutes(ctx, row.Routes)
		others = append(others[:len(others):len(others)], keptSpec(row))
	}
	ring := job.Ring(spec, others, func(a, b string) bool {
		one, err := store.ParseAddress(a)
		other, err2 := store.ParseAddress(b)
		return err == nil && err2 == nil && (one.Contains(other) || other.Contains(one))
	})
	for i, name := range ring {
		if hidden[name] {
			ring[i] = "(one that you do not see)"
		}
	}
	if ring != nil {
		return store.Errorf(store.ErrRefused, "the two-way jobs %s form a ring, in which a change would never end; "+
			"remove one of them, or make it a mirror", strings.Join(ring, ", "))
	}
	return nil
}
