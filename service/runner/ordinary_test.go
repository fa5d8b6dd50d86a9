package runner_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
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
	if _, err := o.runner.ChangeJob(t.Context(), "once", spec, time.Time{}); err != nil {
		t.Errorf("changed, but for its time: %v", err)
	}
	spec.When.At = at.Add(-time.Minute).Format(time.RFC3339)
	if _, err := o.runner.ChangeJob(t.Context(), "once", spec, time.Time{}); err == nil {
		t.Error("a new time in the past was taken")
	}
}

// TestOntoItself copies, moves, plans and keeps in sync what would come to lie upon
// itself.
func TestOntoItself(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"Reports/a": "1", "Reports/sub/b": "2"})
	o := newOffice(t, t.TempDir())
	o.link("desk", dir)
	o.link("desk-again", dir)
	for _, test := range [][2]string{
		{"/desk/Reports", "/desk/"}, {"/desk/Reports/a", "/desk/Reports/"}, {"/desk/Reports", "/desk/Reports"},
		{"/desk/Reports", "/desk-again/"}, {"/desk/Reports/a", "/desk-again/Reports/"}, {"/desk", "/desk"},
		{"/desk/Reports", "/desk/Reports/sub"},
	} {
		want := func(what string, err error) {
			t.Helper()
			if err == nil || !strings.Contains(err.Error(), "itself") && !strings.Contains(err.Error(), "own") {
				t.Errorf("%s %s to %s: %v; want it refused, as the place is its own", what, test[0], test[1], err)
			}
		}
		request := contract.Copy{From: []string{test[0]}, To: test[1]}
		_, err := o.runner.Copy(t.Context(), request)
		want("copy", err)
		_, err = o.runner.Plan(t.Context(), request)
		want("plan", err)
		to := test[1]
		if strings.HasSuffix(to, "/") {
			to += test[0][strings.LastIndex(test[0], "/")+1:]
		}
		for _, kind := range []string{"copy", "mirror", "two-way", "migrate", "consolidate"} {
			_, err = o.runner.CreateJob(t.Context(),
				contract.NewJob{Spec: contract.JobSpec{Name: "job", Type: kind, Routes: []contract.Route{{From: test[0], To: to}}}})
			if err == nil {
				t.Errorf("a %s of %s to %s was made", kind, test[0], to)
			}
		}
		if _, err := o.runner.Move(t.Context(), []contract.Route{{From: test[0], To: to}}); err == nil {
			t.Errorf("%s was moved to %s", test[0], to)
		}
	}
	if got := holds(t, dir); len(got) != 2 {
		t.Errorf("%v is left", got)
	}
}

// TestHistoryExpires takes something out of the way, copies it back, and lets it expire
// at accounts that can be written to.
func TestHistoryExpires(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	put(t, from, map[string]string{"a": "1", "b": "2"})
	o := newOffice(t, t.TempDir())
	o.runner.KeepHistory = 30 * 24 * time.Hour
	o.link("desk", from)
	o.link("archive", to)
	o.link("away", t.TempDir())
	if err := o.accounts.Suspend(t.Context(), "away"); err != nil {
		t.Fatal(err)
	}
	o.job("mirror", "mirror", "/desk", "/archive/m", func(spec *contract.JobSpec) { spec.Safety = contract.Safety{Deletions: "none"} })
	o.start("mirror")
	if err := os.Remove(filepath.Join(from, "a")); err != nil {
		t.Fatal(err)
	}
	o.start("mirror")
	version, err := filepath.Glob(filepath.Join(to, ".heron", "history", "*", "files", "m", "a"))
	if err != nil || len(version) != 1 {
		t.Fatalf("%v was kept, %v; want a", version, err)
	}
	part := filepath.Dir(filepath.Dir(filepath.Dir(version[0])))
	if run := o.run(o.runner.Copy(t.Context(), contract.Copy{
		From: []string{"/archive/.heron/history/" + filepath.Base(part) + "/files/m"}, To: "/desk/back"})); run.State != "done" ||
		run.Items.Done != 1 {
		t.Errorf("copied back: %+v", run.Items)
	}
	o.runner.ThinHistory(t.Context(), time.Now().Add(29*24*time.Hour))
	if _, err := os.Stat(version[0]); err != nil {
		t.Errorf("before its time: %v", err)
	}
	o.runner.ThinHistory(t.Context(), time.Now().Add(31*24*time.Hour))
	if _, err := os.Stat(part); !os.IsNotExist(err) {
		left, _ := filepath.Glob(filepath.Join(part, "*"))
		t.Errorf("after its time it is still there, %v: %v", err, left)
	}
}

// TestLinkedTwiceIsSaid warns of two accounts that are one place.
func TestLinkedTwiceIsSaid(t *testing.T) {
	dir := t.TempDir()
	o := newOffice(t, t.TempDir())
	o.link("desk", dir)
	o.link("again", dir)
	o.link("other", t.TempDir())
	for name, want := range map[string]string{"desk": "/again", "again": "/desk", "other": ""} {
		row, err := o.db.Account(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		said := fmt.Sprint(o.accounts.Warnings(t.Context(), row))
		if strings.Contains(said, "linked-twice") != (want != "") || !strings.Contains(said, want) {
			t.Errorf("/%s: %s; want it to name %q", name, said, want)
		}
	}
}
