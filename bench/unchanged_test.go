package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/compare"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/servertest"
	"deftheron/service/records"
)

// TestBenchUnchanged compares a million entries a side that are in sync, as the
// records of earlier runs tell, with bare listings of both by as many listers.
func TestBenchUnchanged(t *testing.T) {
	skip(t)
	unchanged(t, "nothing changed, 1,000,000 entries in 1,000 folders", 1_000_000**scale/100, 1000, *pairs)
}

// TestBenchUnchangedOneFolder has all of them in one folder.
func TestBenchUnchangedOneFolder(t *testing.T) {
	skip(t)
	unchanged(t, "nothing changed, 1,000,000 entries in one folder", 1_000_000**scale/100, 0, *pairs)
}

// TestUnchanged is TestBenchUnchanged, small: it keeps what the benchmark writes into the records
// from falling behind.
func TestUnchanged(t *testing.T) {
	if *growth || *run || *soak {
		t.Skip("its long form is measured")
	}
	unchanged(t, "nothing changed, 2,000 entries", 2_000, 100, 1)
}

func unchanged(t *testing.T, what string, entries, perFolder, pairs int) {
	p := build(t)
	made, url := startSynthetic(t, entries, perFolder)
	data, address := filepath.Join(scratch(t), "data"), servertest.FreeAddress(t)

	h, command := serve(t, p.heron, data, address)
	for _, name := range []string{"source", "target"} {
		h.link(contract.Link{Provider: "s3", Name: name, Options: map[string]string{"endpoint": url, "bucket": name, "key": "any"},
			Secret: "any"})
	}
	if err := command.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	command.Wait()
	remember(t, data, made, url)
	h, _ = serve(t, p.heron, data, address)
	var ratios []float64
	for n := range pairs {
		var ours, bare float64
		sides := []func(){
			func() {
				var run contract.Run
				ours, run = h.copy("/source/all", "/target")
				if run.Items.UpToDate != int64(entries) || run.Items.Done+run.Items.Failed > 0 {
					t.Fatalf("%+v, want %d unchanged", run.Items, entries)
				}
			},
			func() { bare = p.list(t, url) },
		}
		if n%2 == 1 {
			slices.Reverse(sides)
		}
		sides[0]()
		sides[1]()
		ratios = append(ratios, ours/bare)
		t.Logf("pair %d: %.2f s, bare listing of both sides %.2f s, ratio %.3f", n+1, ours, bare, ours/bare)
	}
	slices.Sort(ratios)
	median := ratios[len(ratios)/2]
	fmt.Printf("%-52s promised %-10s median %.3f  (%.3f to %.3f of %d pairs)  %s\n", what, "≤ 1.3", median, ratios[0], ratios[len(ratios)-1],
		len(ratios), map[bool]string{true: "met", false: "NOT MET"}[median <= 1.3])
	most := h.memory().highest
	figure("  resident at its highest", "≤ 200 MiB", most, "MiB", most <= 200)
}

// remember writes the pairs that a run would have left.
func remember(t *testing.T, data string, made *synthetic, url string) {
	t.Helper()
	db, err := records.Open(data)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var ids []string
	for _, name := range []string{"source", "target"} {
		account, err := db.Account(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, account.ID)
	}
	job := records.Job{ID: "seed", Name: "seed", Type: "copy", Routes: []records.Route{}, CreatedAt: time.Now(), OneOff: true}
	ended := time.Now()
	run := records.Run{ID: "seed", Job: "seed", State: "done", Routes: []records.Route{}, CreatedAt: ended, StartedAt: &ended, EndedAt: &ended}
	if err := db.AddRun(t.Context(), &job, &run); err != nil {
		t.Fatal(err)
	}
	scope := ids[0] + "/all\n" + ids[1] + "/all"
	place := fmt.Sprintf("s3+%[1]s/source/all/\ns3+%[1]s/target/all/", url)
	if err := db.SetEpoch(t.Context(), scope, transfer.Epoch{Place: place}); err != nil {
		t.Fatal(err)
	}
	modified := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	var endings []transfer.Ending
	for i := range made.entries {
		side := compare.Remembered{Revision: made.revision(i), Size: 4096, Modified: modified}
		key := store.Key(strings.TrimPrefix(made.key(i), "all/"))
		endings = append(endings, transfer.Ending{Pair: &compare.Pair{Key: key, Source: side, Target: side, Run: "seed"}})
		if len(endings) == 5000 || i == made.entries-1 {
			if err := db.Finish(t.Context(), "seed", []string{scope}, endings); err != nil {
				t.Fatal(err)
			}
			endings = endings[:0]
		}
	}
}

// list is how many seconds the smallest program takes to list both buckets.
func (p programs) list(t *testing.T, url string) float64 {
	t.Helper()
	command := exec.Command(p.bareloop, "-endpoint", strings.TrimPrefix(url, "http://"), "-list", "source,target", "-prefix", "all/")
	command.Env = append(os.Environ(), "BARELOOP_KEY=any", "BARELOOP_SECRET=any")
	command.Stderr = os.Stderr
	out, err := command.Output()
	if err != nil {
		t.Fatalf("bareloop: %v", err)
	}
	seconds, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
	if err != nil {
		t.Fatal(err)
	}
	return seconds
}
