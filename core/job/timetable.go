package job

import (
	"time"

	"github.com/robfig/cron/v3"

	"deftheron/core/week"
)

// IsTimed reports whether the job runs at moments that can be told ahead.
func (t *Timetable) IsTimed() bool {
	return !t.at.IsZero() || t.every > 0 || len(t.weekly) > 0 || t.cron != nil
}

// Next is the first moment after another at which the job is due; ok is false where
// there is none. since is when the job was made, from which "every" counts.
func (t *Timetable) Next(since, after time.Time) (next time.Time, ok bool) {
	switch {
	case !t.at.IsZero():
		return t.at, t.at.After(after)
	case t.every > 0:
		if after.Before(since) {
			after = since
		}
		return since.Add((after.Sub(since)/t.every + 1) * t.every), true
	case len(t.weekly) > 0:
		return t.nextInWeek(t.weekly, after)
	case t.cron != nil:
		next = t.nextCron(after)
		return next, !next.IsZero()
	}
	return time.Time{}, false
}

// Check returns ErrNever where the job is never due, though it has a timetable.
func (t *Timetable) Check(now time.Time) error {
	if _, ok := t.Next(now, now); t.IsTimed() && !ok {
		return ErrNever
	}
	return nil
}

// nextInWeek is the first beginning of a slot after a moment.
func (t *Timetable) nextInWeek(slots []week.Stretch, after time.Time) (next time.Time, ok bool) {
	day := dayOf(after.In(t.zone))
	for range 9 {
		for _, one := range slots {
			if !one.Days[day.Weekday()] {
				continue
			}
			at := wall(day.Add(time.Duration(one.From)*time.Minute), t.zone)
			if one.Until >= 0 && !endOn(one, day, t.zone).After(at) {
				continue // the clock leaves it out as a whole
			}
			if at.After(after) && (!ok || at.Before(next)) {
				next, ok = at, true
			}
		}
		if ok {
			return next, true
		}
		day = day.AddDate(0, 0, 1)
	}
	return next, false
}

// endOn is the end of the stretch that begins on a day.
func endOn(s week.Stretch, day time.Time, zone *time.Location) time.Time {
	until := s.Until
	if until <= s.From {
		until += 24 * 60
	}
	return wall(day.Add(time.Duration(until)*time.Minute), zone)
}

// nextCron is the next moment of a cron timetable. One that names hours is met once
// on each day that it names, whatever the clock on the wall does: an hour that is
// left out is made up at its end, and one that comes twice counts the first time.
func (t *Timetable) nextCron(after time.Time) time.Time {
	if !t.wall {
		return t.cron.(*cron.SpecSchedule).Next(after.In(t.zone))
	}
	local := after.In(t.zone)
	clock := time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), local.Second(), local.Nanosecond(), time.UTC)
	clock = clock.Add(-3 * time.Hour) // what the clock said before it was put back
	schedule := *t.cron.(*cron.SpecSchedule)
	schedule.Location = time.UTC
	for {
		clock = schedule.Next(clock)
		if clock.IsZero() {
			return clock
		}
		if at := wall(clock, t.zone); at.After(after) {
			return at
		}
	}
}

// dayOf is the beginning of a day, as a clock on the wall tells it, in UTC.
func dayOf(local time.Time) time.Time {
	return time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, time.UTC)
}

// wall is the moment at which the clock on a wall of the zone shows what another
// time shows in UTC: the first such moment, and where the clock leaves it out, the
// moment at which it goes on.
func wall(clock time.Time, zone *time.Location) time.Time {
	at := time.Date(clock.Year(), clock.Month(), clock.Day(), clock.Hour(), clock.Minute(), clock.Second(), 0, zone)
	start, end := at.ZoneBounds()
	if !sameClock(at, clock) { // left out: at lies at either side of the change
		if local := dayOf(at).Add(time.Duration(at.Hour())*time.Hour + time.Duration(at.Minute())*time.Minute); local.After(clock) {
			return start
		}
		return end
	}
	if start.IsZero() {
		return at
	}
	_, offset := at.Zone()
	_, before := start.Add(-time.Second).Zone()
	if earlier := at.Add(time.Duration(offset-before) * time.Second); earlier.Before(start) && sameClock(earlier, clock) {
		return earlier
	}
	return at
}

func sameClock(at, clock time.Time) bool {
	return at.Day() == clock.Day() && at.Hour() == clock.Hour() && at.Minute() == clock.Minute()
}

// Allowed reports whether a run may go at a moment, and when that changes next; the
// time is zero where it never does.
func (t *Timetable) Allowed(at time.Time) (allowed bool, until time.Time) {
	slots := t.hours
	for _, one := range t.weekly {
		if one.Until >= 0 {
			slots = append(slots[:len(slots):len(slots)], one)
		}
	}
	if len(slots) == 0 {
		return true, time.Time{}
	}
	// Stretches that meet are one.
	for end, going := t.endOf(slots, at); going; end, going = t.endOf(slots, end) {
		if until = end; until.Sub(at) > 8*24*time.Hour {
			return true, time.Time{} // the whole week
		}
	}
	if !until.IsZero() {
		return true, until
	}
	next, _ := t.nextInWeek(slots, at)
	return false, next
}

// endOf is the latest end of the slots that a moment is in.
func (t *Timetable) endOf(slots []week.Stretch, at time.Time) (end time.Time, in bool) {
	for back := range 2 {
		day := dayOf(at.In(t.zone)).AddDate(0, 0, -back)
		for _, one := range slots {
			if !one.Days[day.Weekday()] {
				continue
			}
			from, to := wall(day.Add(time.Duration(one.From)*time.Minute), t.zone), endOn(one, day, t.zone)
			if !at.Before(from) && at.Before(to) && to.After(end) {
				end, in = to, true
			}
		}
	}
	return end, in
}

// Coming are the next moments at which the job is due, as many as asked for.
func (t *Timetable) Coming(since, after time.Time, most int) (coming []time.Time) {
	for len(coming) < most {
		next, ok := t.Next(since, after)
		if !ok {
			break
		}
		coming, after = append(coming, next), next
	}
	return coming
}
