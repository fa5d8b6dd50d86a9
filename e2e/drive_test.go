package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"deftheron/servertest"
)

// mountDrive mounts the tree of a service at a folder of the test, through another address of it if
// one is given.
func (h *heron) mountDrive(t *testing.T, url string, options ...string) string {
	t.Helper()
	if _, err := os.Stat("/dev/fuse"); err != nil {
		t.Skipf("this machine has no FUSE: %v", err)
	}
	folder := t.TempDir()
	if url == "" {
		url = "http://" + h.listen
	}
	command := exec.Command(program, append([]string{"drive", "mount", folder}, options...)...)
	command.Env = append(os.Environ(), "HERON_URL="+url, "HERON_TOKEN="+h.token(), "XDG_CACHE_HOME="+filepath.Join(t.TempDir(), "cache"))
	log := &logged{}
	command.Stdout, command.Stderr = log, log
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- command.Wait() }()
	t.Cleanup(func() {
		_ = command.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			_ = command.Process.Signal(syscall.SIGQUIT) // it prints what it waits for
			<-time.After(time.Second)
			_ = command.Process.Kill()
			_ = exec.Command("umount", "-l", folder).Run()
			t.Errorf("the mount did not end: %s", log)
		}
		if t.Failed() {
			t.Logf("the mount said: %s", log)
		}
	})
	for !strings.Contains(log.String(), "is mounted") {
		select {
		case err := <-ended:
			ended <- err
			if strings.Contains(log.String(), "operation not permitted") {
				t.Skipf("nothing can be mounted here: %s", log)
			}
			t.Fatalf("the mount ended: %v %s", err, log)
		case <-time.After(5 * time.Millisecond):
		}
	}
	return folder
}

// TestDriveEndsWhileItIsReferredTo unmounts a tree that is mounted at a second folder too: the program
// ends all the same.
func TestDriveEndsWhileItIsReferredTo(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	second := t.TempDir()
	t.Cleanup(func() { _ = syscall.Unmount(second, syscall.MNT_DETACH) })
	first := h.mountDrive(t, "") // which fails the test if it does not end
	if err := syscall.Mount(first, second, "", syscall.MS_BIND, ""); err != nil {
		t.Skipf("a folder cannot be mounted twice here: %v", err)
	}
	if _, err := os.ReadDir(filepath.Join(second, "desk")); err != nil {
		t.Error(err)
	}
}

// TestDrive works on the tree as on any folder, with the programs of the system.
func TestDrive(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	objects := servertest.StartObjectStore(t)
	h.linkBucket("archive", objects, objects.Bucket(t))
	at := h.mountDrive(t, "")
	shell := func(script string) string {
		t.Helper()
		command := exec.Command("sh", "-e", "-c", script)
		command.Dir = at
		out, err := command.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", script, err, out)
		}
		return string(out)
	}
	if got := shell("ls -A"); got != ".history\narchive\ndesk\n" {
		t.Errorf("the tree holds %q", got)
	}
	for _, account := range []string{"desk", "archive"} {
		shell("cd " + account + `; mkdir -p a/b; echo one > a/one.txt; echo two >> a/one.txt; cp a/one.txt a/b/; mv a/one.txt a/b/two.txt
			ln -s x y 2>/dev/null && exit 1; rmdir a 2>/dev/null && exit 1
			touch a/b/empty; test "$(wc -c < a/b/empty)" = 0; printf x | dd of=a/b/two.txt bs=1 seek=1 conv=notrunc 2>/dev/null
			truncate -s 6 a/b/one.txt; (cd a && tar cf ../all.tar b); tar tf all.tar; df . >/dev/null`)
		if got := shell("cat " + account + "/a/b/two.txt"); got != "oxe\ntwo\n" {
			t.Errorf("%s: two.txt holds %q", account, got)
		}
		if got := shell("cd " + account + "; cat a/b/one.txt; rm -r a; ls"); got != "one\ntwall.tar\n" {
			t.Errorf("%s: in the end %q", account, got)
		}
	}
	writeFile(t, "from elsewhere", desk, "new.txt")
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if got, err := os.ReadFile(filepath.Join(at, "desk", "new.txt")); err == nil && string(got) == "from elsewhere" {
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("a file that was made elsewhere is %q, %v", got, err)
		}
	}
	if err := os.WriteFile(filepath.Join(at, ".history", "x"), nil, 0o644); err == nil {
		t.Error("history was written to")
	}
	h.must("lock", "/desk/new.txt", "--for", "1h") // the owner's own, which the mount's user is
	readOnly := h.mountDrive(t, "", "--start", "/desk", "--read-only")
	if err := os.WriteFile(filepath.Join(readOnly, "new.txt"), []byte("x"), 0o644); !errors.Is(err, syscall.EROFS) {
		t.Errorf("a mount that is read only: %v", err)
	}
	if got, err := os.ReadFile(filepath.Join(readOnly, "new.txt")); err != nil || string(got) != "from elsewhere" {
		t.Errorf("below the start: %q, %v", got, err)
	}
	h.says("", 1, "is not a folder", "drive", "mount", filepath.Join(desk, "new.txt"))
	h.says("", 0, "ExecStart=", "drive", "install", "/mnt/with space", "--print")
	h.says("", 2, "is not a folder", "drive", "install", filepath.Join(desk, "not there"))
	h.says("", 0, "/dav/", "drive", "show")
}

// TestDriveModel does random things to files and folders of the mount, and to a model in memory: each
// reading, and what is at the provider in the end, is as the model has it.
func TestDriveModel(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	at := filepath.Join(h.mountDrive(t, ""), "desk")
	steps := 800
	if *everywhere {
		steps = 10_000
	}
	m := &mountModel{t: t, at: at, random: rand.New(rand.NewPCG(5, 29)), files: map[string][]byte{}, folders: map[string]bool{".": true}}
	for range steps {
		m.step()
	}
	got := map[string][]byte{}
	err := filepath.WalkDir(desk, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Name() == ".heron" {
			return fs.SkipDir
		}
		if err == nil && !entry.IsDir() {
			name, _ := filepath.Rel(desk, path)
			got[name], err = os.ReadFile(path)
		}
		return err
	})
	if err != nil || !maps.EqualFunc(got, m.files, bytes.Equal) {
		t.Errorf("the provider holds %v, %v\nwant %v", slices.Sorted(maps.Keys(got)), err, slices.Sorted(maps.Keys(m.files)))
	}
}

type mountModel struct {
	t       *testing.T
	at      string
	random  *rand.Rand
	files   map[string][]byte
	folders map[string]bool
}

func (m *mountModel) pick(all []string) string { return all[m.random.IntN(len(all))] }

func (m *mountModel) newName() string {
	folder := m.pick(slices.Sorted(maps.Keys(m.folders)))
	return filepath.Join(folder, []string{"a", "b", "c.txt", "é", "long name"}[m.random.IntN(5)])
}

func (m *mountModel) must(what string, err error) {
	m.t.Helper()
	if err != nil {
		m.t.Fatalf("%s: %v", what, err)
	}
}

func (m *mountModel) step() {
	m.t.Helper()
	name := m.newName()
	_, isFile := m.files[name]
	isFolder := m.folders[name]
	switch path := filepath.Join(m.at, name); m.random.IntN(7) {
	case 0:
		if !isFile && !isFolder {
			m.must("mkdir "+name, os.Mkdir(path, 0o755))
			m.folders[name] = true
		}
	case 1, 2, 3:
		if !isFolder {
			m.edit(name)
		}
	case 4:
		if isFile {
			m.must("remove "+name, os.Remove(path))
			delete(m.files, name)
		} else if isFolder && name != "." {
			err := os.Remove(path)
			if m.holds(name) != errors.Is(err, syscall.ENOTEMPTY) {
				m.t.Fatalf("rmdir %s: %v", name, err)
			}
			if err == nil {
				delete(m.folders, name)
			}
		}
	case 5:
		m.rename(name)
	case 6:
		if isFile {
			got, err := os.ReadFile(path)
			if m.must("read "+name, err); !bytes.Equal(got, m.files[name]) {
				m.t.Fatalf("%s holds %d bytes, want %d", name, len(got), len(m.files[name]))
			}
		}
	}
}

// holds reports whether anything is in a folder.
func (m *mountModel) holds(folder string) bool {
	for _, all := range [][]string{slices.Collect(maps.Keys(m.files)), slices.Collect(maps.Keys(m.folders))} {
		if slices.ContainsFunc(all, func(name string) bool { return strings.HasPrefix(name, folder+"/") }) {
			return true
		}
	}
	return false
}

// edit writes, truncates and reads a file at random places while it is open.
func (m *mountModel) edit(name string) {
	m.t.Helper()
	file, err := os.OpenFile(filepath.Join(m.at, name), os.O_RDWR|os.O_CREATE, 0o644)
	m.must("open "+name, err)
	content := slices.Clone(m.files[name])
	for range 1 + m.random.IntN(4) {
		switch m.random.IntN(3) {
		case 0:
			data := bytes.Repeat([]byte{byte('a' + m.random.IntN(26))}, m.random.IntN(40_000))
			offset := m.random.IntN(50_000)
			_, err := file.WriteAt(data, int64(offset))
			m.must("write to "+name, err)
			if len(data) > 0 && offset+len(data) > len(content) {
				content = append(content, make([]byte, offset+len(data)-len(content))...)
			}
			copy(content[min(offset, len(content)):], data)
		case 1:
			size := m.random.IntN(60_000)
			m.must("truncate "+name, file.Truncate(int64(size)))
			if size <= len(content) {
				content = content[:size]
			} else {
				content = append(content, make([]byte, size-len(content))...)
			}
		case 2:
			got := make([]byte, len(content))
			if _, err := file.ReadAt(got, 0); len(got) > 0 && (err != nil || !bytes.Equal(got, content)) {
				m.t.Fatalf("%s while it is open: %v", name, err)
			}
		}
	}
	m.must("close "+name, file.Close())
	m.files[name] = content
}

func (m *mountModel) rename(from string) {
	m.t.Helper()
	content, isFile := m.files[from]
	to := m.newName()
	_, taken := m.files[to]
	switch {
	case from == to, from == ".", !isFile && !m.folders[from], m.folders[to], taken && !isFile,
		strings.HasPrefix(to, from+"/"), strings.HasPrefix(from, to+"/"):
		return
	}
	m.must("rename "+from+" to "+to, os.Rename(filepath.Join(m.at, from), filepath.Join(m.at, to)))
	if isFile {
		delete(m.files, from)
		m.files[to] = content
		return
	}
	for name, content := range maps.Clone(m.files) {
		if strings.HasPrefix(name, from+"/") {
			delete(m.files, name)
			m.files[to+name[len(from):]] = content
		}
	}
	for name := range maps.Clone(m.folders) {
		if name == from || strings.HasPrefix(name, from+"/") {
			delete(m.folders, name)
			m.folders[to+name[len(from):]] = true
		}
	}
}

// TestDriveRequests counts the requests that reading costs: one for 1 MiB in the middle of a large
// file, and few for all of it.
func TestDriveRequests(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	large := make([]byte, 64<<20)
	for i := range large {
		large[i] = byte(i * 7 >> (i % 5))
	}
	writeFile(t, string(large), desk, "large.bin")
	h.linkFolder("desk", desk)
	target, _ := url.Parse("http://" + h.listen)
	var mu sync.Mutex
	var reads []string
	forward := httputil.NewSingleHostReverseProxy(target)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			mu.Lock()
			reads = append(reads, r.Header.Get("Range"))
			mu.Unlock()
		}
		forward.ServeHTTP(w, r)
	}))
	defer front.Close()
	at := filepath.Join(h.mountDrive(t, front.URL), "desk", "large.bin")
	file, err := os.Open(at)
	if err != nil {
		t.Fatal(err)
	}
	part := make([]byte, 1<<20)
	const offset = 33_333_333
	if _, err := file.ReadAt(part, offset); err != nil || !bytes.Equal(part, large[offset:offset+len(part)]) {
		t.Fatalf("1 MiB in the middle: %v", err)
	}
	file.Close()
	mu.Lock()
	if len(reads) != 1 {
		t.Errorf("1 MiB in the middle of a file took the requests %v", reads)
	}
	reads = nil
	mu.Unlock()
	if got, err := os.ReadFile(at); err != nil || !bytes.Equal(got, large) {
		t.Fatalf("the whole file: %d bytes, %v", len(got), err)
	}
	mu.Lock()
	defer mu.Unlock()
	if len(reads) > 6 {
		t.Errorf("a file of 64 MiB took %d requests: %v", len(reads), reads)
	}
}

// TestDriveErrors has the service refuse what is written: closing says so, what was there stays, and
// what was written is kept.
func TestDriveErrors(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "as it was", desk, "plan.txt")
	h.linkFolder("desk", desk)
	at := filepath.Join(h.mountDrive(t, ""), "desk")
	file, err := os.OpenFile(filepath.Join(at, "plan.txt"), os.O_WRONLY|os.O_TRUNC, 0)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(file, "written here")
	writeFile(t, "changed elsewhere", desk, "plan.txt")
	if err := file.Close(); !errors.Is(err, syscall.ESTALE) {
		t.Errorf("closing a file that was changed elsewhere: %v", err)
	}
	if got, _ := os.ReadFile(filepath.Join(desk, "plan.txt")); string(got) != "changed elsewhere" {
		t.Errorf("the provider holds %q", got)
	}
	h.end(syscall.SIGKILL)
	if err := os.WriteFile(filepath.Join(at, "plan.txt"), []byte("x"), 0o644); err == nil {
		t.Error("a file was saved without a service")
	}
	h.serve()
	if err := os.WriteFile(filepath.Join(at, "after.txt"), []byte("again"), 0o644); err != nil {
		t.Errorf("after the service was there again: %v", err)
	}
}
