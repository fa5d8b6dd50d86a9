package e2e

import (
	"archive/tar"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/mattn/go-sqlite3"

	"deftheron/contract"
	"deftheron/servertest"
)

// TestEarlierVersions starts this version on data folders of earlier ones, whose services were killed
// in the middle of a run: the run goes on, and jobs, accounts and earlier runs are there.
// testdata/earlier/make.sh made them.
func TestEarlierVersions(t *testing.T) {
	t.Parallel()
	archives, err := filepath.Glob("testdata/earlier/*.tar.gz")
	if err != nil || len(archives) < 6 {
		t.Fatalf("%d data folders of earlier versions, %v", len(archives), err)
	}
	for _, archive := range archives {
		t.Run(strings.TrimSuffix(filepath.Base(archive), ".tar.gz"), func(t *testing.T) { upgradeFrom(t, archive) })
	}
}

func upgradeFrom(t *testing.T, archive string) {
	root := t.TempDir()
	unpack(t, archive, root)
	for i := 1; i <= 9; i++ { // as make.sh makes them
		writeFile(t, repeated(fmt.Sprintf("small %d\n", i), 4000), root, "desk", "small", fmt.Sprintf("%d.txt", i))
		writeFile(t, repeated(fmt.Sprintf("large %d\n", i), 400000), root, "desk", "large", fmt.Sprintf("%d.bin", i))
	}
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(root, "data", "heron.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE accounts SET options = replace(options, '/tmp/heron-earlier', ?)", root); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	h := &heron{t: t, data: filepath.Join(root, "data"), listen: servertest.FreeAddress(t)}
	h.serve()
	var runs []contract.Run
	for line := range strings.Lines(h.must("run", "list", "--job", "keep", "--json")) {
		var run contract.Run
		if err := json.Unmarshal([]byte(line), &run); err != nil {
			t.Fatal(err)
		}
		runs = append(runs, run)
	}
	if len(runs) != 1 {
		t.Fatalf("%d runs of the job, want the one that was in flight", len(runs))
	}
	h.must("run", "limit", runs[0].ID, "--up", "unlimited")
	h.must("run", "follow", runs[0].ID)
	for _, folder := range []string{"small", "large"} {
		same(t, folder, digest(t, filepath.Join(root, "archive", folder)), digest(t, filepath.Join(root, "desk", folder)))
	}
	var run contract.Run
	if err := json.Unmarshal([]byte(h.must("run", "show", runs[0].ID, "--json")), &run); err != nil {
		t.Fatal(err)
	}
	if run.State != "done" || run.Items.Done != 9 || run.Items.Failed != 0 || run.Interruptions == 0 {
		t.Errorf("the run in flight: %s, %+v, interrupted %d times", run.State, run.Items, run.Interruptions)
	}
	h.must("job", "start", "keep") // nothing is left to do, and what was done before is known
	if listed := h.must("run", "list"); !strings.Contains(listed, "done") || strings.Count(listed, "\n") < 4 {
		t.Errorf("runs: %s", listed)
	}
	if checks := h.run("", "doctor"); !strings.Contains(checks.out, "are whole") {
		t.Errorf("heron doctor: %s%s", checks.out, checks.err)
	}
}

// unpack unpacks a .tar.gz of small files.
func unpack(t *testing.T, archive, into string) {
	t.Helper()
	file, err := os.Open(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	plain, err := gzip.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	for entries := tar.NewReader(plain); ; {
		entry, err := entries.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(into, filepath.FromSlash(entry.Name))
		if entry.FileInfo().IsDir() {
			if err := os.MkdirAll(path, 0o700); err != nil {
				t.Fatal(err)
			}
			continue
		}
		content, err := io.ReadAll(entries)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// repeated is a text over and over, up to a size.
func repeated(text string, size int) string { return strings.Repeat(text, size/len(text)+1)[:size] }
