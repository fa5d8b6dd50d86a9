package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/servertest"
)

// comesToHold waits until a file holds something, or is gone where that is empty, and
// returns how long it took.
func comesToHold(t *testing.T, content string, path ...string) time.Duration {
	t.Helper()
	begun := time.Now()
	for time.Since(begun) < 30*time.Second {
		got, err := os.ReadFile(filepath.Join(path...))
		if err == nil && string(got) == content || content == "" && os.IsNotExist(err) {
			return time.Since(begun)
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatalf("%s does not come to hold %q", filepath.Join(path...), content)
	return 0
}

// watching waits until the run of a continuous job has done all and waits for changes.
func (h *heron) watching(job string) string {
	h.t.Helper()
	for begun := time.Now(); time.Since(begun) < 30*time.Second; time.Sleep(20 * time.Millisecond) {
		got, err := h.client().Job(h.t.Context(), job)
		if err == nil && got.Last != nil && got.Last.Watching {
			return got.Last.ID
		}
	}
	h.t.Fatalf("the job %s does not come to wait for changes:\n%s", job, h.must("job", "show", job))
	return ""
}

// TestContinuous keeps a folder as two drives are, while these change: seconds after
// the change, over a restart, and with every change.
func TestContinuous(t *testing.T) {
	c := clouds(t)
	h := start(t)
	h.linkDrives(c)
	disk, local := t.TempDir(), t.TempDir()
	h.linkFolder("disk", disk)
	put := func(content, address string) {
		t.Helper()
		file := filepath.Join(local, "file")
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		name := address[strings.LastIndexByte(address, '/')+1:]
		if err := os.Rename(file, filepath.Join(local, name)); err != nil {
			t.Fatal(err)
		}
		h.must("put", filepath.Join(local, name), address[:strings.LastIndexByte(address, '/')], "--yes")
	}
	for _, drive := range []string{"office-drive", "field-drive"} {
		{
			from, to := "/"+drive+"/Work", filepath.Join(disk, drive)
			h.must("mkdir", from)
			for i := range 25 {
				put(fmt.Sprint("before ", i), fmt.Sprintf("%s/before%d.txt", from, i))
			}
			h.must("job", "create", "keep-"+drive, "--type", "mirror", "--from", from, "--to", "/disk/"+drive)
			h.must("job", "edit", "keep-"+drive, "--continuous")
			run := h.watching("keep-" + drive)
			comesToHold(t, "before 24", to, "before24.txt")

			var took []time.Duration
			for i := range 12 {
				name := fmt.Sprintf("new%d.txt", i)
				put(fmt.Sprint("new ", i), from+"/"+name)
				took = append(took, comesToHold(t, fmt.Sprint("new ", i), to, name))
			}
			put("changed", from+"/before3.txt")
			took = append(took, comesToHold(t, "changed", to, "before3.txt"))
			h.must("rm", from+"/before4.txt", "--yes")
			took = append(took, comesToHold(t, "", to, "before4.txt"))
			h.must("mv", from+"/before5.txt", from+"/five.txt")
			took = append(took, comesToHold(t, "before 5", to, "five.txt"))
			comesToHold(t, "", to, "before5.txt")
			h.must("mkdir", from+"/deep")
			put("deep", from+"/deep/in.txt")
			comesToHold(t, "deep", to, "deep", "in.txt")
			slices.Sort(took)
			t.Logf(drive+": change to visible: median %v, most %v", took[len(took)/2], took[len(took)-1])
			if took[len(took)/2] > 3*time.Second {
				t.Errorf("a change takes %v", took[len(took)/2])
			}
			if id := h.watching("keep-" + drive); id != run {
				t.Errorf("one run goes on for all: %s, then %s", run, id)
			}
			if list := h.must("run", "show", run); !strings.Contains(list, "waiting for changes") {
				t.Errorf("it is not said that it waits:\n%s", list)
			}

			// What happens while the service is away is not lost.
			h.end(syscall.SIGKILL)
			h.serve()
			put("after", from+"/after.txt")
			comesToHold(t, "after", to, "after.txt")

			// Many at once: the safety limits hold them, little by little as they come.
			for i := 6; i < 16; i++ {
				h.must("rm", fmt.Sprintf("%s/before%d.txt", from, i), "--yes")
			}
			h.until(run, "held")
			if left, _ := filepath.Glob(filepath.Join(to, "before*.txt")); len(left) < 18 {
				t.Errorf("%d files are left; the safety limits were to hold more removals", len(left))
			}
			// A person lets go what it would do; what was removed after that was held may be
			// more than the safety limits allows again.
			for begun := time.Now(); time.Since(begun) < time.Minute; time.Sleep(50 * time.Millisecond) {
				if got, err := h.client().Run(t.Context(), run); err == nil && got.State == "held" {
					h.must("run", "approve", run)
				}
				if _, err := os.Stat(filepath.Join(to, "before15.txt")); os.IsNotExist(err) {
					break
				}
			}
			comesToHold(t, "", to, "before15.txt")
			h.watching("keep-" + drive)
			h.must("job", "suspend", "keep-"+drive)
			h.until(run, "done")
		}
	}
}

// TestContinuousFolders keeps a folder on disk and one on a file server in sync: the
// first tells its changes, all of the second is looked at.
func TestContinuousFolders(t *testing.T) {
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	desk, place := t.TempDir(), shell.Folder(t)
	h.linkFolder("desk", desk)
	h.link(shell.Password, "sftp", "share", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", place)
	writeFile(t, "before", desk, "Work", "before.txt")
	h.must("job", "create", "keep", "--type", "two-way", "--from", "/desk/Work", "--to", "/share/Work", "--continuous", "--safety-deletions",
		"none")
	run := h.watching("keep")
	comesToHold(t, "before", place, "Work", "before.txt")
	writeFile(t, "new", desk, "Work", "deep", "er", "new.txt")
	here := comesToHold(t, "new", place, "Work", "deep", "er", "new.txt")
	writeFile(t, "theirs", place, "Work", "theirs.txt")
	there := comesToHold(t, "theirs", desk, "Work", "theirs.txt")
	t.Logf("a folder tells it: %v; all is looked at: %v", here, there)
	if here > 5*time.Second {
		t.Errorf("a change in the folder took %v", here)
	}

	// What is still being written is left until it rests.
	file, err := os.Create(filepath.Join(desk, "Work", "log.txt"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for i := range 20 {
		fmt.Fprintln(file, i)
		if _, err := os.Stat(filepath.Join(place, "Work", "log.txt")); err == nil && i < 19 {
			t.Fatalf("it is there after %d lines of 20", i)
		}
		time.Sleep(100 * time.Millisecond)
	}
	whole, err := os.ReadFile(file.Name())
	if err != nil {
		t.Fatal(err)
	}
	comesToHold(t, string(whole), place, "Work", "log.txt")

	os.Remove(filepath.Join(desk, "Work", "before.txt"))
	comesToHold(t, "", place, "Work", "before.txt")
	os.Rename(filepath.Join(desk, "Work", "deep"), filepath.Join(desk, "Work", "moved"))
	comesToHold(t, "new", place, "Work", "moved", "er", "new.txt")
	comesToHold(t, "", place, "Work", "deep", "er", "new.txt")
	if id := h.watching("keep"); id != run {
		t.Errorf("one run goes on for all: %s, then %s", run, id)
	}
	bothHold(t, filepath.Join(desk, "Work"), filepath.Join(place, "Work"), 3)
}
