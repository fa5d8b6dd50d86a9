package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

func write(t *testing.T, content string, names ...string) {
	t.Helper()
	path := filepath.Join(names...)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

// TestRules copies by rules through the program: filters, a template, levels of
// verification, and what cannot be meant.
func TestRules(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	write(t, "picture", from, "Trip", "Day 1", "a.JPG")
	write(t, "other picture", from, "Trip", "Day 2", "a.JPG")
	write(t, "notes", from, "Trip", "notes.txt")
	write(t, "junk", from, "Trip", "cache", "x.tmp")
	at := time.Date(2024, 3, 5, 12, 0, 0, 0, time.UTC)
	for _, day := range []string{"Day 1", "Day 2"} {
		if err := os.Chtimes(filepath.Join(from, "Trip", day, "a.JPG"), at, at); err != nil {
			t.Fatal(err)
		}
	}
	h.must("copy", "/desk/Trip", "/archive/filtered", "--exclude", "*.tmp", "--verify", "read-back")
	if got := digest(t, filepath.Join(to, "filtered")); len(got) != 3 {
		t.Errorf("filtered: %v", got)
	}
	h.must("copy", "/desk/Trip", "/archive/dated", "--types", "pictures", "--as", "{date:%Y}/{date:%m}/{name}")
	got := digest(t, filepath.Join(to, "dated"))
	if len(got) != 2 || got["2024/03/a.JPG"] == "" {
		t.Errorf("dated: %v", got)
	}
	var plan contract.Plan
	if err := json.Unmarshal([]byte(h.must("copy", "/desk/Trip", "/archive/dated", "--types", "pictures", "--as", "{date:%Y}/{date:%m}/{name}",
		"--plan", "--json")), &plan); err != nil {
		t.Fatal(err)
	}
	if plan.Moving.Items != 0 || plan.Unchanged.Items != 2 || plan.Excluded.Items != 2 || len(plan.Verification) != 1 {
		t.Errorf("the second time: %+v", plan)
	}
	for says, args := range map[string][]string{
		"column 1":                    {"--exclude", "[a"},
		"unknown field {nmae}":        {"--as", "{nmae}"},
		"would stop the run":          {"--up", "0MB/s"},
		"both larger":                 {"--larger-than", "2MB", "--smaller-than", "1MB"},
		"not a type of files":         {"--types", "sounds"},
		"not a rule for conflicts":    {"--conflict", "win"},
		"not a rule for names":        {"--names", "mangle"},
		"not a level of verification": {"--verify", "hope"},
		"are not days of the week":    {"--hours", "someday 08-18=5MB/s"},
		"not a time to retry":         {"--within", "soon"},
		"neither a date nor an":       {"--newer-than", "tomorrow"},
	} {
		r := h.run("", append([]string{"copy", "/desk/Trip", "/archive/none"}, args...)...)
		if r.code == 0 || !strings.Contains(r.err, says) {
			t.Errorf("%v: exit %d, %s; want it to say %q", args, r.code, r.err, says)
		}
	}
	if _, err := os.Stat(filepath.Join(to, "none")); err == nil {
		t.Error("something was made of rules that cannot be meant")
	}
}

// TestAsked is held at a conflict, exits so, and goes on as a person decides.
func TestAsked(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	write(t, "ours", from, "a", "conflict.txt")
	write(t, "new", from, "a", "new.txt")
	write(t, "theirs", to, "a", "conflict.txt")
	r := h.run("", "copy", "/desk/a", "/archive", "--conflict", "ask", "--json")
	run := lastRun(r.out)
	if r.code != 3 {
		t.Fatalf("exit %d, want 3: %s%s", r.code, r.out, r.err)
	}
	if r := h.run("", "run", "approve", run); r.code == 0 || !strings.Contains(r.err, "--conflict") {
		t.Errorf("a release that decides nothing: %d, %s", r.code, r.err)
	}
	h.must("run", "approve", run, "--conflict", "source")
	h.must("run", "follow", run)
	if content, err := os.ReadFile(filepath.Join(to, "a", "conflict.txt")); err != nil || string(content) != "ours" {
		t.Errorf("it became %q, %v", content, err)
	}
	if r := h.run("", "run", "approve", run); r.code == 0 || !strings.Contains(r.err, "Only a held run can be approved.") {
		t.Errorf("approving what is not held: %d, %s", r.code, r.err)
	}
}

// TestDecideAboutOne decides about one of several conflicts; the others go on waiting.
func TestDecideAboutOne(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	for _, name := range []string{"one.txt", "other.txt", "last.txt"} {
		write(t, "ours", from, "a", "sub", name)
		write(t, "theirs", to, "a", "sub", name)
	}
	r := h.run("", "copy", "/desk/a", "/archive", "--conflict", "ask", "--json")
	run := lastRun(r.out)
	for says, args := range map[string][]string{
		"--item needs --conflict":           {"--item", "/desk/a/sub/one.txt"},
		"does not wait for a decision":      {"--item", "/desk/a/sub/none.txt", "--conflict", "source"},
		"is not a decision about conflicts": {"--conflict", "ask"},
	} {
		if r := h.run("", append([]string{"run", "approve", run}, args...)...); r.code == 0 || !strings.Contains(r.err, says) {
			t.Errorf("%v: %d, %s; want %q", args, r.code, r.err, says)
		}
	}
	h.must("run", "approve", run, "--item", "/desk/a/sub/one.txt", "--conflict", "source")
	h.waitState(run, "held")
	contents := func(name, want string) {
		t.Helper()
		if content, err := os.ReadFile(filepath.Join(to, "a", "sub", name)); err != nil || string(content) != want {
			t.Errorf("%s is %q, %v; want %q", name, content, err, want)
		}
	}
	contents("one.txt", "ours")
	contents("other.txt", "theirs")
	out := h.must("run", "items", run, "--in", "/archive/a/sub", "--text", "OTHER", "--json")
	if strings.Count(out, "\n") != 1 || !strings.Contains(out, `"existing":{"size":6`) {
		t.Errorf("the item that waits: %s", out)
	}
	if out := h.must("run", "items", run, "--in", "/desk/a/sub", "--state", "done"); !strings.Contains(out, "one.txt") ||
		strings.Contains(out, "other.txt") {
		t.Errorf("what is done: %s", out)
	}
	if r := h.run("", "run", "items", run, "--in", "/desk/b"); r.code == 0 || !strings.Contains(r.err, "is not a folder of the run") {
		t.Errorf("a folder that is not there: %d, %s", r.code, r.err)
	}
	h.must("run", "approve", run, "--conflict", "target")
	h.waitState(run, "done")
	contents("other.txt", "theirs")
	contents("last.txt", "theirs")
}

// TestRenamedFolder renames a folder at the source of a copy to an object store, over
// a drive and from a disk: no byte of it is sent again.
func TestRenamedFolder(t *testing.T) {
	t.Parallel()
	h := start(t)
	from := t.TempDir()
	h.linkFolder("desk", from)
	objects := servertest.StartObjectStore(t)
	h.linkBucket("archive", objects, objects.Bucket(t))
	for i := range 30 {
		write(t, strings.Repeat(string(rune('a'+i%26)), 1000+i), from, "all", "before", string(rune('a'+i%26))+strings.Repeat("x", i))
	}
	h.must("copy", "/desk/all", "/archive")
	if err := os.Rename(filepath.Join(from, "all", "before"), filepath.Join(from, "all", "after")); err != nil {
		t.Fatal(err)
	}
	var run contract.Run
	id := lastRun(h.must("copy", "/desk/all", "/archive", "--json"))
	if err := json.Unmarshal([]byte(h.must("run", "show", id, "--json")), &run); err != nil {
		t.Fatal(err)
	}
	if run.Items.Done != 30 || run.Bytes.Transferred != 0 || run.Inside.Items != 30 {
		t.Errorf("%d items done, %d bytes sent, %d copied inside", run.Items.Done, run.Bytes.Transferred, run.Inside.Items)
	}
	h.must("compare", "/desk/all/after", "/archive/all/after")
}

// TestPaced holds an account to a bandwidth, over a real server, and lifts it while bytes
// move.
func TestPaced(t *testing.T) {
	t.Parallel()
	h := start(t)
	from := t.TempDir()
	h.linkFolder("desk", from)
	objects := servertest.StartObjectStore(t)
	h.linkBucket("archive", objects, objects.Bucket(t))
	write(t, strings.Repeat("0123456789abcdef", 256<<10), from, "4 MiB")
	h.must("bandwidth", "set", "archive", "--up", "1MB/s")
	h.must("bandwidth", "show")
	begun := time.Now()
	h.must("copy", "/desk/4 MiB", "/archive")
	if took := time.Since(begun).Seconds(); took < 3 {
		t.Errorf("4 MiB took %.1f s at 1 MB/s", took)
	}
	run := lastRun(h.must("copy", "/desk/4 MiB", "/archive/again", "--detach", "--json", "--up", "100kB/s"))
	if run == "" {
		run = strings.Trim(strings.SplitN(h.must("run", "list", "--most", "1", "--json"), `"id":"`, 2)[1][:11], `"`)
	}
	h.must("bandwidth", "set", "archive")
	begun = time.Now()
	h.must("run", "limit", run)
	h.must("run", "follow", run)
	if took := time.Since(begun).Seconds(); took > 10 {
		t.Errorf("without a bandwidth it took another %.1f s", took)
	}
	if r := h.run("", "run", "limit", run, "--up", "1MB/s"); r.code == 0 {
		t.Error("the bandwidth of a run that has ended was set")
	}
}

// TestSurvey surveys awkward names for a share that would not hold them.
func TestSurvey(t *testing.T) {
	t.Parallel()
	h := start(t)
	from := t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", t.TempDir())
	write(t, "x", from, "a", "what: now?.txt")
	write(t, "same", from, "a", "one.png")
	write(t, "same", from, "a", "two.png")
	var survey contract.Survey
	if err := json.Unmarshal([]byte(h.must("survey", "/desk", "--for", "/archive", "--json")), &survey); err != nil {
		t.Fatal(err)
	}
	if survey.Files != 3 || survey.Bytes != 9 || survey.Translated != 0 || len(survey.Types) != 2 {
		t.Errorf("%+v", survey)
	}
	page := filepath.Join(t.TempDir(), "survey.html")
	h.must("survey", "/desk/a", "--out", page)
	if content, err := os.ReadFile(page); err != nil || !strings.Contains(string(content), "what: now?.txt") {
		t.Errorf("the page: %v", err)
	}
	for address, says := range map[string]string{"/desk/none": "does not exist", "/desk/a/one.png": "is not a folder", "/": "account"} {
		if r := h.run("", "survey", address); r.code == 0 || !strings.Contains(r.err, says) {
			t.Errorf("survey %s: %d, %s; want it to say %q", address, r.code, r.err, says)
		}
	}
}
