package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestConsole signs in by the link that the service printed, opens the tree,
// starts a copy, and sees it end, with real clicks and keys.
func TestConsole(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	for i := range 300 {
		writeFile(t, fmt.Sprintf("content %d", i), desk, "Reports", fmt.Sprintf("report %03d.txt", i))
	}
	writeFile(t, "odd", desk, "Odd", "100% <b>&amp; #x?.txt")
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	b := openBrowser(t)

	b.open("http://" + h.listen + "/files")
	b.shows("You are not signed in")
	b.accessible("sign-in")
	b.open(h.signin)
	b.shows("Needs a decision")
	b.accessible("the overview")
	b.click("Files")
	b.shows("archive")
	if at := js[string](b, "location.href"); strings.Contains(at, "#") {
		t.Errorf("the one-time token is still in the address bar: %s", at)
	}
	b.accessible("the root of the tree")

	b.click("desk")
	b.shows("Reports")
	b.click("Reports")
	b.shows("report 000.txt")
	b.shows("300 files, 3.1 KiB")
	b.accessible("a folder")
	if rows := js[int](b, "document.querySelectorAll('[role=row]').length"); rows > 200 {
		t.Errorf("%d rows are in the page, want 200 at most", rows)
	}
	// By keyboard: into the list, down, choose two, and up again by Backspace.
	b.do(chromedp.Focus("[role=grid]"))
	b.keys(kb.ArrowDown)
	b.keys(" ")
	b.shows("1 file, 9 B selected")
	b.keys(kb.End)
	b.shows("report 299.txt")
	b.keys(kb.Backspace)
	b.shows("Odd")

	b.shows("1 of them in other folders") // what was chosen stays so
	b.click("Clear")
	b.click("Choose Reports")
	b.click("Choose Odd")
	b.click("Copy 2 to…")
	b.shows("Into the folder")
	b.click("/account/folder")
	b.keys("/archive/2026")
	b.shows("301 files to copy")
	b.accessible("the copy dialog")
	b.click("Copy 301 items")
	b.shows("All items were transferred and verified.")
	b.shows("301 items")
	b.accessible("a run")
	same(t, "archive", digest(t, filepath.Join(archive, "2026")), digest(t, desk))

	b.click("Runs")
	b.shows("/desk/Reports → /archive/2026/Reports")
	b.accessible("runs")

	// The address bar: "/" goes there, Enter opens what was typed.
	b.keys("/")
	b.keys(kb.Backspace)
	b.keys("/archive/2026/Odd")
	b.keys(kb.Enter)
	b.shows("100% <b>&amp; #x?.txt")

	b.open("http://" + h.listen + "/files/nobody/here")
	b.shows("There is no account \"nobody\"")
	b.accessible("an error")

	b.click("owner")
	b.click("Dark")
	b.until("getComputedStyle(document.body).backgroundColor === 'rgb(17, 24, 28)'")
	b.accessible("dark")
	b.click("owner")
	b.click("Sign out")
	b.shows("You are not signed in")
	b.open(h.signin)
	b.shows("was used already")
}

// TestLargeFolder scrolls through 100,000 entries: only those in sight, and some
// about them, are in the page.
func TestLargeFolder(t *testing.T) {
	t.Parallel()
	h := start(t)
	dir := inMemory(t)
	const n = 100_000
	for i := range n {
		file, err := os.Create(filepath.Join(dir, fmt.Sprintf("entry %06d", i)))
		if err != nil {
			t.Fatal(err)
		}
		file.Close()
	}
	h.linkFolder("large", dir)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.click("Files")
	b.until("location.pathname === '/files'")
	b.shows("1 account")
	began := time.Now()
	b.click("large")
	b.shows("entry 000000")
	first := time.Since(began)
	most := 0
	for seen := 0; seen < n; {
		seen = js[int](b, `(() => { const g = document.querySelector('[role=grid]'); g.scrollTop = g.scrollHeight; return Number(g.ariaRowCount) })()`)
		most = max(most, js[int](b, "document.querySelectorAll('[role=row]').length"))
		if time.Since(began) > 2*time.Minute {
			t.Fatalf("%d of %d entries after %v", seen, n, time.Since(began))
		}
	}
	b.until(`(() => { const g = document.querySelector('[role=grid]'); g.scrollTop = g.scrollHeight; return g.innerText.includes('entry 099999') })()`)
	if most > 200 {
		t.Errorf("%d rows were in the page, want 200 at most", most)
	}
	t.Logf("the first rows after %v, all %d after %v, at most %d rows in the page", first, n, time.Since(began), most)
}

// TestConsoleCancelsALiveRun watches a run that takes its time, and cancels it.
func TestConsoleCancelsALiveRun(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	for i := range 40 {
		writeFile(t, strings.Repeat("x", 1000), desk, fmt.Sprintf("file %02d", i))
	}
	h.linkFolder("desk", desk)
	slow := h.linkSlow("archive", 0)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("desk")
	slow.hold()
	h.must("copy", "/desk", "/archive", "--detach")
	b.click("Runs")
	b.shows("Clear filters")
	b.shows("running")
	b.click("/desk → /archive/desk")
	b.shows("In flight")
	b.shows("/desk/file 00")
	b.accessible("a live run")
	b.click("Cancel run")
	b.shows("will not be transferred")
	b.click("Cancel the run")
	b.until(`/Cancelling…|Cancelled. Transferred/.test(document.body.innerText)`) // the service has taken it
	slow.release()
	b.shows("Cancelled. Transferred files stay.")
}
