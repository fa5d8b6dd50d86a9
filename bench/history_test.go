package bench

import (
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/servertest"
	"deftheron/service/records"
)

const (
	pastFiles    = 1_000_000
	pastInFolder = 1000
	pastVersions = 10 // of each file
)

// TestGrowthHistory looks at an account of many files with ten times as many versions as it was
// at several times, and asks what other rules would delete.
func TestGrowthHistory(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	p := build(t)
	top := scratch(t)
	place, data, address := filepath.Join(top, "place"), filepath.Join(top, "data"), servertest.FreeAddress(t)
	folders := pastFiles * *scale / 100 / pastInFolder
	for folder := range folders {
		dir := filepath.Join(place, fmt.Sprintf("folder %04d", folder))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		for file := range pastInFolder {
			if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("file %04d", file)), nil, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	h, command := serve(t, p.heron, data, address)
	h.link(contract.Link{Provider: "folder", Name: "place", Options: map[string]string{"path": place}})
	if _, err := h.client.CreateJob(t.Context(), contract.NewJob{Spec: contract.JobSpec{Name: "mirror", Type: "mirror",
		Routes: []contract.Route{{From: "/place/folder 0000", To: "/place/elsewhere"}}}}); err != nil {
		t.Fatal(err)
	}
	if err := command.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	command.Wait()
	began := time.Now().Add(-time.Duration(pastVersions) * 24 * time.Hour)
	fillHistory(t, data, folders, began)
	h, _ = serve(t, p.heron, data, address)
	at := func(days float64) string {
		return url.QueryEscape(began.Add(time.Duration(days * 24 * float64(time.Hour))).UTC().Format(time.RFC3339))
	}
	of := fmt.Sprintf("%d files with %d versions", folders*pastInFolder, folders*pastInFolder*pastVersions)
	get := func(what, path string) {
		slowest := h.slowest(address, path)
		figure(what+" of "+of, "≤ 500 ms", slowest, "ms", slowest <= 500)
	}
	middle := fmt.Sprintf("/place/folder+%04d", folders/2)
	get("a folder before the first change,", "/tree?limit=1000&address="+middle+"&at="+at(-1))
	get("a folder in the middle of its changes,", "/tree?limit=1000&address="+middle+"&at="+at(pastVersions/2))
	get("a folder after its last change,", "/tree?limit=1000&address="+middle+"&at="+at(pastVersions-0.5))
	get("the start of the account,", "/tree?limit=1000&address=/place&at="+at(pastVersions/2))
	get("the versions of a file,", "/history?address="+middle+"/file+0500")
	get("when a folder changed,", "/history?address="+middle)
	memory := h.private()
	figure("memory of the service after it, "+of, "≤ 200 MiB", memory, "MiB", memory <= 200)

	begun := time.Now()
	freed, err := h.client.HistoryFreed(t.Context(), "mirror", contract.HistoryRules{Keep: job.Keep{All: "36h", Daily: "4d"}})
	if err != nil {
		t.Fatal(err)
	}
	memory = h.private()
	figure(fmt.Sprintf("memory while %d versions were found to go", freed.Versions), "≤ 200 MiB", memory, "MiB", memory <= 200)
	t.Logf("what rules would delete was counted in %v", time.Since(begun))
}

// fillHistory adds versions of every file, one a day each.
func fillHistory(t *testing.T, data string, folders int, began time.Time) {
	t.Helper()
	pool, err := sql.Open("sqlite3", "file:"+filepath.Join(data, records.FileName)+"?_journal_mode=WAL&_synchronous=OFF")
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	for _, statement := range []string{
		"INSERT OR IGNORE INTO history_accounts (id) SELECT id FROM accounts WHERE name = 'place'",
		fmt.Sprintf(`WITH RECURSIVE days(d) AS (SELECT 0 UNION ALL SELECT d + 1 FROM days WHERE d < %d)
			INSERT INTO history_parts (account, name, run, job, began) SELECT 1, 'part' || d, 'run' || d, 'mirror', %d + d * 86400000000000 FROM days`,
			pastVersions-1, began.UnixNano()),
		fmt.Sprintf(`WITH RECURSIVE folders(f) AS (SELECT 0 UNION ALL SELECT f + 1 FROM folders WHERE f < %d),
			files(n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM files WHERE n < %d),
			days(d) AS (SELECT 0 UNION ALL SELECT d + 1 FROM days WHERE d < %d)
			INSERT INTO history (account, folder, name, at, since, how, size, modified, hash, kept, part, locked, manifest)
			SELECT 1, CAST(printf('folder %%04d/', f) AS BLOB), CAST(printf('file %%04d', n) AS BLOB), %[4]d + d * 86400000000000 + n,
				CASE d WHEN 0 THEN 0 ELSE %[4]d + (d - 1) * 86400000000000 + n END, 'overwritten', 0, 1, '',
				CAST(printf('.heron/history/part%%d/files/folder %%04d/file %%04d', d, f, n) AS BLOB), d + 1, 0, 1
			FROM folders, files, days`, folders-1, pastInFolder-1, pastVersions-1, began.UnixNano()),
		fmt.Sprintf("INSERT INTO history_folders (account, folder, last) SELECT DISTINCT 1, folder, %d FROM history",
			began.Add((pastVersions-1)*24*time.Hour).UnixNano()),
	} {
		if _, err := pool.Exec(statement); err != nil {
			t.Fatalf("%s: %v", strings.Fields(statement)[0], err)
		}
	}
}

// private is the memory of the process that is no file's, in MiB.
func (h *heron) private() (now float64) {
	h.t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.pid))
	if err != nil {
		h.t.Fatal(err)
	}
	for line := range strings.Lines(string(status)) {
		if _, err := fmt.Sscanf(line, "RssAnon: %f kB", &now); err == nil {
			return now / 1024
		}
	}
	return 0
}

// TestBenchHistory mirrors 100,000 files of which 1,000 are overwritten, with versions and
// without.
func TestBenchHistory(t *testing.T) {
	skip(t)
	p := build(t)
	top := scratch(t)
	source := filepath.Join(top, "source")
	files, changed := 100_000**scale/100, 1000**scale/100
	name := func(i int) string {
		return filepath.Join(source, "all", fmt.Sprintf("%03d", i%500), fmt.Sprintf("%06d", i))
	}
	for i := range 500 {
		if err := os.MkdirAll(filepath.Join(source, "all", fmt.Sprintf("%03d", i)), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for i := range files {
		if err := os.WriteFile(name(i), []byte(fmt.Sprint("content ", i)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	h := startHeron(t, p)
	for _, account := range []string{"source", "kept", "bare"} {
		dir := filepath.Join(top, account)
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		h.link(contract.Link{Provider: "folder", Name: account, Options: map[string]string{"path": dir}})
	}
	seconds := func(account string) float64 {
		started, err := h.client.StartJob(t.Context(), account)
		if err != nil {
			t.Fatal(err)
		}
		run, err := h.client.Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
		if err != nil || run.State != "done" {
			t.Fatalf("%s: %s, %v", run.State, run.Why, err)
		}
		return run.Ended.Sub(run.Created).Seconds()
	}
	for _, account := range []string{"kept", "bare"} {
		spec := contract.JobSpec{Name: account, Type: "mirror", Routes: []contract.Route{{From: "/source/all", To: "/" + account + "/all"}},
			Safety: contract.Safety{Deletions: "none", Overwrites: "none"}, History: job.History{Off: account == "bare"}}
		if _, err := h.client.CreateJob(t.Context(), contract.NewJob{Spec: spec}); err != nil {
			t.Fatal(err)
		}
		seconds(account)
	}
	var ratios []float64
	for pair := range *pairs {
		for i := range changed {
			if err := os.WriteFile(name(i*97%files), []byte(fmt.Sprint("changed ", pair, " ", i)), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		order := []string{"kept", "bare"}
		if pair%2 == 1 {
			order = []string{"bare", "kept"}
		}
		took := map[string]float64{}
		for _, account := range order {
			took[account] = seconds(account)
		}
		ratios = append(ratios, took["bare"]/took["kept"])
	}
	row(t, fmt.Sprintf("mirror of %d files, %d overwritten, with versions", files, changed), "≥ 0.95", ratios, 0.95)
}
