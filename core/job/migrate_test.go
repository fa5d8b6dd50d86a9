package job_test

import (
	"strings"
	"testing"

	"deftheron/core/job"
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
		{job.Migration{}, "final-pass", "clear", "not to clear"},
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
