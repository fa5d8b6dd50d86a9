package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

func (h *heron) shownJob(name string) (job contract.Job) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("job", "show", name, "--json")), &job); err != nil {
		h.t.Fatal(err)
	}
	return job
}

// waitsFor waits until a migration has come to a step that waits for a person.
func (h *heron) waitsFor(name, step string) contract.MigrationProgress {
	h.t.Helper()
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		migration := *h.shownJob(name).Migration
		if migration.Next == step && (migration.Waits || step == "") {
			return migration
		}
		if time.Now().After(deadline) {
			h.t.Fatalf("the migration %s has not come to %q: %+v\n%s", name, step, migration, h.log)
		}
	}
}

// TestMigration moves a folder from a file server to an object store in its steps:
// each waits, the certificate says the verified files, exactly that is cleared, and it is
// brought back later.
func TestMigration(t *testing.T) {
	t.Parallel()
	h := start(t)
	shell, objects := servertest.StartOpenSSH(t), servertest.StartObjectStore(t)
	place := shell.Folder(t)
	h.link(shell.Password, "sftp", "share", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", place)
	h.linkBucket("archive", objects, objects.Bucket(t))
	got, server := startMail(t)
	h.must("notify", "email", "--server", server, "--tls", "none", "--sender", "heron@example.org", "--recipient", "storage@example.org")
	for i := range 60 {
		writeFile(t, fmt.Sprint("reading ", i), place, "project", fmt.Sprint("year ", i%3), fmt.Sprint(i, ".csv"))
	}
	writeFile(t, "", place, "project", "empty.txt")
	writeFile(t, "with a slash's neighbour: ü, %2F, emoji 🐦", place, "project", "año – 🐦.txt")
	writeFile(t, "left out", place, "project", "scratch.tmp")
	h.says("", 2, "not enough to clear", "job", "create", "away", "--type", "migrate", "--clear", "--verify", "size", "--from",
		"/share/project", "--to", "/archive/project")
	h.says("", 2, "not to clear", "job", "create", "away", "--type", "migrate", "--go-on", "clear", "--from", "/share/project", "--to",
		"/archive/project")
	h.says("", 2, "the job is a copy", "job", "create", "away", "--clear", "--from", "/share/project", "--to", "/archive/project")
	h.must("job", "create", "away", "--type", "migrate", "--clear", "--exclude", "*.tmp", "--from", "/share/project", "--to",
		"/archive/project")

	// Survey and first pass, each started by a person.
	h.says("", 1, "not verified", "job", "start", "away", "--step", "clear", "--yes")
	h.says("", 1, "nothing was cleared", "job", "bring-back", "away")
	survey := h.job("away", 0)
	if survey.Step != "survey" || !strings.Contains(survey.Waits, "first pass") || survey.Items.Done != 0 {
		t.Errorf("the survey: %+v", survey)
	}
	// one is excluded
	if page := h.must("run", "report", survey.ID); !strings.Contains(page, "Survey of") || !strings.Contains(page, "62 files") {
		t.Errorf("the page of the survey: %.400s", page)
	}
	if first := h.job("away", 0); first.Step != "first-pass" || first.Items.Done != 62 || first.Excluded.Items != 1 {
		t.Errorf("the first pass: %+v", first)
	}
	for deadline := time.Now().Add(longestWait); len(got.subjects()) < 2; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("nobody was told that it waits: %q", got.subjects())
		}
	}
	if subjects := got.subjects(); !strings.Contains(subjects[0], "the migration away waits for you") {
		t.Errorf("the mail said %q", subjects)
	}

	// People go on working: 15 changes are more than a little here, so that it catches up
	// twice by itself, and stops before the final pass.
	for i := range 15 {
		writeFile(t, fmt.Sprint("corrected ", i), place, "project", fmt.Sprint("year ", i%3), fmt.Sprint(i, ".csv"))
	}
	h.must("job", "edit", "away", "--go-on", "catch-up", "--little", "5")
	migration := h.waitsFor("away", "final-pass")
	if n := len(migration.Steps); n != 4 || migration.Steps[2].Items != 15 || migration.Steps[3].Items != 0 {
		t.Errorf("it caught up in %+v", migration.Steps)
	}

	// A certificate with what is not verified: somebody writes at the target as well.
	writeFile(t, "changed here", place, "project", "year 1", "1.csv")
	theirs := filepath.Join(t.TempDir(), "1.csv")
	writeFile(t, "changed there", theirs)
	h.must("put", theirs, "/archive/project/year 1", "--yes")
	run := h.job("away", 1)
	if run.State != "partial" || run.Cause != "not-verified" || !strings.Contains(run.Waits, "final pass") {
		t.Errorf("with a conflict: %+v", run)
	}
	certificate := h.must("run", "report", run.ID, "--certificate")
	if !strings.Contains(certificate, "conflict-kept-both") || !strings.Contains(certificate, "/share/project/year 1/1.csv") {
		t.Errorf("the certificate does not say what is not verified:\n%s", certificate)
	}
	h.must("rm", "/archive/project/year 1/1.csv", "--yes")
	run = h.job("away", 0)
	made := h.shownJob("away").Migration.Certificate
	if made == nil || made.Run != run.ID || made.Verified.Items != 62 || made.Unverified.Items != 0 || made.Excluded.Items != 1 ||
		len(made.Steps) != 5 {
		t.Fatalf("the certificate: %+v", made)
	}
	dir := t.TempDir()
	for _, format := range []string{"html", "json", "csv"} {
		file := filepath.Join(dir, "certificate."+format)
		h.must("run", "report", run.ID, "--certificate", "--out", file)
		if out := h.must("run", "report", "--check", file); !strings.Contains(out, "has not been altered") ||
			!strings.Contains(out, made.Digest) {
			t.Errorf("checked: %s", out)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		altered := strings.Replace(string(text), "year 2", "year 3", 1)
		writeFile(t, altered, file)
		h.says("", 1, "altered", "run", "report", "--check", file)
		if format == "json" {
			checkDigest(t, string(text), made.Digest, 62, 0)
		}
	}
	h.says("", 1, "has no certificate", "run", "report", survey.ID, "--certificate")
	h.checkFiles(run.ID)

	// Cleared is exactly the verified files and has not changed since, and only when asked.
	h.says("", 2, "--yes", "job", "start", "away")
	writeFile(t, "after the certificate", place, "project", "year 2", "2.csv")
	writeFile(t, "new", place, "project", "new.txt")
	r := h.run("", "job", "start", "away", "--yes", "--json")
	var cleared contract.Run
	if err := json.Unmarshal([]byte(r.out), &cleared); err != nil || cleared.Cause != "source-stays" || cleared.Items.Removed == 0 {
		t.Errorf("cleared: %+v, %v\n%s", cleared, err, r.err)
	}
	left := digest(t, filepath.Join(place, "project"))
	for _, name := range []string{"scratch.tmp", "year 2/2.csv", "new.txt"} {
		if left[name] == "" {
			t.Errorf("%s is gone, and was not verified", name)
		}
	}
	if len(left) != 3 {
		t.Errorf("the source holds %v", left)
	}
	h.says("", 1, "is over", "job", "start", "away")
	h.says("", 1, "is over", "job", "start", "away", "--step", "first-pass")

	// Fetched back, with a kill on the way.
	os.RemoveAll(filepath.Join(place, "project"))
	var started contract.Started
	if err := json.Unmarshal([]byte(h.must("job", "bring-back", "away", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	h.end(syscall.SIGKILL)
	h.serve()
	h.until(started.Run, "done")
	back := digest(t, filepath.Join(place, "project"))
	if len(back) != 63 || back["año – 🐦.txt"] == "" || back["empty.txt"] == "" {
		t.Errorf("%d files were brought back, with the one that was kept beside another", len(back))
	}
	if next := h.waitsFor("away", "survey"); !strings.Contains(next.Sentence, "back at the source") {
		t.Errorf("after it was brought back: %+v", next)
	}
}

// checkDigest takes the digest of a certificate as docs/jobs.md says.
func checkDigest(t *testing.T, text, want string, files, rights int) {
	t.Helper()
	sum, lines := sha256.New(), 0
	for line := range strings.SplitSeq(text, "\n") {
		if line = strings.TrimPrefix(line, ","); strings.HasPrefix(line, `{"run"`) || strings.HasPrefix(line, `{"address"`) {
			sum.Write([]byte(line + "\n"))
			lines++
		}
	}
	if got := "sha256=" + hex.EncodeToString(sum.Sum(nil)); got != want || lines != files+rights+1 {
		t.Errorf("over %d lines the digest is %s, and it says %s", lines, got, want)
	}
	var value struct {
		Files []contract.CertifiedFile `json:"files"`
	}
	if err := json.Unmarshal([]byte(text), &value); err != nil || len(value.Files) != files {
		t.Errorf("%d files, %v", len(value.Files), err)
	}
}

// TestMigrationByItself goes from the survey to the cleared source without a person, over
// kills of the process.
func TestMigrationByItself(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("disk", to)
	for i := range 400 {
		writeFile(t, fmt.Sprint("content ", i), from, "all", fmt.Sprint(i%20), fmt.Sprint(i))
	}
	want := digest(t, filepath.Join(from, "all"))
	h.must("job", "create", "away", "--type", "migrate", "--clear", "--go-on", "clear", "--from", "/desk/all", "--to", "/disk/all")
	h.must("job", "start", "away", "--detach")
	for range 6 {
		time.Sleep(30 * time.Millisecond)
		h.end(syscall.SIGKILL)
		h.serve()
	}
	migration := h.waitsFor("away", "")
	same(t, "the target", digest(t, filepath.Join(to, "all")), want)
	if left := digest(t, from); len(left) > 1 || len(left) == 1 && left["./"] != "" {
		t.Errorf("the source holds %v", left)
	}
	if made := migration.Certificate; made == nil || made.Verified.Items != 400 || made.Unverified.Items != 0 || made.Folders != 20 {
		t.Errorf("the certificate: %+v", made)
	}
}

// checkFiles has the files of a certificate read at the target: as they are, and with one
// altered whose size and time stay.
func (h *heron) checkFiles(run string) {
	h.t.Helper()
	file := filepath.Join(h.t.TempDir(), "certificate.json")
	h.must("run", "report", run, "--certificate", "--out", file)
	h.says("", 0, "with the BLAKE3 of the certificate: 62 files", "run", "report", "--check", file, "--files")
	kept, theirs := filepath.Join(h.t.TempDir(), "kept"), filepath.Join(h.t.TempDir(), "3.csv")
	h.must("get", "/archive/project/year 0/3.csv", kept)
	content, err := os.ReadFile(kept)
	if err != nil {
		h.t.Fatal(err)
	}
	writeFile(h.t, strings.ToUpper(string(content)), theirs)
	h.must("put", theirs, "/archive/project/year 0", "--yes")
	if r := h.says("", 1, "/archive/project/year 0/3.csv", "run", "report", "--check", file, "--files"); !strings.Contains(r.out, "differs") {
		h.t.Errorf("a file was altered: %s", r.out)
	}
	writeFile(h.t, string(content), theirs)
	h.must("put", theirs, "/archive/project/year 0", "--yes")
	h.says("", 0, "62 files", "run", "report", "--check", file, "--files")
}
