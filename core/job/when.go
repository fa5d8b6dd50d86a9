package job

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"deftheron/core/remedy"
	"deftheron/core/week"
)

// When says when a job runs automatically. Its zero value says never: a person starts it.
type When struct {
	Continuous bool   `yaml:"continuous,omitempty" json:"continuous,omitempty" doc:"As soon as something changes at the source, or for two-way on either side."`
	Now        bool   `yaml:"now,omitempty" json:"now,omitempty" doc:"Once, as soon as the job is created."`
	At         string `yaml:"at,omitempty" json:"at,omitempty" doc:"Once, at 2026-12-01T22:00."`
	Every      string `yaml:"every,omitempty" json:"every,omitempty" doc:"At an interval: 15m, 6h, 2d."`
	// Several hours of the week are separated by commas.
	Weekly string `yaml:"weekly,omitempty" json:"weekly,omitempty" doc:"At hours of the week: a run starts at the first time and stops at the second, as in mon-fri 22:00-06:00."`
	// Cron is as in crontab(5) of POSIX.
	Cron    string `yaml:"cron,omitempty" json:"cron,omitempty" doc:"Five fields, as in a crontab."`
	Arrival string `yaml:"arrival,omitempty" json:"arrival,omitempty" doc:"file or folder: one run for each that arrives at the source or changes, once it is complete. Of folders, those directly in the source."`
	// Zone is a name of the time zone database; empty is the service's own.
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty" doc:"Time zone of these times, such as Europe/Lisbon; the service's own unless given."`
	// Hours are as Weekly, with an end for each.
	Hours string `yaml:"hours,omitempty" json:"hours,omitempty" doc:"Hours of the week in which a run may go; outside them it is paused."`
}

// ErrNever is the error of a timetable that has no time at all.
var ErrNever = errors.New("the time never comes")

// Timetable is a When that was read.
type Timetable struct {
	when   When
	zone   *time.Location
	at     time.Time
	every  time.Duration
	weekly []week.Stretch
	cron   cron.Schedule
	wall   bool // the cron names hours, and is to be met on the clock on the wall
	hours  []week.Stretch
}

// Read parses the times of a job. local is the time zone if none is named. The error says
// what is wrong, and what to write instead.
func (w When) Read(local *time.Location) (*Timetable, error) {
	t := &Timetable{when: w, zone: local}
	var kinds []string
	for kind, given := range map[string]bool{
		"continuous": w.Continuous, "now": w.Now, "at": w.At != "", "every": w.Every != "", "weekly": w.Weekly != "", "cron": w.Cron != "",
		"arrival": w.Arrival != "",
	} {
		if given {
			kinds = append(kinds, kind)
		}
	}
	if slices.Sort(kinds); len(kinds) > 1 {
		return nil, remedy.Errorf("%s exclude each other; keep one of them", strings.Join(kinds, " and "))
	}
	var err error
	if w.Zone != "" {
		if t.zone, err = time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
			return nil, remedy.Errorf("the time zone %q is not known; name it as the time zone database does, such as Europe/Lisbon or UTC", w.Zone)
		}
	}
	if t.hours, err = week.Read(w.Hours, true); err != nil {
		return nil, fmt.Errorf("hours of the job: %w", err)
	}
	switch {
	case w.Arrival != "" && w.Arrival != ArrivingFile && w.Arrival != ArrivingFolder:
		err = remedy.Errorf("%q cannot arrive; use file or folder", w.Arrival)
	case w.At != "":
		err = t.readAt(w.At)
	case w.Every != "":
		err = t.readEvery(w.Every)
	case w.Weekly != "":
		t.weekly, err = week.Read(w.Weekly, false)
	case w.Cron != "":
		err = t.readCron(w.Cron)
	}
	return t, err
}

func (t *Timetable) readAt(text string) error {
	for _, layout := range []string{"2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02T15:04:05"} {
		if at, err := time.Parse(layout, text); err == nil {
			t.at = wall(at, t.zone)
			return nil
		}
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return remedy.Errorf("%q is not a time; write it as 2026-12-01T22:00", text)
	}
	t.at = at
	return nil
}

// shortest is the least time between two runs of a timetable.
const shortest = time.Minute

func (t *Timetable) readEvery(text string) error {
	every, err := time.ParseDuration(text)
	if days, ok := strings.CutSuffix(text, "d"); ok && err != nil {
		var n int
		if n, err = strconv.Atoi(days); err == nil {
			every = time.Duration(n) * 24 * time.Hour
		}
	}
	if err != nil || every < shortest || every > 366*24*time.Hour {
		return remedy.Errorf("%q is not an interval; write it as 15m, 6h or 2d, from a minute to 366 days", text)
	}
	t.every = every
	return nil
}

func (t *Timetable) readCron(text string) error {
	fields := strings.Fields(text)
	if len(fields) != 5 {
		return remedy.Errorf("%q is not a cron timetable; write five fields: minute, hour, day of the month, month, day of the week, as in \"0 "+
			"22 * * 1-5\"", text)
	}
	schedule, err := cron.ParseStandard(text)
	if err != nil {
		return remedy.Errorf("%q is not a cron timetable (%v); write five fields, as in \"0 22 * * 1-5\"", text, err)
	}
	t.cron, t.wall = schedule, !strings.HasPrefix(fields[1], "*")
	return nil
}
