package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/contract"
)

// guest is somebody without an account, with a browser of their own.
type guest struct {
	t *testing.T
	http.Client
}

func newGuest(t *testing.T) *guest {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &guest{t, http.Client{Jar: jar, Timeout: longestWait}}
}

func (g *guest) get(address string, headers ...string) (status int, text string, header http.Header) {
	g.t.Helper()
	request, err := http.NewRequestWithContext(g.t.Context(), http.MethodGet, address, nil)
	if err != nil {
		g.t.Fatal(err)
	}
	for i := 0; i < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	return g.do(request)
}

func (g *guest) do(request *http.Request) (status int, text string, header http.Header) {
	g.t.Helper()
	response, err := g.Do(request)
	if err != nil {
		g.t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		g.t.Fatal(err)
	}
	return response.StatusCode, string(body), response.Header
}

// send sends files as the form of a page does: names and contents in turn.
func (g *guest) send(address string, files ...string) (status int, text string) {
	g.t.Helper()
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	for i := 0; i < len(files); i += 2 {
		part, err := w.CreateFormFile("file", files[i])
		if err == nil {
			_, err = io.WriteString(part, files[i+1])
		}
		if err != nil {
			g.t.Fatal(err)
		}
	}
	w.Close()
	request, err := http.NewRequestWithContext(g.t.Context(), http.MethodPost, address, &form)
	if err != nil {
		g.t.Fatal(err)
	}
	request.Header.Set("Content-Type", w.FormDataContentType())
	status, text, _ = g.do(request)
	return status, text
}

func (h *heron) shareLink(args ...string) (made contract.MadeShareLink) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must(append([]string{"share", "create", "--json"}, args...)...)), &made); err != nil {
		h.t.Fatal(err)
	}
	return made
}

// TestShareLinks shares files and folders with people without an account: with passwords,
// limits of use and time, to look at, to download, and to send files to.
func TestShareLinks(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	writeFile(t, "0123456789", desk, "Reports", "plan.txt")
	writeFile(t, "weir", desk, "Reports", "2026", "a b&c.csv")
	writeFile(t, "binary", desk, "Reports", "program.exe")
	writeFile(t, "nobody's business", desk, "private.txt")
	if err := os.Mkdir(filepath.Join(desk, "Incoming"), 0o700); err != nil {
		t.Fatal(err)
	}
	h.says("", 1, "Share links are switched off", "share", "create", "/desk/Reports")
	h.must("share", "on")
	h.says("", 2, "is not a time for which", "share", "create", "/desk/Reports", "--for", "for ever")
	h.says("", 2, "is not a folder", "share", "create", "/desk/Reports/plan.txt", "--mode", "drop-off")
	h.says("", 1, "does not exist", "share", "create", "/desk/nothing")

	made := h.shareLink("/desk/Reports", "--note", "for the board")
	g := newGuest(t)
	status, page, header := g.get(made.URL)
	if status != 200 || !strings.Contains(page, "plan.txt") || !strings.Contains(page, "2026/") || strings.Contains(page, "desk") ||
		strings.Contains(page, "<script") || !strings.Contains(header.Get("Content-Security-Policy"), "default-src 'none'") {
		t.Errorf("the page: %d %v\n%s", status, header, page)
	}
	status, text, header := g.get(made.URL+"?do=download&at=plan.txt", "Range", "bytes=2-4")
	if status != http.StatusPartialContent || text != "234" || !strings.HasPrefix(header.Get("Content-Disposition"), "attachment") {
		t.Errorf("a range: %d %q %v", status, text, header)
	}
	if status, text, _ = g.get(made.URL + "?do=download&at=" + url.QueryEscape("2026/a b&c.csv")); status != 200 || text != "weir" {
		t.Errorf("a file below: %d %q", status, text)
	}
	status, text, _ = g.get(made.URL + "?do=zip")
	archive, err := zip.NewReader(strings.NewReader(text), int64(len(text)))
	if status != 200 || err != nil || len(archive.File) < 4 {
		t.Errorf("the archive: %d, %v", status, err)
	}
	for _, at := range []string{"../private.txt", "..", "2026/../../private.txt", "%2e%2e/private.txt", "/desk/private.txt", "%id=1",
		"nothing",
		"plan.txt/x", "\x00"} {
		if status, text, _ := g.get(made.URL + "?do=download&at=" + url.QueryEscape(at)); status < 400 || strings.Contains(text, "business") {
			t.Errorf("%q: %d %s", at, status, text)
		}
	}
	if link := h.sharedLink(made.ID); link.Uses != 1 || len(link.Latest) < 3 || link.Note != "for the board" {
		t.Errorf("its uses: %+v", link)
	}

	audited := h.must("audit", "list", "--json")
	for deadline := time.Now().Add(longestWait); !strings.Contains(audited, "share-link-download") && time.Now().Before(deadline); {
		time.Sleep(100 * time.Millisecond) // reading is written down within two seconds
		audited = h.must("audit", "list", "--json")
	}
	if !strings.Contains(audited, "share link "+made.ID) || !strings.Contains(audited, "share-link-archive") {
		t.Errorf("the audit log has\n%s", audited)
	}

	viewing := h.shareLink("/desk/Reports", "--mode", "view")
	for query, want := range map[string]int{"?do=zip": 200, "?do=download&at=plan.txt": 200, "?do=view&at=plan.txt": 200,
		"?do=view&at=program.exe": 403} {
		status, text, header := g.get(viewing.URL + query)
		if status != want || strings.HasPrefix(text, "PK") || strings.HasPrefix(header.Get("Content-Disposition"), "attachment") {
			t.Errorf("to look at, %s: %d %v %.80s", query, status, header, text)
		}
	}

	password := filepath.Join(t.TempDir(), "password")
	writeFile(t, "horse reed", password)
	locked := h.shareLink("/desk/Reports/plan.txt", "--password-file", password, "--for", "1d")
	g = newGuest(t)
	if status, text, _ := g.get(locked.URL + "?do=download"); status != http.StatusUnauthorized || strings.Contains(text, "0123") ||
		strings.Contains(text, "plan") {
		t.Errorf("without the password: %d %s", status, text)
	}
	if status, text := g.form(locked.URL, "password", "wrong horse"); status != http.StatusUnauthorized || !strings.Contains(text,
		"not right") {
		t.Errorf("with a wrong password: %d %s", status, text)
	}
	if status, text := g.form(locked.URL, "password", "horse reed"); status != 200 || !strings.Contains(text, "plan.txt") {
		t.Errorf("with the password: %d %s", status, text)
	}
	if status, text, _ := g.get(locked.URL + "?do=download"); status != 200 || text != "0123456789" {
		t.Errorf("opened: %d %s", status, text)
	}
	if status, _, _ := newGuest(t).get(locked.URL+"?do=download", "Cookie",
		"heron_share_"+locked.ID+"=9999999999.AAAA"); status != http.StatusUnauthorized {
		t.Errorf("with a made-up cookie: %d", status)
	}

	// Ten people at once have three uses.
	limited := h.shareLink("/desk/Reports/plan.txt", "--uses", "3")
	var let atomic.Int32
	var group sync.WaitGroup
	for range 10 {
		group.Go(func() {
			if status, _, _ := newGuest(t).get(limited.URL); status == 200 {
				let.Add(1)
			}
		})
	}
	group.Wait()
	if n := let.Load(); n != 3 || h.sharedLink(limited.ID).State != "used-up" {
		t.Errorf("%d were let in, %+v", n, h.sharedLink(limited.ID))
	}

	h.must("share", "revoke", made.ID)
	if status, _, _ := newGuest(t).get(made.URL); status != http.StatusNotFound {
		t.Errorf("revoked: %d", status)
	}
	if err := os.Rename(filepath.Join(desk, "Reports", "plan.txt"), filepath.Join(desk, "Reports", "moved.txt")); err != nil {
		t.Fatal(err)
	}
	if status, text, _ := g.get(locked.URL); status != http.StatusNotFound || !strings.Contains(text, "not there any more") {
		t.Errorf("moved: %d %s", status, text)
	}
	h.must("share", "off")
	if status, _, _ := g.get(viewing.URL); status != http.StatusNotFound {
		t.Errorf("switched off: %d", status)
	}
}

func (g *guest) form(address string, pairs ...string) (status int, text string) {
	g.t.Helper()
	values := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		values.Set(pairs[i], pairs[i+1])
	}
	request, err := http.NewRequestWithContext(g.t.Context(), http.MethodPost, address, strings.NewReader(values.Encode()))
	if err != nil {
		g.t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	status, text, _ = g.do(request)
	return status, text
}

func (h *heron) sharedLink(id string) (link contract.UsedShareLink) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("share", "show", id, "--json")), &link); err != nil {
		h.t.Fatal(err)
	}
	return link
}

// TestDropOff has files sent to a folder by people who do not see it.
func TestDropOff(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	writeFile(t, "mine", desk, "Incoming", "notes.txt")
	h.must("share", "on")
	made := h.shareLink("/desk/Incoming", "--mode", "drop-off", "--largest", "1MiB", "--total", "2MiB")
	g := newGuest(t)
	if status, page, _ := g.get(made.URL); status != 200 || strings.Contains(page, "notes.txt") || !strings.Contains(page, "1.0 MiB") {
		t.Errorf("the page: %d %s", status, page)
	}
	if status, page := g.send(made.URL, "notes.txt", "theirs", "ä.csv", "1;2"); status != 200 || !strings.Contains(page, "notes (2).txt") {
		t.Errorf("two files: %d %s", status, page)
	}
	for name, want := range map[string]string{"notes.txt": "mine", "notes (2).txt": "theirs", "ä.csv": "1;2"} {
		if got, err := os.ReadFile(filepath.Join(desk, "Incoming", name)); err != nil || string(got) != want {
			t.Errorf("%s holds %q, %v", name, got, err)
		}
	}
	for name, content := range map[string]string{".hidden": "x", "large.bin": strings.Repeat("x", 1<<20+1), "..": "x"} {
		if status, page := g.send(made.URL, name, content); status < 400 {
			t.Errorf("%s: %d %s", name, status, page)
		}
	}
	if status, page := g.send(made.URL, "../../escape.txt", "x"); status != 200 || !strings.Contains(page, "escape.txt") {
		t.Errorf("a path: %d %s", status, page)
	}
	if _, err := os.Stat(filepath.Join(desk, "Incoming", "escape.txt")); err != nil {
		t.Error(err)
	}
	for i := range 3 { // two fit
		status, page := g.send(made.URL, fmt.Sprint(i, ".bin"), strings.Repeat("x", 900<<10))
		if (status == 200) != (i < 2) || i == 2 && !strings.Contains(page, "no more may be sent") {
			t.Errorf("file %d: %d %s", i, status, page)
		}
	}
	// An upload that is cut off leaves nothing.
	body, sending := io.Pipe()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, made.URL, body)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "multipart/form-data; boundary=x")
	go func() {
		fmt.Fprint(sending, "--x\r\nContent-Disposition: form-data; name=file; filename=cut.bin\r\n\r\nsome of it")
		sending.CloseWithError(io.ErrUnexpectedEOF)
	}()
	if response, err := g.Do(request); err == nil {
		response.Body.Close()
	}
	time.Sleep(200 * time.Millisecond)
	entries, err := os.ReadDir(filepath.Join(desk, "Incoming"))
	for _, entry := range entries {
		if strings.Contains(entry.Name(), "cut") || strings.Contains(entry.Name(), "heron-arriving") {
			t.Errorf("left behind: %s, %v", entry.Name(), err)
		}
	}
	if link := h.sharedLink(made.ID); link.Bytes < 1800<<10 || link.Bytes > 2<<20 {
		t.Errorf("counted: %+v", link)
	}
	// It has the grants of who made it.
	h.addUser("surveyor", "operator")
	if _, err := h.client().SetGrant(t.Context(), "surveyor", contract.Grant{Address: "/desk/Incoming", Role: "operator"}); err != nil {
		t.Fatal(err)
	}
	who := h.signIn("surveyor")
	status, text := h.as(who, "POST", "/api/v1/share-links", `{"address":"/desk/Incoming","mode":"drop-off"}`)
	var theirs contract.MadeShareLink
	if err := json.Unmarshal([]byte(text), &theirs); err != nil || status != http.StatusCreated {
		t.Fatalf("%d %s", status, text)
	}
	if status, text := h.as(who, "GET", "/api/v1/share-links/"+made.ID, ""); status != http.StatusNotFound {
		t.Errorf("somebody else's link: %d %s", status, text)
	}
	if status, _ := g.send(theirs.URL, "a.txt", "a"); status != 200 {
		t.Errorf("with the grant: %d", status)
	}
	if _, err := h.client().RemoveGrant(t.Context(), "surveyor", "/desk/Incoming"); err != nil {
		t.Fatal(err)
	}
	if status, _ := g.send(theirs.URL, "b.txt", "b"); status != http.StatusNotFound {
		t.Errorf("without the grant: %d", status)
	}
}

// TestLinksAreNotGuessed asks for up to ten thousand links that there are not, for some
// seconds: it is slowed down, nothing is let in, and the memory stays
// within its bound.
func TestLinksAreNotGuessed(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.must("share", "on")
	g := newGuest(t)
	begun := time.Now()
	var group sync.WaitGroup
	var let, many, asked atomic.Int32
	for range 100 {
		group.Go(func() {
			for range 100 {
				status, _, _ := g.get(fmt.Sprintf("http://%s/s/%043d", h.listen, asked.Add(1)))
				switch {
				case status < 400:
					let.Add(1)
				case status == http.StatusTooManyRequests:
					many.Add(1)
				}
				if time.Since(begun) > 8*time.Second {
					return
				}
			}
		})
	}
	group.Wait()
	if let.Load() > 0 || many.Load() == 0 {
		t.Errorf("of %d guesses %d were let in, and %d told that there are too many", asked.Load(), let.Load(), many.Load())
	}
	// The heap may grow to 80 MiB before it is collected.
	if memory := h.resident(); memory > 100<<20 {
		t.Errorf("the service has %d MiB of its own", memory>>20)
	}
}

// TestConsoleShares makes links in the console, and opens one as somebody else.
func TestConsoleShares(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	writeFile(t, "0123456789", desk, "Reports", "plan.txt")
	writeFile(t, "weir", desk, "Reports", "2026", "levels.csv")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("desk")
	b.open("http://" + h.listen + "/settings/shares?new=%2Fdesk%2FReports")
	b.shows("Share links are switched off")
	b.look("shares-off")
	b.click("Switch on")
	b.shows("Whoever has the link can use it.")
	b.field("Password (optional)", "horse reed")
	b.field("Times it can be opened (optional)", "5")
	b.field("For whom (optional)", "the river board")
	b.look("shares-new")
	b.accessible("a new link")
	b.click("Create the link")
	b.shows("Copy it now")
	address := js[string](b, `document.querySelector('[aria-label="The link"]').textContent`)
	b.click("Done")
	b.shows("the river board")
	b.look("shares")
	b.accessible("share links")
	b.open(address)
	b.shows("This link has a password")
	b.look("share-locked")
	b.field("Password", "horse reed")
	b.click("Open")
	b.shows("plan.txt")
	b.look("share-folder")
	b.accessible("the page of a link")
	b.open("http://" + h.listen + "/settings/shares")
	b.shows("1 of 5")
	b.click("Uses")
	b.shows("opened")
	b.look("share-uses")
}

// TestLinksThatEnd revokes a link while somebody downloads by it, and moves what another
// link shares: neither gives any more.
func TestLinksThatEnd(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := inMemory(t)
	h.linkFolder("desk", desk)
	const size = 256 << 20
	large, err := os.Create(filepath.Join(desk, "large.bin"))
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(large.Truncate(size), large.Close()); err != nil {
		t.Fatal(err)
	}
	writeFile(t, "plan", desk, "plan.txt")
	h.must("share", "on")
	made, moving := h.shareLink("/desk/large.bin"), h.shareLink("/desk/plan.txt")
	g := newGuest(t)
	g.get(made.URL)
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, made.URL+"?do=download", nil)
	if err != nil {
		t.Fatal(err)
	}
	answer, err := g.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if _, err := io.CopyN(io.Discard, answer.Body, 1<<20); err != nil {
		t.Fatal(err)
	}
	h.must("share", "revoke", made.ID)
	rest := int64(0)
	for err = nil; err == nil; time.Sleep(10 * time.Millisecond) { // as a slow reader does
		var n int64
		n, err = io.CopyN(io.Discard, answer.Body, 64<<10)
		rest += n
	}
	if err == io.EOF || rest > size/2 {
		t.Errorf("after it was revoked, %d more bytes came, %v", rest, err)
	}
	if status, _, _ := g.get(made.URL + "?do=download"); status != http.StatusNotFound && status != http.StatusGone {
		t.Errorf("a revoked link answers %d", status)
	}

	if status, _, _ := g.get(moving.URL); status != http.StatusOK {
		t.Errorf("before the move: %d", status)
	}
	h.must("mv", "/desk/plan.txt", "/desk/private.txt")
	if status, text, _ := g.get(moving.URL + "?do=download"); status != http.StatusNotFound || strings.Contains(text, "private") {
		t.Errorf("a link follows its file: %d %s", status, text)
	}
}
