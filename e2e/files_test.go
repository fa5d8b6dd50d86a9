package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
	"deftheron/standin"
)

// linkApache links a collection of Apache's under a name.
func (h *heron) linkApache(name string, server *servertest.Apache, url string, options ...string) {
	h.t.Helper()
	args := append([]string{"account", "link", "webdav", name, "--url", url, "--user", server.User, "--secret-file", "-"}, options...)
	if r := h.run(server.Password+"\n", args...); r.code != 0 {
		h.t.Fatalf("link %s: exit %d\n%s%s", name, r.code, r.out, r.err)
	}
}

// TestFourLegs copies the demo's data, odd names and all, from a folder to
// Apache, to an object store, to Apache again, and back to a folder.
func TestFourLegs(t *testing.T) {
	t.Parallel()
	h := start(t)
	first, last := t.TempDir(), t.TempDir()
	demoData(t, filepath.Join(first, "all"))
	apache := servertest.StartApache(t, servertest.ApacheOptions{Digest: true})
	one, _ := apache.Folder(t)
	two, _ := apache.Folder(t)
	objects := servertest.StartObjectStore(t)
	h.linkFolder("desk", first)
	h.linkApache("share", apache, one)
	h.linkBucket("objects", objects, objects.Bucket(t))
	h.linkApache("share-two", apache, two)
	h.linkFolder("back", last)
	began := time.Now()
	for _, leg := range [][2]string{{"/desk/all", "/share"}, {"/share/all", "/objects"}, {"/objects/all", "/share-two"},
		{"/share-two/all", "/back"}} {
		run := h.copy(leg[0], leg[1])
		if run.State != "done" || run.Items.Done != 592 || run.Items.Failed != 0 {
			t.Fatalf("%s to %s: %+v", leg[0], leg[1], run)
		}
		if again := h.copy(leg[0], leg[1]); again.Items.Done != 0 || again.Items.UpToDate != 591 {
			t.Errorf("%s to %s again: %+v; want everything in sync", leg[0], leg[1], again.Items)
		}
	}
	same(t, "after four legs", digest(t, last), digest(t, first))
	t.Logf("four legs of 591 files, each twice, in %v", time.Since(began).Round(time.Millisecond))
	for _, pair := range [][2]string{{"/desk/all", "/back/all"}, {"/desk/all", "/share/all"}, {"/share/all", "/objects/all"}} {
		var summary contract.Summary
		lines := strings.Split(strings.TrimSpace(h.must("compare", pair[0], pair[1], "--read", "--json")), "\n")
		var last contract.Compared
		if err := json.Unmarshal([]byte(lines[len(lines)-1]), &last); err != nil || last.Summary == nil {
			t.Fatalf("compare: %v %s", err, lines[len(lines)-1])
		}
		if summary = *last.Summary; !summary.Same() || summary.Equal.Items != 591 {
			t.Errorf("compare %v: %+v", pair, summary)
		}
	}
}

// TestSameSizeAndTime says of what was there before that size and time alone are equal,
// and finds by reading what they hide.
func TestSameSizeAndTime(t *testing.T) {
	h := start(t)
	one, two := t.TempDir(), t.TempDir()
	at := time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)
	for path, content := range map[string]string{
		filepath.Join(one, "all", "a file.txt"): "as it was", filepath.Join(two, "all", "a file.txt"): "altered !",
		filepath.Join(one, "all", "b.txt"): "the same", filepath.Join(two, "all", "b.txt"): "the same",
	} {
		writeFile(t, content, path)
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
	h.linkFolder("one", one)
	h.linkFolder("two", two)
	h.says("", 0, "2 of them by size and time only", "copy", "/one/all", "/two", "--plan")
	if run := h.copy("/one/all", "/two"); run.Items.Done != 0 || run.Items.UpToDate != 2 || run.Assumed.Items != 2 {
		t.Errorf("copied: %+v", run)
	}
	h.says("", 0, "2 by size and time", "compare", "/one/all", "/two/all")
	h.says("", 1, "differing", "compare", "/one/all", "/two/all", "--read")
	if run := h.copy("/one/all", "/two", "--verify", "read-back", "--conflict", "source"); run.Items.Done != 1 || run.Assumed.Items != 0 {
		t.Errorf("copied, and read back: %+v", run)
	}
	h.says("", 0, "2 by reading", "compare", "/one/all", "/two/all", "--read")
}

// TestFileCommands works with files as one does, on each kind of place.
func TestFileCommands(t *testing.T) {
	t.Parallel()
	h := start(t)
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, _ := apache.Folder(t)
	objects := servertest.StartObjectStore(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	h.linkApache("share", apache, url)
	h.linkBucket("objects", objects, objects.Bucket(t))
	local := t.TempDir()
	writeFile(t, "first é", local, "in", "a 100%.txt")
	writeFile(t, strings.Repeat("0123456789", 50_000), local, "in", "below", "large.bin")
	if err := os.Symlink("a 100%.txt", filepath.Join(local, "in", "link")); err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)
	if err := os.Chtimes(filepath.Join(local, "in", "a 100%.txt"), at, at); err != nil {
		t.Fatal(err)
	}
	for _, account := range []string{"/desk", "/share", "/objects"} {
		t.Run(strings.TrimPrefix(account, "/"), func(t *testing.T) {
			h := h.of(t)
			h.must("mkdir", "-p", account+"/new/deep")
			if r := h.run("", "mkdir", account+"/new"); r.code == 0 || !strings.Contains(r.err, "already exists") {
				t.Errorf("making a folder that is there: %d %s", r.code, r.err)
			}
			if out := h.must("put", filepath.Join(local, "in"), account+"/new"); !strings.Contains(out, "Sent 2 files") ||
				!strings.Contains(out, "1 left out") {
				t.Errorf("put: %s", out)
			}
			if out := h.must("cat", account+"/new/in/a 100%.txt"); out != "first é" {
				t.Errorf("cat: %q", out)
			}
			// Again: it asks; where nobody can be asked, --yes.
			if r := h.run("", "put", filepath.Join(local, "in"), account+"/new"); r.code != 2 || !strings.Contains(r.err, "--yes") {
				t.Errorf("put again: %d %s", r.code, r.err)
			}
			h.must("put", "--yes", filepath.Join(local, "in"), account+"/new")
			// Standard input, of a length that nobody knows before.
			if r := h.run("from a pipe", "put", "-", account+"/new/piped.txt"); r.code != 0 {
				t.Errorf("put -: %d %s", r.code, r.err)
			}
			if r := h.run("other", "put", "-", account+"/new/piped.txt"); r.code != 2 || !strings.Contains(r.err, "already exists") {
				t.Errorf("put - over a file: %d %s", r.code, r.err)
			}
			h.must("mv", account+"/new/piped.txt", account+"/new/deep/renamed.txt")
			if out := h.must("cat", account+"/new/deep/renamed.txt"); out != "from a pipe" {
				t.Errorf("after mv: %q", out)
			}
			if r := h.run("", "mv", account+"/new/in/a 100%.txt", account+"/new/deep/renamed.txt"); r.code == 0 ||
				!strings.Contains(r.err, "already exists") {
				t.Errorf("mv over a file: %d %s", r.code, r.err)
			}
			if r := h.run("", "mv", account+"/new", account+"/new/deep"); r.code == 0 || !strings.Contains(r.err, "into itself") {
				t.Errorf("mv into itself: %d %s", r.code, r.err)
			}
			h.must("mv", account+"/new/in", account+"/moved")
			out := t.TempDir()
			h.must("get", account+"/moved", out)
			same(t, "fetched", digest(t, filepath.Join(out, "moved")), map[string]string{
				"a 100%.txt":      digest(t, filepath.Join(local, "in"))["a 100%.txt"],
				"below/large.bin": digest(t, filepath.Join(local, "in"))["below/large.bin"],
			})
			if info, err := os.Stat(filepath.Join(out, "moved", "a 100%.txt")); account == "/desk" && (err != nil || !info.ModTime().Equal(at)) {
				t.Errorf("its time is %v, %v; want %v", info.ModTime(), err, at)
			}
			if r := h.run("", "get", account+"/moved", out); r.code != 2 || !strings.Contains(r.err, "replace 2 files") {
				t.Errorf("get over files: %d %s", r.code, r.err)
			}
			h.must("get", "--yes", account+"/moved", out)
			h.must("get", account+"/moved/a 100%.txt", filepath.Join(out, "other name.txt"))
			if data, err := os.ReadFile(filepath.Join(out, "other name.txt")); err != nil || string(data) != "first é" {
				t.Errorf("get as another name: %q, %v", data, err)
			}
			if r := h.run("", "rm", account+"/moved"); r.code != 2 || !strings.Contains(r.err, "2 files and 2 folders") {
				t.Errorf("rm without --yes: %d %s", r.code, r.err)
			}
			if out := h.must("rm", "--yes", account+"/moved", account+"/new"); !strings.Contains(out, "Deleted 3 files") {
				t.Errorf("rm: %s", out)
			}
			if out := h.must("ls", "--fresh", account, "--json"); out != "" {
				t.Errorf("left are %s", out)
			}
		})
	}
}

// TestMoveAcross moves from one account to another: verified, then removed.
func TestMoveAcross(t *testing.T) {
	t.Parallel()
	h := start(t)
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, path := apache.Folder(t)
	desk := t.TempDir()
	for i := range 50 {
		writeFile(t, fmt.Sprint("content ", i), desk, "project", fmt.Sprint("sub ", i%3), fmt.Sprintf("file %d.txt", i))
	}
	writeFile(t, "stays", desk, "other.txt")
	h.linkFolder("desk", desk)
	h.linkApache("share", apache, url)
	before := digest(t, filepath.Join(desk, "project"))
	if out := h.must("mv", "/desk/project", "/share"); !strings.Contains(out, "deleted at the source") {
		t.Errorf("mv: %s", out)
	}
	same(t, "moved", digest(t, filepath.Join(path, "project")), before)
	same(t, "left", digest(t, desk), map[string]string{"other.txt": digest(t, desk)["other.txt"]})
	h.must("mv", "/share/project/sub 1", "/desk/back again")
	if r := h.run("", "mv", "/desk", "/share"); r.code == 0 || !strings.Contains(r.err, "whole account") {
		t.Errorf("moving an account: %d %s", r.code, r.err)
	}
}

// TestReadOnlyAccount tries every way there is to write.
func TestReadOnlyAccount(t *testing.T) {
	h := start(t)
	desk, kept := t.TempDir(), t.TempDir()
	writeFile(t, "x", desk, "a.txt")
	writeFile(t, "y", kept, "in", "b.txt")
	h.linkFolder("desk", desk)
	h.must("account", "link", "folder", "kept", "--path", kept, "--read-only")
	before := digest(t, kept)
	local := filepath.Join(desk, "a.txt")
	for _, args := range [][]string{
		{"copy", "/desk/a.txt", "/kept"}, {"mv", "/desk/a.txt", "/kept"}, {"mv", "/kept/in", "/desk"}, {"mv", "/kept/in/b.txt", "/kept/c.txt"},
		{"rm", "/kept/in", "--yes"}, {"mkdir", "/kept/new"}, {"mkdir", "-p", "/kept/new/deep"}, {"put", local, "/kept"},
		{"put", "--yes", local, "/kept/in"},
	} {
		if r := h.run("", args...); r.code == 0 || !strings.Contains(r.err, "read only") && !strings.Contains(r.err, "only be read") {
			t.Errorf("heron %s: exit %d, %s", strings.Join(args, " "), r.code, r.err)
		}
	}
	if r := h.run("piped", "put", "-", "/kept/in/c.txt"); r.code == 0 || !strings.Contains(r.err, "read only") {
		t.Errorf("put -: %d %s", r.code, r.err)
	}
	for _, method := range []string{http.MethodPut} {
		request, _ := http.NewRequest(method, "http://"+h.listen+contract.Root+"/content?address=/kept/in/b.txt", strings.NewReader("z"))
		request.Header.Set("Authorization", "Bearer "+h.token())
		request.Header.Set("If-Match", "*")
		answer, err := http.DefaultClient.Do(request)
		if err != nil || answer.StatusCode != http.StatusConflict {
			t.Errorf("%s: %v, %v", method, answer, err)
		}
	}
	h.must("copy", "/kept", "/desk")
	same(t, "the read-only account", digest(t, kept), before)
	if out := h.must("account", "list"); !strings.Contains(out, "read only") {
		t.Errorf("account list does not say so: %s", out)
	}
	h.end(syscall.SIGTERM)
	h.serve()
	if r := h.run("", "mkdir", "/kept/new"); r.code == 0 {
		t.Error("after a restart it can be written to")
	}
}

// TestPauseResumeRetry pauses a run over a restart, resumes it, and tries again
// what failed.
func TestPauseResumeRetry(t *testing.T) {
	h := start(t)
	desk := t.TempDir()
	for i := range 60 {
		writeFile(t, strings.Repeat("x", 20_000), desk, fmt.Sprintf("file %02d", i))
	}
	h.linkFolder("desk", desk)
	slow := h.linkSlow("archive", 0)
	slow.hold()
	var started contract.Started
	if err := json.Unmarshal([]byte(h.must("copy", "/desk", "/archive", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	h.until(started.Run, "running")
	h.must("run", "pause", started.Run)
	h.until(started.Run, "paused")
	if r := h.run("", "account", "unlink", "archive", "--yes"); r.code == 0 || !strings.Contains(r.err, started.Run) {
		t.Errorf("unlinking what a paused run uses: %d %s", r.code, r.err)
	}
	slow.release()
	h.end(syscall.SIGKILL)
	h.serve()
	if run := h.state(started.Run); run.State != "paused" {
		t.Errorf("after a restart it is %s, want paused", run.State)
	}
	h.must("run", "resume", started.Run)
	run := h.until(started.Run, "done")
	if run.Items.Done != 60 {
		t.Errorf("after it was resumed: %+v", run.Items)
	}
	if r := h.run("", "run", "retry", started.Run); r.code == 0 || !strings.Contains(r.err, "nothing is left") &&
		!strings.Contains(r.err, "Nothing is left") {
		t.Errorf("retrying what is done: %d %s", r.code, r.err)
	}
	if r := h.run("", "run", "pause", started.Run); r.code == 0 || !strings.Contains(r.err, "nothing to pause") &&
		!strings.Contains(r.err, "Nothing to pause") {
		t.Errorf("pausing what is done: %d %s", r.code, r.err)
	}
}

// TestRetryTakesUpWhatFailed mends what stood in the way, and tries again.
func TestRetryTakesUpWhatFailed(t *testing.T) {
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	for i := range 20 {
		writeFile(t, fmt.Sprint(i), desk, "in", fmt.Sprintf("file %02d", i))
	}
	writeFile(t, "a folder is needed here", desk, "in", "sub", "below")
	writeFile(t, "in the way", archive, "in", "sub")
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	r := h.run("", "copy", "/desk/in", "/archive", "--json")
	var run contract.Run
	if err := json.Unmarshal([]byte(r.out), &run); err != nil || run.State != "partial" || run.Items.Failed != 1 || r.code != 1 {
		t.Fatalf("%v %d %s %s", err, r.code, r.out, r.err)
	}
	var item contract.Item
	if err := json.Unmarshal([]byte(h.must("run", "items", run.ID, "--state", "failed", "--json")), &item); err != nil ||
		item.Cause != "in-the-way" || !strings.Contains(item.Remedy, "Retry") {
		t.Errorf("%v %+v", err, item)
	}
	os.Remove(filepath.Join(archive, "in", "sub"))
	if err := json.Unmarshal([]byte(h.must("run", "retry", run.ID, "--json")), &run); err != nil || run.State != "done" ||
		run.Items.Done != 21 || run.Items.Failed != 0 {
		t.Errorf("retried: %v %+v", err, run)
	}
	same(t, "retried", digest(t, filepath.Join(archive, "in")), digest(t, filepath.Join(desk, "in")))
	// A run that was cancelled is taken up where it was left.
	slow := h.linkSlow("objects", 0)
	slow.hold()
	var started contract.Started
	_ = json.Unmarshal([]byte(h.must("copy", "/desk/in", "/objects", "--detach", "--json")), &started)
	h.until(started.Run, "running")
	h.must("run", "cancel", started.Run, "--yes")
	slow.release()
	h.until(started.Run, "cancelled")
	h.must("run", "retry", started.Run)
	if run := h.state(started.Run); run.State != "done" || run.Items.Done != 21 {
		t.Errorf("a cancelled run, retried: %+v", run)
	}
}

func (h *heron) state(id string) (run contract.Run) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("run", "show", id, "--json")), &run); err != nil {
		h.t.Fatal(err)
	}
	return run
}

// until waits until a run is in a state.
func (h *heron) until(id, state string) contract.Run {
	h.t.Helper()
	for deadline := time.Now().Add(time.Minute); ; {
		run := h.state(id)
		if string(run.State) == state {
			return run
		}
		if time.Now().After(deadline) || run.State.Ended() {
			h.t.Fatalf("the run is %s (%s), want %s\n%s", run.State, run.Why, state, h.log)
		}
		<-time.After(20 * time.Millisecond)
	}
}

// TestUploadThatDies leaves nothing: the service is killed in the middle of an
// upload, and removes at its next start what was left.
func TestUploadThatDies(t *testing.T) {
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	begun := make(chan struct{})
	body := &endless{begun: begun}
	go func() {
		request, _ := http.NewRequestWithContext(t.Context(), http.MethodPut, "http://"+h.listen+contract.Root+"/content?address=/desk/large.bin",
			body)
		request.Header.Set("Authorization", "Bearer "+h.token())
		if answer, err := http.DefaultClient.Do(request); err == nil {
			answer.Body.Close()
		}
	}()
	<-begun
	arriving := func(want bool) {
		t.Helper()
		for deadline := time.Now().Add(longestWait); ; {
			entries, _ := os.ReadDir(desk)
			if len(entries) == 0 == !want && (!want || strings.HasPrefix(entries[0].Name(), ".heron-arriving-")) {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("there are %v; want something that arrives: %v", entries, want)
			}
			<-time.After(10 * time.Millisecond)
		}
	}
	arriving(true)
	h.end(syscall.SIGKILL)
	arriving(true)
	h.serve()
	arriving(false)
}

// endless is a body without an end.
type endless struct {
	begun chan struct{}
	n     int
}

func (e *endless) Read(p []byte) (int, error) {
	if e.n += len(p); e.n > 4<<20 && e.begun != nil {
		close(e.begun)
		e.begun = nil
	}
	if e.n > 4<<20 {
		<-time.After(10 * time.Millisecond)
	}
	return len(p), nil
}

// TestBadInputWithFiles gives each mistake that can be made with WebDAV servers
// and with files, and wants a sentence, a remedy, the exit code, and nothing
// changed.
func TestBadInputWithFiles(t *testing.T) {
	t.Parallel()
	h := start(t)
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	unknown := servertest.StartApache(t, servertest.ApacheOptions{NotAfter: time.Now().Add(48 * time.Hour)})
	expired := servertest.StartApache(t, servertest.ApacheOptions{NotAfter: time.Now().Add(-time.Hour)})
	objects := servertest.StartObjectStore(t)
	bucket := objects.Bucket(t)
	url, path := apache.Folder(t)
	desk, local := t.TempDir(), t.TempDir()
	writeFile(t, "x", desk, "in", "x.txt")
	writeFile(t, "there", local, "x.txt")
	writeFile(t, "locked", path, "locked.txt")
	apache.Give(t, path)
	lock, _ := http.NewRequest("LOCK", url+"locked.txt",
		strings.NewReader(`<D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner>the second desk</D:owner></D:lockinfo>`))
	lock.SetBasicAuth(apache.User, apache.Password)
	if answer, err := http.DefaultClient.Do(lock); err != nil || answer.StatusCode != http.StatusOK {
		t.Fatal(answer, err)
	}
	h.linkFolder("desk", desk)
	h.linkApache("share", apache, url)
	h.linkBucket("objects", objects, bucket)
	// An object store that holds what no disk does.
	handler, err := standin.ObjectStore("odd")
	if err != nil {
		t.Fatal(err)
	}
	holdsAll := httptest.NewServer(handler)
	defer holdsAll.Close()
	odd := &servertest.ObjectStore{Endpoint: holdsAll.URL, Key: "k", Secret: "s"}
	h.linkBucket("odd", odd, "odd")
	for _, key := range []string{"names/" + strings.Repeat("n", 256), "names//empty", "names/fine.txt"} {
		if _, err := odd.Client(t).PutObject(t.Context(), "odd", key, strings.NewReader("x"), 1, "", "", putOptions); err != nil {
			t.Fatal(err)
		}
	}
	dav := func(server *servertest.Apache, options ...string) []string {
		return append([]string{"account", "link", "webdav", "new", "--url", server.URL, "--user", server.User, "--secret-file", "-"}, options...)
	}
	beforeDesk, beforeLocal, beforeShare := digest(t, desk), digest(t, local), digest(t, path)
	for _, c := range []struct {
		what  string
		input string
		args  []string
		code  int
		want  []string
	}{
		{"unknown certificate", unknown.Password, dav(unknown), 1, []string{"no authority", "compare its SHA-256", "--certificate"}},
		{"expired certificate", expired.Password, dav(expired), 1, []string{"expired on", "--certificate"}},
		{"sign-in refused", "wrong", dav(apache), 1, []string{"does not accept the user", "--secret-file"}},
		{"no secret", "", []string{"account", "link", "webdav", "new", "--url", apache.URL, "--user", "field"}, 2, []string{"--secret-file"}},
		{"no WebDAV server", "x", []string{"account", "link", "webdav", "new", "--url", "http://" + h.listen + "/healthz"}, 1,
			[]string{"for a WebDAV client", "check the URL"}},
		{"an object store as one", "x", []string{"account", "link", "webdav", "new", "--url", objects.Endpoint}, 1, []string{"--url"}},
		{"writing over a locked file", "", []string{"put", "--yes", filepath.Join(local, "x.txt"), "/share/locked.txt"}, 1,
			[]string{"is a file", "folder"}},
		{"removing a locked file", "", []string{"rm", "--yes", "/share/locked.txt"}, 1, []string{"the second desk", "close the file"}},
		{"moving a locked file", "", []string{"mv", "/share/locked.txt", "/share/other.txt"}, 1, []string{"locked by the second desk"}},
		{"get over a file", "", []string{"get", "/desk/in/x.txt", local}, 2, []string{"replace 1 file", "--yes"}},
		{"get what the disk cannot hold", "", []string{"get", "/odd/names", local}, 1,
			[]string{"2 entries cannot be fetched", "256 bytes", "empty name", "nothing was changed"}},
		{"get to nowhere", "", []string{"get", "/desk/in", "/nowhere/at/all"}, 2, []string{"no folder /nowhere/at", "make it first"}},
		{"get to an address", "", []string{"get", "/share/locked.txt", "/desk/in/y.txt"}, 2,
			[]string{"address in the account desk", "heron copy"}},
		{"get several as one", "", []string{"get", "/desk/in", "/desk/in/x.txt", filepath.Join(local, "one")}, 2,
			[]string{"several entries", "make it first"}},
		{"put an address", "", []string{"put", "/desk/in/x.txt", "/share"}, 2, []string{"no local file", "heron copy"}},
		{"put to a path", "", []string{"put", filepath.Join(local, "x.txt"), "desk"}, 2, []string{"is not an address", "begins with /"}},
		{"put what is not there", "", []string{"put", "/nowhere.txt", "/desk"}, 2, []string{"cannot be read", "of this machine"}},
		{"put to no account", "", []string{"put", filepath.Join(local, "x.txt"), "/nobody"}, 1, []string{"no account \"nobody\""}},
		{"put input as a folder", "x", []string{"put", "-", "/desk/in"}, 2, []string{"is a folder", "Give an address for the file"}},
		{"cat a folder", "", []string{"cat", "/desk/in"}, 1, []string{"is a folder", "name a file"}},
		{"cat nothing", "", []string{"cat", "/desk/nothing"}, 1, []string{"does not exist"}},
		{"mkdir where something is", "", []string{"mkdir", "/desk/in"}, 1, []string{"already exists", "another name"}},
		{"mkdir in nothing", "", []string{"mkdir", "/desk/a/b"}, 1, []string{"/desk/a is not there", "--parents"}},
		{"mkdir an account", "", []string{"mkdir", "/nobody"}, 1, []string{"no account"}},
		{"mv into itself", "", []string{"mv", "/desk/in", "/desk/in/deeper"}, 1, []string{"into itself", "outside it"}},
		{"mv to where it is", "", []string{"mv", "/desk/in/x.txt", "/desk/in"}, 1, []string{"is already there"}},
		{"mv over a file", "", []string{"mv", "/share/locked.txt", "/desk/in/x.txt"}, 1, []string{"already exists", "another name"}},
		{"mv a path", "", []string{"mv", local, "/desk"}, 1, []string{"no account"}},
		{"rm an account", "", []string{"rm", "--yes", "/desk"}, 1, []string{"whole account", "unlink"}},
		{"rm twice the same", "", []string{"rm", "--yes", "/desk/in", "/desk/in/x.txt"}, 1, []string{"within each other", "outer one"}},
		{"rm nothing", "", []string{"rm", "--yes", "/desk/nothing"}, 1, []string{"does not exist"}},
		{"compare with itself", "", []string{"compare", "/desk/in", "/desk/in"}, 1,
			[]string{"both addresses are /desk/in", "two different ones"}},
		{"compare a folder with a file", "", []string{"compare", "/desk/in", "/desk/in/x.txt"}, 1, []string{"two folders, or two files"}},
		{"compare nothing", "", []string{"compare", "/desk/in", "/share/nothing"}, 1, []string{"does not exist"}},
		{"retry no run", "", []string{"run", "retry", "nothing"}, 1, []string{"no run", "heron run list"}},
	} {
		r := h.run(c.input, c.args...)
		if r.code != c.code {
			t.Errorf("%s: exit %d, want %d: %s", c.what, r.code, c.code, r.err)
		}
		for _, want := range c.want {
			if !strings.Contains(strings.ToLower(r.err+r.out), strings.ToLower(want)) {
				t.Errorf("%s: it says %q; want it to say %q", c.what, strings.TrimSpace(r.err+r.out), want)
			}
		}
	}
	same(t, "the desk", digest(t, desk), beforeDesk)
	same(t, "this machine", digest(t, local), beforeLocal)
	same(t, "the share", digest(t, path), beforeShare)
}

// TestAccountThatIsDown shows as such, and blocks nothing else.
func TestAccountThatIsDown(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "x", desk, "x.txt")
	h.linkFolder("desk", desk)
	slow := h.linkSlow("away", 0)
	slow.holdAll()
	began := time.Now()
	stuck := make(chan result, 1)
	go func() { stuck <- h.run("", "ls", "/away") }()
	if out := h.must("ls", "/desk"); !strings.Contains(out, "x.txt") || time.Since(began) > 3*time.Second {
		t.Errorf("the other account, after %v: %s", time.Since(began), out)
	}
	if out := h.must("ls"); !strings.Contains(out, "away") {
		t.Errorf("the root: %s", out)
	}
	out := h.must("account", "list")
	if took := time.Since(began); took > 15*time.Second || !strings.Contains(out, "▬ unreachable") ||
		!strings.Contains(out, "did not answer within") || !strings.Contains(out, "✓ linked") {
		t.Errorf("after %v: %s", took, out)
	}
	if out := h.must("ls"); !strings.Contains(out, "▬ unreachable") {
		t.Errorf("the root does not say that it is away: %s", out)
	}
	slow.release()
	<-stuck
	h.must("ls", "--fresh", "/away")
	if out := h.must("ls"); strings.Contains(out, "▬ unreachable") {
		t.Errorf("it answers again, and the root says: %s", out)
	}
}

// TestListingsFromMemory answers at once, and follows what changes elsewhere.
func TestListingsFromMemory(t *testing.T) {
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "x", desk, "a.txt")
	h.linkFolder("desk", desk)
	h.must("ls", "/desk")
	writeFile(t, "x", desk, "b.txt")
	if out := h.must("ls", "--fresh", "/desk"); !strings.Contains(out, "b.txt") {
		t.Errorf("--fresh does not show what came: %s", out)
	}
	if out := h.must("mkdir", "/desk/new") + h.must("ls", "/desk"); !strings.Contains(out, "new/") {
		t.Errorf("what we did ourselves does not show: %s", out)
	}
	writeFile(t, "x", desk, "c.txt")
	for deadline := time.Now().Add(longestWait); !strings.Contains(h.must("ls", "/desk"), "c.txt"); {
		if time.Now().After(deadline) {
			t.Fatal("what came elsewhere never shows")
		}
		<-time.After(100 * time.Millisecond)
	}
}

// TestCompletion completes addresses and accounts from what is there now.
func TestCompletion(t *testing.T) {
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "x", desk, "Reports 100%", "a.txt")
	writeFile(t, "x", desk, "Remarks.txt")
	h.linkFolder("desk", desk)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"ls", "/de"}, "/desk/"},
		{[]string{"cat", "/desk/Re"}, "/desk/Remarks.txt /desk/Reports 100%/"},
		{[]string{"mv", "/desk/Remarks.txt", "/desk/Reports 100%/"}, "/desk/Reports 100%/a.txt"},
		{[]string{"get", "/desk/Rep"}, "/desk/Reports 100%/"},
		{[]string{"put", "x", "/desk/Rep"}, "/desk/Reports 100%/"},
		{[]string{"compare", "/desk", "/desk/Rem"}, "/desk/Remarks.txt"},
		{[]string{"account", "check", ""}, "desk"},
	} {
		lines := strings.Split(strings.TrimSpace(h.must(append([]string{"__complete"}, c.args...)...)), "\n")
		if got := strings.Join(lines[:len(lines)-1], " "); got != c.want { // the last line is a directive
			t.Errorf("heron %s: %q, want %q", strings.Join(c.args, " "), got, c.want)
		}
	}
}

// TestMoveThatLeavesSomething tells of what came to the source meanwhile, and
// stays there.
func TestMoveThatLeavesSomething(t *testing.T) {
	h := start(t)
	desk := t.TempDir()
	for i := range 10 {
		writeFile(t, "x", desk, "project", fmt.Sprint(i))
	}
	h.linkFolder("desk", desk)
	slow := h.linkSlow("archive", 0)
	slow.hold()
	var moved contract.Moved
	if err := json.Unmarshal([]byte(h.must("mv", "/desk/project", "/archive", "--detach", "--json")), &moved); err != nil || moved.Run == "" {
		t.Fatal(moved, err)
	}
	for deadline := time.Now().Add(longestWait); !h.state(moved.Run).Planned; {
		if time.Now().After(deadline) {
			t.Fatal("it is never planned")
		}
		<-time.After(10 * time.Millisecond)
	}
	writeFile(t, "came meanwhile", desk, "project", "late.txt")
	slow.release()
	run := h.until(moved.Run, "partial")
	if run.Cause != "source-stays" || !strings.Contains(run.Why, "1 entry") || run.Items.Done != 10 {
		t.Errorf("%+v", run)
	}
	same(t, "the source", digest(t, desk), map[string]string{"project/late.txt": digest(t, desk)["project/late.txt"]})
	if report := h.must("run", "report", moved.Run); !strings.Contains(report, "some could not be deleted at the source") ||
		!strings.Contains(report, "A move") {
		t.Errorf("the report does not say so: %s", report)
	}
}
