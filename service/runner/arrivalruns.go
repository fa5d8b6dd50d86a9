package runner

import (
	"context"
	"errors"
	"time"

	"deftheron/core/arrival"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/live"
	"deftheron/service/records"
)

// startArrival begins the run of an arrival.
func (r *Runner) startArrival(ctx context.Context, row records.Job, p prepared, one arrival.Incoming) (started bool, err error) {
	r.starting.Lock()
	defer r.starting.Unlock()
	now := time.Now()
	begun := records.Run{
		ID: newID(now), Job: row.Name, Type: row.Type, State: run.Queued, Routes: p.rows, Rules: p.rules, CreatedAt: now,
		StartedBy: "the arrival of " + arrivalAddress(p.routes[one.Route].Source, one.Key),
		Places:    []records.Place{{Route: one.Route, Path: []byte(arrival.PathOf(one.Key))}},
	}
	r.withinItsHours(row, &begun)
	if err := r.db.TakeIncoming(ctx, one, &begun); errors.Is(err, records.ErrTaken) {
		return false, nil // it changed at this moment
	} else if err != nil {
		return false, err
	}
	r.launchUnlessPaused(begun)
	r.hub.Publish(live.Jobs, row.Name)
	return true, nil
}

// arrivalEnded has what waits for its turn begin, when a run of the job has ended.
func (c *scheduler) arrivalEnded(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if k := c.keepers[name]; k != nil {
		select {
		case k.ended <- struct{}{}:
		default:
		}
	}
}

// arrivalsAnew has arrivals looked for again, as an account may be another, or have
// another name.
func (c *scheduler) arrivalsAnew() {
	jobs, err := c.runner.db.KeptJobs(c.runner.ctx)
	if err != nil && c.runner.ctx.Err() == nil {
		c.runner.log.Error("could not look for arrivals again", "error", err)
	}
	for _, row := range jobs {
		if row.Spec.When.Arrival != "" {
			c.keep(row)
		}
	}
}

// sourceOf is the source of a route of a job, as a place where files or folders arrive.
func sourceOf(job string, route int, side transfer.Side, filter plan.Filter, kind string) arrival.Source {
	return arrival.Source{Job: job, Route: route, Store: side.Store, Root: side.Root.AsFolder(), Filter: filter, Kind: kind}
}

// arrivalAddress returns the address of a key below a source.
func arrivalAddress(source transfer.Side, key store.Key) string {
	address := source.Address
	for _, name := range arrival.PathOf(key).Names() {
		address = address.Child(name)
	}
	return address.String()
}
