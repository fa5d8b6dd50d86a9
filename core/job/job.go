// Package job defines jobs: a [Spec] is a job as a person wrote it, in a job file or
// otherwise; a [Timetable] is when it runs. Both are pure: the caller passes the time.
package job

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/store"
)

// The types of jobs.
const (
	Copy        = "copy"
	Mirror      = "mirror"
	TwoWay      = "two-way"
	Migrate     = "migrate"
	Consolidate = "consolidate"
)

// What is done about identical files of several sources that are consolidated.
const (
	IdenticalOnce = "once"
	IdenticalEach = "each"
)

// Once reports whether identical files are kept once at the target. The default is yes
// for a consolidation that merges its sources, and no for all others.
func (s Spec) Once() bool {
	if s.Type != Consolidate || s.Rules.Identical != "" {
		return s.Rules.Identical == IdenticalOnce
	}
	for i, route := range s.Routes {
		to, err := store.ParseAddress(route.To)
		for _, other := range s.Routes[:i] {
			before, failed := store.ParseAddress(other.To)
			if err == nil && failed == nil && (to.Contains(before) || before.Contains(to)) {
				return true
			}
		}
	}
	return false
}

// Types are all types of jobs.
var Types = []string{Copy, Mirror, TwoWay, Migrate, Consolidate}

// Spec is a job as it is written; its fields have the names of the job file.
type Spec struct {
	Name     string  `yaml:"job" json:"name" doc:"Lower-case letters, digits and hyphens."`
	Type     string  `yaml:"type" json:"type" enum:"copy,mirror,two-way,migrate,consolidate" doc:"copy adds and updates and never deletes; mirror makes the target identical to the source; two-way keeps both sides identical; migrate copies in steps, with a certificate; consolidate copies several sources into one place."`
	Routes   []Route `yaml:"routes,flow" json:"routes" minItems:"1" doc:"What is at from appears as to."`
	When     When    `yaml:"when,omitempty,flow" json:"when,omitzero" doc:"When the job runs automatically; never unless given."`
	Settings `yaml:",inline"`
	// Migrate is of a migration alone.
	Migrate Migration `yaml:"migrate,omitempty,flow" json:"migrate,omitzero" doc:"How far a migration goes automatically."`
	// Arrivals is of a job that runs on arrivals.
	Arrivals Arrivals `yaml:"arrivals,omitempty,flow" json:"arrivals,omitzero" doc:"When an arrival counts as complete, and how many are transferred at once."`
	History  History  `yaml:"history,omitempty,flow" json:"history,omitzero" doc:"Which earlier versions of files are kept at the target."`
	Safety   Safety   `yaml:"safety,omitempty,flow" json:"safety,omitzero" doc:"Safety limits, above which a run is held for approval: deletions 10%, overwrites 25%, older 0 unless given."`
}

// Route is a source and its target: From is copied to To.
type Route struct {
	From string `yaml:"from" json:"from"`
	To   string `yaml:"to" json:"to"`
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// CheckName returns an error if the name of a job is invalid.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return remedy.Errorf("%q is not a name for a job; use up to 40 lower-case letters, digits and hyphens, as in surveys-to-archive", name)
	}
	return nil
}

// Check returns an error if a job is invalid by itself, whatever its accounts hold. The
// result does not depend on the time: see [Spec.CheckComing].
func (s Spec) Check() error {
	if err := CheckName(s.Name); err != nil {
		return err
	}
	if !slices.Contains(Types, s.Type) {
		return remedy.Errorf("%q is not a type of job; use %s", s.Type, strings.Join(Types, ", "))
	}
	if len(s.Routes) == 0 {
		return remedy.Errorf("the job %s has no route; name at least one, from a source to a target", s.Name)
	}
	for _, route := range s.Routes {
		for _, text := range []string{route.From, route.To} {
			address, err := store.ParseAddress(text)
			if err != nil {
				return err
			}
			if address.IsRoot() {
				return remedy.Errorf("/ is the root of all accounts; name an account, as in /desk")
			}
		}
	}
	if _, err := s.When.Read(time.Local); err != nil {
		return err
	}
	if err := s.checkHistory(); err != nil {
		return err
	}
	return s.checkType()
}

// CheckComing returns an error if the job has a timetable without any time from now on. In
// a new timetable this is a mistake; a job that runs once ends like this after its time.
func (s Spec) CheckComing(now time.Time) error {
	timetable, err := s.When.Read(time.Local)
	if err != nil {
		return err
	}
	if err := timetable.Check(now); err != nil {
		return remedy.Errorf("the schedule of %s never runs: %w; change it, or remove it and start the job yourself", s.Name, err)
	}
	return nil
}

// checkType returns which of a job's rules contradict its type.
func (s Spec) checkType() error {
	deletions := s.Rules.Deletions
	removes := s.Removes()
	switch {
	case !removes && deletions != "" && deletions != string(plan.IgnoreDeletions):
		return remedy.Errorf("a job of the type %s never deletes, and deletions: %s contradicts that; use mirror or two-way, or remove it",
			s.Type,
			deletions)
	case s.When.Arrival != "" && s.Type != Copy:
		return remedy.Errorf("a job on arrivals copies each arrival, and a %s compares everything; use the type copy, or %s", s.Type,
			otherTimes(s.Type))
	case s.When.Arrival == "" && s.Arrivals != (Arrivals{}):
		return remedy.Errorf("arrivals applies to jobs that run on arrivals; remove it, or set when: {arrival: file}")
	case s.Rules.Identical != "" && s.Rules.Identical != IdenticalOnce && s.Rules.Identical != IdenticalEach:
		return remedy.Errorf("%q is not a rule for identical files; use once or each", s.Rules.Identical)
	case s.Rules.Identical == IdenticalOnce && s.Type != Consolidate:
		return remedy.Errorf("a %s keeps every file of its source; to keep identical files once, use consolidate", s.Type)
	case s.Type == Migrate && s.When.Continuous:
		return remedy.Errorf("a migration has passes and ends; remove continuous, or use mirror")
	}
	if s.Type != Migrate && !s.Migrate.IsZero() {
		return remedy.Errorf("migrate applies to migrations, and the job is a %s; remove it, or use the type migrate", s.Type)
	}
	if err := s.Migrate.Check(); err != nil {
		return err
	}
	if _, err := s.Arrivals.Read(s.When.Arrival); err != nil {
		return err
	}
	if s.Migrate.Clear && s.Rules.Verification == string(store.VerifyBySize) {
		return remedy.Errorf("a comparison of sizes is not enough to clear a source; use verify: hash or read-back, or do not clear")
	}
	if s.Migrate.Clear && s.Rules.As != "" {
		return remedy.Errorf("a migration that clears its source keeps names, so that files can be brought back; " +
			"remove the template, or do not clear")
	}
	return s.checkRoutes()
}

// checkRoutes returns which routes are in each other's way.
func (s Spec) checkRoutes() error {
	removes := s.Removes()
	for i, route := range s.Routes {
		from, _ := store.ParseAddress(route.From)
		to, _ := store.ParseAddress(route.To)
		if from.Contains(to) || removes && to.Contains(from) {
			return remedy.Errorf("%s and %s overlap; choose folders that do not contain each other", route.From, route.To)
		}
		for _, other := range s.Routes[:i] {
			target, _ := store.ParseAddress(other.To)
			source, _ := store.ParseAddress(other.From)
			switch {
			case route == other:
				return remedy.Errorf("the route from %s to %s is given twice; remove one", route.From, route.To)
			case s.Migrate.Clear && (source.Contains(from) || from.Contains(source)):
				return remedy.Errorf("%s has several targets and would be cleared once it is verified at one of them; "+
					"migrate it to one, and copy it to the others before", route.From)
			case removes && (target.Contains(to) || to.Contains(target)):
				return remedy.Errorf("the targets %s and %s overlap, and one route would delete what the other copies; choose separate targets",
					other.To,
					route.To)
			}
		}
	}
	return nil
}

// Ring returns the names of jobs of the type two-way that lead from a job's ends
// around to each other; none where they do not. touches reports whether two places
// are the same, or one is in the other.
func Ring(one Spec, others []Spec, touches func(a, b string) bool) []string {
	if one.Type != TwoWay {
		return nil
	}
	for i, route := range one.Routes {
		reached := []string{route.From}
		by := map[string][]string{route.From: nil}
		rest := slices.Clone(one.Routes[:i])
		for len(reached) > 0 {
			at := reached[0]
			reached = reached[1:]
			if at != route.From && touches(at, route.To) {
				return append([]string{one.Name}, by[at]...)
			}
			step := func(name string, next Route) {
				for _, ends := range [][2]string{{next.From, next.To}, {next.To, next.From}} {
					if _, known := by[ends[1]]; !known && touches(at, ends[0]) {
						by[ends[1]] = append(slices.Clone(by[at]), name)
						reached = append(reached, ends[1])
					}
				}
			}
			for _, next := range rest {
				step(one.Name, next)
			}
			for _, other := range others {
				if other.Type != TwoWay || other.Name == one.Name {
					continue
				}
				for _, next := range other.Routes {
					step(other.Name, next)
				}
			}
		}
	}
	return nil
}
