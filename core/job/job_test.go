package job_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/job"
)

const example = `job: surveys-to-archive
type: mirror
routes:
  - {from: /field-drive/Surveys, to: /archive/surveys/field}
  - {from: /office-drive/Reports, to: /archive/reports}
when: {weekly: "mon-fri 22:00-06:00", zone: Europe/Lisbon}
rules:
  conflict: source
  deletions: keep-version
  exclude: ["*.tmp", "~$*"]
  include: {types: [documents, pictures], smaller-than: 2GiB, newer-than: 2020-01-01}
  documents: {text: odt, sheet: ods, slides: odp}
  names: translate
  verify: hash
safety: {deletions: 10%, overwrites: 25%}
retry: {tries: 8, within: 2h}
bandwidth: {up: 20MB/s, hours: [{"mon-fri 08-18": 5MB/s}]}
`

func TestFile(t *testing.T) {
	specs, err := job.Read([]byte(example + "---\n" + strings.Replace(example, "surveys-to-archive", "another", 1)))
	if err != nil || len(specs) != 2 {
		t.Fatalf("%+v, %v", specs, err)
	}
	one := specs[0]
	if one.Routes[1].To != "/archive/reports" || one.Rules.Include.Types[1] != "pictures" ||
		one.Bandwidth.Hours[0] != (job.Hour{When: "mon-fri 08-18", Rate: "5MB/s"}) || one.Retry.Tries != 8 ||
		one.Rules.Documents["sheet"] != "ods" {
		t.Errorf("read %+v", one)
	}
	if err := one.Check(); err != nil {
		t.Error(err)
	}
	text, err := one.Text()
	if err != nil {
		t.Fatal(err)
	}
	again, err := job.Read(text)
	if err != nil || len(again) != 1 {
		t.Fatalf("what was written cannot be read: %v\n%s", err, text)
	}
	if second, _ := again[0].Text(); string(second) != string(text) {
		t.Errorf("written again:\n%s\nat first:\n%s", second, text)
	}
}

func TestBadFiles(t *testing.T) {
	for change, words := range map[[2]string][]string{
		{"exclude:", "leave-out:"}:                                               {"line 10", `"leave-out" is now called "exclude"`},
		{"routes:", "route:"}:                                                    {"line 3", `"routes"`},
		{"from: /field-drive/Surveys", "form: /x"}:                               {"line 4", "there are from, to"},
		{"tries: 8", "tries: often"}:                                             {"line 16", "often"},
		{"safety: {deletions: 10%", "safety: {delete: 10%"}:                      {"line 15", "deletions"},
		{"verify: hash", "verify: [hash"}:                                        {"line"},
		{"rules:\n", "rules: strict\nrules2:\n"}:                                 {"line 7", "keys of its own"},
		{"job: surveys-to-archive", "gob: x"}:                                    {"line 1", `"job"`},
		{`hours: [{"mon-fri 08-18": 5MB/s}]`, `hours: {"mon-fri 08-18": 5MB/s}`}: {"line 17", "hours is a list"},
		{`hours: [{"mon-fri 08-18": 5MB/s}]`, `hours: [5MB/s]`}:                  {"line 17", "hours is a list"},
		{"retry: {", "quarrel: {"}:                                               {"line 16", "there are job, type, routes"},
	} {
		_, err := job.Read([]byte(strings.Replace(example, change[0], change[1], 1)))
		var problem *job.FileError
		if !errors.As(err, &problem) {
			t.Errorf("%q in place of %q: %v", change[1], change[0], err)
			continue
		}
		for _, word := range words {
			if !strings.Contains(err.Error(), word) {
				t.Errorf("%q in place of %q: %v; want it to say %s", change[1], change[0], err, word)
			}
		}
	}
	if _, err := job.Read(nil); err == nil {
		t.Error("an empty file is no error")
	}
	if _, err := job.Read([]byte(example + "---\n" + example)); err == nil || !strings.Contains(err.Error(), "twice") &&
		!strings.Contains(err.Error(), "already") {
		t.Errorf("the same job twice: %v", err)
	}
}

func TestCheck(t *testing.T) {
	base := job.Spec{Name: "x", Type: "copy", Routes: []job.Route{{From: "/a/x", To: "/b"}}}
	for words, change := range map[string]func(*job.Spec){
		"is not a name":         func(s *job.Spec) { s.Name = "No Name" },
		"not a type of job":     func(s *job.Spec) { s.Type = "sync" },
		"no route":              func(s *job.Spec) { s.Routes = nil },
		"root of all":           func(s *job.Spec) { s.Routes[0].To = "/" },
		"never deletes":         func(s *job.Spec) { s.Rules.Deletions = "delete" },
		"overlap":               func(s *job.Spec) { s.Routes[0].To = "/a/x/y" },
		"contain each other":    func(s *job.Spec) { s.Type, s.Routes[0].To = "mirror", "/a" },
		"would delete":          func(s *job.Spec) { s.Type, s.Routes = "mirror", append(s.Routes, job.Route{From: "/c", To: "/b/c"}) },
		"is given twice":        func(s *job.Spec) { s.Routes = append(s.Routes, s.Routes[0]) },
		"time zone":             func(s *job.Spec) { s.When = job.When{Every: "6h", Zone: "Europe/Nowhere"} },
		"exclude each other":    func(s *job.Spec) { s.When = job.When{Every: "6h", Continuous: true} },
		"five fields":           func(s *job.Spec) { s.When.Cron = "@daily" },
		"not days":              func(s *job.Spec) { s.When.Weekly = "mon-fry 22:00" },
		"not a time of the day": func(s *job.Spec) { s.When.Weekly = "mon 25:00" },
		"names no time":         func(s *job.Spec) { s.When.Weekly = "mon" },
		"has no end":            func(s *job.Spec) { s.When.Hours = "mon 22:00" },
		"ends when it begins":   func(s *job.Spec) { s.When.Hours = "mon 22:00-22:00" },
		"not an interval":       func(s *job.Spec) { s.When.Every = "5s" },
		"passes and ends":       func(s *job.Spec) { s.Type, s.When.Continuous = "migrate", true },
		"the job is a copy":     func(s *job.Spec) { s.Migrate.Clear = true },
		"not a step up to":      func(s *job.Spec) { s.Type, s.Migrate.GoOn = "migrate", "end" },
		"not to clear":          func(s *job.Spec) { s.Type, s.Migrate.GoOn = "migrate", "clear" },
		"less than no files":    func(s *job.Spec) { s.Type, s.Migrate.Little = "migrate", -1 },
		"not enough to clear":   func(s *job.Spec) { s.Type, s.Migrate.Clear, s.Rules.Verification = "migrate", true, "size" },
		"several targets": func(s *job.Spec) {
			s.Type, s.Migrate.Clear, s.Routes = "migrate", true, append(s.Routes, job.Route{From: "/a", To: "/c"})
		},
		"keeps names": func(s *job.Spec) { s.Type, s.Migrate.Clear, s.Rules.As = "migrate", true, "{run}/{name}" },
	} {
		spec := base
		spec.Routes = append([]job.Route(nil), base.Routes...)
		change(&spec)
		if err := spec.Check(); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%v; want it to say %q", err, words)
		}
	}
}

// TestCheckComing holds that a timetable without a moment to come is told, and that it is
// no mistake of a job that has run once.
func TestCheckComing(t *testing.T) {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	for _, test := range []struct {
		when  job.When
		comes bool
	}{
		{job.When{}, true}, {job.When{Every: "6h"}, true}, {job.When{At: "2026-05-02T12:00", Zone: "UTC"}, true},
		{job.When{At: "2026-05-01T11:59", Zone: "UTC"}, false}, {job.When{Cron: "0 0 30 2 *"}, false},
	} {
		spec := job.Spec{Name: "one", Type: job.Copy, Routes: []job.Route{{From: "/a", To: "/b"}}, When: test.when}
		if err := spec.Check(); err != nil {
			t.Errorf("%+v: %v", test.when, err)
		}
		if err := spec.CheckComing(now); (err == nil) != test.comes || err != nil && !strings.Contains(err.Error(), "never runs") {
			t.Errorf("%+v: %v; want that it comes: %v", test.when, err, test.comes)
		}
	}
}

func TestRing(t *testing.T) {
	touches := func(a, b string) bool { return strings.HasPrefix(a+"/", b+"/") || strings.HasPrefix(b+"/", a+"/") }
	two := func(name, from, to string) job.Spec {
		return job.Spec{Name: name, Type: "two-way", Routes: []job.Route{{From: from, To: to}}}
	}
	others := []job.Spec{two("ab", "/a", "/b"), two("bc", "/b/sub", "/c"),
		{Name: "copy", Type: "copy", Routes: []job.Route{{From: "/c", To: "/d"}}}}
	if ring := job.Ring(two("ca", "/c/x", "/a/y"), others, touches); strings.Join(ring, " ") != "ca bc ab" {
		t.Errorf("the ring is %q", ring)
	}
	if ring := job.Ring(two("dc", "/d", "/a"), others, touches); ring != nil {
		t.Errorf("%q is not a ring", ring)
	}
}

func read(t *testing.T, when job.When) *job.Timetable {
	t.Helper()
	timetable, err := when.Read(time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	return timetable
}

// TestAYear keeps timetables for a year, over both changes of the clock.
func TestAYear(t *testing.T) {
	for name, c := range map[string]struct {
		when  job.When
		times int
		clock string // what a clock on the wall shows at each; empty: it varies
	}{
		"each night, at an hour that comes twice and not at all": {job.When{Cron: "30 1 * * *", Zone: "Europe/Lisbon"}, 366, ""},
		"weekly, at the same":        {job.When{Weekly: "mon-sun 01:30", Zone: "Europe/Lisbon"}, 366, ""},
		"weekly, in the evening":     {job.When{Weekly: "mon-fri 22:00-06:00", Zone: "Europe/Lisbon"}, 260, "22:00"},
		"every six hours":            {job.When{Every: "6h"}, 366 * 4, ""},
		"each quarter of an hour":    {job.When{Cron: "*/15 * * * *", Zone: "Europe/Lisbon"}, 366 * 96, ""},
		"far in the south":           {job.When{Cron: "15 2 * * *", Zone: "Australia/Lord_Howe"}, 366, ""},
		"once":                       {job.When{At: "2000-03-26T01:30", Zone: "Europe/Lisbon"}, 1, "02:00"},
		"on the last of some months": {job.When{Cron: "0 12 31 * *", Zone: "Europe/Lisbon"}, 7, "12:00"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				begun := time.Now() // 2000-01-01, a Saturday, of a year with 366 days
				ctx, cancel := context.WithDeadline(t.Context(), time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC))
				defer cancel()
				timetable := read(t, c.when)
				zone, _ := time.LoadLocation(c.when.Zone)
				days, times := map[string]int{}, 0
				var last time.Time
				timetable.Keep(ctx, begun, begun.Add(-time.Second), func(at time.Time) {
					if now := time.Now(); now.Before(at) || now.Sub(at) > time.Second {
						t.Errorf("called at %v for %v", now, at)
					}
					if !at.After(last) {
						t.Errorf("%v after %v", at, last)
					}
					last = at
					times++
					days[at.In(zone).Format(time.DateOnly)]++
					if shown := at.In(zone).Format("15:04"); c.clock != "" && shown != c.clock {
						t.Errorf("the clock showed %s", shown)
					}
				})
				if times < c.times-1 || times > c.times+1 {
					t.Errorf("%d times, want %d", times, c.times)
				}
				if c.times >= 260 && c.times <= 366 {
					for day, n := range days {
						if n != 1 {
							t.Errorf("%d times on %s", n, day)
						}
					}
				}
			})
		})
	}
}

// TestMissed makes up once for what nobody was there for.
func TestMissed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		now := time.Now()
		ctx, cancel := context.WithTimeout(t.Context(), 24*time.Hour)
		defer cancel()
		var at []time.Time
		read(t, job.When{Every: "6h"}).Keep(ctx, now.Add(-100*time.Hour), now.Add(-50*time.Hour),
			func(due time.Time) { at = append(at, due.Add(time.Since(due))) })
		if len(at) != 5 || !at[0].Equal(now) || at[1].Sub(now) != 2*time.Hour {
			t.Errorf("called at %v", at)
		}
	})
}

func TestHours(t *testing.T) {
	lisbon, _ := time.LoadLocation("Europe/Lisbon")
	at := func(text string) time.Time {
		moment, err := time.ParseInLocation("Mon 2006-01-02 15:04", text, lisbon)
		if err != nil {
			t.Fatal(err)
		}
		return moment
	}
	night := job.When{Hours: "mon-fri 20:00-06:00, sat, sun", Zone: "Europe/Lisbon"}
	for _, c := range []struct {
		when    job.When
		at      string
		allowed bool
		until   string
	}{
		{night, "Mon 2026-11-23 21:00", true, "Tue 2026-11-24 06:00"},
		{night, "Tue 2026-11-24 05:59", true, "Tue 2026-11-24 06:00"},
		{night, "Tue 2026-11-24 06:00", false, "Tue 2026-11-24 20:00"},
		{night, "Fri 2026-11-27 23:00", true, "Mon 2026-11-30 00:00"},
		{night, "Mon 2026-11-30 00:30", false, "Mon 2026-11-30 20:00"},
		{job.When{Weekly: "mon-fri 22:00-06:00", Zone: "Europe/Lisbon"}, "Wed 2026-11-25 03:00", true, "Wed 2026-11-25 06:00"},
		{job.When{Weekly: "mon-fri 22:00", Zone: "Europe/Lisbon"}, "Wed 2026-11-25 03:00", true, ""},
		{job.When{Hours: "mon-sun", Zone: "Europe/Lisbon"}, "Wed 2026-11-25 03:00", true, ""},
		// the clock leaves it out,
		{job.When{Hours: "01:15-01:45", Zone: "Europe/Lisbon"}, "Sun 2026-03-29 00:30", false, "Mon 2026-03-30 01:15"},
	} {
		allowed, until := read(t, c.when).Allowed(at(c.at))
		want := time.Time{}
		if c.until != "" {
			want = at(c.until)
		}
		if allowed != c.allowed || !until.Equal(want) {
			t.Errorf("%+v at %s: %v until %v, want %v until %v", c.when, c.at, allowed, until.In(lisbon), c.allowed, want)
		}
	}
}

// TestCopySettings holds that a copy refuses rules that it would not obey.
func TestCopySettings(t *testing.T) {
	for want, rules := range map[string]job.Rules{
		"never deletes":    {Deletions: "delete"},
		"keeps every file": {Identical: job.IdenticalOnce},
	} {
		if _, err := (job.Settings{Rules: rules}).ReadCopy(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v; want it to say %q", rules, err, want)
		}
	}
	if _, err := (job.Settings{Rules: job.Rules{Conflict: "newer", Deletions: "ignore"}}).ReadCopy(); err != nil {
		t.Error(err)
	}
}
