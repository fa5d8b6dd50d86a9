package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"net"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/demo"
	"deftheron/servertest"
	"deftheron/standin"
)

var pictures = flag.Bool("pictures", false, "draw docs/screenshots again; needs xvfb, xterm and imagemagick")

// picture is the file of a picture in docs/screenshots.
func picture(name string) string {
	return filepath.Join(servertest.Root(), "docs", "screenshots", name+".png")
}

// TestPictures draws docs/screenshots of the demo's data.
func TestPictures(t *testing.T) {
	if !*pictures {
		t.Skip("only with -pictures")
	}
	h := startSearching(t)
	root := filepath.Join(os.TempDir(), "fenmere") // a name that may be seen
	os.RemoveAll(root)
	t.Cleanup(func() { os.RemoveAll(root) })
	desk := filepath.Join(root, demo.DeskFolder)
	if _, err := demo.Generate(root, demo.Seed); err != nil {
		t.Fatal(err)
	}
	h.linkFolder("desk", desk)
	gauges := httptest.NewServer(standin.WebDAV(filepath.Join(root, demo.GaugeFolder), "loggers", "kept-for-the-demo"))
	defer gauges.Close()
	loggers, err := standin.StartSFTP(filepath.Join(root, demo.GaugeFolder), "loggers", "kept-for-the-demo")
	if err != nil {
		t.Fatal(err)
	}
	defer loggers.Close()
	host, port, _ := net.SplitHostPort(loggers.Address)
	h.worker("gauge-house", "premises", nil)
	h.link("kept-for-the-demo", "sftp", "gauge-share", "--at", "premises", "--host", host, "--port", port, "--user", "loggers", "--read-only")
	h.link("kept-for-the-demo", "webdav", "gauge-share-dav", "--url", gauges.URL, "--user", "loggers", "--read-only")
	slow := h.linkSlow("archive", 6<<20)
	screen := newScreen(t, h)
	screen.draw("ls", `heron ls "/desk/Odd names, kept on purpose"; heron ls /desk/Office; heron worker list`, 2*time.Second)
	screen.draw("copy", `heron copy /desk /gauge-share /archive`, 7*time.Second)
	for run, err := range h.client().Runs(t.Context(), client.RunFilter{}) {
		if err != nil {
			t.Fatal(err)
		}
		h.must("run", "cancel", run.ID, "--yes")
	}
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	b.open("http://" + h.listen + "/files" + strings.ReplaceAll("/desk/Odd names, kept on purpose", " ", "%20"))
	b.shows("README.txt")
	b.click("Choose README.txt")
	b.shows("Revision")
	b.open("http://" + h.listen + "/files/desk")
	b.shows("Office")
	b.click("Choose all")
	b.click("Copy 3 to…")
	b.click("/account/folder")
	b.keys("/archive/2026")
	b.shows("empty folder to create")
	b.click(js[string](b,
		`[...document.querySelectorAll('button')].find((e) => /^Copy [0-9]/.test(e.textContent) && e.type === 'submit').textContent`))
	b.shows("In flight")
	time.Sleep(6 * time.Second) // so that its chart has a course
	b.shows("is the bottleneck")
	b.picture(picture("console-run"))
	slow.release()
	b.shows("and verified.")

	// Both sides change, and a name is in the way: a run with something to say.
	writeFile(t, "ours", desk, "Office", "notes.txt")
	h.must("copy", "/desk/Office", "/archive/2026")
	core := slow.server.Client(t)
	if _, err := core.PutObject(t.Context(), "bucket-1", "2026/Office/notes.txt", strings.NewReader("theirs"), 6, "", "",
		putOptions); err != nil {
		t.Fatal(err)
	}
	writeFile(t, "ours again", desk, "Office", "notes.txt")
	writeFile(t, "x", desk, "Office", "caf\xe9 (an old name).txt") // which is translated
	writeFile(t, "x", desk, "Office", "minutes", "agenda.txt")
	if _, err := core.PutObject(t.Context(), "bucket-1", "2026/Office/minutes", strings.NewReader("in the way"), 10, "", "",
		putOptions); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("notes.txt", filepath.Join(desk, "Office", "shortcut")); err != nil {
		t.Fatal(err)
	}
	var run contract.Run
	r := h.run("", "copy", "/desk/Office", "/archive/2026", "--json")
	if err := json.Unmarshal([]byte(r.out), &run); err != nil {
		t.Fatal(err, r.err)
	}
	b.open("http://" + h.listen + "/runs/" + run.ID)
	b.shows("in-the-way")
	b.shows("name-translated")
	report := filepath.Join(t.TempDir(), "report.html")
	h.must("run", "report", run.ID, "--out", report)
	b.open("file://" + report)
	b.shows("The record")
	b.picture(picture("report"))
	survey := filepath.Join(t.TempDir(), "survey.html")
	h.must("survey", "/desk", "--for", "/archive", "--out", survey)
	b.open("file://" + survey)
	b.shows("The record")
	b.picture(picture("survey"))
	drivePictures(t, h, b, screen)
	filePictures(t, h, b)
	migrationPictures(t, h, b)
	jobPictures(t, h, b, screen, desk)
	screen.draw("run-show", fmt.Sprintf("heron run list; heron run show %[1]s; heron run items %[1]s --state failed", run.ID), 2*time.Second)
}

// migrationPictures draws a migration that waits to clear its source, and its
// certificate.
func migrationPictures(t *testing.T, h *heron, b *window) {
	t.Helper()
	h.must("job", "create", "surveys-away", "--type", "migrate", "--clear", "--go-on", "final-pass", "--exclude", "*.tmp", "--from",
		"/desk/Field surveys", "--to", "/archive/away/Field surveys")
	h.must("job", "start", "surveys-away", "--detach")
	made := h.waitsFor("surveys-away", "clear").Certificate
	b.open("http://" + h.listen + "/jobs/surveys-away")
	b.shows("waits for you: everything is verified")
	b.shows("up to date")
	b.picture(picture("console-migration"))
	certificate := filepath.Join(t.TempDir(), "certificate.html")
	h.must("run", "report", made.Run, "--certificate", "--out", certificate)
	b.open("file://" + certificate)
	b.shows("The record")
	b.picture(picture("certificate"))
}

// jobPictures draws jobs: made, with what a run would do; and one that the safety limits hold.
func jobPictures(t *testing.T, h *heron, b *window, screen *screen, desk string) {
	t.Helper()
	h.must("job", "create", "office-to-archive", "--type", "mirror", "--from", "/desk/Office", "--to", "/archive/office", "--weekly",
		"mon-fri 22:00", "--zone", "Europe/Lisbon")
	h.must("job", "create", "gauges", "--from", "/gauge-share", "--to", "/archive/gauges", "--every", "15m")
	h.must("job", "create", "desk-and-drive", "--type", "two-way", "--from", "/desk/Field surveys", "--to", "/office-drive/Field surveys",
		"--run-hours", "mon-fri 20:00-06:00, sat, sun", "--zone", "Europe/Lisbon")
	h.must("job", "start", "office-to-archive", "--json")
	screen.draw("job", "heron job list; heron job show desk-and-drive; heron job plan desk-and-drive", 5*time.Second)
	entries, err := os.ReadDir(filepath.Join(desk, "Office"))
	if err != nil {
		t.Fatal(err)
	}
	for i, entry := range entries {
		if i%2 == 0 { // somebody tidies up
			os.RemoveAll(filepath.Join(desk, "Office", entry.Name()))
		}
	}
	b.open("http://" + h.listen + "/jobs/office-to-archive")
	b.shows("A run would be held")
	b.picture(picture("console-job"))
	b.click("Start now")
	b.shows("a version stays in history")
	b.picture(picture("console-held"))
	h.must("account", "edit", "desk", "--search", "contents")
	for deadline := time.Now().Add(longestWait); ; time.Sleep(200 * time.Millisecond) {
		states, err := h.client().SearchStates(t.Context())
		i := slices.IndexFunc(states, func(state contract.SearchState) bool {
			return state.Account == "desk" && state.Texts > 50 && state.Due == 0
		})
		if err == nil && i >= 0 || time.Now().After(deadline) {
			break
		}
	}
	b.open("http://" + h.listen + "/search?" + url.Values{"q": {"weir"}}.Encode())
	b.shows("hits")
	b.picture(picture("console-search"))

	// What the office has beside the desk, and how they differ.
	var noted contract.Entry
	for line := range strings.SplitSeq(h.must("ls", "/desk/Office", "--json"), "\n") {
		if json.Unmarshal([]byte(line), &noted) == nil && noted.Kind == "file" {
			break
		}
	}
	h.must("tag", "add", "to check", noted.Address)
	h.must("lock", noted.Address, "--for", "2h", "--reason", "Figures are being corrected.")
	b.open("http://" + h.listen + "/files/desk/Office?second=%2Farchive%2F2026%2FOffice")
	b.shows("only here")
	b.shows("differs")
	b.picture(picture("console-files"))
	h.must("unlock", noted.Address)
	b.open("http://" + h.listen + "/")
	b.shows("Decide")
	b.shows("single copies")
	b.picture(picture("console-overview"))
	h.addUser("surveyor", "operator", contract.Grant{Address: "/desk/Office", Role: "operator"}, contract.Grant{Address: "/archive",
		Role: "viewer"})
	h.addUser("trustee", "viewer", contract.Grant{Address: "/archive/2026", Role: "viewer"})
	h.signIn("surveyor")
	b.open("http://" + h.listen + "/settings/users")
	b.shows("trustee")
	b.picture(picture("console-users"))

	before := moment()
	h.must("run", "approve", h.shownJob("office-to-archive").Last.ID)
	h.until(h.shownJob("office-to-archive").Last.ID, "done")
	b.open("http://" + h.listen + "/history?" + url.Values{"of": {"/archive/office"}, "at": {before}}.Encode())
	b.shows("not there now")
	b.picture(picture("console-history"))
}

// drivePictures draws linking by consent, and a definition being tried.
func drivePictures(t *testing.T, h *heron, b *window, screen *screen) {
	t.Helper()
	c := clouds(t)
	if err := demo.FillClouds(t.TempDir(), c); err != nil { // its documents, and two of one name
		t.Fatal(err)
	}
	h.linkDrives(c)
	file := filepath.Join(os.TempDir(), "sedge-by-token.yaml")
	mine := strings.Replace(bearerDefinition(t, h), "request: POST /items/{id}/copies", "request: POST /items/{id}/doubles", 1)
	writeFile(t, mine, file)
	defer os.Remove(file)
	access, _, _ := c.Sedge.Consents.Grant("own", sedgeUser, "items.read", "items.write")
	token := filepath.Join(os.TempDir(), "token.txt")
	writeFile(t, access, token)
	defer os.Remove(token)
	screen.draw("provider-try", fmt.Sprintf("heron provider try %s --option url=%s --secret-file %s", file, c.SedgeURL, token), 25*time.Second)
	c.Sedge.Consents.Withdraw()
	h.run("", "account", "check", "field-drive")
}

// filePictures draws accounts, looks and comparisons.
func filePictures(t *testing.T, h *heron, b *window) {
	t.Helper()
	h.must("copy", "/gauge-share/Tollmouth", "/desk/Office")
	h.must("rm", "--yes", "/desk/Office/Tollmouth/2026-03-04.csv", "/desk/Office/Tollmouth/2026-03-09.csv")
	h.must("cat", "/desk/Office/Tollmouth/2026-03-05.csv")
	if r := h.run("time,level_m\n2026-03-05T00:00:00Z,0.9\n", "put", "--yes", "-", "/desk/Office/Tollmouth/2026-03-05.csv"); r.code != 0 {
		t.Fatal(r.err)
	}
	if r := h.run("what the office thinks of it\n", "put", "-", "/desk/Office/Tollmouth/remarks.txt"); r.code != 0 {
		t.Fatal(r.err)
	}
	b.open("http://" + h.listen + "/accounts")
	b.shows("Together")
	b.click("Check desk")
	b.shows("Top folders")
	b.until(`!document.body.innerText.includes('…')`)
	b.picture(picture("console-accounts"))
	accountPictures(h, b)
}

// accountPictures draws the life of a link, and how fast accounts are.
func accountPictures(h *heron, b *window) {
	h.must("account", "suspend", "gauge-share-dav")
	h.must("account", "resume", "gauge-share-dav")
	h.must("account", "edit", "gauge-share", "--start", "Tollmouth")
	h.must("account", "edit", "gauge-share", "--start", "")
	h.must("account", "speed", "desk", "archive", "--size", "256KiB")
	b.open("http://" + h.listen + "/accounts/desk")
	b.choose("Compare with", "archive")
	b.shows("Removing")
	b.until(`document.querySelectorAll('section[aria-label=Speed] .bg-line').length === 3`)
	b.click("owner")
	b.click("Dark")
	b.keys("\x1b")
	b.picture(picture("console-account"))
	b.click("owner")
	b.click("Light")
	b.keys("\x1b")
	b.open("http://" + h.listen + "/accounts")
}

// screen is a window of a terminal on a display of its own.
type screen struct {
	t       *testing.T
	h       *heron
	display string
}

func newScreen(t *testing.T, h *heron) *screen {
	t.Helper()
	s := &screen{t: t, h: h, display: fmt.Sprintf(":%d", 90+os.Getpid()%900)}
	servertest.Start(t, exec.Command("Xvfb", s.display, "-screen", "0", "1280x800x24"))
	<-time.After(time.Second)
	return s
}

// draw types commands into a terminal, waits, and takes a picture.
func (s *screen) draw(name, commands string, wait time.Duration) {
	s.t.Helper()
	script := fmt.Sprintf("PATH=%s:$PATH; %s; sleep 60", filepath.Dir(program), strings.ReplaceAll(commands, "heron ", "echo \"\"; heron "))
	for _, command := range strings.Split(commands, "; ") {
		script = strings.Replace(script, "echo \"\"; "+command, "printf '$ %s\\n' '"+command+"'; "+command+"; echo", 1)
	}
	terminal := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "12", "-bg", "#11181c", "-fg", "#e6ece9", "-b", "12", "-bw", "0",
		"-geometry", "125x40+0+0", "-e", "bash", "-c", script)
	terminal.Env = append(os.Environ(), "DISPLAY="+s.display, "HERON_URL=http://"+s.h.listen, "HERON_TOKEN="+s.h.token(),
		"TERM=xterm-256color", "LC_ALL=C.UTF-8")
	servertest.Start(s.t, terminal)
	<-time.After(wait)
	out, err := exec.Command("import", "-display", s.display, "-window", "root", picture(name)).CombinedOutput()
	if err != nil {
		s.t.Fatalf("import: %v %s", err, out)
	}
	terminal.Process.Kill()
}
