package accounts

import (
	"context"
	"time"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/retry"
	"deftheron/service/records"
)

// keepUsageEvery is how often what accounts were used for is kept. Accounts that were not used
// cost nothing.
const keepUsageEvery = time.Minute

// counted holds the counters of an account when its usage was last recorded.
type counted struct {
	gate     *gate.Gate // an account that is opened again has another, which counts from 0
	stats    gate.Stats
	up, down int64
}

// KeepUsage keeps what each account is used for, until the context ends.
func (a *Accounts) KeepUsage(ctx context.Context) {
	before := map[string]counted{}
	for retry.Sleep(ctx, keepUsageEvery) == nil {
		a.keepUsage(ctx, before, time.Now())
	}
	a.keepUsage(context.WithoutCancel(ctx), before, time.Now())
}

// keepUsage keeps what accounts were used for since before, which it brings up to date.
func (a *Accounts) keepUsage(ctx context.Context, before map[string]counted, now time.Time) {
	a.mu.Lock()
	gates := map[string]*gate.Gate{}
	for id, opened := range a.open {
		if _, within := a.open[opened.Gate.Name()]; opened.Gate.Name() == id || !within {
			gates[id] = opened.Gate // else it is counted for the account that it is in
		}
	}
	a.mu.Unlock()
	var used []records.Usage
	for id, gate := range gates {
		limiter := a.limits.limiter(id)
		is := counted{gate: gate, stats: gate.Stats(), up: limiter.Moved(bandwidth.Up), down: limiter.Moved(bandwidth.Down)}
		was := before[id]
		if was.gate != gate {
			was.stats.Requests, was.stats.Slowed = 0, 0
		}
		one := records.Usage{
			Account: id, At: now, Requests: is.stats.Requests - was.stats.Requests, Slowed: is.stats.Slowed - was.stats.Slowed,
			Up: is.up - was.up, Down: is.down - was.down,
		}
		if before[id] = is; !one.IsZero() {
			used = append(used, one)
		}
	}
	if len(used) == 0 {
		return
	}
	if err := a.db.AddUsage(ctx, used); err != nil {
		a.log.ErrorContext(ctx, "could not save what accounts were used for", "error", err)
	}
}

// FullAt is when an account is full if it goes on filling as it has; the zero time if that is not
// known.
func (a *Accounts) FullAt(ctx context.Context, name string) (time.Time, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return time.Time{}, err
	}
	samples, err := a.db.SpaceSamples(ctx, row.ID)
	full, _ := Forecast(samples)
	return full, err
}

// Usage is what an account was used for over the last time, and how its space was.
type Usage struct {
	Used  []records.Usage
	Space []records.SpaceSample
	// Full is when the account is full if it goes on filling as it has; the zero time if that
	// is not known.
	Full time.Time
}

// Usage returns what an account was used for since a moment.
func (a *Accounts) Usage(ctx context.Context, name string, since time.Time) (usage Usage, err error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return usage, err
	}
	if usage.Used, err = a.db.Usages(ctx, row.ID, since); err != nil {
		return usage, err
	}
	samples, err := a.db.SpaceSamples(ctx, row.ID)
	if err != nil {
		return usage, err
	}
	usage.Full, _ = Forecast(samples)
	for _, sample := range samples {
		if !sample.At.Before(since) {
			usage.Space = append(usage.Space, sample)
		}
	}
	return usage, nil
}
