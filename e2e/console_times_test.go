package e2e

import (
	"net/url"
	"testing"
	"time"
)

// TestConsoleComparesTimes compares a folder with itself at an earlier time, as its history page leads to.
func TestConsoleComparesTimes(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	writeFile(t, "first", from, "Reports", "levels.txt")
	writeFile(t, "same", from, "Reports", "same.txt")
	h.must("copy", "/desk/Reports", "/archive")
	between := time.Now()
	writeFile(t, "second, and longer", from, "Reports", "levels.txt")
	h.must("copy", "/desk/Reports", "/archive", "--conflict", "source")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Overview")
	b.open("http://" + h.listen + "/history?" + url.Values{"of": {"/archive/Reports"},
		"at": {between.UTC().Format(time.RFC3339Nano)}}.Encode())
	b.click("Compare with now")
	b.shows("Here, as it was at")
	b.click("Compare")
	b.shows("The two sides differ.")
	b.shows("levels.txt")
	b.shows("Differing 1")
	b.look("compare-times")
	b.accessible("two times compared")
}
