package job

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// When says when a job runs by itself. Its zero value says never: a person starts it.
type When struct {
	// Continuous: as soon as something changes at the source, or for two-way at
	// either side.
	Continuous bool `yaml:"continuous,omitempty" json:"continuous,omitempty"`
	// Now: once, as soon as the job is made.
	Now bool `yaml:"now,omitempty" json:"now,omitempty"`
	// At: once, at 2026-12-01T22:00.
	At string `yaml:"at,omitempty" json:"at,omitempty"`
	// Every so often: 15m, 6h, 2d.
	Every string `yaml:"every,omitempty" json:"every,omitempty"`
	// Weekly: "mon-fri 22:00-06:00": begun at the first time, and only going until
	// the second; several are parted by commas.
	Weekly string `yaml:"weekly,omitempty" json:"weekly,omitempty"`
	// Cron: five fields, as of crontab(5) in POSIX.
	Cron string `yaml:"cron,omitempty" json:"cron,omitempty"`
	// Arrival: "file" or "folder": each that arrives or changes at the source, once it is
	// complete, by a run of its own; of folders, those that are in the source itself.
	Arrival string `yaml:"arrival,omitempty" json:"arrival,omitempty"`
	// Zone of the times, by its name in the time zone database; empty is the
	// service's own.
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty"`
	// Hours in which a run may go; outside them it pauses. As Weekly, with an end
	// for each.
	Hours string `yaml:"hours,omitempty" json:"hours,omitempty"`
}

// ErrNever says that a timetable comes to no moment at all.
var ErrNever = errors.New("it never comes")

// Timetable is a When that was read.
type Timetable struct {
	when  When
	zone  *time.Location
	at    time.Time
	every time.Duration
	week  []slot
	cron  cron.Schedule
	wall  bool // the cron names hours, and is to be met on the clock on the wall
	hours []slot
}

// slot is a stretch of the week: on some days, from a minute of the day on, until
// another, which may be on the next day. until is -1 where it has no end.
type slot struct {
	days        [7]bool
	from, until int
}

// Read reads when a job runs. local is the zone where none is named. The error says
// what is wrong, and what to write.
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
		return nil, fmt.Errorf("%s contradict each other; keep one of them", strings.Join(kinds, " and "))
	}
	var err error
	if w.Zone != "" {
		if t.zone, err = time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
			return nil, fmt.Errorf("the time zone %q is not known; name it as the time zone database does, such as Europe/Lisbon or UTC", w.Zone)
		}
	}
	if t.hours, err = readSlots(w.Hours, true); err != nil {
		return nil, fmt.Errorf("of the hours in which it may run, %w", err)
	}
	switch {
	case w.Arrival != "" && w.Arrival != ArrivingFile && w.Arrival != ArrivingFolder:
		err = fmt.Errorf("%q is nothing that arrives; use file or folder", w.Arrival)
	case w.At != "":
		err = t.readAt(w.At)
	case w.Every != "":
		err = t.readEvery(w.Every)
	case w.Weekly != "":
		t.week, err = readSlots(w.Weekly, false)
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
		return fmt.Errorf("%q is no moment; write it as 2026-12-01T22:00", text)
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
		return fmt.Errorf("%q is no time between two runs; write it as 15m, 6h or 2d, from a minute to 366 days", text)
	}
	t.every = every
	return nil
}

func (t *Timetable) readCron(text string) error {
	fields := strings.Fields(text)
	if len(fields) != 5 {
		return fmt.Errorf("%q is no cron timetable; write five fields: minute, hour, day of the month, month, day of the week, as in \"0 22 * * 1-5\"", text)
	}
	schedule, err := cron.ParseStandard(text)
	if err != nil {
		return fmt.Errorf("%q is no cron timetable (%v); write five fields, as in \"0 22 * * 1-5\"", text, err)
	}
	t.cron, t.wall = schedule, !strings.HasPrefix(fields[1], "*")
	return nil
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// readSlots reads "mon-fri 22:00-06:00, sun 10:00-12:00"; days alone are whole.
func readSlots(text string, ends bool) (slots []slot, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	var days []string // of "sat, sun 10:00" those before have the times of the next
	for part := range strings.SplitSeq(text, ",") {
		fields := strings.Fields(strings.ToLower(part))
		if len(fields) == 0 || len(fields) > 2 {
			return nil, fmt.Errorf("%q is no stretch of the week; write it as \"mon-fri 22:00-06:00\"", strings.TrimSpace(part))
		}
		one := slot{from: 0, until: -1}
		if strings.ContainsAny(fields[0], "0123456789") {
			fields = append([]string{"mon-sun"}, fields...)
		}
		days = append(days, fields[0])
		if len(fields) == 1 {
			if ends {
				one.until = 24 * 60
				if err := one.take(days); err != nil {
					return nil, err
				}
				slots, days = append(slots, one), nil
			}
			continue
		}
		if err := one.take(days); err != nil {
			return nil, err
		}
		days = nil
		from, until, spans := strings.Cut(fields[1], "-")
		if one.from, err = minute(from); err != nil {
			return nil, err
		}
		if spans {
			if one.until, err = minute(until); err != nil {
				return nil, err
			}
		}
		if ends && !spans {
			return nil, fmt.Errorf("%q has no end; write it as \"mon-fri 22:00-06:00\"", strings.TrimSpace(part))
		}
		if one.from == one.until {
			return nil, fmt.Errorf("%q ends when it begins; give two different times", strings.TrimSpace(part))
		}
		slots = append(slots, one)
	}
	if len(days) > 0 {
		return nil, fmt.Errorf("%q names no time; write it as \"mon-fri 22:00\" or \"mon-fri 22:00-06:00\"", strings.Join(days, ", "))
	}
	return slots, nil
}

// take takes days such as "mon", "mon-fri" and "fri-mon".
func (s *slot) take(texts []string) error {
	for _, text := range texts {
		first, last, spans := strings.Cut(text, "-")
		from := slices.Index(dayNames, first)
		to := from
		if spans {
			to = slices.Index(dayNames, last)
		}
		if from < 0 || to < 0 {
			return fmt.Errorf("%q are no days of the week; use mon, tue, wed, thu, fri, sat, sun, as in \"mon-fri 22:00-06:00\"", text)
		}
		for day := from; ; day = (day + 1) % 7 {
			s.days[day] = true
			if day == to {
				break
			}
		}
	}
	return nil
}

// minute reads "22:00" or "22" as a minute of the day; "24:00" is its end.
func minute(text string) (int, error) {
	hours, minutes, ok := strings.Cut(text, ":")
	if !ok {
		minutes = "00"
	}
	h, err := strconv.Atoi(hours)
	m, err2 := strconv.Atoi(minutes)
	if err != nil || err2 != nil || len(hours) > 2 || len(minutes) != 2 || h < 0 || m < 0 || m > 59 || h*60+m > 24*60 {
		return 0, fmt.Errorf("%q is no time of the day; write it as 22:00", text)
	}
	return h*60 + m, nil
}
