package bench

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/servertest"
	"deftheron/service/records"
)

// arrivalRounds times arrivalsARound files arrive at one job.
const arrivalRounds, arrivalsARound = 5, 4_000

// TestGrowthArrivals has files arrive in a folder, each of which a run of its own takes,
// and measures the processor time of one and how many come through a second.
func TestGrowthArrivals(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	p := build(t)
	h := startHeron(t, p)
	top := scratch(t)
	in, out := filepath.Join(top, "in"), filepath.Join(top, "out")
	for _, folder := range []string{in, out} {
		if err := os.Mkdir(folder, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	h.link(contract.Link{Provider: "folder", Name: "disk", Options: map[string]string{"path": top}})
	spec := contract.JobSpec{Name: "arriving", Type: "copy", Routes: []contract.Route{{From: "/disk/in", To: "/disk/out/here"}},
		Arrivals: contract.Arrivals{Rest: "1s"}}
	spec.When.Arrival = "file"
	if _, err := h.client.CreateJob(t.Context(), contract.NewJob{Spec: spec}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	var first, last float64
	for round := range arrivalRounds {
		before, begun := processorTime(t, h.pid), time.Now()
		for i := range arrivalsARound {
			if err := os.WriteFile(filepath.Join(in, fmt.Sprintf("%d-%d.txt", round, i)), []byte("arrived"), 0o666); err != nil {
				t.Fatal(err)
			}
		}
		for want := (round + 1) * arrivalsARound; ; time.Sleep(100 * time.Millisecond) {
			if arrived, _ := os.ReadDir(filepath.Join(out, "here")); len(arrived) == want {
				break
			}
			if time.Since(begun) > 5*time.Minute {
				t.Fatalf("round %d does not end", round)
			}
		}
		last = (processorTime(t, h.pid) - before) / arrivalsARound * 1000
		if round == 0 {
			first = last
		}
		seconds := time.Since(begun).Seconds() - 1 // that they rest
		t.Logf("of %d files: %.2f ms of processor time each, %.0f a second", (round+1)*arrivalsARound, last, arrivalsARound/seconds)
		if round == arrivalRounds-1 {
			figure("arrivals, processor time of one", "≤ 3 ms", last, "ms", last <= 3)
			figure("arrivals, a second", "≥ 200", arrivalsARound/seconds, "", arrivalsARound/seconds >= 200)
			figure(fmt.Sprintf("arrivals, the last %d to the first", arrivalsARound), "≤ 1.3", last/first, "", last/first <= mostGrowth)
		}
	}
}

// manyItems is how many items the lists are measured with.
const manyItems = 5_000_000

// TestGrowthLists asks for pages of the items of a run that has five million, and of runs.
func TestGrowthLists(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	rows := manyItems * *scale / 100
	h, address := serveFilled(t, func(data string) {
		fillRecords(t, data, rows)
		fillRuns(t, data, manyRuns**scale/100)
	})
	for what, path := range map[string]string{
		"the first items":                 "/runs/large/items?limit=1000",
		"items in the middle":             fmt.Sprintf("/runs/large/items?limit=1000&cursor=%d", rows/2),
		"the failed items":                "/runs/large/items?limit=1000&state=failed",
		"the last failed items":           fmt.Sprintf("/runs/large/items?limit=1000&state=failed&cursor=%d", rows-100),
		"what is waiting, of none":        "/runs/large/items?limit=1000&state=waiting",
		"items of a cause, first page":    "/runs/large/items?limit=1000&cause=" + string(plan.CauseNoSpace),
		"items with a text of some":       "/runs/large/items?limit=100&text=r+00002",
		"items with a text that none has": "/runs/large/items?limit=100&text=nothing",
		"items of a folder in the middle": "/runs/large/items?limit=100&folder=/b/folder+25000",
		"runs":                            "/runs?limit=100",
		"runs of a job":                   "/runs?limit=100&job=nightly-7",
		"runs of an account":              "/runs?limit=100&account=archive",
		"failed runs":                     "/runs?limit=100&state=failed,partial",
		"failed runs of a job":            "/runs?limit=100&job=nightly-7&state=failed",
		"held runs of an account":         "/runs?limit=100&account=archive&state=held",
		"runs of a day":                   "/runs?limit=100&from=2026-11-05T00:00:00Z&to=2026-11-06T00:00:00Z",
		"runs with a text":                "/runs?limit=100&text=reports+7",
		"runs with no such text":          "/runs?limit=100&text=nothing",
		"flows of a year":                 "/flows?days=366",
		"the run":                         "/runs/large",
		"by cause":                        "/runs/large/causes",
	} {
		slowest := h.slowest(address, path)
		of := fmt.Sprintf("%d items", rows)
		if strings.HasPrefix(path, "/runs?") || strings.HasPrefix(path, "/flows") {
			of = fmt.Sprintf("%d runs", manyRuns**scale/100)
		}
		figure(what+", of "+of, "≤ 300 ms", slowest, "ms", slowest <= 300)
	}
}

// serveFilled starts a service whose records were filled before, and returns its address.
func serveFilled(t *testing.T, fill func(data string)) (*heron, string) {
	t.Helper()
	p := build(t)
	data, address := filepath.Join(scratch(t), "data"), servertest.FreeAddress(t)
	_, command := serve(t, p.heron, data, address)
	if err := command.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	command.Wait()
	fill(data)
	h, _ := serve(t, p.heron, data, address)
	return h, address
}

// TestGrowthFolder asks for pages of one folder with a million files.
func TestGrowthFolder(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	files := 1_000_000 * *scale / 100
	p, address, top := build(t), servertest.FreeAddress(t), t.TempDir()
	for i := range files {
		// In an order that is not theirs.
		if err := os.WriteFile(filepath.Join(top, fmt.Sprintf("picture %07d.jpg", i*7919%files)), nil, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	h, _ := serve(t, p.heron, filepath.Join(scratch(t), "data"), address)
	h.link(contract.Link{Provider: "folder", Name: "desk", Options: map[string]string{"path": top}})
	h.rest() // until the search index has listed it
	of := fmt.Sprintf("of a folder of %d files", files)
	slowest := h.slowest(address, "/tree?address=/desk&limit=1000&fresh=true")
	figure("the first page "+of, "≤ 300 ms", slowest, "ms", slowest <= 300)
	listed, longest, last := 0, time.Duration(0), time.Now()
	for _, err := range h.client.List(t.Context(), "/desk") {
		if err != nil {
			t.Fatal(err)
		}
		if listed > 0 {
			longest = max(longest, time.Since(last))
		}
		listed, last = listed+1, time.Now()
	}
	if listed != files {
		t.Fatalf("%d of %d files were listed", listed, files)
	}
	figure("the next pages "+of, "≤ 300 ms", float64(longest.Milliseconds()), "ms", longest <= 300*time.Millisecond)
	highest := h.memory().highest
	figure("memory while all pages are listed", "≤ 200 MiB", highest, "MiB", highest <= 200)
}

// manyRuns is how many runs the lists of runs are measured with.
const manyRuns = 1_000_000

// fillRuns writes runs of 50 jobs over the last days, one in a thousand of which failed.
func fillRuns(t *testing.T, data string, runs int) {
	t.Helper()
	pool, err := sql.Open("sqlite3", "file:"+filepath.Join(data, records.FileName))
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	_, err = pool.Exec(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?)
		INSERT INTO runs (id, job, type, state, cause, why, routes, rules, planned, totals, cancelling, items, done, skipped, failed, unchanged,
			bytes, moved, interruptions, created_at, started_at, ended_at)
		SELECT printf('r%010d', i), 'nightly-' || (i % 50), 'mirror', CASE WHEN i % 1000 = 0 THEN 'failed' ELSE 'done' END, '', '',
			json_array(json_object('from', '/desk/reports ' || (i % 50), 'to', '/archive/reports', 'scope', '')), '{}', 1, '{}', 0, 1, 1, 0, 0, 0,
			10, 10, 0, datetime('2026-11-01', '+' || i || ' seconds'), datetime('2026-11-01', '+' || i || ' seconds'),
			datetime('2026-11-01', '+' || i || ' seconds') FROM n`, runs)
	if err != nil {
		t.Fatal(err)
	}
}

// slowest is how many milliseconds the slowest of three requests takes.
func (h *heron) slowest(address, path string) (slowest float64) {
	h.t.Helper()
	for range 3 {
		request, err := http.NewRequestWithContext(h.t.Context(), http.MethodGet, "http://"+address+contract.Root+path, nil)
		if err != nil {
			h.t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+h.client.Token)
		begun := time.Now()
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			h.t.Fatal(err)
		}
		text, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			h.t.Fatalf("%s: %s %s", path, answer.Status, text)
		}
		slowest = max(slowest, float64(time.Since(begun).Milliseconds()))
	}
	return slowest
}

// fillRecords writes a run of many items, one in ten thousand of which failed.
func fillRecords(t *testing.T, data string, rows int) {
	t.Helper()
	db, err := records.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	ctx := context.Background()
	routes := []records.Route{{From: "/a", To: "/b", Scope: "scope"}}
	now := time.Now()
	job := records.Job{ID: "large", Name: "large", Type: "copy", Routes: routes, CreatedAt: now}
	run := records.Run{ID: "large", Job: "large", State: "partial", Routes: routes, CreatedAt: now, EndedAt: &now, Items: int64(rows)}
	if err := db.AddRun(ctx, &job, &run); err != nil {
		t.Fatal(err)
	}
	for i := range 2000 {
		id := fmt.Sprint("run", i)
		other := records.Run{ID: id, Job: id, State: "done", Routes: routes, CreatedAt: now, EndedAt: &now}
		if err := db.AddRun(ctx, &records.Job{ID: id, Name: id, Type: "copy", Routes: routes, CreatedAt: now, OneOff: true}, &other); err != nil {
			t.Fatal(err)
		}
	}
	items := make([]transfer.Item, 0, 20_000)
	for seq := 1; seq <= rows; seq++ {
		state, cause := transfer.Done, plan.CauseNone
		if seq%10_000 == 0 {
			state, cause = transfer.Failed, plan.CauseNoSpace
		}
		items = append(items, transfer.Item{
			Seq: int64(seq), Key: store.Key(fmt.Sprintf("folder %05d/file %07d", seq/100, seq)), Kind: store.KindFile, Action: plan.Create, Size: 10,
			State: state, Cause: cause,
			Source: compare.Remembered{Revision: "s", Size: 10, Modified: now},
		})
		if len(items) == cap(items) || seq == rows {
			if err := db.Enqueue(ctx, "large", items); err != nil {
				t.Fatal(err)
			}
			items = items[:0]
		}
	}
}
