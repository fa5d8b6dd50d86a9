package records_test

import (
	"errors"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// TestRetry makes what failed, or was left, wait again, and nothing else; of two
// that retry at once, one does.
func TestRetry(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	run := addRun(t, db, "run1")
	items := []transfer.Item{item(1, "done", plan.Create), item(2, "failed", plan.Create), item(3, "left", plan.Create),
		item(4, "link", plan.Skip)}
	items[3].State, items[3].Cause = transfer.Skipped, plan.CauseNotAFile
	if err := db.Enqueue(ctx, "run1", items); err != nil {
		t.Fatal(err)
	}
	ends := []transfer.Ending{
		{Seq: 1, State: transfer.Done, Ended: time.Now()},
		{Seq: 2, State: transfer.Failed, Cause: plan.CauseLocked, Why: "locked", Ended: time.Now()},
	}
	if err := db.Finish(ctx, "run1", []string{"scope"}, ends); err != nil {
		t.Fatal(err)
	}
	if _, err := db.EndRest(ctx, "run1", transfer.Skipped, plan.CauseCancelled); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Retry(ctx, &run); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("retrying a run that goes on: %v", err)
	}
	now := time.Now()
	run.State, run.EndedAt, run.Cancelling = "cancelled", &now, true
	if err := db.SaveRun(ctx, run, "state", "ended_at", "cancelling"); err != nil {
		t.Fatal(err)
	}
	other := run
	if n, err := db.Retry(ctx, &run); err != nil || n != 2 {
		t.Errorf("%d items wait again, %v; want 2", n, err)
	}
	if _, err := db.Retry(ctx, &other); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("retrying it twice: %v", err)
	}
	kept, err := db.Run(ctx, "run1")
	if err != nil || kept.State != "queued" || kept.EndedAt != nil || kept.Cancelling {
		t.Errorf("%+v, %v", kept, err)
	}
	tally, err := db.Tally(ctx, "run1")
	if err != nil || tally.Done != 1 || tally.Failed != 0 || tally.Skipped != 1 || tally.Items != 4 {
		t.Errorf("%+v, %v", tally, err)
	}
}

// TestPausing takes a paused run once, and pauses none that has ended.
// TestEndStranded ends what waits in a run that has ended, and leaves what waits in one
// that has not.
func TestEndStranded(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	ended, going := addRun(t, db, "ended"), addRun(t, db, "going")
	for _, run := range []records.Run{ended, going} {
		if err := db.Enqueue(ctx, run.ID, []transfer.Item{item(1, "a", plan.Create), item(2, "b", plan.Create)}); err != nil {
			t.Fatal(err)
		}
	}
	at := time.Now()
	ended.State, ended.EndedAt, ended.Items = "failed", &at, 2
	if err := errors.Join(db.SaveRun(ctx, ended, "state", "ended_at", "items"), db.EndStranded(ctx)); err != nil {
		t.Fatal(err)
	}
	if run, err := db.Run(ctx, "ended"); err != nil || run.Failed != 2 {
		t.Errorf("the run counts %d failed items, %v; want 2", run.Failed, err)
	}
	for run, want := range map[string]int64{"ended": 0, "going": 2} {
		tally, err := db.Tally(ctx, run)
		if waiting := tally.Items - tally.Failed; err != nil || tally.Items != 2 || waiting != want {
			t.Errorf("%s: %+v, %v; want %d waiting", run, tally, err, want)
		}
	}
}

func TestPausing(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	run := addRun(t, db, "run1")
	if taken, err := db.ResumeRun(ctx, run); taken || err != nil {
		t.Errorf("a run that is not paused was taken: %v", err)
	}
	if err := db.PauseRun(ctx, run); err != nil {
		t.Fatal(err)
	}
	for want := true; ; want = false {
		if taken, err := db.ResumeRun(ctx, run); taken != want || err != nil {
			t.Errorf("taken: %v, %v; want %v", taken, err, want)
		}
		if !want {
			break
		}
	}
	now := time.Now()
	run.State, run.EndedAt = "done", &now
	if err := db.SaveRun(ctx, run, "state", "ended_at"); err != nil {
		t.Fatal(err)
	}
	if err := db.PauseRun(ctx, run); err != nil {
		t.Fatal(err)
	}
	if kept, err := db.Run(ctx, "run1"); err != nil || kept.State != "done" {
		t.Errorf("a run that had ended is %s now, %v", kept.State, err)
	}
}
