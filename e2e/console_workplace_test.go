package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// at is the middle of what a selector finds, once it is there.
func (b *window) at(selector string) (x, y float64) {
	b.t.Helper()
	b.until(fmt.Sprintf("document.querySelector(%s)", quote(selector)))
	at := js[[]float64](b, fmt.Sprintf("(() => { const e = document.querySelector(%s); e.scrollIntoView({ block: 'nearest' }); "+
		"const r = e.getBoundingClientRect(); return [r.left + Math.min(120, r.width / 2), r.top + r.height / 2] })()", quote(selector)))
	return at[0], at[1]
}

// focus gives the keyboard to what a selector finds, once it is there.
func (b *window) focus(selector string) {
	b.t.Helper()
	b.until(fmt.Sprintf("(document.querySelector(%[1]s)?.focus(), document.activeElement?.matches(%[1]s))", quote(selector)))
}

// mouse sends one event of the pointer. modifiers are 8 for Shift.
func (b *window) mouse(kind input.DispatchMouseEventType, x, y float64, button input.MouseButton, modifiers int64) {
	b.t.Helper()
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		pressed := int64(0)
		if button == input.MouseButtonLeft {
			pressed = 1
		}
		_, err := cdp.Call(ctx, target, input.DispatchMouseEvent, input.DispatchMouseEventParams{Type: kind, X: x, Y: y, Button: button,
			Buttons: pressed, ClickCount: 1, Modifiers: modifiers})
		return chromedp.Void{}, err
	})
}

// key sends one event of the keyboard. modifiers are 2 for Control.
func (b *window) key(kind input.DispatchKeyEventType, key string, modifiers int64) {
	b.t.Helper()
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: kind, Key: key, Modifiers: modifiers})
		return chromedp.Void{}, err
	})
}

// drag takes what one selector finds to what another finds, with the pointer. modifiers are
// those of keys that are pressed once it moves.
func (b *window) drag(from, to string, modifiers int64) {
	b.t.Helper()
	x, y := b.at(from)
	toX, toY := b.at(to)
	b.mouse(input.DispatchMouseEventTypeMouseMoved, x, y, input.MouseButtonNone, 0)
	b.mouse(input.DispatchMouseEventTypeMousePressed, x, y, input.MouseButtonLeft, 0)
	for step := range 11 {
		part := float64(step) / 10
		b.mouse(input.DispatchMouseEventTypeMouseMoved, x+8+(toX-x-8)*part, y+4+(toY-y-4)*part, input.MouseButtonLeft, modifiers)
	}
	b.mouse(input.DispatchMouseEventTypeMouseMoved, toX, toY, input.MouseButtonLeft, modifiers)
	b.mouse(input.DispatchMouseEventTypeMouseReleased, toX, toY, input.MouseButtonLeft, modifiers)
}

const shift = 8

// TestConsoleWorkplace works in the tree, in two panes, by dragging, by keys and by menu.
func TestConsoleWorkplace(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	writeFile(t, "one", desk, "Reports", "one.txt")
	writeFile(t, "two, changed", desk, "Reports", "two.txt")
	writeFile(t, "three", desk, "Reports", "Deep", "three.txt")
	writeFile(t, "two", archive, "Reports", "two.txt")
	writeFile(t, "old", archive, "Reports", "old.txt")
	if err := os.MkdirAll(filepath.Join(archive, "Inbox"), 0o755); err != nil {
		t.Fatal(err)
	}
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	b := openBrowser(t)
	b.watchPolicy()
	b.open(h.signin)
	b.shows("Needs a decision")

	// The keys: to the files, and what keys there are.
	b.keys("gf")
	b.until("location.pathname === '/files'")
	b.keys("?")
	b.shows("Move in the list")
	b.accessible("the keys")
	b.keys(kb.Escape)

	// The tree by keyboard: open the desk, and choose the folder in it.
	b.until("document.querySelectorAll('[role=treeitem][data-address]').length >= 2")
	b.focus("[role=tree]")
	b.keys(kb.End)
	b.keys(kb.ArrowRight)
	b.until("document.querySelector('[role=treeitem][data-address=\"/desk/Reports\"]')")
	b.keys(kb.ArrowRight)
	b.keys(kb.Enter)
	b.until("location.pathname === '/files/desk/Reports'")
	b.shows("one.txt")
	opened := js[string](b, "document.querySelector('[role=treeitem][data-address=\"/desk\"]').getAttribute('aria-expanded')")
	if opened != "true" {
		t.Errorf("the desk is expanded: %s", opened)
	}
	b.accessible("a folder with the tree")

	// Dragging a file onto a folder of the tree: the plan first, then the run.
	b.focus("[role=tree]")
	b.keys(kb.Home)
	b.keys(kb.ArrowRight)
	b.drag(`[role=row][data-name="one.txt"]`, `[role=treeitem][data-address="/archive/Inbox"]`, 0)
	b.shows("1 file to copy")
	b.accessible("a copy that was dragged")
	b.click("Copy 1 item")
	b.shows("All items were transferred and verified.")
	if text, err := os.ReadFile(filepath.Join(archive, "Inbox", "one.txt")); string(text) != "one" {
		t.Errorf("%q, %v", text, err)
	}

	// Two panes, with what differs, and bringing it over.
	b.open("http://" + h.listen + "/files/desk/Reports?second=%2Farchive%2FReports")
	b.shows("Copy 3 new or differing entries to the right")
	marks := js[string](b, "[...document.querySelectorAll('[role=row]')].map((row) => row.dataset.address + ': ' + "+
		"row.innerText.split('\\n').filter((line) => ['only here', 'differs', 'equal'].includes(line)).join()).join('; ')")
	for _, want := range []string{"/desk/Reports/one.txt: only here", "/desk/Reports/two.txt: differs",
		"/archive/Reports/old.txt: only here"} {
		if !strings.Contains(marks, want) {
			t.Errorf("the marks are %s; want %s", marks, want)
		}
	}
	b.accessible("two panes")
	b.drag(`[role=row][data-address="/archive/Reports/old.txt"]`, `[role=row][data-address="/desk/Reports/Deep"]`, shift)
	b.shows("Within an account the entry is renamed")
	b.click("Move old.txt")
	b.shows("All items were transferred, verified and deleted at the source.")
	if _, err := os.Stat(filepath.Join(archive, "Reports", "old.txt")); !os.IsNotExist(err) {
		t.Errorf("the file that was moved: %v", err)
	}
	if text, err := os.ReadFile(filepath.Join(desk, "Reports", "Deep", "old.txt")); string(text) != "old" {
		t.Errorf("%q, %v", text, err)
	}

	// Cut and paste by keys, within an account.
	b.open("http://" + h.listen + "/files/desk/Reports")
	b.shows("one.txt")
	b.focus("[role=grid]")
	b.keys(kb.End)
	b.do(chromedp.KeyEvent("x", chromedp.KeyModifiers(2)))
	b.shows("Paste two.txt")
	b.focus("[role=grid]")
	b.keys(kb.Home)
	b.keys(kb.Enter)
	b.until("location.pathname === '/files/desk/Reports/Deep'")
	b.shows("three.txt")
	b.focus("[role=grid]")
	b.do(chromedp.KeyEvent("v", chromedp.KeyModifiers(2)))
	b.shows("Within an account the entry is renamed")
	b.click("Move two.txt")
	b.until(`document.querySelector('[role=row][data-name="two.txt"]')`)
	if _, err := os.Stat(filepath.Join(desk, "Reports", "Deep", "two.txt")); err != nil {
		t.Error(err)
	}

	// The menu of a row, at the pointer.
	x, y := b.at(`[role=row][data-name="two.txt"]`)
	b.mouse(input.DispatchMouseEventTypeMousePressed, x, y, input.MouseButtonRight, 0)
	b.mouse(input.DispatchMouseEventTypeMouseReleased, x, y, input.MouseButtonRight, 0)
	b.shows("Rename")
	b.accessible("the menu of a row")
	b.click("Copy to…")

	// The picker: the tree in a dialog, and a new folder.
	b.click("Choose: Into the folder")
	b.shows("Choose this folder")
	b.accessible("the picker")
	b.until("document.activeElement.closest('[role=dialog]')")
	js[any](b, "document.querySelector('[role=dialog] [role=tree]').focus(), null")
	b.until("[...document.querySelectorAll('[role=dialog] [role=treeitem]')].length >= 2")
	b.keys(kb.Home)
	b.keys(kb.Enter)
	b.click("New folder…")
	b.keys("From the picker")
	b.click("Create folder")
	b.shows("/archive/From the picker")
	b.click("Choose this folder")
	b.shows("1 file to copy")

	// A wrong address says which step is wrong, and leads to the nearest that exists.
	b.open("http://" + h.listen + "/files/desk/Reports/None/at%20all")
	b.shows("does not exist")
	b.click("Open /desk/Reports, the nearest that exists")
	b.until("location.pathname === '/files/desk/Reports'")
	b.open("http://" + h.listen + "/acounts")
	b.shows("There is no page")
	b.click("Accounts")

	// Dark, and on a telephone: nothing is wider than the page, and all can be read.
	js[any](b, "localStorage.setItem('heron-theme', 'dark'), null")
	b.do(chromedp.EmulateViewport(420, 900))
	for path, shows := range map[string]string{"/": "Needs a decision", "/files/desk/Reports": "one.txt", "/runs": "Clear filters",
		"/jobs": "There are no jobs yet.", "/accounts": "desk", "/settings": "Bandwidth limits"} {
		b.open("http://" + h.listen + path)
		b.shows(shows)
		b.accessible("dark, 420 pixels wide: " + path)
		if wide := js[int](b, "document.documentElement.scrollWidth"); wide > 420 {
			t.Errorf("%s is %d pixels wide on a page of 420", path, wide)
		}
	}
	b.keptToPolicy()
}

// TestConsoleSchedule paints hours of the week with the pointer and by keyboard, sees the next
// runs, and creates the job with them.
func TestConsoleSchedule(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	writeFile(t, "one", desk, "Reports", "one.txt")
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/jobs/new")
	b.click("reports-to-archive")
	b.keys("nightly")
	b.field("From", "/desk/Reports")
	b.field("As", "/archive/Reports")
	b.choose("Schedule", "weekly")
	b.until(`document.querySelector('[data-cell="1-22"]')`)

	// With the pointer: Tuesday from 22:00 to midnight, and Wednesday until 02:00.
	b.drag(`[data-cell="1-22"]`, `[data-cell="1-23"]`, 0)
	b.until(`document.querySelector('input[placeholder="mon-fri 22:00-06:00"]').value === 'tue 22:00-24:00'`)
	b.drag(`[data-cell="2-0"]`, `[data-cell="2-1"]`, 0)
	b.until(`document.querySelector('input[placeholder="mon-fri 22:00-06:00"]').value === 'tue 22:00-02:00'`)
	b.shows("Next runs")
	b.accessible("a schedule as a grid")

	// By keyboard: the cursor is where the pointer was; one hour more, taken along with Shift.
	b.focus("[role=grid]")
	b.do(chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(shift)))
	b.until(`document.querySelector('input[placeholder="mon-fri 22:00-06:00"]').value === 'tue 22:00-03:00'`)
	b.click("Nights")
	b.until(`document.querySelector('input[placeholder="mon-fri 22:00-06:00"]').value === 'daily 22:00-06:00'`)
	b.field("Hours of the week", "mon-fri 20:30-06:00")
	b.shows("parts of hours")
	b.click("Clear")
	b.field("Hours of the week", "sat 08:00-10:00")
	b.until(`document.querySelector('[data-cell="5-9"]').getAttribute('aria-selected') === 'true'`)
	b.shows("1 file to copy")
	b.click("Create job")
	b.shows("weekly, sat 08:00-10:00")
	if out := h.must("job", "show", "nightly"); !strings.Contains(out, "sat 08:00-10:00") {
		t.Errorf("the job: %s", out)
	}

	// A bandwidth limit at hours, as a grid.
	b.open("http://" + h.listen + "/settings")
	b.click("Add a limit at hours")
	b.click("Office hours")
	b.until(`document.querySelector('input[placeholder="mon-fri 08-18"]').value === 'mon-fri 08:00-18:00'`)
	b.field("Rate", "5MB/s")
	b.accessible("a bandwidth limit as a grid")
	b.click("Set")
	b.shows("In force.")
	if out := h.must("bandwidth", "show"); !strings.Contains(out, "mon-fri 08:00-18:00") {
		t.Errorf("the bandwidth: %s", out)
	}
}
