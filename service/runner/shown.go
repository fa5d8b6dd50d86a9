package runner

import (
	"context"
	"slices"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/transfer"
	"deftheron/service/live"
	"deftheron/service/messages"
	"deftheron/service/records"
)

var _ live.Source = (*Runner)(nil)

// Progress implements live.Source.
func (r *Runner) Progress() (any, float64) {
	transfers, rate := r.Transfers.Now(time.Now())
	r.mu.Lock()
	defer r.mu.Unlock()
	progress := contract.Progress{Running: []string{}, Runs: []contract.Run{}, Transfers: transfers, Rate: rate}
	for _, a := range r.active {
		state := a.now()
		if state.run == nil {
			continue
		}
		snapshot := state.run.Snapshot()
		if a.rests(&snapshot) {
			continue
		}
		progress.Rate += snapshot.Rate
		progress.Runs = append(progress.Runs, r.contract(a.rowNow(state.row), &snapshot))
		progress.Running = append(progress.Running, state.row.ID)
	}
	if len(progress.Runs)+len(progress.Transfers) == 0 && rate == 0 {
		return nil, 0
	}
	return progress, progress.Rate
}

// Moving reports whether a run moves anything.
func (r *Runner) Moving() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range r.active {
		if state := a.now(); state.run != nil {
			snapshot := state.run.Snapshot()
			if !a.rests(&snapshot) {
				return true
			}
		}
	}
	return false
}

// rests reports whether a run waits for changes, and nothing moves.
func (a *active) rests(snapshot *transfer.Snapshot) bool {
	return a.watching.Load() && snapshot.Rate == 0
}

// Run returns a run as it is now.
func (r *Runner) Run(ctx context.Context, id string) (contract.Run, error) {
	r.mu.Lock()
	a, ok := r.active[id]
	r.mu.Unlock()
	if ok {
		state := a.now()
		if state.run == nil {
			return r.contract(state.row, nil), nil
		}
		snapshot := state.run.Snapshot()
		shown := r.contract(a.rowNow(state.row), &snapshot)
		shown.Watching = a.watching.Load()
		return shown, nil
	}
	row, err := r.db.Run(ctx, id)
	shown := r.contract(row, nil)
	if err == nil {
		r.showWaits(ctx, row, &shown)
	}
	return shown, err
}

// Runs returns a page of the runs that a filter takes, newest first, and the number to go on
// before; 0 at the end.
func (r *Runner) Runs(ctx context.Context, filter records.RunFilter, before int64, most int) ([]contract.Run, int64, error) {
	rows, next, err := r.findRuns(ctx, filter, before, most)
	if err != nil {
		return nil, 0, err
	}
	runs := make([]contract.Run, len(rows))
	for i, row := range rows {
		if runs[i], err = r.Run(ctx, row.ID); err != nil {
			return nil, 0, err
		}
	}
	return runs, next, nil
}

// mostRoutes is how many routes of a run are shown: a copy of a selection has one for each entry.
const mostRoutes = 50

// contract shows a run; snapshot is what a running one has come to.
func (r *Runner) contract(row records.Run, snapshot *transfer.Snapshot) contract.Run {
	if snapshot != nil {
		setCounts(&row, *snapshot)
	}
	shown := contract.Run{
		ID: row.ID, Job: row.Job, Type: row.Type, Step: row.Step, StartedBy: row.StartedBy, State: row.State, Cause: row.Cause, Why: row.Why,
		Clears: row.Rules.Clear, Planned: row.Planned,
		Items: contract.ItemCounts{
			Done: row.Done, Skipped: row.Skipped, Removed: row.Removed, Failed: row.Failed, UpToDate: row.Unchanged,
			Waiting: max(0, row.Items-row.Done-row.Skipped-row.Failed),
		},
		Bytes:         contract.ByteCounts{Transferred: row.Moved, Total: max(row.Bytes, row.Moved)},
		Interruptions: row.Interruptions, Created: row.CreatedAt, Started: row.StartedAt, Ended: row.EndedAt,
	}
	shown.Settings, shown.Excluded, shown.Inside = job.SettingsOf(row.Rules), contract.Count(row.Totals.Excluded),
		contract.Count(row.Totals.Inside)
	shown.Remedy, shown.Commands = explain(row)
	shown.Needs, shown.Actions = row.Needs(), run.Actions(row.State)
	shown.Assumed = contract.Count(row.Totals.Assumed)
	shown.FoldersExcluded = row.Totals.FoldersExcluded
	shown.Removing = contract.Count(row.Totals.Remove)
	if row.StartedAt != nil {
		until := time.Now()
		if row.EndedAt != nil {
			until = *row.EndedAt
		}
		if took := until.Sub(*row.StartedAt).Seconds(); took > 0 {
			shown.Average = float64(row.Moved) / took
		}
	}
	for _, route := range row.Routes[:min(len(row.Routes), mostRoutes)] {
		shown.Routes = append(shown.Routes, contract.Route{From: route.From, To: route.To})
	}
	for _, one := range row.Workers {
		shown.Workers = append(shown.Workers, contract.RunWorker{Name: one.Worker, Items: one.Items, Bytes: one.Bytes, Now: one.Now})
	}
	shown.MoreRoutes = len(row.Routes) - len(shown.Routes)
	if snapshot != nil && row.EndedAt == nil {
		shown.Now = &contract.Now{Rate: snapshot.Rate, ItemsRate: snapshot.ItemsRate, Left: snapshot.Left, Flying: []contract.Flying{}}
		for _, slowed := range snapshot.Slowed {
			shown.Now.Slowed = append(shown.Now.Slowed, contract.Slowed(slowed))
		}
		for _, away := range snapshot.Away {
			one := contract.Away{Account: away.Account, Since: away.Since, Why: away.Why, Cause: string(away.Cause)}
			if !away.Until.IsZero() {
				until := away.Until
				one.Until = &until
			}
			shown.Now.Away = append(shown.Now.Away, one)
		}
		for _, flying := range snapshot.Flying {
			shown.Now.Flying = append(shown.Now.Flying, contract.Flying{Address: flying.Address, Size: flying.Size, Transferred: flying.Moved})
		}
	}
	return shown
}

// explain returns what to do about a run, and the commands that do it.
func explain(row records.Run) (remedy string, commands []string) {
	subject := messages.Subject{Run: row.ID, Job: row.Job}
	accounts := changed(row)
	slices.Sort(accounts)
	if accounts = slices.Compact(accounts); len(accounts) == 1 {
		subject.Account = accounts[0]
	}
	return messages.RemedyOf(plan.Cause(row.Cause), subject)
}

// Causes counts a run's items by state and cause.
func (r *Runner) Causes(ctx context.Context, id string) ([]contract.CauseCount, error) {
	run, err := r.db.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	rows, err := r.db.CauseCounts(ctx, run.Number)
	counts := []contract.CauseCount{}
	for _, row := range rows {
		remedy, _ := messages.RemedyOf(plan.Cause(row.Cause), messages.Subject{Run: run.ID, Job: run.Job})
		counts = append(counts, contract.CauseCount{
			State: row.State, Cause: row.Cause, Meaning: messages.Of(plan.Cause(row.Cause)).Sentence, Remedy: remedy, Items: row.Items,
			Bytes: row.Bytes,
		})
	}
	return counts, err
}
