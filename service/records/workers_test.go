package records_test

import (
	"errors"
	"slices"
	"testing"
	"time"

	"deftheron/service/records"
)

// TestWorkers keeps workers, what they were granted, and who manages them; what is removed is in no list.
func TestWorkers(t *testing.T) {
	db, ctx, now := open(t, t.TempDir()), t.Context(), time.Now()
	for _, name := range []string{"gauge-house", "boat-house"} {
		worker := records.Worker{ID: "id-" + name, Name: name, Site: "premises", Code: []byte(name), CodeEnds: &now, CreatedAt: now}
		if err := db.AddWorker(ctx, &worker); err != nil {
			t.Fatal(err)
		}
	}
	again := records.Worker{ID: "other", Name: "boat-house", Site: "premises", CreatedAt: now}
	if err := db.AddWorker(ctx, &again); !errors.Is(err, records.ErrTaken) {
		t.Errorf("a second worker of one name: %v", err)
	}
	for _, name := range []string{"ada", "bo"} {
		user := records.User{ID: "id-" + name, Name: name, Role: "operator", Recovery: []string{}, CreatedAt: now}
		if err := db.AddUser(ctx, &user); err != nil {
			t.Fatal(err)
		}
	}
	account := records.Account{ID: "id-archive", Name: "archive", Provider: "folder", Options: map[string]string{}, CreatedAt: now}
	if err := db.AddAccount(ctx, &account); err != nil {
		t.Fatal(err)
	}
	for _, user := range []string{"id-bo", "id-ada", "id-ada"} {
		if err := db.AssignWorker(ctx, "id-gauge-house", user, now); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.GrantWorker(ctx, "id-gauge-house", account.ID, now); err != nil {
		t.Fatal(err)
	}
	managers := func() (names []string) {
		t.Helper()
		all, err := db.WorkerManagers(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range all {
			names = append(names, one.Name+" at "+one.Worker)
		}
		return names
	}
	if got := managers(); !slices.Equal(got, []string{"ada at id-gauge-house", "bo at id-gauge-house"}) {
		t.Errorf("managers are %v", got)
	}
	for _, c := range []struct {
		user, worker string
		want         bool
	}{{"id-ada", "gauge-house", true}, {"id-ada", "boat-house", false}, {"id-ada", "weir-house", false}, {"id-cy", "gauge-house", false}} {
		if got, err := db.ManagesWorker(ctx, c.user, c.worker); err != nil || got != c.want {
			t.Errorf("%+v: %v, %v", c, got, err)
		}
	}
	if err := db.UnassignWorker(ctx, "id-gauge-house", "id-ada"); err != nil {
		t.Fatal(err)
	}
	if err := db.RemoveUser(ctx, "id-bo"); err != nil {
		t.Fatal(err)
	}
	if got := managers(); len(got) > 0 {
		t.Errorf("managers are still %v", got)
	}
	if err := db.AssignWorker(ctx, "id-gauge-house", "id-ada", now); err != nil {
		t.Fatal(err)
	}
	if err := db.RemoveWorker(ctx, "id-gauge-house"); err != nil {
		t.Fatal(err)
	}
	grants, err := db.WorkerGrants(ctx)
	if left := managers(); err != nil || len(grants) > 0 || len(left) > 0 {
		t.Errorf("of a removed worker there are %v and %v, %v", grants, left, err)
	}
}
