package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"

	"deftheron/contract"
)

// TestConsoleSigninEnds ends the sign-in while a form is filled: what was typed is there when
// this browser is signed in again.
func TestConsoleSigninEnds(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "x", desk, "Reports", "one.txt")
	h.linkFolder("desk", desk)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/jobs/new")
	b.field("Name", "half-typed")
	b.field("From", "/desk/Reports")
	b.field("As", "/desk/copy")
	b.shows("1 file to copy")
	if err := h.client().EndSession(t.Context(), ""); err != nil {
		t.Fatal(err)
	}
	b.click("Mirror") // the plan is asked for, and refused
	b.shows("Your sign-in has ended")
	b.accessible("a sign-in that has ended")
	link := h.must("signin", "--console")
	token := strings.TrimSpace(link[strings.LastIndex(link, "#")+1:])
	if end := strings.IndexAny(token, " \n"); end >= 0 {
		token = token[:end]
	}
	// As another tab of this browser does.
	js[any](b, fmt.Sprintf(`fetch('/api/v1/session', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify({ token: %s }) }), null`,
		quote(token)))
	b.until(`!document.querySelector('[role=dialog]')`)
	b.until(`[...document.querySelectorAll('input')].some((e) => e.value === 'half-typed')`)
	b.click("Create job")
	b.shows("Start now")
}

// TestConsoleTwoWindows changes a job elsewhere while it is changed in the console: the second
// is told, and shown what differs.
func TestConsoleTwoWindows(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	h.linkFolder("archive", t.TempDir())
	h.must("job", "create", "nightly", "--from", "/desk", "--to", "/archive/desk")
	before := h.shownJob("nightly")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/jobs/nightly")
	b.shows("Save changes")
	b.click("Newer keep the file that changed last")
	h.must("job", "edit", "nightly", "--exclude", "*.tmp")
	b.shows("This job was changed elsewhere")
	b.shows("rules.exclude")
	b.accessible("a job that was changed elsewhere")
	b.until(`[...document.querySelectorAll('button')].find((e) => e.textContent === 'Save changes').disabled`)
	b.click("Keep mine")
	b.click("Save changes")
	b.until(`[...document.querySelectorAll('button')].find((e) => e.textContent === 'Save changes').disabled`)
	if job := h.shownJob("nightly"); job.Rules.Conflict != "newer" || len(job.Rules.Exclude) != 0 {
		t.Errorf("the rules are %+v, want those of the window", job.Rules)
	}
	// What nobody changed here follows by itself.
	h.must("job", "edit", "nightly", "--conflict", "source")
	b.until(`document.querySelector('[role=radio][aria-checked=true][value=source]')`)
	// By the API: a job that was changed since it was seen is not changed.
	spec := before.Spec
	if _, err := h.client().ChangeJob(t.Context(), "nightly", spec, before.Changed); err == nil ||
		!strings.Contains(err.Error(), "changed meanwhile") {
		t.Errorf("a change of what was seen before: %v", err)
	}
	body, err := json.Marshal(spec)
	if err != nil {
		t.Fatal(err)
	}
	for match, want := range map[string]int{`"` + before.Changed.Format("2006-01-02T15:04:05.999999999Z07:00") + `"`: 412, `"soon"`: 409,
		"*": 200} {
		if code, answer, _ := h.send("PUT", contract.Root+"/jobs/nightly", h.token(), strings.NewReader(string(body)), "Content-Type",
			"application/json", "If-Match", match); code != want {
			t.Errorf("If-Match %s: %d %s, want %d", match, code, answer, want)
		}
	}
}

// TestConsoleRestart restarts the service under an open page, on which a form is filled.
func TestConsoleRestart(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "x", desk, "Reports", "one.txt")
	h.linkFolder("desk", desk)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/jobs/new")
	b.field("Name", "over-a-restart")
	h.end(syscall.SIGKILL)
	b.shows("The service does not answer.")
	h.serve()
	b.until(`!document.body.innerText.includes('The service does not answer.')`)
	b.field("From", "/desk/Reports")
	b.field("As", "/desk/copy")
	b.click("Create job")
	b.shows("Start now")
	if _, err := h.client().Job(t.Context(), "over-a-restart"); err != nil {
		t.Error(err)
	}
}

// TestConsoleManyDragged drags 2,000 entries onto a folder of the tree: the plan is shown, and
// they are copied. It runs alone, as it keeps the machine busy.
func TestConsoleManyDragged(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := inMemory(t), inMemory(t)
	const files = 2_000
	for i := range files {
		writeFile(t, "x", desk, "Many", fmt.Sprintf("file %05d.txt", i))
	}
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/files/desk/Many?second=%2Farchive") // two panes list to the end
	b.waits("2,000 files")
	b.focus("[role=grid]")
	const control = 2
	for _, kind := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeKeyDown, input.DispatchKeyEventTypeKeyUp} {
		b.key(kind, "a", control)
	}
	b.waits("2,000 files, 2.0 KiB selected")
	b.drag(`[role=row][data-name="file 00003.txt"]`, `[role=treeitem][data-address="/archive"]`, 0)
	b.waits("2,000 files to copy") // 2,000 routes are planned
	b.click("Copy 2,000 items")
	b.eventually("location.pathname.startsWith('/runs/')")
	h.must("run", "follow", strings.TrimPrefix(js[string](b, "location.pathname"), "/runs/"))
	b.waits("and verified.")
	copied, err := os.ReadDir(filepath.Join(archive))
	if err != nil || len(copied) != files {
		t.Errorf("%d files arrived, %v; want %d", len(copied), err, files)
	}
}

// waits waits for a text that takes its time to come, as much work is behind it.
func (b *window) waits(text string) {
	b.t.Helper()
	b.eventually(fmt.Sprintf("document.body.innerText.includes(%s)", quote(text)))
}

// eventually waits for an expression to become true for as long as much work may take.
func (b *window) eventually(expression string) {
	b.t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if js[bool](b, "Boolean("+expression+")") {
			return
		}
	}
	b.until(expression)
}

// inMemory is a folder on a file system in memory, where there is one: files that are synced
// take their time on a disk.
func inMemory(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/dev/shm", "heron-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}
