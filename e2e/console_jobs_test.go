package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// TestConsoleJobs makes a job in the console with its plan beside it, starts it, has its
// safety hold a run, lets that go, changes the job and forgets it.
func TestConsoleJobs(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	for i := range 20 {
		write(t, fmt.Sprint(i), from, "logs", fmt.Sprint(i))
	}
	write(t, "theirs", to, "logs", "theirs")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	b.click("Jobs")
	b.shows("There are no jobs yet.")
	b.accessible("no jobs")
	b.click("Create the first job")
	b.shows("Choose a source and a target")
	b.click("reports-to-archive")
	b.keys("logs")
	b.click("Mirror")
	b.click("From")
	b.keys("/desk/logs\t\t/archive/logs") // past the button that opens the tree
	b.shows("20 files to copy")
	b.shows("1 file to delete")
	b.accessible("a new job with its plan")
	b.click("Create job")
	b.shows("Makes /archive/logs identical to /desk/logs")
	b.click("Start now")
	b.shows("Both sides are in sync")
	if _, err := os.Stat(filepath.Join(to, "logs", "theirs")); !os.IsNotExist(err) {
		t.Errorf("the mirror left what was only at the target: %v", err)
	}

	for i := range 6 {
		os.Remove(filepath.Join(from, "logs", fmt.Sprint(i)))
	}
	b.open("http://" + h.listen + "/jobs/logs")
	b.shows("A run would be held")
	b.accessible("a job whose run would be held")
	b.click("Start now")
	b.shows("Approve…")
	if files, _ := os.ReadDir(filepath.Join(to, "logs")); len(files) != 20 {
		t.Errorf("%d files are left", len(files))
	}
	b.click("Approve…")
	b.shows("6 files (")
	b.accessible("a question about a run that is held")
	b.click("Delete 6 files")
	b.shows("Removed")

	b.click("Jobs")
	b.shows("mirror")
	b.accessible("the jobs")
	b.click("logs")
	b.shows("Save changes")
	b.click("Suspend")
	b.shows("the job is suspended")
	b.click("Delete…")
	b.click("Delete the job")
	b.shows("There are no jobs yet.")
}
