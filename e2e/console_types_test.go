package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// looks, where it is set, is a folder in which the pages that tests come by are kept as
// pictures, to be looked at.
var looks = os.Getenv("HERON_LOOKS")

func (b *window) look(name string) {
	if looks != "" {
		b.picture(filepath.Join(looks, name+".png"))
	}
}

// TestConsoleMigration moves a folder away in the console: each step is started there,
// the certificate is read, the source cleared after a question, and brought back.
func TestConsoleMigration(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	for i := range 12 {
		writeFile(t, fmt.Sprint("content ", i), from, "project", fmt.Sprint("year ", i%2), fmt.Sprint(i, ".txt"))
	}
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	b.open("http://" + h.listen + "/jobs/new")
	b.shows("Choose a source and a target")
	b.field("Name", "project-away")
	b.click("Migrate")
	b.field("From", "/desk/project")
	b.field("As", "/archive/away/project")
	b.click("At the end, clear the source of exactly what was verified")
	b.shows("12 files to copy")
	b.shows("does not exist yet. The first run creates it")
	b.look("migrate-new")
	b.accessible("a new migration")
	b.click("Create it now")
	b.shows("was created.")
	if _, err := os.Stat(filepath.Join(to, "away", "project")); err != nil {
		t.Errorf("the target was not made: %v", err)
	}
	b.click("Create job")
	for _, step := range []struct{ button, shows string }{
		{"Start the survey", "The survey is done"},
		{"Start the first pass", "All items were transferred and verified"},
		{"Start the catch-up pass", "Next is the final pass, which waits for you"},
		{"Start the final pass", "Certificate:"},
	} {
		b.click(step.button)
		b.shows(step.shows)
		b.click("The migration project-away")
		b.shows("Plan now")
	}
	b.shows("12 files (")
	b.shows("waits for you: everything is verified")
	b.look("migrate-verified")
	b.accessible("a migration that waits to be cleared")
	b.click("Clear the source…")
	b.shows("Each file is checked again on both sides")
	b.look("migrate-clear")
	b.accessible("the question before a source is cleared")
	b.click("Delete 12 files")
	b.shows("were deleted at the source")
	if left := digest(t, from); len(left) > 1 {
		t.Errorf("the source holds %v", left)
	}
	b.click("The migration project-away")
	b.shows("Bring back")
	b.click("Bring back")
	b.shows("are back at the source")
	if back := digest(t, filepath.Join(from, "project")); len(back) != 12 {
		t.Errorf("brought back: %v", back)
	}
}

// TestConsoleTypes makes jobs of the other types in the console, and has each carry out
// a run: an arrival, two sides in sync, a consolidation.
func TestConsoleTypes(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	writeFile(t, "the same", from, "a", "one.csv")
	writeFile(t, "the same", from, "b", "two.csv")
	writeFile(t, "another", from, "b", "three.csv")
	writeFile(t, "theirs", to, "shared", "theirs.txt")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	begin := func(name string) {
		b.open("http://" + h.listen + "/jobs/new")
		b.shows("Choose a source and a target")
		b.field("Name", name)
	}

	// On arrivals, tried on the latest real one before it is made.
	begin("take")
	b.field("From", "/desk/a")
	b.field("As", "/archive/taken")
	b.choose("Schedule", "arrival")
	b.field("Complete if unchanged for", "1s")
	b.click("More settings: filters, names, verification, bandwidth")
	b.field("Template for names", "{run:%Y}/{stem}-taken.{ext}")
	b.shows("Tried on")
	b.shows("/archive/taken/" + time.Now().UTC().Format("2006") + "/one-taken.csv")
	b.look("arrival-new")
	b.accessible("a new job on arrivals")
	b.click("Create job")
	b.shows("Latest arrivals")
	b.shows("Files that were there before are not arrivals")
	b.until(`!!document.querySelector('section[aria-label="Latest arrivals"]')`)
	time.Sleep(500 * time.Millisecond) // it has looked at what is there
	writeFile(t, "new", from, "a", "arrives.csv")
	b.shows("/desk/a/arrives.csv")
	b.until(`document.querySelector('section[aria-label="Latest arrivals"]')?.innerText.includes('done')`)
	b.look("arrivals")
	b.accessible("what arrived")
	comesToHold(t, "new", to, "taken", time.Now().UTC().Format("2006"), "arrives-taken.csv")

	// Two sides in sync.
	begin("step")
	b.click("Two-way")
	b.field("One", "/desk/b")
	b.field("The other", "/archive/shared")
	b.shows("3 files to copy")
	b.click("Create job")
	b.shows("two changes keep both")
	b.click("Start now")
	b.shows("Both sides are in sync")
	bothHold(t, filepath.Join(from, "b"), filepath.Join(to, "shared"), 3)

	// A consolidation of two folders in one, which holds what is identical once.
	begin("together")
	b.click("Consolidate")
	b.field("From", "/desk/a")
	b.field("As", "/archive/all")
	b.click("Another route")
	b.until(`document.querySelectorAll('input[list]').length >= 4`)
	js[any](b, `[...document.querySelectorAll('input[list]')][2].focus(), null`)
	b.keys("/desk/b\t\t/archive/all")
	b.shows("5 files to copy")
	b.look("consolidate-new")
	b.click("Create job")
	b.click("Start now")
	b.shows("duplicate")
	if all := digest(t, filepath.Join(to, "all")); len(all) != 4 {
		t.Errorf("consolidated: %v", all)
	}
	b.look("consolidated")
}

// TestConsoleSurveyAndNotices takes a survey in the console, and has people told.
func TestConsoleSurveyAndNotices(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	h.linkDrives(clouds(t))
	for i := range 9 {
		writeFile(t, fmt.Sprint("content ", i%3), from, "project", fmt.Sprint(i, ".csv"))
	}
	writeFile(t, "x", from, "project", "what?.txt")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	b.open("http://" + h.listen + "/files/desk")
	b.click("Choose project")
	b.click("More")
	b.click("Survey…")
	b.field("For a target (optional)", "/office-drive")
	b.click("Take the survey")
	b.shows("10 files in 0 folders")
	b.shows("1 name to be translated")
	b.look("survey")
	b.accessible("a survey")
	b.open("http://" + h.listen + "/survey?of=/desk/nowhere")
	b.click("Take the survey")
	b.shows("does not exist")

	got, server := startMail(t)
	b.open("http://" + h.listen + "/settings")
	b.field("Runs at once; others are queued, by priority", "x")
	b.click("Sign-ins")
	b.shows("this browser")
	b.accessible("the sign-ins")
	b.click("About")
	b.shows("Data folder’s id")
	b.click("Notifications")
	b.shows("Notifications are off.")
	b.click("Add email")
	b.field("Server and port", server)
	b.field("From", "heron@example.org")
	b.field("To, separated by commas", "nobody")
	b.click("Save")
	b.shows("is not a mail address")
	b.field("To, separated by commas", "storage@example.org")
	b.choose("Encryption", "none")
	b.click("Save")
	b.until(`[...document.querySelectorAll('button')].some((e) => e.textContent === 'Send a test' && !e.disabled)`)
	b.accessible("who is told")
	b.click("Send a test")
	b.shows("mail: sent")
	b.look("notifications")
	if subjects := got.subjects(); len(subjects) != 1 || subjects[0] != "Deft Heron: a test" {
		t.Errorf("the mail said %q", subjects)
	}
}
