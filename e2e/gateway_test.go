package e2e

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// drive is a WebDAV client of a service.
type drive struct {
	t     *testing.T
	h     *heron
	token string
}

// answer is what a request came to.
type davAnswer struct {
	status int
	header http.Header
	body   string
}

// try makes a request; err is of the network alone. header has names and values in turn.
func (d *drive) try(method, address, body string, header ...string) (davAnswer, error) {
	var content io.Reader
	if body != "" {
		content = strings.NewReader(body)
	}
	request, err := http.NewRequestWithContext(d.t.Context(), method, "http://"+d.h.listen+"/dav"+address, content)
	if err != nil {
		return davAnswer{}, err
	}
	if d.token != "" {
		request.SetBasicAuth("anybody", d.token)
	}
	for i := 0; i < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
		if header[i] == "Transfer-Encoding" {
			request.Header.Del(header[i])
			request.Body, request.ContentLength = io.NopCloser(strings.NewReader(body)), -1
		}
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return davAnswer{}, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	return davAnswer{response.StatusCode, response.Header, string(text)}, err
}

// ask makes a request that has to be answered.
func (d *drive) ask(method, address, body string, header ...string) davAnswer {
	d.t.Helper()
	answer, err := d.try(method, address, body, header...)
	if err != nil {
		d.t.Fatalf("%s %s: %v", method, address, err)
	}
	return answer
}

// want makes a request and holds it to a status.
func (d *drive) want(status int, method, address, body string, header ...string) davAnswer {
	d.t.Helper()
	answer := d.ask(method, address, body, header...)
	if answer.status != status {
		d.t.Fatalf("%s %s: %d, want %d: %s", method, address, answer.status, status, answer.body)
	}
	return answer
}

// listed are the paths of a listing, below /dav, percent-encoded.
func (d *drive) listed(address string) (paths []string) {
	d.t.Helper()
	answer := d.want(http.StatusMultiStatus, "PROPFIND", address, "", "Depth", "1")
	var all struct {
		Responses []struct {
			Href string `xml:"DAV: href"`
		} `xml:"DAV: response"`
	}
	if err := xml.Unmarshal([]byte(answer.body), &all); err != nil {
		d.t.Fatalf("%v: %s", err, answer.body)
	}
	for _, one := range all.Responses {
		paths = append(paths, strings.TrimPrefix(one.Href, "/dav"))
	}
	return paths
}

func (h *heron) drive(token string) *drive { return &drive{h.t, h, token} }

// TestGatewayLitmus runs the five suites of litmus against accounts at each kind of place.
func TestGatewayLitmus(t *testing.T) {
	t.Parallel()
	h := start(t)
	for _, name := range linkServers(t, h) {
		t.Run(name, func(t *testing.T) {
			command := exec.Command("litmus", "-k", "http://"+h.listen+"/dav/"+name+"/", "anybody", h.token())
			command.Dir = t.TempDir()
			out, err := command.CombinedOutput()
			passed := strings.Count(string(out), "100.0%")
			if err != nil || passed != 5 || strings.Contains(string(out), "FAIL") {
				t.Errorf("%v, %d of 5 suites pass:\n%s", err, passed, regexp.MustCompile(`(?m)^.* pass\n`).ReplaceAllString(string(out), ""))
			}
			if strings.Contains(string(out), "WARNING") {
				t.Logf("%s", regexp.MustCompile(`(?m)^.*WARNING.*$`).FindAllString(string(out), -1))
			}
		})
	}
}

// modelled is what an account should hold: files by path, and folders with a closing slash.
type modelled map[string]string

func (m modelled) isFolder(at string) bool { _, ok := m[at+"/"]; return ok || at == "" }

func (m modelled) exists(at string) bool { _, ok := m[at]; return ok || m.isFolder(at) }

// below are the paths at and below one.
func (m modelled) below(at string) (paths []string) {
	for one := range m {
		if one == at || strings.HasPrefix(one, at+"/") {
			paths = append(paths, one)
		}
	}
	return paths
}

func (m modelled) remove(at string) {
	for _, one := range m.below(at) {
		delete(m, one)
	}
}

func (m modelled) copy(from, to string) {
	copied := map[string]string{}
	for _, one := range m.below(from) {
		copied[to+strings.TrimPrefix(one, from)] = m[one]
	}
	m.remove(to)
	maps.Copy(m, copied)
}

// TestGatewayModel does random things through the gateway, and holds every answer, and all that is
// there in the end, to a model.
func TestGatewayModel(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	apache := servers(t, h)
	for name, steps := range map[string]int{"desk": 1500, apache: 120} {
		t.Run(name, func(t *testing.T) {
			m := gatewayModel{drive: h.drive(h.token()), account: "/" + name, random: rand.New(rand.NewPCG(7, 11)), holds: modelled{}}
			m.t = t
			if *everywhere {
				steps = min(10_000, 10*steps)
			}
			for range steps {
				m.step()
			}
			m.compare("")
		})
	}
}

type gatewayModel struct {
	*drive
	account string
	random  *rand.Rand
	holds   modelled
}

// path is a random path, mostly one that is there.
func (m *gatewayModel) path() string {
	if all := slices.Sorted(maps.Keys(m.holds)); len(all) > 0 && m.random.IntN(3) > 0 {
		return strings.TrimSuffix(all[m.random.IntN(len(all))], "/")
	}
	steps := make([]string, 1+m.random.IntN(3))
	for i := range steps {
		steps[i] = []string{"a", "b", "é", "long name.txt", "100% sure", "+&="}[m.random.IntN(6)]
	}
	return strings.Join(steps, "/")
}

func (m *gatewayModel) url(at string) string {
	if at == "" {
		return m.account + "/"
	}
	var steps []string
	for _, step := range strings.Split(at, "/") {
		steps = append(steps, url.PathEscape(step))
	}
	return m.account + "/" + strings.Join(steps, "/")
}

func (m *gatewayModel) step() {
	m.t.Helper()
	at := m.path()
	parent := path.Dir(at)
	if parent == "." {
		parent = ""
	}
	switch m.random.IntN(8) {
	case 0, 1:
		content := strings.Repeat(fmt.Sprintf("%d ", m.random.IntN(1000)), m.random.IntN(3000))
		status := http.StatusCreated
		switch {
		case m.holds.isFolder(at):
			status = http.StatusMethodNotAllowed
		case m.holds.exists(at):
			status = http.StatusNoContent
		case !m.holds.isFolder(parent):
			status = http.StatusConflict
		}
		header := []string{}
		if m.random.IntN(2) == 0 {
			header = []string{"Transfer-Encoding", "chunked"}
		}
		m.want(status, http.MethodPut, m.url(at), content, header...)
		if status < 300 {
			m.holds[at] = content
		}
	case 2:
		status := http.StatusCreated
		switch {
		case m.holds.exists(at):
			status = http.StatusMethodNotAllowed
		case !m.holds.isFolder(parent):
			status = http.StatusConflict
		default:
			m.holds[at+"/"] = ""
		}
		m.want(status, "MKCOL", m.url(at), "")
	case 3:
		status := http.StatusNotFound
		if m.holds.exists(at) {
			status = http.StatusNoContent
		}
		m.want(status, http.MethodDelete, m.url(at), "")
		m.holds.remove(at)
	case 4, 5:
		m.copyOrMove(at)
	case 6:
		m.reads(at)
	case 7:
		m.compare(parent)
	}
}

func (m *gatewayModel) copyOrMove(from string) {
	m.t.Helper()
	to, method := m.path(), []string{"COPY", "MOVE"}[m.random.IntN(2)]
	parent := path.Dir(to)
	if parent == "." {
		parent = ""
	}
	overwrite := []string{"T", "F"}[m.random.IntN(2)]
	status := http.StatusCreated
	switch {
	case !m.holds.exists(from):
		status = http.StatusNotFound
	case from == to, strings.HasPrefix(from, to+"/"), strings.HasPrefix(to, from+"/"):
		status = http.StatusForbidden
	case m.holds.exists(to) && overwrite == "F":
		status = http.StatusPreconditionFailed
	case !m.holds.isFolder(parent):
		status = http.StatusConflict
	case m.holds.exists(to):
		status = http.StatusNoContent
	}
	m.want(status, method, m.url(from), "", "Destination", "http://"+m.h.listen+"/dav"+m.url(to), "Overwrite", overwrite)
	if status >= 300 {
		return
	}
	m.holds.copy(from, to)
	if method == "MOVE" {
		m.holds.remove(from)
	}
}

// reads reads a file, and a range of it.
func (m *gatewayModel) reads(at string) {
	m.t.Helper()
	content, ok := m.holds[at]
	if !ok {
		if !m.holds.isFolder(at) {
			m.want(http.StatusNotFound, http.MethodGet, m.url(at), "")
		}
		return
	}
	whole := m.want(http.StatusOK, http.MethodGet, m.url(at), "")
	if whole.body != content {
		m.t.Fatalf("%s holds %d bytes, want %d", at, len(whole.body), len(content))
	}
	if len(content) == 0 {
		return
	}
	from := m.random.IntN(len(content))
	to := from + m.random.IntN(len(content)-from)
	part := m.want(http.StatusPartialContent, http.MethodGet, m.url(at), "", "Range", fmt.Sprintf("bytes=%d-%d", from, to), "If-Range",
		whole.header.Get("ETag"))
	if part.body != content[from:to+1] {
		m.t.Fatalf("%s from %d to %d is wrong", at, from, to)
	}
}

// compare holds a folder, and all in it, to the model.
func (m *gatewayModel) compare(at string) {
	m.t.Helper()
	if !m.holds.isFolder(at) {
		return
	}
	want := []string{strings.TrimSuffix(m.url(at), "/") + "/"}
	for one := range m.holds {
		name := strings.TrimSuffix(one, "/")
		if parent := path.Dir(name); parent == at || parent == "." && at == "" {
			if one != name {
				want = append(want, m.url(name)+"/")
			} else {
				want = append(want, m.url(name))
			}
		}
	}
	got := m.listed(m.url(at))
	slices.Sort(want)
	if slices.Sort(got); !slices.Equal(got, want) {
		m.t.Fatalf("%q holds %v\nwant %v", at, got, want)
	}
	if at != "" {
		return
	}
	for one, content := range m.holds {
		if !strings.HasSuffix(one, "/") {
			if answer := m.want(http.StatusOK, http.MethodGet, m.url(one), ""); answer.body != content {
				m.t.Errorf("%s is not what was written", one)
			}
		} else {
			m.compare(strings.TrimSuffix(one, "/"))
		}
	}
}

// servers links an account at Apache, and returns its name.
func servers(t *testing.T, h *heron) string {
	t.Helper()
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	place, _ := apache.Folder(t)
	h.linkApache("share", apache, place)
	return "share"
}

// TestGatewayKilled kills the service in the middle of saves, as programs make them: through a
// temporary file that is then moved over the old one, or at once. Whatever was acknowledged is there.
func TestGatewayKilled(t *testing.T) {
	t.Parallel()
	h := start(t)
	place := t.TempDir()
	h.linkFolder("desk", place)
	token := h.token()
	const files, rounds = 5, 4
	var saved [files]atomic.Int64 // the newest version that was acknowledged
	var sent [files]atomic.Int64  // the newest version that was sent
	total := func() (all int64) {
		for file := range files {
			all += saved[file].Load()
		}
		return all
	}
	save := func(d *drive, file int) bool {
		version := sent[file].Add(1)
		content := strings.Repeat(fmt.Sprintf("%d of file %d\n", version, file), 5000)
		at := fmt.Sprintf("/desk/file %d", file)
		at = strings.ReplaceAll(at, " ", "%20")
		if version%2 == 0 {
			answer, err := d.try(http.MethodPut, at, content)
			if err != nil || answer.status >= 300 {
				return false
			}
		} else {
			if answer, err := d.try(http.MethodPut, at+".tmp", content); err != nil || answer.status >= 300 {
				return false
			}
			answer, err := d.try("MOVE", at+".tmp", "", "Destination", "/dav"+at)
			if err != nil || answer.status >= 300 {
				return false
			}
		}
		saved[file].Store(version)
		return true
	}
	for round := range rounds {
		var group sync.WaitGroup
		for file := range files {
			group.Go(func() {
				d := &drive{t, h, token}
				for save(d, file) {
				}
			})
		}
		for before := total(); total() < before+30; { // then in the middle of others
			time.Sleep(time.Millisecond)
		}
		h.end(syscall.SIGKILL)
		group.Wait()
		h.serve()
		for file := range files {
			answer := h.drive(token).ask(http.MethodGet, fmt.Sprintf("/desk/file%%20%d", file), "")
			var version int64
			fmt.Sscanf(answer.body, "%d of file", &version)
			whole := strings.Repeat(fmt.Sprintf("%d of file %d\n", version, file), 5000)
			if version < saved[file].Load() || version > sent[file].Load() || saved[file].Load() > 0 && answer.body != whole {
				t.Errorf("round %d: file %d holds version %d (%d bytes), and %d was acknowledged", round, file, version, len(answer.body),
					saved[file].Load())
			}
		}
	}
	for _, name := range fileNames(t, place) {
		if strings.Contains(name, "arriving") {
			t.Errorf("%s was left behind", name)
		}
	}
}

// TestGatewaySignIn has nobody on without a token, and shows each user what grants allow.
func TestGatewaySignIn(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "report", desk, "Reports", "one.txt")
	writeFile(t, "wages", desk, "Private", "wages.txt")
	h.linkFolder("desk", desk)
	h.linkFolder("other", t.TempDir())
	h.addUser("looker", "viewer", contract.Grant{Address: "/desk/Reports", Role: "viewer"})
	looker := h.signIn("looker")
	read, err := h.client().MakeToken(t.Context(), contract.TokenRequest{Name: "reading", Scopes: []string{"read"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, method := range []string{"OPTIONS", "GET", "HEAD", "PUT", "DELETE", "MKCOL", "COPY", "MOVE", "PROPFIND", "PROPPATCH", "LOCK",
		"UNLOCK"} {
		for _, token := range []string{"", "wrong", looker.cookie.Value} {
			if token != "" && method != "GET" && method != "PUT" {
				continue // failed sign-ins are slowed down
			}
			answer := h.drive(token).ask(method, "/desk/Reports/one.txt", "", "Depth", "0", "Cookie", looker.cookie.String())
			if answer.status != http.StatusUnauthorized || answer.header.Get("WWW-Authenticate") == "" || strings.Contains(answer.body, "report") {
				t.Errorf("%s with %q: %d %s", method, token, answer.status, answer.body)
			}
		}
		elsewhere := h.drive(h.token()).ask(method, "/desk/Reports/one.txt", "", "Depth", "0", "Origin", "http://elsewhere.example")
		if elsewhere.status != http.StatusForbidden {
			t.Errorf("%s from a page elsewhere: %d", method, elsewhere.status)
		}
	}
	narrow := h.drive(read.Secret)
	narrow.want(http.StatusOK, http.MethodGet, "/desk/Reports/one.txt", "")
	narrow.want(http.StatusForbidden, http.MethodPut, "/desk/Reports/two.txt", "x")
	narrow.want(http.StatusForbidden, "LOCK", "/desk/Reports/one.txt", lockBody)
	seen := h.drive(h.tokenOf(looker))
	if got := seen.listed("/"); !slices.Equal(got, []string{"/", "/.history/", "/desk/"}) {
		t.Errorf("a viewer of one folder sees %v", got)
	}
	if got := seen.listed("/desk/"); !slices.Equal(got, []string{"/desk/", "/desk/Reports/"}) {
		t.Errorf("a viewer of one folder sees %v in the account", got)
	}
	seen.want(http.StatusOK, http.MethodGet, "/desk/Reports/one.txt", "")
	seen.want(http.StatusNotFound, http.MethodGet, "/desk/Private/wages.txt", "")
	seen.want(http.StatusNotFound, "PROPFIND", "/other/", "", "Depth", "1")
	seen.want(http.StatusNotFound, "PROPFIND", "/.history/other/", "", "Depth", "1")
	seen.want(http.StatusForbidden, http.MethodDelete, "/desk/Reports/one.txt", "")
	for _, odd := range []string{"/desk/../../etc/passwd", "/desk/%2e%2e/%2e%2e/etc/passwd", "/desk/a%00b", "/desk/..%2f..%2fetc%2fpasswd"} {
		answer := h.drive(h.token()).ask(http.MethodGet, odd, "")
		if answer.status != http.StatusNotFound && answer.status != http.StatusBadRequest {
			t.Errorf("%s: %d %s", odd, answer.status, answer.body)
		}
	}
	h.drive(h.token()).want(http.StatusBadRequest, "PROPFIND", "/desk/", `<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`, "Depth", "0")
	h.drive(h.token()).want(http.StatusRequestEntityTooLarge, "PROPFIND", "/desk/", "<a>"+strings.Repeat("x", 1<<20)+"</a>", "Depth", "0")
	h.drive(h.token()).want(http.StatusBadRequest, "PROPFIND", "/desk/", strings.Repeat("<a>", 10_000), "Depth", "0")
	h.drive(h.token()).want(http.StatusForbidden, "PROPFIND", "/", "", "Depth", "infinity")
	if log := h.must("audit", "list", "--json"); !strings.Contains(log, "/desk/Reports/one.txt") {
		t.Error("the audit log has none of it")
	}
}

// tokenOf makes a token for programs as somebody.
func (h *heron) tokenOf(who someone) string {
	h.t.Helper()
	status, text := h.as(who, http.MethodPost, "/api/v1/tokens", `{"name":"drive"}`)
	var made contract.MadeToken
	if err := json.Unmarshal([]byte(text), &made); err != nil || status >= 300 {
		h.t.Fatalf("a token for %s: %d %s", who.name, status, text)
	}
	return made.Secret
}

const lockBody = `<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope>` +
	`<D:locktype><D:write/></D:locktype><D:owner>a desktop</D:owner></D:lockinfo>`

// TestGatewayLocks has locks of desktops hold for everything that goes through the service, and locks
// of the service for desktops. They outlive the service.
func TestGatewayLocks(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, source := t.TempDir(), t.TempDir()
	writeFile(t, "draft", desk, "plan.txt")
	writeFile(t, "noted", desk, "held.txt")
	writeFile(t, "from elsewhere", source, "plan.txt")
	h.linkFolder("desk", desk)
	h.linkFolder("source", source)
	h.addUser("writer", "operator", contract.Grant{Address: "/", Role: "operator"})
	owner, writer := h.drive(h.token()), h.drive(h.tokenOf(h.signIn("writer")))

	locked := owner.want(http.StatusOK, "LOCK", "/desk/plan.txt", lockBody, "Timeout", "Second-600")
	token := locked.header.Get("Lock-Token")
	writer.want(http.StatusLocked, http.MethodPut, "/desk/plan.txt", "mine")
	writer.want(http.StatusLocked, http.MethodDelete, "/desk/plan.txt", "")
	writer.want(http.StatusLocked, "MOVE", "/desk/plan.txt", "", "Destination", "/dav/desk/gone.txt")
	owner.want(http.StatusLocked, http.MethodPut, "/desk/plan.txt", "without the token")
	owner.want(http.StatusNoContent, http.MethodPut, "/desk/plan.txt", "second draft", "If", "("+token+")")
	if shown := h.must("lock", "list"); !strings.Contains(shown, "/desk/plan.txt") {
		t.Errorf("the service lists no lock: %s", shown)
	}
	r := h.run("", "copy", "/source/plan.txt", "/desk", "--conflict", "source", "--json")
	if r.code != 1 || !strings.Contains(r.out, "locked") {
		t.Errorf("a run over a locked file: %d %s", r.code, r.out)
	}
	h.end(syscall.SIGKILL)
	h.serve()
	owner.want(http.StatusLocked, http.MethodPut, "/desk/plan.txt", "without the token")
	owner.want(http.StatusOK, "LOCK", "/desk/plan.txt", "", "If", "("+token+")", "Timeout", "Second-600")
	writer.want(http.StatusForbidden, "UNLOCK", "/desk/plan.txt", "", "Lock-Token", token)
	owner.want(http.StatusNoContent, "UNLOCK", "/desk/plan.txt", "", "Lock-Token", token)
	writer.want(http.StatusNoContent, http.MethodPut, "/desk/plan.txt", "mine now")
	if shown := h.must("lock", "list"); strings.Contains(shown, "/desk/plan.txt") {
		t.Errorf("the lock of the service stayed: %s", shown)
	}

	h.must("lock", "/desk/held.txt", "--for", "2h", "--reason", "figures")
	writer.want(http.StatusLocked, http.MethodPut, "/desk/held.txt", "x")
	writer.want(http.StatusLocked, "LOCK", "/desk/held.txt", lockBody)
	shown := writer.want(http.StatusMultiStatus, "PROPFIND", "/desk/held.txt", "", "Depth", "0")
	if !strings.Contains(shown.body, "activelock") {
		t.Errorf("a client is not told of the service's lock: %s", shown.body)
	}
	mine := owner.want(http.StatusOK, "LOCK", "/desk/held.txt", lockBody, "Timeout", "Second-60")
	owner.want(http.StatusNoContent, "UNLOCK", "/desk/held.txt", "", "Lock-Token", mine.header.Get("Lock-Token"))
	if shown := h.must("lock", "list"); !strings.Contains(shown, "/desk/held.txt") {
		t.Errorf("a lock that a person made ended with one of a desktop: %s", shown)
	}

	owner.want(http.StatusCreated, "MKCOL", "/desk/Folder", "")
	deep := owner.want(http.StatusOK, "LOCK", "/desk/Folder", lockBody, "Depth", "infinity").header.Get("Lock-Token")
	writer.want(http.StatusLocked, http.MethodPut, "/desk/Folder/new.txt", "x")
	owner.want(http.StatusCreated, http.MethodPut, "/desk/Folder/new.txt", "x", "If", "("+deep+")")
	owner.want(http.StatusLocked, http.MethodDelete, "/desk/Folder", "")
	owner.want(http.StatusNoContent, http.MethodDelete, "/desk/Folder", "", "If", "</dav/desk/Folder> ("+deep+")")
}

// TestGatewayDocuments shows documents of a drive as their exports, entries of one name under names
// of their own, what an account was, and how full it is.
func TestGatewayDocuments(t *testing.T) {
	t.Parallel()
	h := start(t)
	c := clouds(t)
	h.linkDrives(c)
	desk, archive := t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	d := h.drive(h.token())
	d.want(http.StatusCreated, http.MethodPut, "/field-drive/one.txt", "a file")
	writeFile(t, "first", desk, "papers", "note.txt")
	h.must("job", "create", "kept", "--type", "mirror", "--from", "/desk/papers", "--to", "/archive/papers")
	h.must("job", "start", "kept")
	writeFile(t, "second", desk, "papers", "note.txt")
	h.must("job", "start", "kept")
	d.want(http.StatusOK, http.MethodGet, "/archive/papers/note.txt", "")
	moments := d.listed("/.history/archive/")
	if len(moments) < 2 {
		t.Fatalf("the account's history is %v", moments)
	}
	then := moments[1] // the newest
	if answer := d.want(http.StatusOK, http.MethodGet, then+"papers/note.txt", ""); answer.body != "first" {
		t.Errorf("before the last run the file held %q", answer.body)
	}
	d.want(http.StatusForbidden, http.MethodPut, then+"papers/note.txt", "x")
	d.want(http.StatusForbidden, http.MethodDelete, then+"papers/", "")
	d.want(http.StatusForbidden, "MOVE", then+"papers/note.txt", "", "Destination", "/dav/desk/x.txt")
	quota := d.want(http.StatusMultiStatus, "PROPFIND", "/desk/", `<propfind xmlns="DAV:"><prop><quota-available-bytes/><quota-used-bytes/>`+
		`</prop></propfind>`, "Depth", "0")
	if !regexp.MustCompile(`quota-available-bytes>\d+<`).MatchString(quota.body) {
		t.Errorf("no quota: %s", quota.body)
	}
}

// fileNames are all names below a folder.
func fileNames(t *testing.T, folder string) []string {
	t.Helper()
	out, err := exec.Command("find", folder, "-printf", "%P\\n").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(string(bytes.TrimSpace(out)), "\n")
}

// TestConsoleDrive says in the settings where the drive is.
func TestConsoleDrive(t *testing.T) {
	t.Parallel()
	h := start(t)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Overview")
	b.open("http://" + h.listen + "/settings/drive")
	b.shows("http://" + h.listen + "/dav/")
	b.shows("only programs on its own machine")
	b.look("drive")
	b.accessible("the network drive")
	b.click("Create a token")
	b.shows("No program has a token yet.")
	b.open("http://" + h.listen + "/settings/health")
	b.shows("are whole")
	b.look("health")
	b.accessible("the health of the service")
}

// TestGatewayClients replays what the clients of desktops send, request by request.
func TestGatewayClients(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/clients/[a-z]*")
	if err != nil || len(files) < 4 {
		t.Fatal(files, err)
	}
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			lock := ""
			for _, request := range regexp.MustCompile(`(?m)^[A-Z].*\n(\t.*\n)*`).FindAllString(string(text), -1) {
				request = strings.NewReplacer("$LOCK", lock, "$HOST", h.listen).Replace(request)
				first, rest, _ := strings.Cut(request, "\n")
				var method, at, body string
				var status int
				if _, err := fmt.Sscan(first, &method, &at, &status); err != nil {
					t.Fatalf("%s: %v", first, err)
				}
				var header []string
				for line := range strings.Lines(rest) {
					line = strings.Trim(line, "\t\n")
					if content, ok := strings.CutPrefix(line, "= "); ok {
						body = content
					} else if name, value, ok := strings.Cut(line, ": "); ok {
						header = append(header, name, value)
					}
				}
				d := &drive{t, h, h.token()}
				answer := d.want(status, method, at, body, header...)
				if token := answer.header.Get("Lock-Token"); method == "LOCK" && token != "" {
					lock = token
				}
			}
		})
	}
}
