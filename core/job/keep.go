package job

import (
	"context"
	"time"
	_ "time/tzdata" // so that zones are known on every machine
)

// lookAgain is how often the clock is read while a job waits: it may have been set, or
// the machine may have slept.
const lookAgain = time.Minute

// Keep calls due whenever a job is due, until ctx ends or there is no further time. since
// is when the job was created, and last the time until which its times were handled: of all
// times between last and now, which were missed, it calls due only for the latest,
// immediately.
func (t *Timetable) Keep(ctx context.Context, since, last time.Time, due func(at time.Time)) {
	for {
		next, ok := t.Next(since, last)
		if !ok {
			return
		}
		for now := time.Now(); now.Before(next); now = time.Now() {
			// Without the monotonic clock, which stands still while a machine sleeps.
			timer := time.NewTimer(min(next.Round(0).Sub(now.Round(0)), lookAgain))
			select {
			case <-timer.C:
			case <-ctx.Done():
				timer.Stop()
				return
			}
		}
		if ctx.Err() != nil {
			return
		}
		next = t.latest(since, next, time.Now())
		due(next)
		last = next
	}
}

// latest is the last moment of a timetable up to now, from one on.
func (t *Timetable) latest(since, from, now time.Time) time.Time {
	for n := 0; ; n++ {
		next, ok := t.Next(since, from)
		if !ok || next.After(now) {
			return from
		}
		if from = next; n > 10_000 { // of years of minutes nobody needs the very last
			return now
		}
	}
}
