package job_test

import (
	"reflect"
	"strings"
	"testing"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
)

// passes reads "survey, first-pass 900, catch-up 5 failed": steps with their items and,
// unless it is done, their state.
func passes(text string) (all []job.EndedRun) {
	if text == "" {
		return nil
	}
	for part := range strings.SplitSeq(text, ", ") {
		one := job.EndedRun{State: "done"}
		for i, field := range strings.Fields(part) {
			switch {
			case i == 0:
				one.Step = field
			case field[0] >= '0' && field[0] <= '9':
				for _, digit := range field {
					one.Items = one.Items*10 + int64(digit-'0')
				}
			default:
				one.State = run.State(field)
			}
		}
		all = append(all, one)
	}
	return all
}

func TestNextStep(t *testing.T) {
	many := "survey, first-pass 900" + strings.Repeat(", catch-up 100", 10)
	for _, test := range []struct {
		migration job.Migration
		timed     bool
		passed    string
		step      string
		waits     bool
	}{
		{job.Migration{}, false, "", "survey", true},
		{job.Migration{GoOn: "survey"}, false, "", "survey", true},
		{job.Migration{}, true, "", "survey", false},
		{job.Migration{}, false, "survey", "first-pass", true},
		{job.Migration{}, true, "survey", "first-pass", false},
		{job.Migration{GoOn: "survey"}, true, "survey", "first-pass", true},
		{job.Migration{GoOn: "catch-up"}, false, "survey, first-pass 900", "catch-up", false},
		{job.Migration{GoOn: "catch-up"}, false, "survey, first-pass 900 partial", "catch-up", false},
		{job.Migration{GoOn: "clear", Clear: true}, false, "survey, first-pass 900 failed", "first-pass", true},
		{job.Migration{GoOn: "clear", Clear: true}, false, "survey, first-pass 900 cancelled", "first-pass", true},
		{job.Migration{GoOn: "catch-up"}, false, "survey, first-pass 900, catch-up 21", "catch-up", false},
		{job.Migration{GoOn: "catch-up"}, false, "survey, first-pass 900, catch-up 20", "final-pass", true},
		{job.Migration{GoOn: "catch-up", Little: 5}, false, "survey, first-pass 900, catch-up 20", "catch-up", false},
		{job.Migration{GoOn: "catch-up"}, false, many, "catch-up", true},
		{job.Migration{GoOn: "final-pass"}, false, "survey, first-pass, catch-up 0", "final-pass", false},
		{job.Migration{GoOn: "clear", Clear: true}, false, "survey, first-pass, catch-up, final-pass partial", "final-pass", true},
		{job.Migration{GoOn: "final-pass", Clear: true}, false, "survey, first-pass, catch-up, final-pass", "clear", true},
		{job.Migration{GoOn: "clear", Clear: true}, false, "survey, first-pass, catch-up, final-pass", "clear", false},
		{job.Migration{GoOn: "final-pass"}, false, "survey, first-pass, catch-up, final-pass", "", false},
		{job.Migration{GoOn: "clear", Clear: true}, false, "survey, first-pass, catch-up, final-pass, clear", "", false},
		{job.Migration{GoOn: "clear", Clear: true}, false, "final-pass, clear, bring-back", "survey", true},
	} {
		next := test.migration.Next(passes(test.passed), test.timed)
		if next.Step != test.step || next.Waits != test.waits || next.Waits && next.Why == "" {
			t.Errorf("%+v after %q comes %+v, want %s, waiting %v", test.migration, test.passed, next, test.step, test.waits)
		}
	}
}

func TestMayStart(t *testing.T) {
	clearing := job.Migration{Clear: true}
	for _, test := range []struct {
		migration    job.Migration
		passed, step string
		words        string // of the refusal; empty where it may
	}{
		{clearing, "", "survey", ""},
		{clearing, "", "final-pass", ""},
		{clearing, "survey, first-pass", "final-pass", ""},
		{clearing, "survey, first-pass, catch-up", "clear", "not verified"},
		{clearing, "final-pass failed", "clear", "not verified"},
		{clearing, "final-pass", "clear", ""},
		{clearing, "final-pass partial", "clear", ""},
		{clearing, "final-pass, catch-up 3", "clear", "not verified"},
		{job.Migration{}, "final-pass", "clear", "not set to clear"},
		{clearing, "final-pass", "bring-back", "nothing was cleared"},
		{clearing, "final-pass, clear", "bring-back", ""},
		{clearing, "final-pass, clear", "first-pass", "is over"},
		{clearing, "final-pass, clear, bring-back", "first-pass", ""},
		{clearing, "final-pass, clear, bring-back failed", "bring-back", ""},
		{clearing, "", "begin", "not a step"},
	} {
		err := test.migration.MayStart(test.step, passes(test.passed))
		if (err == nil) != (test.words == "") || err != nil && !strings.Contains(err.Error(), test.words) {
			t.Errorf("%s after %q: %v, want %q", test.step, test.passed, err, test.words)
		}
	}
}

// TestStepRules has the final pass verify all, and a clearing take the whole selection of the
// job and no more.
func TestStepRules(t *testing.T) {
	rules := plan.Rules{Filter: plan.Filter{Exclude: []string{"*.tmp"}}, Conflict: plan.KeepBoth, Tries: 3}
	if got := job.StepRules(rules, job.FinalPass); !got.VerifyAll || len(got.Filter.Exclude) != 1 {
		t.Errorf("the final pass: %+v", got)
	}
	if got := job.StepRules(rules, job.Clear); got.Type != plan.Clearing || len(got.Filter.Exclude) != 1 ||
		got.Conflict != "" || got.Tries != 3 {
		t.Errorf("the clearing: %+v", got)
	}
	if got := job.StepRules(rules, job.BringBack); len(got.Filter.Exclude) != 0 {
		t.Errorf("bringing back: %+v", got)
	}
	if got := job.StepRules(rules, job.CatchUp); !reflect.DeepEqual(got, rules) {
		t.Errorf("a catch-up pass: %+v", got)
	}
}

// TestBack turns the routes around, and leaves those of the job as they are.
func TestBack(t *testing.T) {
	spec := job.Spec{Routes: []job.Route{{From: "/a", To: "/b"}, {From: "/c", To: "/d"}}}
	if back := spec.Back(); back.Routes[1] != (job.Route{From: "/d", To: "/c"}) || spec.Routes[1].From != "/c" {
		t.Errorf("%v, from %v", back.Routes, spec.Routes)
	}
}
