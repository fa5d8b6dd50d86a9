package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// job starts a run of a job and returns what came of it.
func (h *heron) job(name string, code int) (run contract.Run) {
	h.t.Helper()
	r := h.run("", "job", "start", name, "--json")
	if r.code != code {
		h.t.Fatalf("job start %s ends with %d, want %d:\n%s%s", name, r.code, code, r.out, r.err)
	}
	if err := json.Unmarshal([]byte(r.out), &run); err != nil {
		h.t.Fatalf("%v: %s", err, r.out)
	}
	return run
}

// bothHold holds two folders against each other, and against how many files there
// should be; what is ours is left out.
func bothHold(t *testing.T, one, other string, files int) {
	t.Helper()
	a, b := digest(t, one), digest(t, other)
	for _, held := range []map[string]string{a, b} {
		for name := range held {
			if strings.HasPrefix(name, ".heron") || strings.HasSuffix(name, "/") {
				delete(held, name)
			}
		}
	}
	same(t, other, b, a)
	if len(a) != files {
		t.Errorf("%s holds %d files, want %d: %v", one, len(a), files, a)
	}
}

// TestTwoWayJob keeps a folder and a bucket in sync through the built program.
func TestTwoWayJob(t *testing.T) {
	t.Parallel()
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	desk, place := t.TempDir(), shell.Folder(t)
	h.linkFolder("desk", desk)
	h.link(shell.Password, "sftp", "archive", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", place)
	far := filepath.Join(place, "shared")
	for i := range 30 {
		writeFile(t, fmt.Sprint("file ", i), desk, "papers", fmt.Sprint(i))
	}
	writeFile(t, "theirs", far, "theirs")
	writeFile(t, "the same", far, "both")
	writeFile(t, "the same", desk, "papers", "both")

	made := h.must("job", "create", "keep", "--type", "two-way", "--from", "/desk/papers", "--to", "/archive/shared")
	if !strings.Contains(made, "A change wins over a deletion") {
		t.Errorf("it is not said what the job does: %s", made)
	}
	var plan contract.Plan
	if err := json.Unmarshal([]byte(h.must("job", "plan", "keep", "--json")), &plan); err != nil {
		t.Fatal(err)
	}
	if plan.Create.Items != 31 || plan.Back.Items != 1 || plan.Remove.Items != 0 || plan.Held != nil {
		t.Errorf("the plan of a first run: %+v", plan)
	}
	h.job("keep", 0)
	bothHold(t, desk+"/papers", far, 32)
	if run := h.job("keep", 0); run.Items.Done != 0 || run.Items.UpToDate != 32 {
		t.Errorf("a second run: %+v", run.Items)
	}

	// At both sides something is changed, removed, renamed, and both change one.
	writeFile(t, "changed here", desk, "papers", "1")
	writeFile(t, "changed there", far, "2")
	os.Remove(filepath.Join(desk, "papers", "3"))
	os.Remove(filepath.Join(far, "4"))
	os.Rename(filepath.Join(desk, "papers", "5"), filepath.Join(desk, "papers", "five"))
	writeFile(t, "changed here too", desk, "papers", "6")
	writeFile(t, "changed there too", far, "6")
	os.Remove(filepath.Join(desk, "papers", "7"))
	writeFile(t, "changed there, removed here", far, "7")
	run := h.job("keep", 0)
	bothHold(t, desk+"/papers", far, 31)
	if content, _ := os.ReadFile(filepath.Join(desk, "papers", "7")); string(content) != "changed there, removed here" {
		t.Errorf("a removal won over a change: %q", content)
	}
	kept, _ := filepath.Glob(filepath.Join(far, "6 (from desk *)"))
	if len(kept) != 1 || run.Items.Removed == 0 {
		t.Errorf("both contents of the conflict: %v; %+v", kept, run.Items)
	}
	back, _ := filepath.Glob(filepath.Join(desk, ".heron", "history", "*", "files", "papers", "4"))
	if len(back) != 1 {
		t.Errorf("what was removed there cannot be brought back here: %v", back)
	}
	if run := h.job("keep", 0); run.Items.Done != 0 {
		t.Errorf("what we wrote came back as a change: %+v", run.Items)
	}

	// A provider empties one side: nothing is touched until somebody says so.
	os.RemoveAll(far)
	os.MkdirAll(far, 0o755)
	run = h.job("keep", 3)
	if run.State != "held" || run.Cause != "source-emptied" && run.Cause != "safety" {
		t.Fatalf("one side was emptied: %+v", run)
	}
	h.says("", 1, "is held", "job", "start", "keep")
	if out := h.must("run", "items", run.ID, "--state", "waiting"); strings.Count(out, "delete /desk/papers/") < 30 {
		t.Errorf("what it would do:\n%s", out)
	}
	h.end(syscall.SIGTERM)
	h.serve() // it is held over a restart
	if again, err := h.client().Run(t.Context(), run.ID); err != nil || again.State != "held" {
		t.Fatalf("after a restart: %+v, %v", again, err)
	}
	if files, _ := os.ReadDir(filepath.Join(desk, "papers")); len(files) != 31 {
		t.Errorf("%d files are left", len(files))
	}
	h.must("run", "cancel", run.ID, "--yes")
	h.until(run.ID, "cancelled")
	h.says("", 1, "Only a held run can be approved.", "run", "approve", run.ID)
}

// TestMirrorJob mirrors one folder to another, and is let go where the safety limits held it.
func TestMirrorJob(t *testing.T) {
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("disk", to)
	for i := range 20 {
		writeFile(t, fmt.Sprint("file ", i), from, "logs", fmt.Sprint(i))
	}
	h.must("job", "create", "logs", "--type", "mirror", "--from", "/desk/logs", "--to", "/disk/logs", "--safety-deletions", "2")
	h.job("logs", 0)
	for i := range 5 {
		os.Remove(filepath.Join(from, "logs", fmt.Sprint(i)))
	}
	if out := h.must("job", "plan", "logs"); !strings.Contains(out, "would be held") || !strings.Contains(out, "/disk/logs/4") {
		t.Errorf("the plan does not say what the safety limits hold:\n%s", out)
	}
	run := h.job("logs", 3)
	bothHold(t, to+"/logs", to+"/logs", 20)
	h.must("run", "approve", run.ID)
	h.until(run.ID, "done")
	bothHold(t, from+"/logs", to+"/logs", 15)
	if list := h.must("job", "list"); !strings.Contains(list, "mirror") || !strings.Contains(list, "done") {
		t.Errorf("the list of jobs:\n%s", list)
	}

	// Older versions come back at the source.
	old := time.Now().Add(-72 * time.Hour)
	writeFile(t, "an older version", from, "logs", "7")
	os.Chtimes(filepath.Join(from, "logs", "7"), old, old)
	if run := h.job("logs", 3); run.Cause != "source-rolled-back" {
		t.Errorf("rolled back: %+v", run)
	}
	h.says("", 1, "heron run cancel", "job", "delete", "logs", "--yes")
}

// TestJobFiles loads, changes and writes jobs as files.
func TestJobFiles(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	h.linkFolder("disk", t.TempDir())
	file := filepath.Join(t.TempDir(), "jobs.yaml")
	text := "job: nightly\ntype: mirror\nroutes: [{from: /desk, to: /disk/desk}]\n" +
		"when: {weekly: \"mon-fri 22:00-06:00\", zone: Europe/Lisbon}\nrules: {exclude: [\"*.tmp\"]}\nsafety: {deletions: 5%}\n" +
		"retry: {tries: 8, within: 2h}\n"
	write := func(text string) {
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(text)
	if out := h.must("job", "load", file, "--try"); !strings.Contains(out, "is new") {
		t.Errorf("tried: %s", out)
	}
	h.says("", 1, "no job called nightly", "job", "show", "nightly")
	h.must("job", "load", file)
	if out := h.must("job", "load", file); !strings.Contains(out, "is unchanged") {
		t.Errorf("loaded twice: %s", out)
	}
	write(strings.Replace(text, "5%", "7%", 1) + "---\njob: once\ntype: copy\nroutes: [{from: /desk, to: /disk/once}]\nwhen: {now: true}\n")
	if out := h.must("job", "load", file); !strings.Contains(out, "+ safety: {deletions: 7%}") ||
		!strings.Contains(out, "- safety: {deletions: 5%}") {
		t.Errorf("what differs is not said: %s", out)
	}
	var job contract.Job
	if err := json.Unmarshal([]byte(h.must("job", "show", "nightly", "--json")), &job); err != nil {
		t.Fatal(err)
	}
	if len(job.Next) != 5 || job.Safety.Deletions != "7%" || job.Retry.Within != "2h" {
		t.Errorf("the job: %+v", job)
	}
	lisbon, _ := time.LoadLocation("Europe/Lisbon")
	if at := job.Next[0].In(lisbon); at.Hour() != 22 || at.Minute() != 0 {
		t.Errorf("it runs next at %v", at)
	}
	if err := json.Unmarshal([]byte(h.must("job", "show", "once", "--json")), &job); err != nil || job.Last == nil {
		t.Errorf("the job that was to run now: %+v, %v", job, err)
	}
	written := h.must("job", "show", "nightly", "--file", "-")
	write(written)
	if out := h.must("job", "load", file); !strings.Contains(out, "is unchanged") {
		t.Errorf("what was written is loaded as something else: %s\n%s", out, written)
	}
	h.must("job", "edit", "nightly", "--every", "6h", "--deletions", "delete")
	if out := h.must("job", "show", "nightly"); !strings.Contains(out, "every 6h") || !strings.Contains(out, "deleted on the other") {
		t.Errorf("edited: %s", out)
	}
	h.must("job", "suspend", "nightly")
	if out := h.must("job", "list"); !strings.Contains(out, "suspended") {
		t.Errorf("suspended: %s", out)
	}
	h.must("job", "resume", "nightly")

	// What is wrong is said before anything is changed.
	for change, words := range map[[2]string][]string{
		{"safety:", "brake:"}:                                   {"Line 6", `"brake" is now called "safety"`},
		{"to: /disk/desk", "to: /desk/inside"}:                  {"overlap"},
		{"zone: Europe/Lisbon", "zone: Europe/Nowhere"}:         {"time zone", "Europe/Nowhere"},
		{"weekly: \"mon-fri 22:00-06:00\"", "cron: 0 0 30 2 *"}: {"never runs"},
		{"from: /desk", "from: /nobody"}:                        {"no account", "nobody"},
		{"deletions: 5%", "deletions: half"}:                    {"half", "10%"},
		{"tries: 8", "tries: 800"}:                              {"800"},
		{"type: mirror", "type: sync"}:                          {"not a type of job"},
	} {
		bad := strings.Replace(text, change[0], change[1], 1)
		if bad == text {
			t.Fatalf("%q is not in the file", change[0])
		}
		write(bad)
		r := h.run("", "job", "load", file)
		for _, word := range words {
			if r.code == 0 || !strings.Contains(r.err, word) {
				t.Errorf("%q: ends with %d, and says %s; want it to say %s", change[1], r.code, r.err, word)
			}
		}
	}
	h.must("mkdir", "/desk/a", "/disk/b")
	h.must("job", "create", "ab", "--type", "two-way", "--from", "/desk/a", "--to", "/disk/b")
	h.says("", 1, "ring", "job", "create", "ba", "--type", "two-way", "--from", "/disk/b", "--to", "/desk/a")
	h.says("", 1, "already", "job", "create", "nightly", "--from", "/desk/a", "--to", "/disk/c")
	h.says("", 2, "pairs", "job", "create", "x", "--from", "/desk/a")
	h.says("", 1, "the jobs ab, nightly, once", "account", "unlink", "desk", "--yes")
}

// TestSamePlaceTwice refuses ends that overlap through two accounts of one place.
func TestSamePlaceTwice(t *testing.T) {
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	place := shell.Folder(t)
	h.linkFolder("near", place)
	h.link(shell.Password, "sftp", "far", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", place)
	os.MkdirAll(filepath.Join(place, "x"), 0o755)
	h.says("", 1, "are the same place", "job", "create", "self", "--type", "mirror", "--from", "/near/x", "--to", "/far")
	h.says("", 1, "are the same place", "job", "create", "self", "--type", "two-way", "--from", "/far", "--to", "/near/x")
	h.must("job", "create", "apart", "--type", "mirror", "--from", "/near/x", "--to", "/far/y")
}

// TestConsolidateJob merges two drives and a folder, whose hashes are of three kinds, in
// an object store: identical files once, conflicts named by their source, and each
// reported.
func TestConsolidateJob(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkDrives(clouds(t))
	objects, local, desk := servertest.StartObjectStore(t), t.TempDir(), t.TempDir()
	h.linkBucket("archive", objects, objects.Bucket(t))
	h.linkFolder("desk", desk)
	for i := range 6 {
		writeFile(t, fmt.Sprint("picture ", i, strings.Repeat(" of the river", 50)), local, "all", "pictures", fmt.Sprint("weir ", i, ".jpg"))
	}
	writeFile(t, "field's", local, "all", "notes.txt")
	h.must("put", filepath.Join(local, "all"), "/field-drive")
	os.Rename(filepath.Join(local, "all", "pictures"), filepath.Join(local, "all", "again"))
	writeFile(t, "office's", local, "all", "notes.txt")
	h.must("put", filepath.Join(local, "all"), "/office-drive")
	writeFile(t, fmt.Sprint("picture ", 3, strings.Repeat(" of the river", 50)), desk, "all", "the weir.jpg")
	writeFile(t, "desk's own", desk, "all", "own.txt")

	h.says("", 2, "keeps every file", "job", "create", "x", "--identical", "once", "--from", "/desk/all", "--to", "/archive/x")
	h.says("", 2, "not a rule for identical", "job", "create", "x", "--type", "consolidate", "--identical", "twice", "--from", "/desk/all",
		"--to", "/archive/x")
	h.must("job", "create", "together", "--type", "consolidate", "--from", "/field-drive/all", "--to", "/archive/all",
		"--from", "/office-drive/all", "--to", "/archive/all", "--from", "/desk/all", "--to", "/archive/all")
	run := h.job("together", 0)
	if run.Items.Done != 9 || run.Items.Skipped != 7 {
		t.Errorf("merged: %+v", run.Items)
	}
	items := h.must("run", "items", run.ID, "--state", "skipped")
	if strings.Count(items, "the same as /archive/all/") != 7 {
		t.Errorf("it is not reported what was there already:\n%s", items)
	}
	h.must("get", "/archive/all", local+"/back", "--yes")
	got := digest(t, filepath.Join(local, "back"))
	sums := map[string]bool{}
	for _, sum := range got {
		sums[sum] = true
	}
	kept := 0
	for name := range got {
		if strings.Contains(name, "notes (from ") {
			kept++
		}
	}
	if len(got) != 9 || len(sums) != 9 || kept != 1 {
		t.Errorf("the archive holds %v", got)
	}
	if again := h.job("together", 0); again.Items.Done != 0 || again.Bytes.Transferred != 0 {
		t.Errorf("a second time: %+v", again.Items)
	}

	// Each in a folder of its own, all of them are kept.
	h.must("job", "create", "apart", "--type", "consolidate", "--from", "/field-drive/all", "--to", "/archive/apart/field", "--from",
		"/office-drive/all", "--to", "/archive/apart/office")
	if run := h.job("apart", 0); run.Items.Done != 14 || run.Items.Skipped != 0 {
		t.Errorf("apart: %+v", run.Items)
	}
}

// TestSeveralTargets keeps one source at two places.
func TestSeveralTargets(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, one, other := t.TempDir(), t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("near", one)
	h.linkFolder("far", other)
	for i := range 12 {
		writeFile(t, fmt.Sprint("file ", i), from, "reports", fmt.Sprint(i))
	}
	h.must("job", "create", "twice", "--type", "mirror", "--from", "/desk/reports", "--to", "/near/reports", "--from", "/desk/reports", "--to",
		"/far/reports")
	h.job("twice", 0)
	os.Remove(filepath.Join(from, "reports", "3"))
	writeFile(t, "changed", from, "reports", "4")
	h.job("twice", 0)
	bothHold(t, from+"/reports", one+"/reports", 11)
	bothHold(t, from+"/reports", other+"/reports", 11)
	h.says("", 2, "several targets", "job", "create", "away", "--type", "migrate", "--clear", "--from", "/desk/reports", "--to", "/near/away",
		"--from", "/desk/reports", "--to", "/far/away")
}

// TestOneStorageTwice links one disk twice, as a folder and by way of a server with another
// starting folder: no kind of job that removes does so there.
func TestOneStorageTwice(t *testing.T) {
	t.Parallel()
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	disk := shell.Folder(t)
	for i := range 20 {
		writeFile(t, fmt.Sprint("file ", i), disk, "all", "papers", fmt.Sprint(i))
	}
	before := digest(t, disk)
	h.linkFolder("desk", filepath.Join(disk, "all"))
	h.link(shell.Password, "sftp", "archive", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", disk)
	for _, job := range []struct {
		name    string
		options []string
	}{
		{"mirrored", []string{"--type", "mirror", "--deletions", "delete"}},
		{"kept-in-step", []string{"--type", "two-way", "--deletions", "delete"}},
		{"migrated", []string{"--type", "migrate", "--clear"}},
	} {
		h.must(append([]string{"job", "create", job.name, "--from", "/desk/papers", "--to", "/archive/all/papers"}, job.options...)...)
		var run contract.Run
		for step := 0; step < 6 && run.Cause == "" && run.State != "failed"; step++ {
			r := h.run("", "job", "start", job.name, "--yes", "--json")
			if err := json.Unmarshal([]byte(r.out), &run); err != nil {
				t.Logf("%s: exit %d, %s%s", job.name, r.code, r.out, r.err)
				break
			}
			t.Logf("%s: %s %s %s %s", job.name, run.Step, run.State, run.Cause, run.Why)
		}
		if run.State != "failed" || run.Cause != "same-storage" {
			t.Errorf("%s ended %s, %s, %s", job.name, run.State, run.Cause, run.Why)
		}
	}
	after := digest(t, disk)
	for name, sum := range before {
		if after[name] != sum {
			t.Errorf("%s is gone, or another", name)
		}
	}
}
