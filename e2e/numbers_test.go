package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"deftheron/client"
	"deftheron/contract"
)

// TestNumbersEverywhere plans and runs random jobs of each type, and holds what the plan
// said against what the run came to, and that against its items, its report as JSON and
// CSV, what the terminal shows, and the page of the run.
func TestNumbersEverywhere(t *testing.T) {
	t.Parallel()
	h := start(t)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Accounts")
	for seed, kind := range []string{"copy", "mirror", "two-way", "consolidate", "mirror"} {
		random := rand.New(rand.NewPCG(uint64(seed), 915))
		top := t.TempDir()
		account := fmt.Sprint("place-", seed)
		h.linkFolder(account, top)
		tree := &randomTree{t: t, random: random, top: top}
		routes := []contract.Route{{From: "/" + account + "/one", To: "/" + account + "/to"}}
		tree.fill("one", 30)
		if kind == "consolidate" {
			tree.fill("two", 30)
			routes = append(routes, contract.Route{From: "/" + account + "/two", To: "/" + account + "/to"})
		}
		spec := contract.JobSpec{Name: "job-" + account, Type: kind, Routes: routes}
		if kind == "mirror" || kind == "two-way" {
			spec.Rules.Deletions, spec.Safety = "delete", contract.Safety{Deletions: "none", Overwrites: "none", Older: "none"}
		}
		if _, err := h.client().CreateJob(t.Context(), contract.NewJob{Spec: spec}); err != nil {
			t.Fatal(err)
		}
		for round := range 3 {
			if round > 0 {
				tree.change("one")
			}
			plan, err := h.client().PlanJob(t.Context(), spec.Name)
			if err != nil {
				t.Fatal(err)
			}
			started, err := h.client().StartJob(t.Context(), spec.Name)
			if err != nil {
				t.Fatal(err)
			}
			run, err := h.client().Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
			if err != nil || run.State != "done" {
				t.Fatalf("%s: %s, %s, %v", kind, run.State, run.Why, err)
			}
			what := fmt.Sprintf("%s, seed %d, round %d", kind, seed, round)
			told := h.agrees(what, plan, run)
			if round == 2 {
				h.pageAgrees(b, run, told)
			}
		}
	}
}

// agrees holds all that is said of a run against each other, and returns how many items it
// has.
func (h *heron) agrees(what string, plan contract.Plan, run contract.Run) (told int64) {
	h.t.Helper()
	planned := plan.Create.Items + plan.Replace.Items + plan.KeepBoth.Items + plan.Look.Items + plan.Ask.Items + plan.Left.Items +
		plan.Skipped.Items + plan.Refused.Items + plan.Folders + plan.Remove.Items - plan.Moved.Items + plan.FoldersRemoved
	told = run.Items.Done + run.Items.Skipped + run.Items.Failed + run.Items.Waiting
	if planned != told || plan.Unchanged.Items != run.Items.UpToDate {
		h.t.Errorf("%s: planned were %d items and %d in sync, and the run tells %+v (%+v)", what, planned, plan.Unchanged.Items, run.Items, plan)
	}
	if removed := plan.Remove.Items - plan.Moved.Items + plan.FoldersRemoved; removed != run.Items.Removed {
		h.t.Errorf("%s: %d removals were planned, and %d are told", what, removed, run.Items.Removed)
	}
	if run.Items.Failed == 0 && run.Bytes.Transferred > run.Bytes.Total {
		h.t.Errorf("%s: %+v", what, run.Bytes)
	}
	listed := contract.ItemCounts{UpToDate: run.Items.UpToDate, Removed: run.Items.Removed}
	items, caused := 0, int64(0)
	for item, err := range h.client().Items(h.t.Context(), run.ID, client.ItemFilter{}) {
		if err != nil {
			h.t.Fatal(err)
		}
		items++
		if item.Cause != "" {
			caused++
		}
		switch item.State {
		case "done":
			listed.Done++
		case "skipped":
			listed.Skipped++
		case "failed":
			listed.Failed++
		default:
			listed.Waiting++
		}
	}
	if listed != run.Items {
		h.t.Errorf("%s: the run tells %+v, and its items are %+v", what, run.Items, listed)
	}
	causes, err := h.client().Causes(h.t.Context(), run.ID)
	if err != nil {
		h.t.Fatal(err)
	}
	var counted int64
	for _, cause := range causes {
		counted += cause.Items
	}
	if counted != caused {
		h.t.Errorf("%s: by cause there are %d items, and %d of the items have a cause", what, counted, caused)
	}
	report := func(format string) []byte {
		var out bytes.Buffer
		if err := h.client().Report(h.t.Context(), run.ID, format, &out); err != nil {
			h.t.Fatal(err)
		}
		return out.Bytes()
	}
	var asJSON struct {
		Run   contract.Run    `json:"run"`
		Items []contract.Item `json:"items"`
	}
	if err := json.Unmarshal(report("json"), &asJSON); err != nil || asJSON.Run.Items != run.Items || asJSON.Run.Bytes != run.Bytes ||
		len(asJSON.Items) != items {
		h.t.Errorf("%s: the report tells %+v, %+v and %d items (%v), the run %+v, %+v and %d", what, asJSON.Run.Items, asJSON.Run.Bytes,
			len(asJSON.Items), err, run.Items, run.Bytes, items)
	}
	rows, err := csv.NewReader(bytes.NewReader(report("csv"))).ReadAll()
	if err != nil || len(rows) != items+1 {
		h.t.Errorf("%s: the table has %d rows below its head, and there are %d items, %v", what, len(rows)-1, items, err)
	}
	if said := h.must("run", "show", run.ID); !strings.Contains(said, fmt.Sprintf("%d done, %d failed, %d skipped, %d waiting; %d up to date",
		run.Items.Done, run.Items.Failed, run.Items.Skipped, run.Items.Waiting, run.Items.UpToDate)) {
		h.t.Errorf("%s: the run is %+v, and the terminal says\n%s", what, run.Items, said)
	}
	return told
}

// pageAgrees holds the page of a run against what is said of it.
func (h *heron) pageAgrees(b *window, run contract.Run, told int64) {
	h.t.Helper()
	b.open("http://" + h.listen + "/runs/" + run.ID)
	b.shows("Run " + run.ID)
	for label, n := range map[string]int64{"All": told, "Done": run.Items.Done, "Failed": run.Items.Failed, "Skipped": run.Items.Skipped,
		"Waiting": run.Items.Waiting} {
		b.shows(fmt.Sprintf("%s %d", label, n))
	}
}

// randomTree is files and folders that change at random.
type randomTree struct {
	t      *testing.T
	random *rand.Rand
	top    string
	writes int
}

func (r *randomTree) path(below string) string {
	return filepath.Join(r.top, below, fmt.Sprint("folder ", r.random.IntN(4)), fmt.Sprint("file ", r.random.IntN(40)))
}

func (r *randomTree) fill(below string, files int) {
	for range files {
		r.writes++
		writeFile(r.t, fmt.Sprint("content ", r.random.IntN(12), strings.Repeat(".", r.random.IntN(3))), r.path(below))
	}
	for i := range r.random.IntN(3) {
		if err := os.MkdirAll(filepath.Join(r.top, below, fmt.Sprint("empty ", i, " ", r.random.IntN(1000))), 0o777); err != nil {
			r.t.Fatal(err)
		}
	}
}

// change writes, moves and removes some.
func (r *randomTree) change(below string) {
	r.t.Helper()
	r.fill(below, 4)
	files, _ := filepath.Glob(filepath.Join(r.top, below, "*", "*"))
	r.random.Shuffle(len(files), func(i, j int) { files[i], files[j] = files[j], files[i] })
	for i, file := range files[:min(6, len(files))] {
		var err error
		if i%2 == 0 {
			err = os.Rename(file, file+" moved")
		} else {
			err = os.Remove(file)
		}
		if err != nil {
			r.t.Fatal(err)
		}
	}
}

// TestHeldCopiesCount has a copy that is of no job wait for a person: it is told at the top
// of every page.
func TestHeldCopiesCount(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	writeFile(t, "one", from, "tree", "a.txt")
	writeFile(t, "another", to, "tree", "a.txt")
	for range 2 {
		if r := h.run("", "copy", "/desk/tree", "/archive", "--conflict", "ask"); r.code != 3 {
			t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
		}
	}
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("2 runs held")
}
