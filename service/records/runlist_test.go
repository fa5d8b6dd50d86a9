package records_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// TestFindRuns holds each filter, page by page, to going through all runs.
func TestFindRuns(t *testing.T) {
	db := open(t, t.TempDir())
	states := []run.State{run.Done, run.Failed, run.Partial, run.Running}
	day := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	var all []records.Run
	for i := range 300 {
		one := records.Run{
			ID: fmt.Sprintf("run%03d", i), Job: fmt.Sprintf("job-%d", rand.IntN(3)), State: states[rand.IntN(len(states))],
			Routes:    []records.Route{{From: fmt.Sprintf("/a%d/Reports 50%%", rand.IntN(3)), To: fmt.Sprintf("/b%d/x", rand.IntN(3))}},
			CreatedAt: day.Add(time.Duration(i) * time.Hour),
		}
		if i%2 == 0 {
			one.Routes = append(one.Routes, records.Route{From: "/second", To: "/b0"})
		}
		if err := db.AddRunOf(t.Context(), &one); err != nil {
			t.Fatal(err)
		}
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b records.Run) int { return cmp.Compare(b.Number, a.Number) })
	accountOf := func(address string) string { return strings.Split(address, "/")[1] }
	for name, filter := range map[string]records.RunFilter{
		"all":                       {},
		"of a job":                  {Job: "job-1"},
		"of an account":             {Account: "a1"},
		"of a second route":         {Account: "second"},
		"of an account that is not": {Account: "a"},
		"failed":                    {States: []run.State{run.Failed}},
		"failed or partial":         {States: []run.State{run.Failed, run.Partial}},
		"of a job, and done":        {Job: "job-0", States: []run.State{run.Done, run.Running}},
		"of an account, and done":   {Account: "b2", States: []run.State{run.Done}, Job: "job-2"},
		"of some days":              {From: day.AddDate(0, 0, 2), To: day.AddDate(0, 0, 5)},
		"of days to come":           {From: day.AddDate(1, 0, 0)},
		"before all":                {To: day.AddDate(-1, 0, 0)},
		"with a text":               {Text: "REPORTS 50%"},
		"with a text of SQL":        {Text: "Reports_50"},
		"with an id":                {Text: "run12"},
		"with a text, of an account in some days": {Text: "second", Account: "b1", From: day.AddDate(0, 0, 1),
			States: []run.State{run.Done, run.Failed}},
	} {
		var want, got []string
		for _, one := range all {
			text := strings.ToLower(fmt.Sprint(one.ID, one.Job, one.Routes))
			accounts := map[string]bool{}
			for _, route := range one.Routes {
				accounts[accountOf(route.From)], accounts[accountOf(route.To)] = true, true
			}
			if (filter.Job == "" || one.Job == filter.Job) && (filter.Account == "" || accounts[filter.Account]) &&
				(len(filter.States) == 0 || slices.Contains(filter.States, one.State)) && !one.CreatedAt.Before(filter.From) &&
				(filter.To.IsZero() || one.CreatedAt.Before(filter.To)) && strings.Contains(text, strings.ToLower(filter.Text)) {
				want = append(want, one.ID)
			}
		}
		for before, pages := int64(0), 0; pages == 0 || before > 0; pages++ {
			runs, next, err := db.FindRuns(t.Context(), filter, before, 7)
			if err != nil || pages > 100 {
				t.Fatalf("%s: page %d: %v", name, pages, err)
			}
			for _, one := range runs {
				got = append(got, one.ID)
			}
			before = next
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %d runs, want %d: %v", name, len(got), len(want), got)
		}
	}
}

// TestEventsOfARun come from whatever changes its state, in order.
func TestEventsOfARun(t *testing.T) {
	db := open(t, t.TempDir())
	one := records.Run{ID: "x", Job: "job", State: run.Queued, CreatedAt: time.Now(), Routes: []records.Route{{From: "/a", To: "/b"}}}
	if err := db.AddRunOf(t.Context(), &one); err != nil {
		t.Fatal(err)
	}
	for _, state := range []run.State{run.Running, run.Running, run.Held} {
		one.State, one.Cause = state, map[run.State]string{run.Held: "safety-limit"}[state]
		if err := db.SaveRun(t.Context(), one, "state", "cause"); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.AddEvent(t.Context(), one.Number, records.EventBandwidth, "20MB/s"); err != nil {
		t.Fatal(err)
	}
	events, err := db.Events(t.Context(), one.Number, 10)
	var got []string
	for _, event := range events {
		got = append(got, strings.TrimSpace(event.What+" "+event.Cause+event.Detail))
		if since := time.Since(event.At); since < -time.Second || since > time.Minute {
			t.Errorf("%s was %v ago", event.What, since)
		}
	}
	if want := []string{"running", "held safety-limit", "bandwidth 20MB/s"}; err != nil || !slices.Equal(got, want) {
		t.Errorf("%q (%v), want %q", got, err, want)
	}
	if latest, err := db.Events(t.Context(), one.Number, 2); err != nil || len(latest) != 2 || latest[0].What != "held" {
		t.Errorf("the latest two: %+v (%v)", latest, err)
	}
}

// TestSaveRunRefusesColumns does not lose what it cannot keep.
func TestSaveRunRefusesColumns(t *testing.T) {
	db := open(t, t.TempDir())
	one := addRun(t, db, "x")
	one.Approved = true
	if err := db.SaveRun(t.Context(), one, "released"); err == nil {
		t.Error("a column that runs do not have was left out")
	}
	if err := db.SaveRun(t.Context(), one, "approved"); err != nil {
		t.Fatal(err)
	}
	if kept, err := db.Run(t.Context(), "x"); err != nil || !kept.Approved {
		t.Errorf("%+v, %v", kept, err)
	}
}

// TestSeriesOfARun is kept, and none is no error.
func TestSeriesOfARun(t *testing.T) {
	db := open(t, t.TempDir())
	if series, err := db.Series(t.Context(), 1); err != nil || len(series.Points) != 0 {
		t.Errorf("%+v, %v", series, err)
	}
	var series run.Series
	start := time.Now()
	series.Add(run.Sample{At: start}, false)
	series.Add(run.Sample{At: start.Add(time.Second), Bytes: 5}, true)
	if err := db.SaveSeries(t.Context(), 1, series); err != nil {
		t.Fatal(err)
	}
	if kept, err := db.Series(t.Context(), 1); err != nil || len(kept.Points) != 1 || kept.Points[0].Bytes != 5 {
		t.Errorf("%+v, %v", kept, err)
	}
}

// TestFlowsOfARun counts for each two accounts what went between them.
func TestFlowsOfARun(t *testing.T) {
	db := open(t, t.TempDir())
	one := records.Run{ID: "x", Job: "all", Type: "copy", State: run.Done, Moved: 30, CreatedAt: time.Now(),
		Routes: []records.Route{{From: "/a", To: "/z"}, {From: "/b", To: "/z"}, {From: "/a/more", To: "/z"}}}
	if err := db.AddRunOf(t.Context(), &one); err != nil {
		t.Fatal(err)
	}
	var items []transfer.Item
	for i := range 6 {
		next := item(int64(i+1), fmt.Sprintf("key%d", i), plan.Create)
		next.Route = i % 3
		items = append(items, next)
	}
	if err := db.Enqueue(t.Context(), "x", items); err != nil {
		t.Fatal(err)
	}
	var endings []transfer.Ending
	for i := range 5 {
		endings = append(endings, transfer.Ending{Seq: int64(i + 1), Route: i % 3, State: transfer.Done, Moved: 10, Ended: time.Now()})
	}
	if err := db.Finish(t.Context(), "x", nil, endings); err != nil {
		t.Fatal(err)
	}
	if err := db.KeepFlows(t.Context(), one.Number, [][2]string{{"a", "z"}, {"b", "z"}, {"a", "z"}}); err != nil {
		t.Fatal(err)
	}
	days, err := db.BytesByDay(t.Context(), time.Now().AddDate(0, 0, -1))
	if err != nil || len(days) != 2 || days[0].From != "a" || days[0].Bytes != 30 || days[1].From != "b" || days[1].Bytes != 20 {
		t.Errorf("%+v, %v", days, err)
	}
}

// TestBytesByDay adds up by day, job and accounts.
func TestBytesByDay(t *testing.T) {
	db := open(t, t.TempDir())
	now := time.Now()
	for i, moved := range []int64{5, 7, 0} {
		one := records.Run{ID: fmt.Sprint(i), Job: fmt.Sprint("copy-", i), State: run.Running, CreatedAt: now,
			Routes: []records.Route{{From: "/desk/Office", To: "/archive/office"}}}
		if err := db.AddRunOf(t.Context(), &one); err != nil {
			t.Fatal(err)
		}
		for _, one.Moved = range []int64{moved / 2, moved, moved} { // as it goes on
			if err := db.SaveRun(t.Context(), one, "moved"); err != nil {
				t.Fatal(err)
			}
		}
	}
	days, err := db.BytesByDay(t.Context(), now.AddDate(0, 0, -30))
	if err != nil || len(days) != 1 || days[0].Bytes != 12 || days[0].Runs != 2 || days[0].Job != "" || days[0].From != "desk" ||
		days[0].To != "archive" {
		t.Errorf("%+v, %v", days, err)
	}
}
