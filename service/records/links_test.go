package records_test

import (
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"deftheron/service/records"
)

// TestRenamedAccountsAreFollowed has jobs and runs follow, and leaves alone what only
// begins alike.
func TestRenamedAccountsAreFollowed(t *testing.T) {
	db, err := records.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	ctx := t.Context()
	for _, name := range []string{"share", "share-two"} {
		account := records.Account{ID: "id-" + name, Name: name, Options: map[string]string{}, CreatedAt: time.Now()}
		if err := db.AddAccount(ctx, &account); err != nil {
			t.Fatal(err)
		}
	}
	routes := []records.Route{{From: "/share", To: "/share-two/share"}, {From: "/share/a \"b\"", To: "/other/share/x"}}
	for i, once := range []bool{true, false, false} {
		job := records.Job{ID: fmt.Sprint("job", i), Name: fmt.Sprint("nightly-", i), Type: "copy", Routes: routes, OneOff: once,
			CreatedAt: time.Now()}
		if i == 2 {
			job.Routes = []records.Route{{From: "/share-two", To: "/elsewhere"}}
		}
		run := records.Run{ID: fmt.Sprint("run", i), Job: job.Name, State: "done", Routes: job.Routes, CreatedAt: time.Now()}
		if err := db.AddRun(ctx, &job, &run); err != nil {
			t.Fatal(err)
		}
	}
	// Those made for one run are of no use after it.
	if jobs, err := db.JobsUsing(ctx, "share"); err != nil || fmt.Sprint(jobs) != "[nightly-1]" {
		t.Errorf("used by %v, %v", jobs, err)
	}
	if err := db.RenameAccount(ctx, "id-share", "share", "share-two"); !errors.Is(err, records.ErrTaken) {
		t.Errorf("renamed to a name that is taken: %v", err)
	}
	if err := db.RenameAccount(ctx, "id-share", "share", "gauges"); err != nil {
		t.Fatal(err)
	}
	want := []records.Route{{From: "/gauges", To: "/share-two/share"}, {From: `/gauges/a "b"`, To: "/other/share/x"}}
	if run, err := db.Run(ctx, "run0"); err != nil || !slices.Equal(run.Routes, want) {
		t.Errorf("the run's routes are %v, %v", run.Routes, err)
	}
	if run, err := db.Run(ctx, "run2"); err != nil || run.Routes[0].From != "/share-two" {
		t.Errorf("of another account: %v, %v", run.Routes, err)
	}
	if jobs, err := db.JobsUsing(ctx, "gauges"); err != nil || fmt.Sprint(jobs) != "[nightly-1]" {
		t.Errorf("after the renaming it is used by %v, %v", jobs, err)
	}
	if account, err := db.Account(ctx, "gauges"); err != nil || account.ID != "id-share" {
		t.Errorf("%+v, %v", account, err)
	}
}
