package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/store/storetest"
	"deftheron/servertest"
)

// awkward writes a tree of names and sizes that programs stumble over.
func awkward(t *testing.T, root string) {
	t.Helper()
	for i, name := range storetest.Names {
		writeFile(t, strings.Repeat(name, i), root, "Ordner é", name)
	}
	for _, size := range []int{0, 1, 4096, 256 << 10, 256<<10 + 1, 3 << 20} {
		data := make([]byte, size)
		random := rand.New(rand.NewPCG(uint64(size), 1))
		for i := range data {
			data[i] = byte(random.Uint32())
		}
		writeFile(t, string(data), root, "sizes", fmt.Sprint(size))
	}
	deep := root
	for range 30 {
		deep = filepath.Join(deep, "quite a long name")
	}
	writeFile(t, "deep", deep, "x")
	if err := os.MkdirAll(filepath.Join(root, "empty", "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
}

// TestThereAndBack copies folder → versitygw → folder, and compares every byte.
func TestThereAndBack(t *testing.T) {
	t.Parallel()
	h := start(t)
	server := servertest.StartObjectStore(t)
	desk, back := t.TempDir(), t.TempDir()
	awkward(t, filepath.Join(desk, "all"))
	demoData(t, filepath.Join(desk, "all", "demo"))
	h.linkFolder("desk", desk)
	h.linkFolder("back", back)
	h.linkBucket("archive", server, server.Bucket(t), "--parts-above", "1", "--part-size", "5")

	before := digest(t, filepath.Join(desk, "all"))
	files := int64(0)
	for name := range before {
		if !strings.HasSuffix(name, "/") {
			files++
		}
	}
	there := h.copy("/desk/all", "/archive/2026")
	if there.Items.Done != int64(len(before)) || there.Items.Failed != 0 {
		t.Errorf("there: %+v, want %d done", there.Items, len(before))
	}
	h.copy("/archive/2026/all", "/back")
	same(t, "after there and back", digest(t, filepath.Join(back, "all")), before)
	leftovers(t, server, back)

	t.Run("again moves nothing", func(t *testing.T) {
		h := h.of(t)
		again := h.copy("/desk/all", "/archive/2026")
		if again.Items.Done != 0 || again.Bytes.Transferred != 0 || again.Items.UpToDate != files {
			t.Errorf("%+v, %+v; want nothing but %d unchanged", again.Items, again.Bytes, files)
		}
		if out := h.must("copy", "/desk/all", "/archive/2026"); !strings.Contains(out, "nothing to transfer") {
			t.Errorf("it says: %s", out)
		}
		if plan := h.must("copy", "/desk/all", "/archive/2026", "--plan"); !strings.Contains(plan, "Nothing to do") {
			t.Errorf("the plan says: %s", plan)
		}
	})
	t.Run("one changed file moves alone", func(t *testing.T) {
		h := h.of(t)
		writeFile(t, "changed", desk, "all", "sizes", "4096")
		changed := h.copy("/desk/all", "/archive/2026")
		if changed.Items.Done != 1 || changed.Bytes.Transferred != 7 {
			t.Errorf("%+v, %+v; want one item of 7 bytes", changed.Items, changed.Bytes)
		}
	})
	t.Run("a conflict keeps both", func(t *testing.T) {
		h := h.of(t)
		client := server.Client(t)
		_, err := client.PutObject(t.Context(), "bucket-1", "2026/all/sizes/1", strings.NewReader("theirs"), 6, "", "", putOptions)
		if err != nil {
			t.Fatal(err)
		}
		writeFile(t, "ours!", desk, "all", "sizes", "1")
		if plan := h.must("copy", "/desk/all", "/archive/2026", "--plan"); !strings.Contains(plan, "keep both files of 1 conflict") {
			t.Errorf("the plan says: %s", plan)
		}
		if run := h.copy("/desk/all", "/archive/2026"); run.Items.Done != 1 {
			t.Errorf("%+v", run.Items)
		}
		listed := h.must("ls", "/archive/2026/all/sizes")
		if !strings.Contains(listed, "1 (from desk 20") || !strings.Contains(listed, "6 B") {
			t.Errorf("listed:\n%s", listed)
		}
	})
}

// leftovers fails where anything of ours is left in a bucket or a folder.
func leftovers(t *testing.T, server *servertest.ObjectStore, folder string) {
	t.Helper()
	open, err := server.Client(t).ListMultipartUploads(t.Context(), "bucket-1", "", "", "", "", 1000)
	if err != nil || len(open.Uploads) > 0 {
		t.Errorf("%d uploads are left open, %v", len(open.Uploads), err)
	}
	for _, dir := range []string{folder, server.Data} {
		for name := range digest(t, dir) {
			if strings.Contains(name, ".heron") && !strings.HasSuffix(name, "/") {
				t.Errorf("left behind: %s", name)
			}
		}
	}
}

// TestKilled kills the service in the middle of a copy, several times, and
// starts it again: the run goes on and ends as if nothing had been, and at no
// moment is a part of a file seen under its name.
func TestKilled(t *testing.T) {
	t.Parallel()
	for _, target := range []string{"folder", "object store"} {
		t.Run(target, func(t *testing.T) {
			h := start(t)
			desk, archive := t.TempDir(), t.TempDir()
			content := strings.Repeat("a line of thirty-two characters\n", 4000)
			for i := range 700 {
				writeFile(t, content[:len(content)-i], desk, "all", fmt.Sprintf("%02d", i%40), fmt.Sprintf("file %04d", i))
			}
			writeFile(t, strings.Repeat(content, 300), desk, "all", "large")
			h.linkFolder("desk", desk)
			h.linkFolder("archive", archive)
			// The object store is at one end, and slow enough to be killed at.
			slow := slowProxy(t, servertest.StartObjectStore(t), 60<<20)
			server := *slow.server
			server.Endpoint = slow.url
			bucket := slow.server.Bucket(t)
			h.linkBucket("bucket", slow.server, bucket)
			h.linkBucket("slow", &server, bucket, "--parts-above", "8", "--part-size", "5")
			want := digest(t, filepath.Join(desk, "all"))
			from, to := "/desk/all", "/slow"
			if target == "folder" {
				h.copy("/desk/all", "/bucket")
				from, to = "/slow/all", "/archive"
			}
			var started contract.Started
			if err := json.Unmarshal([]byte(h.must("copy", from, to, "--detach", "--json")), &started); err != nil {
				t.Fatal(err)
			}
			kills := 0
			for range 4 {
				waitForItems(t, h, started.Run, kills*140+25)
				if run, err := h.client().Run(t.Context(), started.Run); err != nil || run.State.Ended() {
					break
				}
				h.end(syscall.SIGKILL)
				kills++
				wholeOrNothing(t, filepath.Join(archive, "all"), want)
				h.serve()
			}
			if kills < 2 {
				t.Fatalf("the run ended after %d kills; the test needs some", kills)
			}
			slow.release()
			run, err := h.client().Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
			if err != nil {
				t.Fatal(err)
			}
			if run.State != "done" || run.Items.Done != int64(len(want)) || run.Interruptions != int64(kills) {
				t.Errorf("after %d kills: %s, %+v, %d interruptions; want %d done", kills, run.State, run.Items, run.Interruptions, len(want))
			}
			if again := h.copy(from, to); again.Items.Done != 0 || again.Items.UpToDate != int64(len(want)) {
				t.Errorf("copying again: %+v", again.Items)
			}
			if target != "folder" {
				h.copy("/bucket/all", "/archive")
			}
			same(t, "archive", digest(t, filepath.Join(archive, "all")), want)
			leftovers(t, slow.server, archive)
		})
	}
}

func waitForItems(t *testing.T, h *heron, id string, n int) {
	t.Helper()
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); {
		run, err := h.client().Run(t.Context(), id)
		if err == nil && (run.State.Ended() || run.Items.Done >= int64(n)) {
			return
		}
		<-time.After(5 * time.Millisecond)
	}
	t.Fatalf("%d items were never done", n)
}

// wholeOrNothing fails where a file has its name, and not its content.
func wholeOrNothing(t *testing.T, archive string, want map[string]string) {
	t.Helper()
	if _, err := os.Stat(archive); err != nil {
		return
	}
	for name, sum := range digest(t, archive) {
		if strings.HasPrefix(path.Base(name), ".davfs.tmp") {
			continue // Apache's own, under which it takes a file in
		}
		if !strings.Contains(name, ".heron-arriving-") && !strings.HasSuffix(name, "/") && sum != want[name] {
			t.Errorf("%q is partly there", name)
		}
	}
}

// startHeldCopy starts a copy of thirty files to an object store that lets no
// file through until it is told to.
func startHeldCopy(t *testing.T) (*heron, *proxy, contract.Started) {
	t.Helper()
	h := start(t)
	desk := t.TempDir()
	for i := range 30 {
		writeFile(t, "x", desk, fmt.Sprint(i))
	}
	slow := slowProxy(t, servertest.StartObjectStore(t), 0)
	server := *slow.server
	server.Endpoint = slow.url
	h.linkFolder("desk", desk)
	h.linkBucket("archive", &server, slow.server.Bucket(t))
	slow.hold()
	var started contract.Started
	if err := json.Unmarshal([]byte(h.must("copy", "/desk", "/archive", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	return h, slow, started
}

// TestStopped stops the service in good order; what ran is taken up again.
func TestStopped(t *testing.T) {
	h, slow, started := startHeldCopy(t)
	began := time.Now()
	h.end(syscall.SIGTERM)
	if code := h.cmd.ProcessState.ExitCode(); code != 0 || time.Since(began) > 15*time.Second {
		t.Errorf("it ended with %d after %v\n%s", code, time.Since(began), h.log)
	}
	slow.release()
	h.serve()
	run, err := h.client().Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
	if err != nil || run.State != "done" || run.Items.Done != 30 {
		t.Errorf("%+v, %v", run, err)
	}
}

// TestTargetAwayAtStart starts the service while a run's target cannot be
// reached: the run waits, says why, and goes on when the target is back.
func TestTargetAwayAtStart(t *testing.T) {
	t.Parallel()
	h, slow, started := startHeldCopy(t)
	h.end(syscall.SIGKILL)
	slow.setDown(true)
	slow.release()
	h.serve()
	for deadline := time.Now().Add(30 * time.Second); ; {
		run, err := h.client().Run(t.Context(), started.Run)
		if err != nil || run.State.Ended() || time.Now().After(deadline) {
			t.Fatalf("%+v, %v; want it to wait, and to say why", run, err)
		}
		if run.State == "queued" && run.Why != "" && run.Remedy != "" {
			break
		}
		<-time.After(50 * time.Millisecond)
	}
	slow.setDown(false)
	run, err := h.client().Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
	if err != nil || run.State != "done" || run.Items.Done != 30 || run.Why != "" {
		t.Errorf("%+v, %v; want all done, and nothing left of why it waited", run, err)
	}
}

// TestRefusedNames copies a folder with names that the target cannot hold: one is
// translated, the others arrive, and what cannot be translated, or is not to be, has
// its cause and its remedy.
func TestRefusedNames(t *testing.T) {
	h := start(t)
	server := servertest.StartObjectStore(t)
	desk := t.TempDir()
	writeFile(t, "fine", desk, "in", "fine.txt")
	writeFile(t, "old", desk, "in", "caf\xe9.txt")
	writeFile(t, "long", desk, "in", strings.Repeat("d", 250), strings.Repeat("e", 250), strings.Repeat("f", 250), strings.Repeat("g", 250),
		strings.Repeat("h", 250))
	h.linkFolder("desk", desk)
	h.linkBucket("archive", server, server.Bucket(t))
	r := h.run("", "copy", "/desk/in", "/archive")
	if r.code != 1 || !strings.Contains(r.out, "partial") || !strings.Contains(r.out, "--state failed") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if plan := h.must("copy", "/desk/in", "/archive/refused", "--plan", "--names", "refuse"); !strings.Contains(plan,
		"2 not allowed at the target") || !strings.Contains(plan, "not UTF-8") {
		t.Errorf("the plan says: %s", plan)
	}
	if plan := h.must("copy", "/desk/in", "/archive/translated", "--plan"); !strings.Contains(plan, "caf%E9.txt") ||
		!strings.Contains(plan, "1 not allowed at the target") {
		t.Errorf("the plan says: %s", plan)
	}
	for run, err := range h.client().Runs(t.Context(), client.RunFilter{}) {
		if err != nil || run.Items.Done != 2 || run.Items.Failed != 1 {
			t.Fatalf("%+v, %v", run, err)
		}
		for item, err := range h.client().Items(t.Context(), run.ID, client.ItemFilter{State: "failed"}) {
			if err != nil || item.Cause != "name-refused" || item.Remedy == "" || item.Why == "" {
				t.Errorf("%+v, %v", item, err)
			}
		}
	}
}

// TestNoSpace copies more than a disk has room for: it is found before anything is
// changed, and the run continues automatically when the disk has become larger.
func TestNoSpace(t *testing.T) {
	t.Parallel()
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=2m"); err != nil {
		t.Skipf("a small disk cannot be mounted here (%v); core/transfer tests the same on a store", err)
	}
	t.Cleanup(func() { syscall.Unmount(small, 0) })
	h := start(t)
	desk := t.TempDir()
	for i := range 4 {
		writeFile(t, strings.Repeat("x", 1<<20), desk, fmt.Sprint(i))
	}
	h.linkFolder("desk", desk)
	h.linkFolder("small", small)
	for code, args := range map[int][]string{1: {"copy", "/desk", "/small", "--plan"}, 3: {"copy", "/desk", "/small"}} {
		r := h.run("", args...)
		if r.code != code || !strings.Contains(r.out+r.err, "/small has") || !strings.Contains(r.out+r.err, "bytes free") {
			t.Errorf("%v: exit %d: %s%s", args, r.code, r.out, r.err)
		}
	}
	if left := digest(t, small); len(left) != 1 { // the empty folder itself
		t.Errorf("the small disk holds %v", left)
	}
	for run, err := range h.client().Runs(t.Context(), client.RunFilter{}) {
		if err != nil || run.State != "held" || run.Cause != "no-space" || run.Remedy == "" {
			t.Fatalf("%+v, %v", run, err)
		}
		if err := syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT, "size=16m"); err != nil {
			t.Fatal(err)
		}
		h.until(run.ID, "done")
	}
	if left := digest(t, small); len(left) != 4 {
		t.Errorf("the disk holds %v", left)
	}
}
