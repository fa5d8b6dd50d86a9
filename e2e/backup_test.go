package e2e

import (
	"archive/tar"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"

	"deftheron/contract"
	"deftheron/servertest"
)

// restored starts a service with a data folder that a backup was restored to.
func (h *heron) restored(data string) *heron {
	h.t.Helper()
	other := &heron{t: h.t, data: data, listen: servertest.FreeAddress(h.t)}
	other.serve()
	return other
}

// TestBackup makes backups while jobs run, by hand and by a schedule, opens one without the
// program, and refuses what is damaged or cannot be opened.
func TestBackup(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive, work := t.TempDir(), t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	writeFile(t, "x", desk, "Reports", "a.txt")
	h.must("job", "create", "keep", "--type", "mirror", "--from", "/desk/Reports", "--to", "/archive/kept")
	h.job("keep", 0)
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	to, identity := key.Recipient().String(), filepath.Join(work, "key.txt")
	writeFile(t, "# a comment\n"+key.String()+"\n", identity)
	passphrase := filepath.Join(work, "passphrase")
	writeFile(t, "correct horse weir\n", passphrase)
	file := func(name string) string { return filepath.Join(work, name) }

	h.must("backup", "create", file("key.age"), "--to", to)
	h.must("backup", "create", file("passphrase.age"), "--passphrase-file", passphrase)
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{1, "exists", []string{"create", file("key.age"), "--to", to}},
		{2, "not a public key", []string{"create", file("none.age"), "--to", "age1x"}},
		{2, "is sealed", []string{"create", file("none.age")}},
		{0, "2 accounts, 1 job, 1 run and 1 user", []string{"check", file("key.age"), "--identity", identity}},
		{0, "is whole", []string{"check", file("passphrase.age"), "--passphrase-file", passphrase}},
		{1, "cannot be opened with this key", []string{"check", file("key.age"), "--passphrase-file", passphrase}},
		{1, "holds no identity", []string{"check", file("key.age"), "--identity", passphrase}},
		{1, "not empty", []string{"restore", file("key.age"), "--data", work, "--identity", identity}},
		{2, "--data DIR", []string{"restore", file("key.age"), "--identity", identity}},
	} {
		h.says("", c.code, c.want, append([]string{"backup"}, c.args...)...)
	}
	if _, err := os.Stat(file("none.age")); err == nil {
		t.Error("a backup that was refused left a file")
	}
	short := filepath.Join(work, "short")
	writeFile(t, "weir", short)
	h.says("", 2, "fewer than 12", "backup", "create", file("none.age"), "--passphrase-file", short)

	// The format is open: age, and tar. Every byte counts.
	whole, err := os.ReadFile(file("key.age"))
	if err != nil {
		t.Fatal(err)
	}
	plain, err := age.Decrypt(bytes.NewReader(whole), key)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for archive := tar.NewReader(plain); ; {
		header, err := archive.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, header.Name)
	}
	if strings.Join(names, " ") != "manifest.json heron.db heron.key owner.token" {
		t.Errorf("the backup holds %q", names)
	}
	if bytes.Contains(whole, []byte(strings.TrimSpace(h.token()))) || bytes.Contains(whole, []byte("SQLite format")) {
		t.Error("the backup is not sealed")
	}
	for _, at := range []int{0, len(whole) / 3, len(whole) - 1} {
		bad := bytes.Clone(whole)
		bad[at] ^= 1
		writeFile(t, string(bad), file("bad.age"))
		h.says("", 1, "backup", "backup", "check", file("bad.age"), "--identity", identity)
	}
	for _, size := range []int{0, 100, len(whole) / 2, len(whole) - 1} {
		writeFile(t, string(whole[:size]), file("bad.age"))
		if r := h.run("", "backup", "restore", file("bad.age"), "--data", file("half"), "--identity", identity); r.code != 1 {
			t.Errorf("%d of %d bytes: exit %d", size, len(whole), r.code)
		}
	}
	if left, _ := filepath.Glob(file("half*")); len(left) > 0 {
		t.Errorf("a restore that failed left %q", left)
	}

	// By a schedule, to an account of the tree.
	h.must("mkdir", "/archive/backups")
	for range 3 {
		h.must("backup", "schedule", "--in", "/archive/backups", "--to", to, "--every", "12h", "--keep", "2")
		time.Sleep(1100 * time.Millisecond) // names have seconds
	}
	kept, _ := filepath.Glob(filepath.Join(archive, "backups", "heron-*.tar.age"))
	if len(kept) != 2 {
		t.Errorf("%q are kept, want 2", kept)
	}
	h.must("backup", "check", kept[1], "--identity", identity)
	h.says("", 1, "does not exist", "backup", "schedule", "--in", "/archive/none", "--to", to)
	h.says("", 2, "every hour", "backup", "schedule", "--in", "/archive/backups", "--to", to, "--every", "5m")
	if out := h.must("backup", "schedule"); !strings.Contains(out, "The last was "+filepath.Base(kept[1])) {
		t.Errorf("%s", out)
	}
	h.must("backup", "schedule", "--off")
	h.says("", 0, "No backups are made by themselves", "backup", "schedule")
}

// TestRestoredService goes on with another machine's records: users, jobs and the runs that
// were open. It believes nothing of places that changed since, and the service that it came
// from does not run beside it.
func TestRestoredService(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive, work := t.TempDir(), t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	h.addUser("ann", "operator", contract.Grant{Address: "/desk", Role: "operator"})
	ann := h.signIn("ann")
	for _, name := range []string{"stays.txt", "changes.txt", "goes.txt"} {
		writeFile(t, "first "+name, desk, "Work", name)
	}
	h.must("job", "create", "keep", "--type", "mirror", "--from", "/desk/Work", "--to", "/archive/kept", "--safety-deletions", "none",
		"--safety-overwrites", "none")
	h.job("keep", 0)
	slow := h.linkSlow("slow", 0)
	slow.hold()
	copying := strings.TrimSpace(h.must("copy", "/desk/Work", "/slow", "--detach", "--json"))
	copying = copying[strings.Index(copying, `"run":"`)+7:]
	copying = copying[:strings.IndexByte(copying, '"')]
	passphrase := filepath.Join(work, "passphrase")
	writeFile(t, "correct horse weir", passphrase)
	h.must("backup", "create", filepath.Join(work, "b.age"), "--passphrase-file", passphrase)

	// The original works on: the places are newer than the backup.
	writeFile(t, "second", desk, "Work", "changes.txt")
	if err := os.Remove(filepath.Join(desk, "Work", "goes.txt")); err != nil {
		t.Fatal(err)
	}
	h.job("keep", 0)
	writeFile(t, "came back", desk, "Work", "goes.txt") // to the target it is new again
	h.job("keep", 0)
	writeFile(t, "only at the target", archive, "kept", "by hand.txt")

	data := filepath.Join(work, "data")
	out := h.must("backup", "restore", filepath.Join(work, "b.age"), "--data", data, "--passphrase-file", passphrase)
	if !strings.Contains(out, "1 run will go on") {
		t.Errorf("%s", out)
	}
	other := h.restored(data)
	if status, _ := other.as(ann, "GET", "/api/v1/whoami", ""); status != 401 {
		t.Errorf("a session from before answers %d", status)
	}
	if who := other.signIn("ann"); who.cookie == nil {
		t.Error("a user cannot sign in")
	}
	other.says("", 0, "was restored from a backup", "backup", "schedule")
	run := other.job("keep", 0)
	if run.Items.Removed != 0 {
		t.Errorf("the first pass removed something: %+v", run.Items)
	}
	for name, want := range map[string]string{"stays.txt": "first stays.txt", "changes.txt": "second", "goes.txt": "came back",
		"by hand.txt": "only at the target"} {
		if text, _ := os.ReadFile(filepath.Join(archive, "kept", name)); string(text) != want {
			t.Errorf("%s holds %q, want %q", name, text, want)
		}
	}
	slow.release()
	other.until(copying, "done")

	// The original finds that it was replaced when it is started again, and does not run.
	h.end(syscall.SIGTERM)
	r := h.run("", "serve", "--data", h.data, "--listen", h.listen)
	if r.code == 0 || !strings.Contains(r.err, "restored from a backup") || !strings.Contains(r.err, "--take-over") {
		t.Errorf("the original runs beside it: exit %d\n%s", r.code, r.err)
	}
	// Unless it is said to; then the other ends.
	h.serve("--take-over")
	h.must("ls", "/desk")
	other.end(syscall.SIGTERM)
	if r := h.run("", "serve", "--data", other.data, "--listen", other.listen); r.code == 0 || !strings.Contains(r.err, "--take-over") {
		t.Errorf("both generations run: exit %d\n%s", r.code, r.err)
	}
}
