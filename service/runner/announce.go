package runner

import (
	"context"
	"errors"

	"deftheron/contract"
	"deftheron/core/arrival"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/messages"
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

func (r *Runner) shownArrival(ctx context.Context, row records.Job, one arrival.Incoming) (contract.Arrival, error) {
	shown := contract.Arrival{State: string(one.State), Run: one.Run, Size: one.Size, Since: one.Since}
	if one.Route < len(row.Routes) {
		source, err := store.ParseAddress(row.Routes[one.Route].From)
		if err != nil {
			return shown, err
		}
		shown.Address = arrivalAddress(transfer.Side{Address: source}, one.Key)
	}
	if one.State == arrival.Taken {
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
	source arrival.Source
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
		return place{sourceOf(id, i, route.Source, p.rules.Filter, p.spec.When.Arrival), route, path[len(root):]}, nil
	}
	return place{}, store.Errorf(store.ErrRefused, "%s lies in no source of the job %s; name a file or folder below one of them", text,
		p.spec.Name)
}

// arriving checks a job that runs on arrivals.
func (r *Runner) arriving(ctx context.Context, spec job.Spec) (prepared, error) {
	if spec.When.Arrival == "" {
		return prepared{}, &InputError{messages.With(
			store.Errorf(store.ErrRefused, "the job %s does not run on arrivals; change its schedule first", spec.Name),
			"heron job edit "+spec.Name+" --on-arrival file")}
	}
	return r.checkJob(ctx, spec, []job.Spec{spec}, false)
}

// Announce takes an arrival that the caller knows to be complete.
func (r *Runner) Announce(ctx context.Context, name, address string) (contract.Arrival, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return contract.Arrival{}, err
	}
	if row.Suspended {
		return contract.Arrival{}, messages.With(
			store.Errorf(store.ErrRefused, "the job %s is suspended, and takes nothing in; resume it first", name), "heron job resume "+name)
	}
	p, err := r.arriving(ctx, keptSpec(row))
	if err != nil {
		return contract.Arrival{}, err
	}
	at, err := r.placeOf(ctx, row.ID, p, address)
	if err != nil {
		return contract.Arrival{}, err
	}
	now, ok, err := at.source.At(ctx, at.path)
	if err != nil {
		return contract.Arrival{}, err
	}
	if !ok {
		return contract.Arrival{}, messages.With(
			store.Errorf(store.ErrNotFound, "nothing at %s matches the job %s; check its sources and filters", address, name),
			"heron job show "+name)
	}
	one, err := at.source.Announce(ctx, r.db, now)
	if err != nil {
		return contract.Arrival{}, err
	}
	r.scheduler.arrivalEnded(name)
	return r.shownArrival(ctx, row, one)
}

// mostTried is how many targets the trial of an arrival lists.
const mostTried = 100

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
	tried.Address, tried.Matches = arrivalAddress(at.route.Source, now.Key), true
	if !now.Modified.IsZero() {
		tried.Arrived = &now.Modified
	}
	shown, err := r.planPlaces(ctx, p, []transfer.TouchedPlace{{Route: at.source.Route, Path: arrival.PathOf(now.Key)}},
		func(route int, step plan.Step) {
			if item := (transfer.Item{Key: step.Key, To: step.To, Kind: step.Kind}); step.Moves() && len(tried.Targets) < mostTried {
				tried.Targets = append(tried.Targets,
					contract.Renaming{Address: p.routes[route].SourceAddress(item), Target: p.routes[route].TargetAddress(item, "")})
			}
		})
	tried.Plan = &shown
	return tried, err
}

// latestArrival finds the entry at an address, or the latest entry of all sources; nil if
// none matches.
func (r *Runner) latestArrival(ctx context.Context, p prepared, address string) (place, *arrival.Found, error) {
	if address != "" {
		at, err := r.placeOf(ctx, "", p, address)
		if err != nil {
			return at, nil, err
		}
		now, ok, err := at.source.At(ctx, at.path)
		if err != nil || !ok {
			return at, nil, err
		}
		return at, &now, nil
	}
	var sources []arrival.Source
	for i, route := range p.routes {
		sources = append(sources, sourceOf("", i, route.Source, p.rules.Filter, p.spec.When.Arrival))
	}
	latest, i, err := arrival.Latest(ctx, sources)
	if err != nil || i < 0 {
		return place{}, nil, err
	}
	return place{source: sources[i], route: p.routes[i]}, &latest, nil
}
