package runner_test

import (
	"testing"
	"time"

	"deftheron/contract"
)

// eventually waits until something holds.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !holds(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("after 20 s still not: %s", what)
		}
	}
}

// TestRunsAtItsTime has a job run once, at its time, and be started, planned and
// changed afterwards.
func TestRunsAtItsTime(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	put(t, from, map[string]string{"a": "1"})
	o := newOffice(t, t.TempDir())
	o.link("desk", from)
	o.link("archive", to)
	at := time.Now().Add(1500 * time.Millisecond).Truncate(time.Second).UTC()
	if !at.After(time.Now()) {
		at = at.Add(time.Second)
	}
	o.job("once", "copy", "/desk", "/archive", func(spec *contract.JobSpec) { spec.When.At = at.Format(time.RFC3339) })
	eventually(t, "the job has run", func() bool {
		row, err := o.runner.Job(t.Context(), "once")
		return err == nil && row.Last != nil && row.Last.Ended != nil
	})
	if shown, err := o.runner.Job(t.Context(), "once"); err != nil || shown.Last.State != "done" || len(shown.Next) > 0 {
		t.Errorf("%+v, %v; want it done at its time, with no time to come", shown.Last, err)
	}
	if run := o.start("once"); run.State != "done" {
		t.Errorf("started again: %+v", run)
	}
	if _, err := o.runner.PlanJob(t.Context(), "once"); err != nil {
		t.Errorf("planned: %v", err)
	}
	spec := contract.JobSpec{Name: "once", Type: "copy", Routes: []contract.Route{{From: "/desk", To: "/archive/other"}}}
	spec.When.At = at.Format(time.RFC3339)
	if _, err := o.runner.ChangeJob(t.Context(), "once", spec); err != nil {
		t.Errorf("changed, but for its time: %v", err)
	}
	spec.When.At = at.Add(-time.Minute).Format(time.RFC3339)
	if _, err := o.runner.ChangeJob(t.Context(), "once", spec); err == nil {
		t.Error("a new time in the past was taken")
	}
}
