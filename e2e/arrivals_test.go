package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/servertest"
)

// arrived waits until so many arrivals of a job are done, and returns them by their
// addresses.
func (h *heron) arrived(job string, want int) map[string]contract.Arrival {
	h.t.Helper()
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		all, err := h.client().Arrivals(h.t.Context(), job)
		if err != nil {
			h.t.Fatal(err)
		}
		done := map[string]contract.Arrival{}
		for _, one := range all {
			if one.State == "done" {
				done[one.Address] = one
			}
		}
		if len(done) == want && len(all) == want {
			return done
		}
		if time.Now().After(deadline) {
			h.t.Fatalf("%d arrivals are done, want %d: %+v\n%s", len(done), want, all, h.log)
		}
	}
}

// runsOf are the runs of a job.
func (h *heron) runsOf(job string) (runs []contract.Run) {
	h.t.Helper()
	for run, err := range h.client().Runs(h.t.Context(), client.RunFilter{}) {
		if err != nil {
			h.t.Fatal(err)
		}
		if run.Job == job {
			runs = append(runs, run)
		}
	}
	return runs
}

// TestArrivals has each file that arrives at a drive, and each folder that arrives at a
// file server, transferred by a run of its own, once it is complete and once each.
func TestArrivals(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkDrives(clouds(t))
	shell := servertest.StartOpenSSH(t)
	place, disk := shell.Folder(t), t.TempDir()
	h.link(shell.Password, "sftp", "share", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", place)
	h.linkFolder("disk", disk)
	local := t.TempDir()
	put := func(content, name string) {
		t.Helper()
		writeFile(t, content, local, filepath.Base(name))
		folder := strings.TrimSuffix("/office-drive/In/"+filepath.Dir(name), "/.")
		h.must("mkdir", "-p", folder)
		h.must("put", filepath.Join(local, filepath.Base(name)), folder, "--yes")
	}
	put("was there", "old/was-there.csv")

	// What is wrong is said; the rule is tried on the latest real arrival before it is
	// switched on, and nothing is changed by that.
	rule := []string{"--on-arrival", "file", "--rest", "1s", "--from", "/office-drive/In", "--to", "/disk/out", "--include", "*.csv", "--as",
		"{run:%Y}/{folder}/{stem}-taken.{ext}"}
	create := func(name string, more ...string) []string {
		return append(append([]string{"job", "create", name}, rule...), more...)
	}
	h.says("", 2, "cannot arrive", "job", "create", "x", "--on-arrival", "album", "--from", "/office-drive/In", "--to", "/disk/out")
	h.says("", 2, "compares everything", "job", "create", "x", "--type", "mirror", "--on-arrival", "file", "--from", "/office-drive/In",
		"--to", "/disk/out")
	h.says("", 2, "not a waiting time", create("x", "--rest", "0s")...)
	h.says("", 2, "jobs that run on arrivals", "job", "create", "x", "--at-once", "3", "--from", "/office-drive/In", "--to", "/disk/out")
	year := time.Now().UTC().Format("2006")
	if out := h.must(create("take", "--try")...); !strings.Contains(out, "/office-drive/In/old/was-there.csv → /disk/out/"+year+
		"/old/was-there-taken.csv") {
		t.Errorf("tried: %s", out)
	}
	h.says("", 1, "no job called take", "job", "show", "take")
	h.must(create("take", "--suspended", "--at-once", "2")...)
	var tried contract.TriedArrival
	if err := json.Unmarshal([]byte(h.must("job", "test", "take", "--json")), &tried); err != nil || !tried.Matches ||
		tried.Plan.Create.Items != 1 {
		t.Errorf("tried: %+v, %v", tried, err)
	}
	h.says("", 1, "is suspended", "job", "announce", "take", "/office-drive/In/old/was-there.csv")
	h.must("job", "resume", "take")
	if held, _ := os.ReadDir(disk); len(held) != 0 {
		t.Errorf("trying wrote %v", held)
	}

	// Arrivals, those that do not match, and one that comes while the service is away.
	for i := range 6 {
		put(fmt.Sprint("new ", i), fmt.Sprintf("day %d/new%d.csv", i%2, i))
	}
	put("not taken", "note.txt")
	h.end(syscall.SIGKILL)
	h.serve()
	put("while it begins", "late.csv")
	done := h.arrived("take", 7)
	for i := range 6 {
		comesToHold(t, fmt.Sprint("new ", i), disk, "out", year, fmt.Sprint("day ", i%2), fmt.Sprintf("new%d-taken.csv", i))
	}
	if len(digest(t, filepath.Join(disk, "out"))) != 7 {
		t.Errorf("taken: %v", digest(t, filepath.Join(disk, "out")))
	}
	first := done["/office-drive/In/day 0/new0.csv"]

	// A change is an arrival again; what was announced does not have to rest, and goes
	// once.
	put("changed", "day 0/new0.csv")
	h.must("job", "edit", "take", "--rest", "1h")
	var edited contract.Job
	if err := json.Unmarshal([]byte(h.must("job", "show", "take", "--json")), &edited); err != nil ||
		edited.Arrivals != (contract.Arrivals{Rest: "1h", AtOnce: 2}) {
		t.Errorf("edited: %+v, %v", edited.Arrivals, err)
	}
	put("announced", "told.csv")
	request, _ := http.NewRequestWithContext(t.Context(), http.MethodPost, "http://"+h.listen+"/api/v1/jobs/take/arrivals",
		strings.NewReader(`{"address": "/office-drive/In/told.csv"}`))
	request.Header.Set("Authorization", "Bearer "+h.token())
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	if err != nil || answer.StatusCode != http.StatusAccepted {
		t.Fatalf("announced: %+v, %v", answer, err)
	}
	answer.Body.Close()
	comesToHold(t, "announced", disk, "out", year, "told-taken.csv")
	h.must("job", "announce", "take", "/office-drive/In/told.csv")
	h.says("", 1, "matches the job", "job", "announce", "take", "/office-drive/In/note.txt")
	h.says("", 1, "lies in no source", "job", "announce", "take", "/disk/out")
	h.must("job", "edit", "take", "--rest", "1s")
	comesToHold(t, "changed", disk, "out", year, "day 0", "new0-taken.csv")
	done = h.arrived("take", 8)
	if again := done["/office-drive/In/day 0/new0.csv"]; again.Run == first.Run || again.Run == "" {
		t.Errorf("a change had the run %q, and the file before %q", again.Run, first.Run)
	}
	if runs := h.runsOf("take"); len(runs) != 9 {
		t.Errorf("9 arrivals had %d runs", len(runs))
	}

	// The account has another name from now on, and arrivals are noticed as before.
	h.must("account", "edit", "office-drive", "--name", "the-office")
	writeFile(t, "renamed", local, "renamed.csv")
	h.must("put", filepath.Join(local, "renamed.csv"), "/the-office/In")
	comesToHold(t, "renamed", disk, "out", year, "renamed-taken.csv")

	// Folders, of which some types alone are taken, from a server that tells no changes.
	writeFile(t, "there", place, "in", "before", "a.csv")
	h.must("job", "create", "folders", "--on-arrival", "folder", "--rest", "2s", "--at-once", "1", "--types", "pictures", "--from",
		"/share/in", "--to", "/disk/folders")
	for i := range 5 { // it is still being written for longer than it has to rest
		writeFile(t, fmt.Sprint("picture ", i), place, "in", "flight", "deep", fmt.Sprint(i, ".jpg"))
		writeFile(t, "log", place, "in", "flight", fmt.Sprint(i, ".log"))
		time.Sleep(700 * time.Millisecond)
		if _, err := os.Stat(filepath.Join(disk, "folders")); err == nil {
			t.Errorf("it was taken before it rested, after %d of its files", i)
		}
	}
	one := h.arrived("folders", 1)["/share/in/flight"]
	if got := digest(t, filepath.Join(disk, "folders")); len(got) != 5 || got["flight/deep/4.jpg"] == "" {
		t.Errorf("of the folder were taken %v", got)
	}
	if run, err := h.client().Run(t.Context(), one.Run); err != nil || run.Items.Done != 5 ||
		run.StartedBy != "the arrival of /share/in/flight" {
		t.Errorf("its run: %+v, %v", run, err)
	}
}
