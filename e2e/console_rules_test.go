package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestConsoleRules copies by rules from the console, decides about a conflict, and sets a
// bandwidth, with real clicks and keys.
func TestConsoleRules(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	write(t, "picture", from, "Trip", "a.png")
	write(t, "notes", from, "Trip", "notes.txt")
	write(t, "junk", from, "Trip", "x.tmp")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	b.open("http://" + h.listen + "/files/desk")
	b.shows("Trip")
	b.click("Choose Trip")
	b.click("Copy to…")
	b.click("/account/folder")
	b.keys("/archive/filtered")
	b.shows("3 files to copy")
	b.click("More settings: filters, names, verification, bandwidth")
	b.click("Only pictures")
	b.shows("2 files excluded")
	b.click("{date:%Y}/{date:%m}/{name}")
	b.keys("{nmae}")
	b.shows("unknown field {nmae}")
	b.accessible("the copy dialog with rules")
	for range "{nmae}" {
		b.keys("\b")
	}
	b.keys("{stem} copied.{ext}")
	b.shows("1 file to copy")
	b.click("Copy 1 item")
	b.shows("and verified.")
	if _, err := os.Stat(filepath.Join(to, "filtered", "a copied.png")); err != nil {
		t.Error(err)
	}

	for _, name := range []string{"conflict.txt", "other.txt"} {
		write(t, "ours", from, "Trip", name)
		write(t, "theirs, longer", to, "Trip", name)
	}
	r := h.run("", "copy", "/desk/Trip", "/archive", "--conflict", "ask", "--json")
	run := lastRun(r.out)
	b.open("http://" + h.listen + "/runs/" + run)
	b.shows("Which file do you want to keep?")
	b.shows("14 B") // what is at the target, beside what is at the source
	b.accessible("a run that asks")
	// One by itself, and the rest alike.
	b.focus(`[role="group"][aria-label*="conflict.txt"] button[title^="keep the file at the target"]`)
	b.keys(" ")
	b.shows("Continue with 1 decision")
	b.click("Continue with 1 decision")
	b.shows("For the item that waits:")
	b.click("Source")
	b.shows("and verified.")
	for name, want := range map[string]string{"conflict.txt": "theirs, longer", "other.txt": "ours"} {
		if content, err := os.ReadFile(filepath.Join(to, "Trip", name)); err != nil || string(content) != want {
			t.Errorf("%s became %q, %v; want %q", name, content, err, want)
		}
	}
	// The list of items by filters, which the address has.
	b.field("Text in the path", "other")
	b.until(`document.querySelectorAll('[aria-label="Items"] [role="listitem"]').length === 1`)
	b.until(`location.search.includes('text=other')`)
	b.open("http://" + h.listen + "/runs/" + run + "?cause=conflict-target-kept&state=skipped")
	b.until(`document.querySelectorAll('[aria-label="Items"] [role="listitem"]').length === 1`)
	b.shows("conflict.txt")

	b.click("Settings")
	b.shows("Bandwidth limits up to providers")
	b.accessible("settings")
	b.click("unlimited")
	b.keys("fast")
	b.click("Set")
	b.shows("is not a bandwidth")
	b.click("unlimited")
	for range "fast" {
		b.keys("\b")
	}
	b.keys("5MB/s")
	b.click("Set")
	b.shows("In force.")
	if shown := h.must("bandwidth", "show"); !strings.Contains(shown, "5MB/s") {
		t.Errorf("the bandwidth is %s", shown)
	}
}
