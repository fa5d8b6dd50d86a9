package runner

import (
	"context"
	"errors"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// Incoming returns what arrived last for a job, the latest first.
func (r *Runner) Incoming(ctx context.Context, name string) ([]contract.Arrival, error) {
	const most = 100
	row, err := r.kept(ctx, name)
	if err != nil {
		return nil, err
	}
	latest, err := r.db.LatestIncoming(ctx, row.ID, most)
	shown := []contract.Arrival{}
	for _, one := range latest {
		arrival, err := r.shownArrival(ctx, row, one)
		if err != nil {
			return nil, err
		}
		shown = append(shown, arrival)
	}
	return shown, err
}

func (r *Runner) shownArrival(ctx context.Context, row records.Job, one records.Incoming) (contract.Arrival, error) {
	shown := contract.Arrival{State: one.State, Run: one.Run, Size: one.Size, Since: one.Since}
	if one.Route < len(row.Routes) {
		source, err := store.ParseAddress(row.Routes[one.Route].From)
		if err != nil {
			return shown, err
		}
		shown.Address = arrivalAddress(transfer.Side{Address: source}, one.Key)
	}
	if one.State == records.IncomingTaken {
		taken, err := r.db.Run(ctx, one.Run)
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return shown, err
		}
		shown.State = string(taken.State)
	}
	return shown, nil
}

// place is where an address lies among the sources of a job.
type place struct {
	source *arrivalSource
	route  transfer.Route
	path   store.Path
}

// placeOf finds an address among the sources of a job that runs on arrivals.
func (r *Runner) placeOf(ctx context.Context, id string, p prepared, text string) (place, error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return place{}, err
	}
	for i, route := range p.routes {
		if !route.Source.Address.Contains(address) || address.String() == route.Source.Address.String() {
			continue
		}
		located, err := r.tree.Locate(ctx, address)
		if err != nil {
			return place{}, err
		}
		root := route.Source.Root.AsFolder().Path
		path := located.Place.AsFolder().Path
		source, err := newArrivalSource(r.db, id, i, route.Source, p.rules.Filter, p.spec.When.Arrival)
		return place{source, route, path[len(root):]}, err
	}
	return place{}, store.Errorf(store.ErrRefused, "%s lies in no source of the job %s; name a file or folder below one of them", text,
		p.spec.Name)
}

// at finds what arrived at a path; false where nothing there matches.
func (s *arrivalSource) at(ctx context.Context, path store.Path) (one found, ok bool, err error) {
	err = s.each(ctx, path, func(now found) error {
		if pathOfKey(now.key) == path || s.kind == job.ArrivingFolder {
			one, ok = now, true
		}
		return nil
	})
	return one, ok, err
}

// arriving checks a job that runs on arrivals.
func (r *Runner) arriving(ctx context.Context, spec job.Spec) (prepared, error) {
	if spec.When.Arrival == "" {
		return prepared{}, &InputError{store.Errorf(store.ErrRefused,
			"the job %s does not run on arrivals; change that with heron job edit %s --on-arrival file", spec.Name, spec.Name)}
	}
	return r.checkJob(ctx, spec, []job.Spec{spec}, false)
}

// Announce takes an arrival that somebody knows to be complete.
func (r *Runner) Announce(ctx context.Context, name, address string) (contract.Arrival, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return contract.Arrival{}, err
	}
	if row.Suspended {
		return contract.Arrival{}, store.Errorf(store.ErrRefused,
			"the job %s is suspended, and takes nothing in; resume it first: heron job resume %s", name, name)
	}
	p, err := r.arriving(ctx, keptSpec(row))
	if err != nil {
		return contract.Arrival{}, err
	}
	at, err := r.placeOf(ctx, row.ID, p, address)
	if err != nil {
		return contract.Arrival{}, err
	}
	now, ok, err := at.source.at(ctx, at.path)
	if err != nil {
		return contract.Arrival{}, err
	}
	if !ok {
		return contract.Arrival{}, store.Errorf(store.ErrNotFound, "nothing at %s matches the job %s; see what it takes with heron job show %s",
			address, name, name)
	}
	before, err := at.source.known(ctx, now.key)
	if err != nil {
		return contract.Arrival{}, err
	}
	one := records.Incoming{Job: row.ID, Route: at.source.route, Key: now.key, Mark: now.mark, Since: time.Now(), State: records.IncomingReady,
		Size: now.size}
	if before != nil {
		one.Run = before.Run
		if before.Mark == now.mark && (before.State == records.IncomingTaken || before.State == records.IncomingReady) {
			return r.shownArrival(ctx, row, *before) // once each
		}
	}
	if err := r.db.SaveIncoming(ctx, []records.Incoming{one}); err != nil {
		return contract.Arrival{}, err
	}
	r.scheduler.arrivalEnded(name)
	return r.shownArrival(ctx, row, one)
}

// TryArrival says what the rule of a job would do with the latest real arrival, or with
// the one that is named. It changes nothing.
func (r *Runner) TryArrival(ctx context.Context, name string, trying contract.TryingArrival) (contract.TriedArrival, error) {
	var spec job.Spec
	if trying.Job != nil {
		spec = *trying.Job
	} else {
		row, err := r.kept(ctx, name)
		if err != nil {
			return contract.TriedArrival{}, err
		}
		spec = keptSpec(row)
	}
	p, err := r.arriving(ctx, spec)
	if err != nil {
		return contract.TriedArrival{}, err
	}
	at, now, err := r.latestArrival(ctx, p, trying.Address)
	if err != nil {
		return contract.TriedArrival{}, err
	}
	tried := contract.TriedArrival{Address: trying.Address, Targets: []contract.Renaming{}}
	if now == nil {
		tried.Why = "nothing at it matches the rules of the job"
		if trying.Address == "" {
			tried.Why = "nothing is at the source that matches the rules of the job"
		}
		return tried, nil
	}
	tried.Address, tried.Matches = arrivalAddress(at.route.Source, now.key), true
	if !now.modified.IsZero() {
		tried.Arrived = &now.modified
	}
	shown, err := r.planPlaces(ctx, p, []transfer.TouchedPlace{{Route: at.source.route, Path: pathOfKey(now.key)}},
		func(route int, step plan.Step) {
			if item := (transfer.Item{Key: step.Key, To: step.To, Kind: step.Kind}); step.Moves() && len(tried.Targets) < mostShown {
				tried.Targets = append(tried.Targets,
					contract.Renaming{Address: p.routes[route].SourceAddress(item), Target: p.routes[route].TargetAddress(item, "")})
			}
		})
	tried.Plan = &shown
	return tried, err
}

// latestArrival finds what is at an address, or what of all sources was changed last;
// nil where nothing matches.
func (r *Runner) latestArrival(ctx context.Context, p prepared, address string) (place, *found, error) {
	if address != "" {
		at, err := r.placeOf(ctx, "", p, address)
		if err != nil {
			return at, nil, err
		}
		now, ok, err := at.source.at(ctx, at.path)
		if err != nil || !ok {
			return at, nil, err
		}
		return at, &now, nil
	}
	var latest *found
	var where place
	for i, route := range p.routes {
		source, err := newArrivalSource(r.db, "", i, route.Source, p.rules.Filter, p.spec.When.Arrival)
		if err != nil {
			return where, nil, err
		}
		err = source.each(ctx, "", func(now found) error {
			if latest == nil || !now.modified.Before(latest.modified) {
				latest, where = &now, place{source: source, route: route}
			}
			return nil
		})
		if err != nil {
			return where, nil, err
		}
	}
	return where, latest, nil
}
