package runner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/service/live"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// JobChangedError is the error if a job was changed since the caller has seen it.
type JobChangedError struct {
	Name string
	At   time.Time
}

// Error implements error.
func (e *JobChangedError) Error() string {
	return fmt.Sprintf("the job %s was changed meanwhile, at %s", e.Name, e.At.Format(time.DateTime))
}

// changedAt is when a job was changed last.
func changedAt(row records.Job) time.Time {
	if row.ChangedAt != nil {
		return *row.ChangedAt
	}
	return row.CreatedAt
}

// kept returns a job by its name.
func (r *Runner) kept(ctx context.Context, name string) (records.Job, error) {
	row, err := r.db.KeptJob(ctx, name)
	if err == nil && !seesRoutes(ctx, row.Routes) {
		row, err = records.Job{}, records.ErrNotFound
	}
	if errors.Is(err, records.ErrNotFound) {
		err = messages.With(store.Errorf(store.ErrNotFound, "there is no job called %s; check the name in the list of jobs", name),
			"heron job list")
	}
	return row, err
}

// comingInList is how many of its next times the list tells of each job: a day of one that runs every quarter of an hour.
const comingInList = 96

// Jobs returns all jobs.
func (r *Runner) Jobs(ctx context.Context) ([]contract.Job, error) {
	rows, err := r.db.KeptJobs(ctx)
	jobs := []contract.Job{}
	for _, row := range rows {
		if !seesRoutes(ctx, row.Routes) {
			continue
		}
		shown, err := r.job(ctx, row, comingInList)
		if err != nil {
			return nil, err
		}
		jobs = append(jobs, shown)
	}
	return jobs, err
}

// Job returns a job.
func (r *Runner) Job(ctx context.Context, name string) (contract.Job, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return contract.Job{}, err
	}
	return r.job(ctx, row, 5)
}

// job shows a job, with as many of its next moments.
func (r *Runner) job(ctx context.Context, row records.Job, moments int) (contract.Job, error) {
	spec := keptSpec(row)
	shown := contract.Job{Spec: spec, State: "active", Sentence: sentence(spec), Next: []time.Time{}, Created: row.CreatedAt,
		Changed: changedAt(row)}
	if row.Suspended {
		shown.State = "suspended"
	} else if timetable, err := spec.When.Read(zone); err == nil {
		shown.Next = append(shown.Next, timetable.Coming(row.CreatedAt, time.Now(), moments)...)
	}
	// The last run first: a migration that is read after it is at least as far.
	last, err := r.db.LastRun(ctx, row.Name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return shown, err
	}
	if err == nil {
		run, err := r.Run(ctx, last.ID)
		if err != nil {
			return shown, err
		}
		if r.SeesRun(ctx, run) { // it may be of places that the job had before
			shown.Last = &run
		}
	}
	if row.Type == job.Migrate {
		if shown.Migration, err = r.migration(ctx, row); err != nil {
			return shown, err
		}
	}
	return shown, nil
}

// CreateJob makes a job, and starts it where it is to run at once.
func (r *Runner) CreateJob(ctx context.Context, given contract.NewJob) (contract.Job, error) {
	spec := given.Spec
	if err := checkScope(ctx, spec); err != nil {
		return contract.Job{}, err
	}
	if _, err := r.checkNew(ctx, spec, nil, true); err != nil {
		return contract.Job{}, err
	}
	if err := r.addJob(ctx, spec, given.Suspended); err != nil {
		return contract.Job{}, err
	}
	return r.Job(ctx, spec.Name)
}

// readSpec reads the rules of a job's runs. Its error is an *InputError.
func readSpec(spec job.Spec) (plan.Rules, error) {
	rules, err := spec.Read()
	if err != nil {
		return rules, &InputError{err}
	}
	return rules, nil
}

func keptRoutes(spec job.Spec) (routes []records.Route) {
	for _, route := range spec.Routes {
		routes = append(routes, records.Route{From: route.From, To: route.To})
	}
	return routes
}

func (r *Runner) addJob(ctx context.Context, spec job.Spec, suspended bool) error {
	now := time.Now()
	row := records.Job{ID: uuid.NewString(), Name: spec.Name, Type: spec.Type, Spec: spec, CreatedAt: now, SeenAt: &now, ChangedAt: &now,
		Suspended: suspended, Owner: ownerOf(ctx)}
	row.Routes = keptRoutes(spec)
	err := r.db.AddJob(ctx, &row)
	if errors.Is(err, records.ErrTaken) {
		return messages.With(store.Errorf(store.ErrExists, "there is already a job %s; choose another name, or change that one", spec.Name),
			"heron job edit "+spec.Name)
	}
	if err != nil {
		return err
	}
	r.hub.Publish(live.Jobs, spec.Name)
	r.scheduler.keep(row)
	if spec.When.Now && !suspended {
		_, err = r.startJob(ctx, row, "as soon as the job was made", "")
	}
	return err
}

// ChangeJob changes a job in place; a run in progress keeps the earlier settings. seen is the time
// of the last change that the caller knows: if the job was changed since, nothing is changed, and
// the error is a *JobChangedError. The zero time changes it in any case.
func (r *Runner) ChangeJob(ctx context.Context, name string, spec job.Spec, seen time.Time) (contract.Job, error) {
	spec.Name = name
	row, err := r.kept(ctx, name)
	if err != nil {
		return contract.Job{}, err
	}
	if changed := changedAt(row); !seen.IsZero() && !seen.Equal(changed) {
		return contract.Job{}, &JobChangedError{Name: name, At: changed}
	}
	if err := checkScope(ctx, spec); err != nil {
		return contract.Job{}, err
	}
	if _, err := r.checkNew(ctx, spec, []job.Spec{spec}, true); err != nil {
		return contract.Job{}, err
	}
	if err := r.changeJob(ctx, name, spec); err != nil {
		return contract.Job{}, err
	}
	return r.Job(ctx, name)
}

func (r *Runner) changeJob(ctx context.Context, name string, spec job.Spec) error {
	row, err := r.kept(ctx, name)
	if err != nil {
		return err
	}
	if !slices.EqualFunc(row.Routes, spec.Routes, func(one records.Route, other job.Route) bool { return one.To == other.To }) {
		if err := r.db.ForgetContents(ctx, contentsOf(row)); err != nil {
			return err
		}
	}
	if !sameSources(row, spec) { // what arrived was known of others
		if err := r.db.ForgetArrivals(ctx, row.ID); err != nil {
			return err
		}
	}
	now := time.Now()
	row.Spec, row.Type, row.ChangedAt, row.SeenAt, row.Owner = spec, spec.Type, &now, &now, ownerOf(ctx)
	row.Routes = keptRoutes(spec)
	return r.saveJob(ctx, row)
}

// contentsOf is under which the contents of a job's targets are remembered.
func contentsOf(row records.Job) string { return "of the job " + row.ID }

// sameSources reports whether a changed job has the same sources.
func sameSources(row records.Job, spec job.Spec) bool {
	return slices.EqualFunc(row.Routes, spec.Routes, func(one records.Route, other job.Route) bool { return one.From == other.From }) &&
		row.Spec.When.Arrival == spec.When.Arrival
}

func (r *Runner) saveJob(ctx context.Context, row records.Job) error {
	if err := r.db.ChangeJob(ctx, row); err != nil {
		return err
	}
	r.hub.Publish(live.Jobs, row.Name)
	r.scheduler.keep(row)
	return nil
}

// SuspendJob stops a job from running automatically until it is resumed.
func (r *Runner) SuspendJob(ctx context.Context, name string, suspended bool) error {
	row, err := r.kept(ctx, name)
	if err != nil {
		return err
	}
	now := time.Now()
	row.Suspended, row.SeenAt = suspended, &now // what was missed meanwhile was meant to be
	return r.saveJob(ctx, row)
}

// RemoveJob forgets a job. Its runs, and what they moved, stay.
func (r *Runner) RemoveJob(ctx context.Context, name string) error {
	row, err := r.kept(ctx, name)
	if err != nil {
		return err
	}
	if run, err := r.db.OpenRunOf(ctx, name); err == nil && row.Spec.When.Continuous && !row.Suspended {
		return messages.With(store.Errorf(store.ErrRefused, "the run %s of the job %s goes on until the job is suspended; suspend it first",
			run.ID,
			name), "heron job suspend "+name)
	} else if err == nil {
		return messages.With(store.Errorf(store.ErrRefused, "the run %s of the job %s is %s; wait for it, or cancel it", run.ID, name, run.State),
			"heron run cancel "+run.ID)
	}
	if err := r.db.RemoveJob(ctx, row.ID); err != nil {
		return err
	}
	r.scheduler.forget(row.ID)
	if err := r.db.ForgetContents(ctx, contentsOf(row)); err != nil {
		return err
	}
	if err := r.db.ForgetArrivals(ctx, row.ID); err != nil {
		return err
	}
	r.hub.Publish(live.Jobs, name)
	return nil
}

// StartJob starts a run of a job at once; of a migration, the step that is asked for,
// or else the next.
func (r *Runner) StartJob(ctx context.Context, name, step string) (contract.Started, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return contract.Started{}, err
	}
	return r.startJob(ctx, row, "by hand", step)
}

// errGoing is the error if a run of the job has not ended yet.
var errGoing = errors.New("a run has not ended")

func (r *Runner) startJob(ctx context.Context, row records.Job, by, asked string) (contract.Started, error) {
	step, err := r.stepOf(ctx, row, asked)
	if err != nil {
		return contract.Started{}, err
	}
	spec := keptSpec(row)
	if step == job.BringBack {
		spec = spec.Back()
	}
	p, err := r.checkJobAs(ctx, spec, []job.Spec{keptSpec(row)}, true, true)
	if err != nil {
		return contract.Started{}, err
	}
	p.rules = job.StepRules(p.rules, step)
	r.starting.Lock()
	defer r.starting.Unlock()
	if run, err := r.db.OpenRunOf(ctx, row.Name); err == nil {
		return contract.Started{}, messages.With(store.Errorf(store.ErrRefused,
			"the run %s of the job %s is %s: %w; wait for it, or cancel it", run.ID, row.Name, run.State, errGoing),
			"heron run cancel "+run.ID)
	} else if !errors.Is(err, records.ErrNotFound) {
		return contract.Started{}, err
	}
	if p.rules.Type == plan.TwoWay {
		for i := range p.rows { // what was copied once says nothing about what was up to date
			p.rows[i].Scope = "in sync " + row.ID + "\n" + p.rows[i].Scope
		}
	}
	if p.rules.IdenticalOnce {
		for i := range p.rows {
			p.rows[i].Contents = contentsOf(row)
		}
	}
	now := time.Now()
	begun := records.Run{ID: newID(now), Job: row.Name, Type: row.Type, Step: step, State: run.Queued, Routes: p.rows, Rules: p.rules,
		CreatedAt: now, StartedBy: by}
	r.withinItsHours(row, &begun)
	if err := r.db.AddRunOf(ctx, &begun); err != nil {
		return contract.Started{}, err
	}
	r.log.InfoContext(ctx, "run", "run", begun.ID, "job", begun.Job, "state", begun.State)
	r.launchUnlessPaused(begun)
	r.hub.Publish(live.Jobs, row.Name)
	return contract.Started{Run: begun.ID, Job: row.Name}, nil
}

// PlanJob returns what a run of an existing job would do.
func (r *Runner) PlanJob(ctx context.Context, name string) (contract.Plan, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return contract.Plan{}, err
	}
	p, err := r.checkJob(ctx, keptSpec(row), []job.Spec{keptSpec(row)}, false)
	if err != nil {
		return contract.Plan{}, err
	}
	if p.rules.Type == plan.TwoWay {
		for i := range p.rows {
			p.routes[i].Scope = "in sync " + row.ID + "\n" + p.rows[i].Scope
		}
	}
	return r.plan(ctx, p)
}

// PlanSpec returns what the first run of a job would do that does not exist yet.
func (r *Runner) PlanSpec(ctx context.Context, spec job.Spec) (contract.Plan, error) {
	if err := checkScope(ctx, spec); err != nil {
		return contract.Plan{}, err
	}
	p, err := r.checkNew(ctx, spec, []job.Spec{spec}, false)
	if err != nil {
		return contract.Plan{}, err
	}
	if p.rules.Type == plan.TwoWay {
		for i := range p.routes {
			p.routes[i].Scope = "not made"
		}
	}
	return r.plan(ctx, p)
}

// Times returns the next times at which a job with a schedule would run, and its time zone.
func (r *Runner) Times(when job.When, now time.Time, most int) (times []time.Time, zoneName string, err error) {
	timetable, err := when.Read(zone)
	if err != nil {
		return nil, "", err
	}
	if when.Zone != "" {
		zoneName = when.Zone
	} else {
		zoneName, _ = now.In(zone).Zone()
	}
	return append([]time.Time{}, timetable.Coming(now, now, most)...), zoneName, nil
}
