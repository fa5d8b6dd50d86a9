package runner_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/service/accounts"
)

// What attacks from outside have lost between folders of a disk, through the parts of
// the service that a person reaches.

// extract writes files as an archive does: of one size, with fixed times.
func extract(t *testing.T, dir string, release int, name string) {
	t.Helper()
	for i := range 300 {
		path := filepath.Join(dir, fmt.Sprintf("%s-%03d.txt", name, i))
		put(t, dir, map[string]string{filepath.Base(path): fmt.Sprintf("release %d, file %03d", release, i)})
		at := time.Date(2020, 1, 1, 0, 0, i, 0, time.UTC)
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
}

// TestInodesUsedAgain removes one release and extracts another beside it, or over it,
// whose files have the sizes and times of the first, and often its inodes.
func TestInodesUsedAgain(t *testing.T) {
	for name, replace := range map[string]func(dir string){
		"beside": func(dir string) {
			old, _ := filepath.Glob(filepath.Join(dir, "a-*"))
			for _, path := range old {
				os.Remove(path)
			}
			extract(t, dir, 2, "b")
		},
		"over": func(dir string) { extract(t, dir, 2, "a") },
		"in place of": func(dir string) {
			old, _ := filepath.Glob(filepath.Join(dir, "a-*"))
			for _, path := range old {
				os.Remove(path)
			}
			extract(t, dir, 2, "a")
		},
	} {
		t.Run(name, func(t *testing.T) {
			o, from, to := newOffice(t, t.TempDir()), t.TempDir(), t.TempDir()
			o.link("desk", from)
			o.link("archive", to)
			extract(t, from, 1, "a")
			o.job("keep", "mirror", "/desk", "/archive/desk", func(spec *contract.JobSpec) {
				spec.Safety = contract.Safety{Deletions: "none", Overwrites: "none", Older: "none"}
			})
			o.start("keep")
			replace(from)
			if run := o.start("keep"); run.State != "done" {
				t.Fatalf("%+v", run)
			}
			stale := 0
			for name, content := range holds(t, filepath.Join(to, "desk")) {
				if !strings.HasPrefix(content, "release 2") {
					stale++
					t.Logf("%s holds %q", name, content)
				}
			}
			if stale > 0 {
				t.Errorf("%d files hold the first release", stale)
			}
		})
	}
}

// past has what is in a folder of the disk be written an hour ago, as it says.
func past(t *testing.T, dir string) {
	t.Helper()
	at := time.Now().Add(-time.Hour)
	for name := range holds(t, dir) {
		if err := os.Chtimes(filepath.Join(dir, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
}

// migrated carries a migration out up to its certificate.
func migrated(t *testing.T, o *office, from, to string) contract.Run {
	t.Helper()
	o.job("away", "migrate", from, to, func(spec *contract.JobSpec) { spec.Migrate = contract.Migration{Clear: true} })
	var run contract.Run
	for _, step := range []string{"survey", "first-pass", "final-pass"} {
		if run = o.run(o.runner.StartJob(t.Context(), "away", step)); run.State != "done" {
			t.Fatalf("%s: %+v", step, run)
		}
	}
	return run
}

// mapped maps the first nine bytes of a file and writes to them once: what is written
// after that shows in no time of the file.
func mapped(t *testing.T, path string) []byte {
	t.Helper()
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	mapping, err := syscall.Mmap(int(file.Fd()), 0, 9, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Munmap(mapping) })
	mapping[0] = 'A'
	return mapping
}

// inMemory returns a folder of a file system in memory: on disk, a write through a mapping changes
// the time of a file whose pages have been written back in the meantime.
func inMemory(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/dev/shm", "heron-mapped-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// TestClearedAfterItWasRewritten writes to files of a migration after they were
// certified, in ways that leave size and time, and through a mapping even the inode, as
// they were: the source keeps them.
func TestClearedAfterItWasRewritten(t *testing.T) {
	o, from, to := newOffice(t, t.TempDir()), inMemory(t), t.TempDir()
	o.link("desk", from)
	o.link("archive", to)
	put(t, from, map[string]string{"stays.txt": "as it was", "mapped.txt": "as it was", "put back.txt": "as it was"})
	mapping := mapped(t, filepath.Join(from, "mapped.txt"))
	past(t, from)
	migrated(t, o, "/desk", "/archive/desk")
	certificate, err := o.runner.Certificate(t.Context(), o.lastRun("away"))
	if err != nil || certificate.Unverified.Items != 0 {
		t.Fatalf("%+v, %v", certificate, err)
	}
	for one, err := range o.runner.CertifiedFiles(t.Context(), certificate.Run, false) {
		if err != nil || !strings.HasPrefix(one.Digest, "blake3=") {
			t.Errorf("certified without a cryptographic hash: %+v, %v", one, err)
		}
	}
	copy(mapping, "rewritten")
	info, err := os.Stat(filepath.Join(from, "put back.txt"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, from, map[string]string{"put back.txt": "rewritten"})
	if err := os.Chtimes(filepath.Join(from, "put back.txt"), info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
	run := o.run(o.runner.StartJob(t.Context(), "away", "clear"))
	left := holds(t, from)
	if run.State != "partial" || left["mapped.txt"] != "rewritten" || left["put back.txt"] != "rewritten" || len(left) != 2 {
		t.Errorf("%s (%s): the source holds %v", run.State, run.Why, left)
	}
}

// TestCertificateOfWhatIsThere writes through a mapping between the passes of a migration:
// the certificate has what the file holds then.
func TestCertificateOfWhatIsThere(t *testing.T) {
	o, from, to := newOffice(t, t.TempDir()), inMemory(t), t.TempDir()
	o.link("desk", from)
	o.link("archive", to)
	put(t, from, map[string]string{"mapped.txt": "as it was"})
	mapping := mapped(t, filepath.Join(from, "mapped.txt"))
	past(t, from)
	o.job("away", "migrate", "/desk", "/archive/desk", nil)
	for _, step := range []string{"survey", "first-pass"} {
		o.run(o.runner.StartJob(t.Context(), "away", step))
	}
	copy(mapping, "rewritten")
	run := o.run(o.runner.StartJob(t.Context(), "away", "final-pass"))
	if got := holds(t, filepath.Join(to, "desk"))["mapped.txt"]; run.State != "done" || got != "rewritten" {
		t.Errorf("%s: the target holds %q, and that is certified", run.State, got)
	}
}

func (o *office) lastRun(job string) string {
	o.t.Helper()
	last, err := o.db.LastRun(o.t.Context(), job)
	if err != nil {
		o.t.Fatal(err)
	}
	return last.ID
}

// TestRootReplaced renames the folder of an account and puts another there, as a disk
// does that is mounted late: nothing is said to be done that was done elsewhere, and
// nothing is removed on account of it.
func TestRootReplaced(t *testing.T) {
	o, disk, to := newOffice(t, t.TempDir()), t.TempDir(), t.TempDir()
	from := filepath.Join(disk, "work")
	put(t, from, numbered(40, "content"))
	o.link("desk", from)
	o.link("archive", to)
	o.job("keep", "mirror", "/desk", "/archive/desk", nil)
	o.start("keep")
	if err := os.Rename(from, from+" away"); err != nil {
		t.Fatal(err)
	}
	if _, err := o.runner.StartJob(t.Context(), "keep", ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("with nothing at the path: %v", err)
	}
	put(t, from, map[string]string{"other.txt": "another folder"})
	run := o.start("keep")
	if n := len(holds(t, filepath.Join(to, "desk"))); n != 41 {
		t.Errorf("%s (%s): the target holds %d files, want the 40 and the new one", run.State, run.Why, n)
	}
}

// TestStartIsEdited has an account lead to another folder, and back.
func TestStartIsEdited(t *testing.T) {
	o, disk, to := newOffice(t, t.TempDir()), t.TempDir(), t.TempDir()
	put(t, filepath.Join(disk, "one"), numbered(40, "content"))
	put(t, filepath.Join(disk, "two"), map[string]string{"0/0000.txt": "content 000000"})
	o.link("desk", filepath.Join(disk, "one"))
	o.link("archive", to)
	o.job("keep", "two-way", "/desk", "/archive/desk", func(spec *contract.JobSpec) { spec.Safety = contract.Safety{Deletions: "none"} })
	o.start("keep")
	for _, path := range []string{"two", "one"} {
		edit := accounts.Edit{Options: map[string]string{"path": filepath.Join(disk, path)}, Anyway: true}
		if _, _, err := o.accounts.Edit(t.Context(), "desk", edit); err != nil {
			t.Fatal(err)
		}
		run := o.start("keep")
		if n := len(holds(t, filepath.Join(to, "desk"))); n != 40 {
			t.Errorf("at %s it ended %s: the other side holds %d files of 40", path, run.State, n)
		}
	}
}

// TestLinkedAgain unlinks an account and links its place again: a deletion that was made
// meanwhile is followed, and does not come back as a copy.
func TestLinkedAgain(t *testing.T) {
	o, from, to := newOffice(t, t.TempDir()), t.TempDir(), t.TempDir()
	put(t, from, numbered(40, "content"))
	o.link("desk", from)
	o.link("archive", to)
	o.job("keep", "two-way", "/desk", "/archive/desk", nil)
	o.start("keep")
	if err := o.accounts.Remove(t.Context(), "desk"); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(from, "3", "0003.txt")); err != nil {
		t.Fatal(err)
	}
	o.link("desk", from)
	o.start("keep")
	if _, err := os.Stat(filepath.Join(from, "3", "0003.txt")); err == nil {
		t.Error("what was deleted came back")
	}
	if _, err := os.Stat(filepath.Join(to, "desk", "3", "0003.txt")); err == nil {
		t.Error("the deletion was not followed")
	}
}

// TestDataFolderRestored goes on with a data folder as it was some runs ago.
func TestDataFolderRestored(t *testing.T) {
	data, from, to := t.TempDir(), t.TempDir(), t.TempDir()
	o := newOffice(t, data)
	put(t, from, numbered(40, "content"))
	o.link("desk", from)
	o.link("archive", to)
	o.job("keep", "mirror", "/desk", "/archive/desk", func(spec *contract.JobSpec) { spec.Safety = contract.Safety{Deletions: "none"} })
	o.start("keep")
	o.close()
	kept := t.TempDir()
	if err := os.CopyFS(kept, os.DirFS(data)); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(kept, "heron.key"), 0o600); err != nil {
		t.Fatal(err)
	}
	o = newOffice(t, data)
	put(t, from, map[string]string{"new.txt": "came later"})
	o.start("keep")
	o.close()
	o = newOffice(t, kept)
	if err := os.Remove(filepath.Join(from, "3", "0003.txt")); err != nil {
		t.Fatal(err)
	}
	run := o.start("keep")
	if _, err := os.Stat(filepath.Join(to, "desk", "3", "0003.txt")); err != nil {
		t.Errorf("%s: a file was removed on the word of records of an earlier state", run.State)
	}
	merging := 0
	if err := o.runner.Each(t.Context(), run.ID, "skipped", func(item contract.Item) error {
		if item.Cause == string(plan.CauseMerging) {
			merging++
		}
		return nil
	}); err != nil || merging != 1 {
		t.Errorf("%d items are said to be kept, %v", merging, err)
	}
	if err := os.Remove(filepath.Join(from, "4", "0004.txt")); err != nil {
		t.Fatal(err)
	}
	o.start("keep")
	if _, err := os.Stat(filepath.Join(to, "desk", "4", "0004.txt")); err == nil {
		t.Error("the next run does not follow deletions")
	}
}

// TestWrittenWithoutRest has a file of a continuous job written to all the time: it is
// copied all the same, as far as it was, and told so.
func TestWrittenWithoutRest(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a quarter of a minute")
	}
	o, from, to := newOffice(t, t.TempDir()), t.TempDir(), t.TempDir()
	o.link("desk", from)
	o.link("archive", to)
	put(t, from, map[string]string{"still.txt": "still"})
	o.job("keep", "mirror", "/desk", "/archive/desk", func(spec *contract.JobSpec) { spec.When.Continuous = true })
	t.Cleanup(func() { _ = o.runner.SuspendJob(context.Background(), "keep", true) })
	log, err := os.Create(filepath.Join(from, "gauge.log"))
	if err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(t.Context())
	defer end()
	go func() {
		defer log.Close()
		for i := 0; ctx.Err() == nil; i++ {
			fmt.Fprintf(log, "level %06d\n", i)
			time.Sleep(time.Millisecond)
		}
	}()
	for begun := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		content := holds(t, filepath.Join(to, "desk"))["gauge.log"]
		if content != "" {
			for i, line := range strings.Split(strings.TrimSuffix(content, "\n"), "\n") {
				if line != fmt.Sprintf("level %06d", i) {
					t.Fatalf("line %d is %q", i, line)
				}
			}
			break
		}
		if time.Since(begun) > 25*time.Second {
			t.Fatal("it was not copied within 25 seconds")
		}
	}
}
