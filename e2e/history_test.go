package e2e

import (
	"bufio"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/zeebo/blake3"

	"deftheron/contract"
	"deftheron/servertest"
)

// moment is a time of which everything before has ended and nothing after has begun.
func moment() string {
	time.Sleep(20 * time.Millisecond)
	at := time.Now()
	time.Sleep(20 * time.Millisecond)
	return at.Format(time.RFC3339Nano)
}

// wasAll are the files below a folder as they were at a time, by their path below it, with
// their contents.
func (h *heron) wasAll(address, at string) map[string]string {
	h.t.Helper()
	files := map[string]string{}
	var walk func(folder string)
	walk = func(folder string) {
		for line := range strings.Lines(h.must("ls", "--json", "--at", at, folder)) {
			var entry contract.Entry
			if err := json.Unmarshal([]byte(line), &entry); err != nil {
				h.t.Fatalf("%v: %s", err, line)
			}
			if entry.Kind == "folder" {
				walk(entry.Address)
				continue
			}
			files[strings.TrimPrefix(entry.Address, address+"/")] = h.must("cat", "--at", at, entry.Address)
		}
	}
	walk(address)
	return files
}

// TestHistoryEverywhere overwrites, deletes, renames, looks back, restores and rehearses at
// every kind of place.
func TestHistoryEverywhere(t *testing.T) {
	t.Parallel()
	h := start(t)
	names := linkServers(t, h)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	var group sync.WaitGroup
	lanes := make(chan struct{}, 3)
	for _, name := range names {
		group.Go(func() {
			lanes <- struct{}{}
			defer func() { <-lanes }()
			h.historyAt(t, desk, name)
		})
	}
	group.Wait()
}

func (h *heron) historyAt(t *testing.T, desk, name string) {
	source := filepath.Join(desk, name)
	for i := range 6 {
		writeFile(t, fmt.Sprint("content ", i), source, "sub", fmt.Sprint(i, ".txt"))
	}
	writeFile(t, "in a folder that goes", source, "gone", "deep", "f.txt")
	target, job := "/"+name+"/mirrored", "mirror-"+name
	h.must("job", "create", job, "--type", "mirror", "--from", "/desk/"+name, "--to", target, "--safety-deletions", "none",
		"--safety-overwrites", "none")
	run := func() {
		if r := h.run("", "job", "start", job, "--json"); r.code != 0 {
			t.Errorf("%s: the mirror ended with %d\n%s%s", name, r.code, r.out, r.err)
		}
	}
	run()
	first := moment()
	before := h.wasAll(target, first)
	writeFile(t, "another content", source, "sub", "0.txt")
	for _, gone := range []string{"sub/1.txt", "gone"} {
		if err := os.RemoveAll(filepath.Join(source, gone)); err != nil {
			t.Error(err)
		}
	}
	if err := os.Rename(filepath.Join(source, "sub", "2.txt"), filepath.Join(source, "sub", "renamed.txt")); err != nil {
		t.Error(err)
	}
	writeFile(t, "new", source, "sub", "new.txt")
	run()
	second := moment()
	after := h.wasAll(target, second)
	if len(before) != 7 || len(after) != 6 {
		t.Errorf("%s: there were %d and %d files, want 7 and 6: %v, %v", name, len(before), len(after), before, after)
	}
	same(t, name+", as it was at first", h.wasAll(target, first), before)
	h.must("history", "restore", target+"/sub/1.txt", "--at", first, "--yes")
	if got := h.must("cat", target+"/sub/1.txt"); got != "content 1" {
		t.Errorf("%s: the restored file holds %q", name, got)
	}
	h.must("history", "restore", target, "--at", first, "--exact", "--yes")
	same(t, name+", restored", h.wasAll(target, moment()), before)
	h.must("history", "restore", target, "--at", second, "--exact", "--yes")
	same(t, name+", after the restore was taken back", h.wasAll(target, moment()), after)
	var rehearsal contract.Rehearsal
	if r := h.run("", "history", "rehearse", job, "--all", "--at", first, "--json"); r.code != 0 ||
		json.Unmarshal([]byte(r.out), &rehearsal) != nil ||
		rehearsal.State != "passed" || rehearsal.Files != 7 {
		t.Errorf("%s: the rehearsal ended with %d: %s%s", name, r.code, r.out, r.err)
	}
}

// TestDayOfTheGlitch has a provider lose and roll back files without a word. The mirror is
// held; and let go by mistake, nothing is lost all the same.
func TestDayOfTheGlitch(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	h.linkDrives(c)
	shell := servertest.StartOpenSSH(t)
	place := shell.Folder(t)
	link := func(h *heron) {
		h.link(shell.Password, "sftp", "archive", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", place)
	}
	link(h)
	desk := t.TempDir()
	for i := range 40 {
		writeFile(t, fmt.Sprint("report ", i), desk, "Reports", fmt.Sprint("year ", i%4), fmt.Sprint("report ", i, ".txt"))
	}
	h.must("put", filepath.Join(desk, "Reports"), "/office-drive")
	h.must("job", "create", "office-mirror", "--type", "mirror", "--from", "/office-drive/Reports", "--to", "/archive/Reports")
	h.job("office-mirror", 0)
	for i := range 4 {
		writeFile(t, fmt.Sprint("report ", i, ", revised"), desk, "Reports", fmt.Sprint("year ", i), fmt.Sprint("report ", i, ".txt"))
		h.must("put", "--yes", filepath.Join(desk, "Reports", fmt.Sprint("year ", i), fmt.Sprint("report ", i, ".txt")),
			"/office-drive/Reports/"+fmt.Sprint("year ", i))
	}
	h.job("office-mirror", 0)
	h.must("history", "rehearse", "office-mirror")
	yesterday := moment()
	before := h.wasAll("/archive/Reports", yesterday)
	if len(before) != 40 || before["year 1/report 1.txt"] != "report 1, revised" {
		t.Fatalf("%d files were mirrored: %v", len(before), before)
	}

	if lost, back, err := c.Alder.Control.Glitch("/Reports"); err != nil || lost != 36 || back != 4 {
		t.Fatalf("%d were lost and %d went back, %v", lost, back, err)
	}
	held := h.job("office-mirror", 3)
	same(t, "what is mirrored while the run is held", h.wasAll("/archive/Reports", moment()), before)
	h.must("run", "approve", held.ID)
	if ended := h.until(held.ID, "done"); ended.Items.Done == 0 {
		t.Errorf("the approved run did nothing: %+v", ended.Items)
	}
	if left := h.wasAll("/archive/Reports", moment()); len(left) != 4 || left["year 1/report 1.txt"] != "report 1" {
		t.Errorf("after the approval there are %v", left)
	}
	same(t, "yesterday", h.wasAll("/archive/Reports", yesterday), before)
	h.keptWithoutUs(t, place, before)

	h.must("history", "restore", "/archive/Reports/year 1/report 1.txt", "--at", yesterday, "--yes")
	if got := h.must("cat", "/archive/Reports/year 1/report 1.txt"); got != "report 1, revised" {
		t.Errorf("the file that was restored by a command holds %q", got)
	}
	h.restoreInConsole(t, "/archive/Reports/year 2", yesterday)
	h.must("history", "restore", "/archive/Reports", "--at", yesterday, "--exact", "--yes")
	same(t, "everything restored", h.wasAll("/archive/Reports", moment()), before)
	if r := h.run("", "compare", "/archive/Reports", "--at", yesterday); r.code != 0 {
		t.Errorf("yesterday and now differ:\n%s%s", r.out, r.err)
	}

	// The records are lost: another service finds the versions in the account.
	other := start(t)
	link(other)
	if got := other.wasAll("/archive/Reports", yesterday); len(got) != 40 {
		t.Errorf("without its records there were %d files", len(got))
	}
	same(t, "yesterday, without the records", other.wasAll("/archive/Reports", yesterday), before)
	if past := other.must("history", "list", "/archive/Reports/year 1/report 1.txt"); !strings.Contains(past, "overwritten") {
		t.Errorf("the versions that another service finds are\n%s", past)
	}
}

// keptWithoutUs finds the versions as somebody would who has neither the program nor its
// records: by the manifests, with BLAKE3.
func (h *heron) keptWithoutUs(t *testing.T, place string, before map[string]string) {
	t.Helper()
	manifests, err := filepath.Glob(filepath.Join(place, ".heron", "history", "*", "manifest-*.jsonl"))
	if err != nil || len(manifests) == 0 {
		t.Fatalf("there are %d manifests, %v", len(manifests), err)
	}
	slices.Sort(manifests)
	last := map[string]string{}
	for _, manifest := range manifests {
		file, err := os.Open(manifest)
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		for lines := bufio.NewScanner(file); lines.Scan(); {
			var line struct{ Path, Change, Kept, Hash string }
			if err := json.Unmarshal(lines.Bytes(), &line); err != nil {
				t.Fatal(err)
			}
			if line.Kept == "" {
				continue
			}
			content, err := os.ReadFile(filepath.Join(place, filepath.FromSlash(line.Kept)))
			if err != nil {
				t.Fatal(err)
			}
			if sum := blake3.Sum256(content); line.Hash != "blake3="+hex.EncodeToString(sum[:]) {
				t.Errorf("%s has another hash than %s", line.Kept, line.Hash)
			}
			last[strings.TrimPrefix(line.Path, "/Reports/")] = string(content)
		}
	}
	for name, content := range before {
		if last[name] != content {
			t.Errorf("the last version of %s is %q, want %q", name, last[name], content)
		}
	}
}

// restoreInConsole restores a folder on its page.
func (h *heron) restoreInConsole(t *testing.T, address, at string) {
	t.Helper()
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/history?" + url.Values{"of": {address}, "at": {at}}.Encode())
	b.shows("10 entries at")
	b.shows("not there now")
	b.accessible("the history of a folder")
	b.click("Restore this folder…")
	b.shows("9 files to copy")
	b.accessible("restoring a folder")
	b.click("Restore 10 items")
	b.shows("done")
	b.waits("Done 10")
}
