package runner

import (
	"context"
	"errors"
	"sync"
	"time"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/service/records"
)

// scheduler has jobs run by their timetables, and keeps their runs within the hours in
// which they may go. Each job that is active has a goroutine of its own.
type scheduler struct {
	runner *Runner
	mu     sync.Mutex
	jobs   map[string]*keeping // by the job's id
	// keepers look for arrivals, by the job's name.
	keepers map[string]*keeper
}

type keeping struct {
	cancel context.CancelFunc
	ended  chan struct{}
}

// keep keeps a job as it is now, once it is no longer kept as it was: what keeps it
// never overlaps.
func (c *scheduler) keep(row records.Job) {
	c.mu.Lock()
	defer c.mu.Unlock()
	before := c.jobs[row.ID]
	if before != nil {
		before.cancel()
	}
	timetable, err := row.Spec.When.Read(zone)
	if err != nil || row.Suspended {
		return
	}
	ctx, cancel := context.WithCancel(c.runner.ctx)
	one := &keeping{cancel: cancel, ended: make(chan struct{})}
	c.jobs[row.ID] = one
	c.runner.group.Go(func() {
		defer close(one.ended)
		defer cancel()
		if before != nil {
			<-before.ended
		}
		var hours sync.WaitGroup
		defer hours.Wait()
		if row.Spec.When.Hours != "" || row.Spec.When.Weekly != "" {
			hours.Go(func() { c.keepHours(ctx, row) })
		}
		seen := row.CreatedAt
		if row.SeenAt != nil {
			seen = *row.SeenAt
		}
		if row.Spec.When.Continuous {
			c.keepGoing(ctx, row)
			c.runner.endGoing(row.Name)
			return
		}
		if row.Spec.When.Arrival != "" {
			c.keepArrivals(ctx, row)
		}
		c.runner.goOn(ctx, row.Name)
		timetable.Keep(ctx, row.CreatedAt, seen, func(at time.Time) { c.due(ctx, row, at) })
		<-ctx.Done()
	})
}

func (c *scheduler) forget(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if before := c.jobs[id]; before != nil {
		before.cancel()
		delete(c.jobs, id)
	}
}

// endGoing has the run of a continuous job end, having done what it was doing; at the
// end of the service it is interrupted, to go on at the next start.
func (r *Runner) endGoing(name string) {
	if r.ctx.Err() != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range r.active {
		if a.now().row.Job == name {
			a.stopOnce.Do(func() { close(a.stop) })
		}
	}
}

// due starts a run of a job at its time. One that is still going is not started
// twice.
func (c *scheduler) due(ctx context.Context, row records.Job, at time.Time) {
	r := c.runner
	if err := r.db.SawJob(context.WithoutCancel(ctx), row.ID, at); err != nil {
		r.log.ErrorContext(ctx, "could not record that the schedule of a job was checked", "job", row.Name, "error", err)
	}
	now, err := r.db.KeptJob(ctx, row.Name)
	if err != nil || now.Suspended {
		return
	}
	by := "by its timetable"
	if time.Since(at) > 2*time.Minute {
		by = "by its timetable, for " + at.Format("2006-01-02 15:04") + ", which was missed"
	}
	if now.Type == job.Migrate {
		next, _, err := r.coming(ctx, now)
		if err != nil || next.Step == "" || next.Waits {
			r.log.InfoContext(ctx, "a scheduled migration waits for a person", "job", row.Name, "step", next.Step, "error", err)
			return
		}
	}
	switch _, err := r.startJob(ctx, now, by, ""); {
	case errors.Is(err, errGoing):
		r.log.InfoContext(ctx, "a scheduled job was skipped, because its run has not ended", "job", row.Name)
	case err != nil && ctx.Err() == nil:
		r.log.ErrorContext(ctx, "a scheduled job could not be started", "job", row.Name, "error", err)
		r.failedToStart(ctx, now, by, err)
	}
}

// failedToStart keeps a run that could not begin, so that it is seen.
func (r *Runner) failedToStart(ctx context.Context, row records.Job, by string, why error) {
	now := time.Now()
	run := records.Run{
		ID: newID(now), Job: row.Name, Type: row.Type, State: run.Failed, Cause: string(plan.CauseOf(why)), Why: why.Error(),
		Routes: row.Routes, CreatedAt: now, StartedBy: by, StartedAt: &now, EndedAt: &now,
	}
	if err := r.db.AddRunOf(ctx, &run); err != nil {
		r.log.ErrorContext(ctx, "could not record that a job failed to start", "job", row.Name, "error", err)
	}
	r.Notify(r.contract(run, nil))
}

// allowed reports whether a run of a job may go at a moment, and when that changes.
func (c *scheduler) allowed(row records.Job, at time.Time) (bool, time.Time) {
	timetable, err := row.Spec.When.Read(zone)
	if err != nil {
		return true, time.Time{}
	}
	return timetable.Allowed(at)
}

func outsideHours(until time.Time) string {
	if until.IsZero() {
		return "it is outside the hours in which the job may run"
	}
	return "it is outside the hours in which the job may run; it goes on at " + until.Format("2006-01-02 15:04")
}

// hoursEvery is how often the clock is looked at for the hours of a job.
const hoursEvery = time.Minute

// keepHours pauses the run of a job when its hours end, and goes on with it when
// they begin.
func (c *scheduler) keepHours(ctx context.Context, row records.Job) {
	for {
		allowed, until := c.allowed(row, time.Now())
		if err := c.runner.withinHours(ctx, row, allowed, until); err != nil && ctx.Err() == nil {
			c.runner.log.ErrorContext(ctx, "could not apply the hours of a job", "job", row.Name, "error", err)
		}
		wait := hoursEvery
		if !until.IsZero() {
			wait = max(time.Millisecond, min(wait, time.Until(until)))
		}
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return
		}
	}
}

func (r *Runner) withinHours(ctx context.Context, row records.Job, allowed bool, until time.Time) error {
	runs, err := r.db.OpenRuns(ctx)
	for _, open := range runs {
		paused := open.State == run.Paused && open.Cause == string(plan.CauseHours)
		var failed error
		switch {
		case open.Job != row.Name:
		case allowed && paused:
			failed = r.take(ctx, open)
		case !allowed && run.Can(open.State, run.Pause):
			failed = r.pause(ctx, open.ID, plan.CauseHours, outsideHours(until))
		}
		err = errors.Join(err, failed)
	}
	return err
}
