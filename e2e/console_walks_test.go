package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestConsoleNewcomer is the first visit of somebody who has read nothing: with the pointer
// alone, but for names, two accounts are linked, a folder is found, copied by dragging, watched
// and made a nightly job, and a held run is approved.
func TestConsoleNewcomer(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	for i := range 20 {
		writeFile(t, "report", desk, "Office", "Reports", fmt.Sprintf("report %02d.txt", i))
	}
	b := openBrowser(t)
	began := time.Now()
	b.open(h.signin)
	b.click("Link an account")
	link := func(name, path string) {
		t.Helper()
		b.click("Folder on the service's machine")
		b.field("Name in the tree", name)
		b.field("Path", path)
		b.click("Continue")
		b.shows("Top folders")
		b.click("Link it")
		b.shows("Linked as")
	}
	link("desk", desk)
	b.click("Link another")
	link("archive", archive)
	b.click("Files")
	b.press(`[role=treeitem][data-address="/desk"]`)
	b.press(`[role=row][data-name="Office"] a`)
	b.drag(`[role=row][data-name="Reports"]`, `[role=treeitem][data-address="/archive"]`, 0)
	b.shows("20 files to copy")
	b.click("Copy 20 items")
	b.shows("and verified.")
	b.click("Make it a job")
	b.field("Name", "reports-nightly")
	b.click("Mirror")
	b.choose("Schedule", "weekly")
	b.click("Nights")
	b.shows("Next runs")
	b.click("Create job")
	b.shows("Makes /archive/Reports identical to /desk/Office/Reports")
	b.click("Start now")
	b.resumeByDay()
	b.shows("Both sides are in sync")

	if err := os.RemoveAll(filepath.Join(desk, "Office", "Reports")); err != nil {
		t.Fatal(err)
	}
	writeFile(t, "the only one left", desk, "Office", "Reports", "report 00.txt")
	b.click("Jobs")
	b.click("reports-nightly")
	b.click("Start now")
	b.resumeByDay()
	b.shows("What the run would change")
	b.click("Overview")
	b.click("Decide")
	b.click("Approve…")
	b.click("Delete 19 files")
	b.shows("Both sides are in sync")
	if took := time.Since(began); took > 5*time.Minute {
		t.Errorf("it took %v, want less than 5 minutes", took)
	}
	if left, err := os.ReadDir(filepath.Join(archive, "Reports")); err != nil || len(left) != 1 {
		t.Errorf("%d files are left in the archive, %v", len(left), err)
	}
}

// resumeByDay resumes a run of a nightly job, which by day says that it waits for its hours.
func (b *window) resumeByDay() {
	b.t.Helper()
	b.until(`/Outside the hours of the job|Both sides are in sync|What the run would change/.test(document.body.innerText)`)
	if js[bool](b, `document.body.innerText.includes('Outside the hours of the job')`) {
		b.click("Resume")
	}
}

// press presses the pointer on what a selector finds.
func (b *window) press(selector string) {
	b.t.Helper()
	x, y := b.at(selector)
	b.do(chromedp.MouseClickXY(x, y))
}

// tab moves the keyboard on until it is on what bears a name, as its label, its text or its
// placeholder has it.
func (b *window) tab(name string) {
	b.t.Helper()
	bears := fmt.Sprintf(`((e) => [e.getAttribute('aria-label'), e.textContent?.trim(), e.placeholder, ...[...(e.labels ?? [])].map((l) => l.querySelector('span')?.textContent ?? l.textContent.trim())].includes(%s))`,
		quote(name))
	b.until(`[...document.querySelectorAll('a,button,input,select,textarea,[tabindex]')].some((e) => e.getClientRects().length && !e.disabled && ` + bears + `(e))`)
	on := `document.activeElement !== document.body && ` + bears + `(document.activeElement)`
	for range 150 {
		if js[bool](b, on) {
			return
		}
		b.keys(kb.Tab)
	}
	b.t.Fatalf("the keyboard does not reach %q; it is on %s", name,
		js[string](b, "document.activeElement?.outerHTML.slice(0, 300) ?? 'nothing'"))
}

// enter moves the keyboard to what bears a name, and presses a key there.
func (b *window) enter(name, key string) {
	b.t.Helper()
	b.tab(name)
	b.keys(key)
}

// fill types a text into a field that the keyboard is moved to, in place of what is there.
func (b *window) fill(name, text string) {
	b.t.Helper()
	b.tab(name)
	b.do(chromedp.KeyEvent("a", chromedp.KeyModifiers(2)))
	b.keys(kb.Delete)
	b.keys(text)
}

// TestConsoleByKeyboard does each task of the guide once by keyboard alone.
func TestConsoleByKeyboard(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	for i := range 12 {
		writeFile(t, "report", desk, "Reports", fmt.Sprintf("report %02d.txt", i))
	}
	writeFile(t, "old", archive, "Reports", "report 00.txt")
	h.linkFolder("archive", archive)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")

	t.Log("an account is linked, checked, changed, suspended")
	b.keys("ca")
	b.shows("Cloud drives")
	b.enter("Folder on the service's machine", kb.Enter)
	b.fill("Name in the tree", "desk")
	b.fill("Path", desk)
	b.enter("Continue", kb.Enter)
	b.shows("Top folders")
	b.enter("Link it", kb.Enter)
	b.shows("Linked as")
	b.keys("ga")
	b.enter("Check desk", kb.Enter)
	b.shows("Top folders")
	b.keys("/")
	b.keys("/archive" + kb.Enter)
	b.until("location.pathname === '/files/archive'")

	t.Log("files: found in the tree, selected, copied by the plan, renamed, deleted")
	b.keys("gf")
	b.until("document.querySelectorAll('[role=treeitem][data-address]').length >= 2")
	b.tab("Folders of all accounts")
	b.keys(kb.Home)
	b.keys("desk")
	b.keys(kb.Enter)
	b.until("location.pathname === '/files/desk'")
	b.tab("Folder /desk")
	b.keys(" ")
	b.enter("Copy to…", kb.Enter)
	b.fill("Into the folder", "/archive/By keyboard")
	b.shows("12 files to copy")
	b.enter("Copy 12 items", kb.Enter)
	b.shows("and verified.")
	b.keys("/")
	b.keys("/desk/Reports" + kb.Enter)
	b.until("document.querySelectorAll('[role=row]').length === 12")
	b.tab("Folder /desk/Reports")
	b.keys(" ")
	b.keys(kb.F2)
	b.until(`document.activeElement?.matches('input[aria-label="New name"]')`)
	b.keys("first report" + kb.Enter)
	b.shows("Renamed report 00.txt to first report.txt")
	b.do(chromedp.KeyEvent("z", chromedp.KeyModifiers(2)))
	b.until(`document.querySelector('[data-name="report 00.txt"]')`)
	b.tab("Folder /desk/Reports")
	b.keys(kb.Escape) // what is selected, here and in other folders
	b.keys(kb.End)
	b.keys(" ")
	b.keys(kb.Delete)
	b.enter("Delete 1 file", kb.Enter)
	b.until(`!document.querySelector('[data-name="report 11.txt"]')`)

	t.Log("two folders are compared, and a folder is surveyed")
	b.keys("cc")
	b.fill("Here", "/desk/Reports")
	b.fill("There", "/archive/Reports")
	b.enter("Compare", kb.Enter)
	b.shows("The two sides differ.")
	b.keys("cs")
	b.fill("Of the folder", "/desk")
	b.enter("Take the survey", kb.Enter)
	b.shows("11 files")

	t.Log("a job is created, and started; a held run is approved")
	b.keys("cj")
	b.fill("Name", "by-keyboard")
	b.tab("Copy")
	b.keys(kb.ArrowRight) // the next type
	b.tab("Mirror")
	b.keys(" ")
	b.fill("From", "/desk/Reports")
	b.fill("As", "/archive/Reports")
	b.shows("10 files to copy")
	b.enter("Create job", kb.Enter)
	b.shows("Makes /archive/Reports identical to /desk/Reports")
	b.enter("Start now", kb.Enter)
	b.shows("Both sides are in sync")
	for i := range 8 {
		if err := os.Remove(filepath.Join(desk, "Reports", fmt.Sprintf("report %02d.txt", i))); err != nil {
			t.Fatal(err)
		}
	}
	b.keys("gj")
	b.enter("by-keyboard", kb.Enter)
	b.enter("Start now", kb.Enter)
	b.shows("What the run would change") // above the safety limit
	b.enter("Approve…", kb.Enter)
	b.enter("Delete 8 files", kb.Enter)
	b.shows("Both sides are in sync")

	t.Log("a bandwidth limit is set, and who is signed in is looked at")
	b.keys("gs")
	b.fill("Up", "5MB/s")
	b.enter("Set", kb.Enter)
	b.shows("In force.")
	b.enter("Sign-ins", kb.Enter)
	b.shows("this browser")
	b.keys("?")
	b.shows("Move in the list")
	b.keys(kb.Escape)
}

// TestConsoleOnAPhone starts, pauses, resumes, approves and stops runs on a page of 420 pixels.
func TestConsoleOnAPhone(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	for i := range 30 {
		writeFile(t, strings.Repeat("x", 1000), desk, "Reports", fmt.Sprintf("file %02d", i))
	}
	h.linkFolder("desk", desk)
	slow := h.linkSlow("archive", 0)
	h.must("job", "create", "phone", "--type", "mirror", "--from", "/desk/Reports", "--to", "/archive/Reports")
	b := openBrowser(t)
	b.do(chromedp.EmulateViewport(420, 800))
	b.open(h.signin)
	b.shows("Needs a decision")
	narrow := func(what string) {
		t.Helper()
		if wide := js[int](b, "document.documentElement.scrollWidth"); wide > 420 {
			t.Errorf("%s is %d pixels wide on a page of 420", what, wide)
		}
		b.accessible(what + " on a phone")
	}
	slow.hold()
	b.click("Jobs")
	b.click("phone")
	b.shows("30 files to copy")
	narrow("a job")
	b.click("Start now")
	b.shows("In flight")
	narrow("a run")
	b.click("Pause")
	b.shows("Paused until you resume it")
	b.click("Resume")
	b.shows("In flight")
	slow.release()
	b.shows("Both sides are in sync")
	for i := range 25 {
		if err := os.Remove(filepath.Join(desk, "Reports", fmt.Sprintf("file %02d", i))); err != nil {
			t.Fatal(err)
		}
	}
	b.click("Jobs")
	b.click("phone")
	b.click("Start now")
	b.shows("What the run would change")
	narrow("a held run")
	b.click("Approve…")
	b.click("Delete 25 files")
	b.shows("Both sides are in sync")
	slow.hold()
	writeFile(t, "new", desk, "Reports", "new")
	b.click("Jobs")
	b.click("phone")
	b.click("Start now")
	b.shows("In flight")
	b.click("Cancel run")
	b.click("Cancel the run")
	b.until(`/Cancelling…|Cancelled. Transferred/.test(document.body.innerText)`)
	slow.release()
	b.shows("Cancelled. Transferred files stay.")
	for place, text := range map[string]string{"Overview": "The last 24 hours", "Accounts": "/desk", "Files": "All accounts",
		"Settings": "Bandwidth limits"} {
		b.click(place)
		b.shows(text)
		narrow(place)
	}
}

// TestConsoleClock opens the console in a browser whose clock is an hour off: now is the
// service's now.
func TestConsoleClock(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	h.linkFolder("archive", t.TempDir())
	h.must("job", "create", "hourly", "--from", "/desk", "--to", "/archive/desk", "--every", "1h") // so that the strip is drawn
	b := openBrowser(t)
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		const behind = `{ const is = Date.now; Date.now = () => is() - 3600000 }`
		_, err := cdp.Call(ctx, target, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: behind})
		return chromedp.Void{}, err
	})
	b.open(h.signin)
	b.until("document.querySelector('[data-now]')")
	b.until(fmt.Sprintf("Math.abs(Number(document.querySelector('[data-now]').dataset.now) - %d) < 120000", time.Now().UnixMilli()))
}
