package runner

import (
	"time"

	"deftheron/core/run"
	"deftheron/core/transfer"
)

// Stats are what runs have come to since the service began.
type Stats struct {
	Open    map[run.State]int64 // runs that have not ended, by state
	Ended   map[run.State]int64 // runs, by state
	Items   map[string]int64    // by state
	Moved   int64               // bytes
	Retries int64
	Rate    float64 // bytes a second, now
	// Lag is how long the oldest change that a continuous job has heard of waits to
	// be looked at, by job.
	Lag map[string]time.Duration
}

// Stats returns them.
func (r *Runner) Stats() Stats {
	f := Stats{
		Open: map[run.State]int64{}, Ended: map[run.State]int64{}, Items: map[string]int64{"done": 0, "skipped": 0, "failed": 0},
		Lag: map[string]time.Duration{},
	}
	for _, state := range run.Open() {
		f.Open[state] = 0
	}
	if rows, err := r.db.OpenRuns(r.ctx); err == nil {
		for _, row := range rows {
			f.Open[row.State]++
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for state, n := range r.past.runs {
		f.Ended[state] = n
	}
	f.add(r.past.snapshot)
	for _, a := range r.active {
		state := a.now()
		if state.run == nil {
			continue
		}
		snapshot := state.run.Snapshot()
		f.add(minus(snapshot, state.before))
		f.Rate += snapshot.Rate
		if state.watch != nil {
			f.Lag[state.row.Job] = state.watch.lag(time.Now())
		}
	}
	return f
}

func (f *Stats) add(s transfer.Snapshot) {
	f.Items["done"] += s.Done
	f.Items["skipped"] += s.Skipped
	f.Items["failed"] += s.Failed
	f.Moved += s.Moved
	f.Retries += s.Retries
}

// minus is what a run has come to since an earlier moment.
func minus(now, before transfer.Snapshot) transfer.Snapshot {
	return transfer.Snapshot{
		Done: max(0, now.Done-before.Done), Skipped: max(0, now.Skipped-before.Skipped), Failed: max(0, now.Failed-before.Failed),
		Moved: max(0, now.Moved-before.Moved), Retries: now.Retries - before.Retries,
	}
}

// tally is what runs that are no longer active have come to.
type tally struct {
	runs     map[run.State]int64
	snapshot transfer.Snapshot
}

// count adds a run that is no longer active; state is empty for one that has not
// ended. r.mu is held.
func (r *Runner) count(a *active, state run.State) {
	if state != "" {
		if r.past.runs == nil {
			r.past.runs = map[run.State]int64{}
		}
		r.past.runs[state]++
	}
	active := a.now()
	if active.run == nil {
		return
	}
	s, sum := minus(active.run.Snapshot(), active.before), &r.past.snapshot
	sum.Done, sum.Skipped, sum.Failed = sum.Done+s.Done, sum.Skipped+s.Skipped, sum.Failed+s.Failed
	sum.Moved, sum.Retries = sum.Moved+s.Moved, sum.Retries+s.Retries
}
