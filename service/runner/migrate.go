package runner

import (
	"context"
	"errors"
	"slices"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// mostSteps is how many of a migration's latest runs are considered.
const mostSteps = 200

// passed are the runs of a migration that have ended, the oldest first.
func (r *Runner) passed(ctx context.Context, name string) ([]job.EndedRun, []records.Run, error) {
	rows, err := r.db.RunsOf(ctx, name, mostSteps)
	if err != nil {
		return nil, nil, err
	}
	var passed []job.EndedRun
	var runs []records.Run
	for _, row := range rows {
		if row.Step == "" {
			continue // it could not be started
		}
		runs = append(runs, row)
		if row.Ended() {
			passed = append(passed, job.EndedRun{Step: row.Step, State: row.State, Items: row.Items})
		}
	}
	return passed, runs, nil
}

// coming is what comes next of a migration.
func (r *Runner) coming(ctx context.Context, row records.Job) (job.Coming, []records.Run, error) {
	passed, runs, err := r.passed(ctx, row.Name)
	if err != nil {
		return job.Coming{}, nil, err
	}
	timetable, err := row.Spec.When.Read(zone)
	timed := err == nil && (timetable.IsTimed() || row.Spec.When.Now)
	return row.Spec.Migrate.Next(passed, timed), runs, nil
}

// stepOf is the step with which a migration is started: the one that was asked for,
// or else the next.
func (r *Runner) stepOf(ctx context.Context, row records.Job, asked string) (string, error) {
	if row.Type != job.Migrate {
		if asked != "" {
			return "", &InputError{remedy.Errorf("the job %s is a %s, which has no steps; start it without one", row.Name, row.Type)}
		}
		return "", nil
	}
	if asked != "" {
		passed, _, err := r.passed(ctx, row.Name)
		if err != nil {
			return "", err
		}
		if err := row.Spec.Migrate.MayStart(asked, passed); err != nil {
			return "", store.Errorf(store.ErrRefused, "the %s of %s cannot be started: %w", job.Words(asked), row.Name, err)
		}
		return asked, nil
	}
	next, _, err := r.coming(ctx, row)
	if err == nil && next.Step == "" {
		err = messages.With(store.Errorf(store.ErrRefused,
			"the migration %s is over; its certificate is kept, and what was cleared can be brought back", row.Name),
			"heron job bring-back "+row.Name)
	}
	return next.Step, err
}

// cleared returns the result of a clearing, with the number of entries that stay at the source.
func (r *Runner) cleared(ctx context.Context, row records.Run, result transfer.Result) transfer.Result {
	if result.State != run.Done {
		return result
	}
	counts, err := r.db.CauseCounts(context.WithoutCancel(ctx), row.Number)
	if err != nil {
		return transfer.Result{State: run.Failed, Cause: plan.CauseFault, Why: err.Error()}
	}
	stay := int64(0)
	for _, count := range counts {
		if count.State == string(transfer.Skipped) && count.Cause != string(plan.CauseHoldsMore) {
			stay += count.Items
		}
	}
	if stay == 0 {
		return result
	}
	return transfer.Result{State: run.Partial, Cause: plan.CauseStays,
		Why: some(stay, "item") + " changed or came since, or could not be verified, and stay at the source"}
}

// goOn starts the next step of a migration that starts automatically.
func (r *Runner) goOn(ctx context.Context, name string) {
	row, err := r.db.KeptJob(ctx, name)
	if err != nil || row.Type != job.Migrate || row.Suspended {
		return
	}
	timetable, err := row.Spec.When.Read(zone)
	if err != nil || timetable.IsTimed() {
		return // each pass has its time
	}
	next, runs, err := r.coming(ctx, row)
	if err != nil || next.Step == "" || next.Waits || len(runs) == 0 || !runs[len(runs)-1].Ended() {
		return
	}
	by := "by itself, after the " + job.Words(runs[len(runs)-1].Step)
	if _, err := r.startJob(ctx, row, by, next.Step); err != nil && ctx.Err() == nil && !errors.Is(err, errGoing) {
		r.log.ErrorContext(ctx, "a migration cannot continue", "job", name, "step", next.Step, "error", err)
		r.failedToStart(ctx, row, by, err)
	}
}

// migration shows how far a migration has come.
func (r *Runner) migration(ctx context.Context, row records.Job) (*contract.MigrationProgress, error) {
	next, runs, err := r.coming(ctx, row)
	if err != nil {
		return nil, err
	}
	shown := &contract.MigrationProgress{Next: next.Step, Waits: next.Waits, Why: next.Why, Steps: []contract.StepRun{}}
	shown.Sentence, shown.Commands = messages.Coming(row.Name, next)
	if next.Step == "" && runs[len(runs)-1].Step == job.Clear {
		shown.Sentence += " Its source is cleared. What was moved away can be brought back."
		shown.Commands = append(shown.Commands, "heron job bring-back "+row.Name)
	}
	for i, step := range runs {
		if !step.Ended() {
			shown.Next, shown.Waits, shown.Why, shown.Commands = step.Step, false, "", nil
			shown.Sentence = "The " + job.Words(step.Step) + " is running."
			if step.State != run.Running {
				shown.Sentence = "The " + job.Words(step.Step) + " is " + string(step.State) + "."
			}
		}
		if i >= len(runs)-12 {
			shown.Steps = append(shown.Steps, stepRun(step))
		}
	}
	shown.Certificate, err = r.lastCertificate(ctx, runs)
	return shown, err
}

// lastCertificate returns the certificate of the last run that has one; nil if none has.
// The runs are given oldest first.
func (r *Runner) lastCertificate(ctx context.Context, runs []records.Run) (*contract.Certificate, error) {
	for _, run := range slices.Backward(runs) {
		if run.Step != job.FinalPass {
			continue
		}
		certificate, err := r.Certificate(ctx, run.ID)
		if !errors.Is(err, records.ErrNotFound) {
			return &certificate, err
		}
	}
	return nil, nil
}

func stepRun(run records.Run) contract.StepRun {
	return contract.StepRun{Step: run.Step, Run: run.ID, State: run.State, Items: run.Items, Transferred: run.Moved, Ended: run.EndedAt}
}

// showWaits adds to a run of a migration what the job waits for after it, if anything.
func (r *Runner) showWaits(ctx context.Context, run records.Run, shown *contract.Run) {
	if run.Step == "" || !run.Ended() {
		return
	}
	row, err := r.db.KeptJob(ctx, run.Job)
	if err != nil {
		return
	}
	next, runs, err := r.coming(ctx, row)
	if err != nil || !next.Waits || runs[len(runs)-1].ID != run.ID {
		return
	}
	waits, commands := messages.Coming(row.Name, next)
	shown.Waits, shown.Commands = waits, append(shown.Commands, commands...)
}
