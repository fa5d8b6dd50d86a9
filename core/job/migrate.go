package job

import (
	"fmt"
	"slices"
	"strings"

	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/run"
)

// The steps of a migration, each of which is a run. BringBack restores what was cleared; it
// has no fixed place in the order.
const (
	Survey    = "survey"
	FirstPass = "first-pass"
	CatchUp   = "catch-up"
	FinalPass = "final-pass"
	Clear     = "clear"
	BringBack = "bring-back"
)

// Steps are those that follow each other.
var Steps = []string{Survey, FirstPass, CatchUp, FinalPass, Clear}

// Migration says how far a migration goes automatically, and where it ends. Its zero value
// waits for a person before each step, and clears nothing.
type Migration struct {
	// GoOn is the last step that starts automatically; empty: each waits, or, with a
	// timetable, all up to the catch-up passes go by that.
	GoOn string `yaml:"go-on,omitempty" json:"go_on,omitempty" doc:"The last step that starts automatically: survey, first-pass, catch-up, final-pass or clear. Each step waits for a person unless given, or, with a timetable, all up to the catch-up passes go by that."`
	// Little is how many files a pass may still have had for catching up to be at its
	// end; 0 is 20.
	Little int64 `yaml:"little,omitempty" json:"little,omitempty" minimum:"0" doc:"Catching up is over if a pass had no more files than this: 20 unless given."`
	// Clear is set if the last step removes the verified files of the source.
	Clear bool `yaml:"clear,omitempty" json:"clear,omitempty" doc:"Delete at the source, in the last step, exactly what was verified at the target."`
	// ShareLists carries share lists and owners over in the final pass: CarryShareLists, or
	// empty.
	ShareLists string `yaml:"share-lists,omitempty" json:"share_lists,omitempty" enum:"carry" doc:"carry: give the people of the source's share lists the same rights at the target, in the final pass, by the table of people. Nothing is shared unless given."`
	// People is the table of who is who.
	People People `yaml:"people,omitempty" json:"people,omitempty" doc:"Who has an email address at the source has which at the target; an empty one leaves the person out."`
}

// CarryShareLists is Migration.ShareLists if they are carried over.
const CarryShareLists = "carry"

// IsZero reports whether nothing is set.
func (m Migration) IsZero() bool {
	return m.GoOn == "" && m.Little == 0 && !m.Clear && m.ShareLists == "" && len(m.People) == 0
}

// Carries reports whether share lists are carried over.
func (m Migration) Carries() bool { return m.ShareLists == CarryShareLists }

// usualLittle is Migration.Little unless it is given.
const usualLittle = 20

// mostCatchUps is how many passes catch up by themselves: a source that changes faster
// than that needs a person.
const mostCatchUps = 10

// EndedRun is a run of a migration that has ended.
type EndedRun struct {
	Step  string
	State run.State // one that has ended
	Items int64     // that the run had
}

// went reports whether the run came to its end.
func (p EndedRun) went() bool { return p.State == run.Done || p.State == run.Partial }

// Coming is what comes next of a migration.
type Coming struct {
	Step string // empty: it is over
	// Waits is set if a person must start the step, and Why says why.
	Waits bool
	Why   string
}

// Check returns an error if the settings of a migration are invalid.
func (m Migration) Check() error {
	switch {
	case m.GoOn != "" && !slices.Contains(Steps, m.GoOn):
		return remedy.Errorf("%q is not a step up to which a migration continues automatically; use %s", m.GoOn, strings.Join(Steps, ", "))
	case m.Little < 0:
		return remedy.Errorf("a pass cannot have less than no files; give how few are little, such as 20")
	case m.ShareLists != "" && !m.Carries():
		return remedy.Errorf("%q is not a rule for share lists; use %s, or remove it", m.ShareLists, CarryShareLists)
	case m.GoOn == Clear && !m.Clear:
		return remedy.Errorf("the migration is to go on up to clearing, and is not to clear; set clear too, or have it go on up to %s", FinalPass)
	}
	_, err := m.People.Normal()
	return err
}

// Next returns the step after the runs that have ended, which are given oldest first. timed
// is set if the job has a timetable.
func (m Migration) Next(passed []EndedRun, timed bool) Coming {
	if len(passed) == 0 {
		next := m.coming(Survey, timed)
		next.Waits, next.Why = next.Waits || !timed, waits(Survey) // nothing else begins it
		return next
	}
	last := passed[len(passed)-1]
	if !last.went() {
		words := "failed"
		if last.State == run.Cancelled {
			words = "was cancelled"
		}
		return Coming{Step: last.Step, Waits: true, Why: fmt.Sprintf("the %s %s", Words(last.Step), words)}
	}
	switch last.Step {
	case Survey:
		return m.coming(FirstPass, timed)
	case FirstPass:
		return m.coming(CatchUp, timed)
	case CatchUp:
		return m.afterCatchUp(passed, timed)
	case FinalPass:
		if last.State == run.Partial {
			return Coming{Step: FinalPass, Waits: true, Why: "some files could not be verified; fix that, and start another final pass"}
		}
		if m.Clear {
			return m.coming(Clear, timed)
		}
		return Coming{}
	case BringBack: // it is where it was
		return Coming{Step: Survey, Waits: true, Why: "the files are back at the source"}
	}
	return Coming{}
}

func (m Migration) afterCatchUp(passed []EndedRun, timed bool) Coming {
	little := m.Little
	if little == 0 {
		little = usualLittle
	}
	last := passed[len(passed)-1]
	if last.Items <= little {
		return m.coming(FinalPass, timed)
	}
	next, passes := m.coming(CatchUp, timed), 0
	for i := len(passed) - 1; i >= 0 && passed[i].Step == CatchUp; i-- {
		passes++
	}
	if passes >= mostCatchUps && !next.Waits {
		return Coming{Step: CatchUp, Waits: true,
			Why: fmt.Sprintf("after %d passes the source still changes faster than the passes catch up; "+
				"stop the work there, and start the final pass", passes)}
	}
	return next
}

func (m Migration) coming(step string, timed bool) Coming {
	upTo := m.GoOn
	if upTo == "" && timed {
		upTo = CatchUp
	}
	if slices.Index(Steps, step) <= slices.Index(Steps, upTo) {
		return Coming{Step: step}
	}
	return Coming{Step: step, Waits: true, Why: waits(step)}
}

// waits is why a step waits for a person.
func waits(step string) string {
	return map[string]string{
		Survey:    "the migration has not started",
		FirstPass: "read the survey first",
		CatchUp:   "files changed since the last pass",
		FinalPass: "few changes are left; stop writing to the source before you start it",
		Clear:     "everything is verified, and the source can be cleared",
	}[step]
}

// MayStart returns why a step cannot be started by a person after the runs that have
// ended; nil where it can be.
func (m Migration) MayStart(step string, passed []EndedRun) error {
	verified, cleared := false, false
	for _, one := range passed {
		switch {
		case one.Step == Clear && one.went():
			cleared = true
		case one.Step == FinalPass:
			verified = one.went()
		case one.went():
			verified, cleared = false, false // what was verified has been added to
		}
	}
	switch {
	case step == Clear && !m.Clear:
		return remedy.Errorf("the migration is not set to clear its source; change that in the job first")
	case step == Clear && !verified:
		return remedy.Errorf("the source is not verified yet; run the final pass first")
	case step == BringBack && !cleared:
		return fmt.Errorf("nothing was cleared that could be restored")
	case step != BringBack && !slices.Contains(Steps, step):
		return remedy.Errorf("%q is not a step of a migration; use %s", step, strings.Join(Steps, ", "))
	case cleared && step != BringBack:
		return remedy.Errorf("the migration is over, and its source is cleared; bring the files back before you migrate again")
	}
	return nil
}

// Words are a step in words.
func Words(step string) string {
	switch step {
	case CatchUp:
		return "catch-up pass"
	case Clear:
		return "clearing"
	case BringBack:
		return "fetching back"
	}
	return strings.ReplaceAll(step, "-", " ")
}

// StepRules returns the rules of a step of a migration, from those of its job.
func StepRules(rules plan.Rules, step string) plan.Rules {
	switch step {
	case FinalPass:
		rules.VerifyAll = true
	case Clear:
		rules = plan.Rules{Type: plan.Clearing, Filter: rules.Filter, Names: rules.Names, Documents: rules.Documents,
			Verification: rules.Verification, Tries: rules.Tries, Within: rules.Within}
	case BringBack:
		rules.Filter = plan.Filter{}
	}
	return rules
}

// Back returns the job with its routes in the opposite direction.
func (s Spec) Back() Spec {
	routes := make([]Route, len(s.Routes))
	for i, route := range s.Routes {
		routes[i] = Route{From: route.To, To: route.From}
	}
	s.Routes = routes
	return s
}
