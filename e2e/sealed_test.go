package e2e

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"deftheron/servertest"
)

var everywhere = flag.Bool("everywhere", false, "try every kind of account with every other, and sealed places in each, as make soak does")

// sealedBases are the accounts in which sealed places are tried.
func sealedBases() []string {
	if *everywhere {
		return []string{"folder", "versitygw", "apache", "x-net", "openssh", "ftp", "ftps", "samba", "sedge", "alder"}
	}
	return []string{"folder", "versitygw"}
}

// linkSealed links a sealed place in a folder of an account, with a new key.
func (h *heron) linkSealed(name, in string) (key string) {
	h.t.Helper()
	key = filepath.Join(h.t.TempDir(), "key.txt")
	h.must("account", "link", "sealed", name, "--in", in, "--key-file", key, "--yes")
	return key
}

// TestSealedEverywhere keeps a sealed place in accounts of several kinds, and does there what
// can be done at any place: overwrite, delete, rename, look back, restore and rehearse.
func TestSealedEverywhere(t *testing.T) {
	t.Parallel()
	h := start(t)
	names := linkServers(t, h)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	var group sync.WaitGroup
	lanes := make(chan struct{}, 3)
	for _, name := range names {
		if !slices.Contains(sealedBases(), name) {
			continue
		}
		h.linkSealed("vault-"+name, "/"+name+"/vault")
		group.Go(func() {
			lanes <- struct{}{}
			defer func() { <-lanes }()
			h.historyAt(t, desk, "vault-"+name)
		})
	}
	group.Wait()
}

// TestSealedPlace links a sealed place with a key and with a passphrase, kills the service
// while it writes there, loses its records, and links the place again.
func TestSealedPlace(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	for i := range 300 {
		writeFile(t, strings.Repeat(fmt.Sprint(i, " "), 1+i*20), desk, "Reports", fmt.Sprint("part ", i%7), fmt.Sprintf("flow %03d.csv", i))
	}
	key := filepath.Join(t.TempDir(), "key.txt")
	if r := h.run("", "account", "link", "sealed", "vault", "--in", "/archive/vault", "--key-file", key); r.code != 2 ||
		!strings.Contains(r.err, "--yes") {
		t.Errorf("nobody was asked whether the key sheet is kept: exit %d\n%s", r.code, r.err)
	}
	if files, _ := os.ReadDir(archive); len(files) > 0 {
		t.Errorf("something was made before the key was kept: %v", files)
	}
	h.must("account", "link", "sealed", "vault", "--in", "/archive/vault", "--key-file", key, "--yes")
	sheet, err := os.ReadFile(filepath.Join(filepath.Dir(key), "vault-key-sheet.txt"))
	if err != nil || !bytes.Contains(sheet, []byte("AGE-SECRET-KEY-1")) || !bytes.Contains(sheet, []byte("/archive/vault")) {
		t.Errorf("the key sheet: %v\n%s", err, sheet)
	}
	for _, path := range []string{key, filepath.Join(filepath.Dir(key), "vault-key-sheet.txt")} {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s can be read by others: %v, %v", path, info.Mode(), err)
		}
	}
	out := h.must("copy", "/desk/Reports", "/vault", "--detach", "--json")
	h.end(syscall.SIGKILL)
	h.serve()
	id := strings.Split(strings.Split(out, `"run":"`)[1], `"`)[0]
	h.must("run", "follow", id)
	if compared := h.must("compare", "/desk/Reports", "/vault/Reports"); !strings.Contains(compared, "Both sides hold the same") {
		t.Errorf("after a kill: %s", compared)
	}
	noPlainText(t, archive, "flow", "part ", "Reports")

	// Another service, with the key alone.
	other := start(t)
	other.linkFolder("archive", archive)
	wrong := filepath.Join(t.TempDir(), "wrong.txt")
	if out, err := exec.Command("age-keygen", "-o", wrong).CombinedOutput(); err != nil {
		t.Fatalf("age-keygen: %v: %s", err, out)
	}
	if r := other.run("", "account", "link", "sealed", "vault", "--in", "/archive/vault", "--key-file", wrong); r.code == 0 ||
		!strings.Contains(r.err, "does not open") {
		t.Errorf("another key: exit %d\n%s", r.code, r.err)
	}
	other.must("account", "link", "sealed", "vault", "--in", "/archive/vault", "--key-file", key)
	if got := other.must("cat", "/vault/Reports/part 3/flow 003.csv"); got != strings.Repeat("3 ", 61) {
		t.Errorf("with another service: got %q", got)
	}

	// The account that it is in.
	if r := h.run("", "account", "unlink", "archive", "--yes"); r.code == 0 || !strings.Contains(r.err, "/archive") {
		t.Errorf("the account beneath was unlinked: exit %d\n%s", r.code, r.err)
	}
	h.must("account", "edit", "archive", "--name", "attic")
	if got := h.must("cat", "/vault/Reports/part 3/flow 003.csv"); got != strings.Repeat("3 ", 61) {
		t.Errorf("after the account beneath was renamed: got %q", got)
	}
	h.must("account", "suspend", "attic")
	if r := h.run("", "ls", "/vault"); r.code == 0 || !strings.Contains(r.err, "suspended") {
		t.Errorf("while the account beneath is suspended: exit %d\n%s", r.code, r.err)
	}
	h.must("account", "resume", "attic")

	// A passphrase.
	pass := filepath.Join(t.TempDir(), "pass.txt")
	writeFile(t, "heron under the weir", pass)
	small := filepath.Join(t.TempDir(), "sheet.txt")
	h.must("account", "link", "sealed", "small", "--in", "/attic/small", "--secret-file", pass, "--key-sheet", small, "--yes")
	if sheet, err := os.ReadFile(small); err != nil || bytes.Contains(sheet, []byte("weir")) {
		t.Errorf("the key sheet of a passphrase: %v\n%s", err, sheet)
	}
	h.must("copy", "/desk/Reports/part 1", "/small")
	h.must("account", "unlink", "small", "--yes")
	writeFile(t, "heron over the weir", pass)
	if r := h.run("", "account", "link", "sealed", "small", "--in", "/attic/small", "--secret-file", pass); r.code == 0 ||
		!strings.Contains(r.err, "passphrase") {
		t.Errorf("another passphrase: exit %d\n%s", r.code, r.err)
	}
}

// noPlainText fails where words of names or contents are in files or names below a folder.
func noPlainText(t *testing.T, dir string, words ...string) {
	t.Helper()
	err := filepath.WalkDir(filepath.Join(dir, "vault", "contents"), func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		for _, word := range words {
			if bytes.Contains(data, []byte(word)) || strings.Contains(entry.Name(), word) {
				t.Errorf("%s tells %q", path, word)
			}
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}

// TestResealAndRebuild changes the recipients of a sealed place and loses a manifest.
func TestResealAndRebuild(t *testing.T) {
	t.Parallel()
	h := start(t)
	objects := servertest.StartObjectStore(t)
	bucket := objects.Bucket(t)
	h.linkBucket("archive", objects, bucket)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	for i := range 40 {
		writeFile(t, strings.Repeat("level ", i*100), desk, "Surveys", fmt.Sprint(i%4), fmt.Sprint(i))
	}
	h.linkSealed("vault", "/archive/vault")
	h.must("copy", "/desk/Surveys", "/vault")
	escrow := filepath.Join(t.TempDir(), "escrow.txt")
	if out, err := exec.Command("age-keygen", "-o", escrow).CombinedOutput(); err != nil {
		t.Fatalf("age-keygen: %v: %s", err, out)
	}
	public, err := exec.Command("age-keygen", "-y", escrow).Output()
	if err != nil {
		t.Fatal(err)
	}
	h.must("account", "edit", "vault", "--recipients", strings.TrimSpace(string(public)))
	if said := h.must("account", "reseal", "vault"); !strings.Contains(said, "40 files") {
		t.Errorf("resealing said %q", said)
	}
	if said := h.must("account", "reseal", "vault"); !strings.Contains(said, "0 files") {
		t.Errorf("resealing again said %q", said)
	}
	other := start(t)
	other.linkBucket("archive", objects, bucket)
	other.must("account", "link", "sealed", "vault", "--in", "/archive/vault", "--key-file", escrow)
	other.linkFolder("desk", desk)
	if compared := other.must("compare", "/desk/Surveys", "/vault/Surveys"); !strings.Contains(compared, "Both sides hold the same") {
		t.Errorf("with the key in escrow: %s", compared)
	}
	var lost []string // every manifest but one
	for _, word := range strings.Fields(h.must("ls", "/archive/vault/folders")) {
		if strings.HasSuffix(word, "/") {
			lost = append(lost, "/archive/vault/folders/"+word)
		}
	}
	h.must(append([]string{"rm", "--yes"}, lost[1:]...)...)
	fresh := start(t)
	fresh.linkBucket("archive", objects, bucket)
	fresh.must("account", "link", "sealed", "vault", "--in", "/archive/vault", "--key-file", escrow)
	if said := fresh.must("account", "rebuild", "vault"); !strings.Contains(said, "Rebuilt") || strings.Contains(said, " 0 manifests") {
		t.Errorf("rebuilding said %q", said)
	}
	fresh.linkFolder("desk", desk)
	if compared := fresh.must("compare", "/desk/Surveys", "/vault/Surveys"); !strings.Contains(compared, "Both sides hold the same") {
		t.Errorf("after rebuilding: %s", compared)
	}
}
