package webdav_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	xnet "golang.org/x/net/webdav"

	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/servertest"
	"deftheron/standin"
)

// multistatus answers a PROPFIND with the responses given.
func multistatus(w http.ResponseWriter, responses ...string) {
	w.Header().Set("Content-Type", `application/xml; charset="utf-8"`)
	w.WriteHeader(http.StatusMultiStatus)
	io.WriteString(w, `<?xml version="1.0"?><d:multistatus xmlns:d="DAV:">`+strings.Join(responses, "\n")+`</d:multistatus>`)
}

func collection(href string) string {
	return `<d:response><d:href>` + href + `</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>`
}

func file(href, tag string, size int) string {
	return fmt.Sprintf(`<d:response><d:href>%s</d:href><d:propstat><d:prop><d:resourcetype/><d:getcontentlength>%d</d:getcontentlength>`+
		`<d:getlastmodified>Mon, 02 Mar 2026 08:00:00 GMT</d:getlastmodified><d:getetag>%s</d:getetag></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat>`+
		`<d:propstat><d:prop><d:quota-used-bytes/></d:prop><d:status>HTTP/1.1 404 Not Found</d:status></d:propstat></d:response>`, href,
		size, tag)
}

// odd is a server that answers depth 0 as a collection, and all else as told.
func odd(t *testing.T, answer http.HandlerFunc) (store.Store, *httptest.Server) {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "PROPFIND" && r.Header.Get("Depth") == "0" && r.URL.Path == "/dav/" {
			multistatus(w, collection("/dav/"))
			return
		}
		answer(w, r)
	}))
	t.Cleanup(server.Close)
	return open(t, map[string]string{"url": server.URL + "/dav"}, ""), server
}

func names(t *testing.T, s store.Store) (found []string, err error) {
	t.Helper()
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			return found, err
		}
		found = append(found, entry.Name)
	}
	slices.Sort(found)
	return found, nil
}

// TestHrefs lists names in whichever form servers write them, and refuses those
// that lead elsewhere.
func TestHrefs(t *testing.T) {
	var server *httptest.Server
	for _, c := range []struct {
		name  string
		hrefs []string
		want  string // names, or what the error says
	}{
		{"paths", []string{"/dav/", "/dav/a.txt"}, "[a.txt]"},
		{"URLs", []string{"SERVER/dav/", "SERVER/dav/a%20b.txt"}, "[a b.txt]"},
		{"the host in capitals", []string{"/dav/", "CAPITALS/dav/a.txt"}, "[a.txt]"},
		{"relative", []string{"./", "a.txt", "./b.txt"}, "[a.txt b.txt]"},
		{"the folder without its slash", []string{"/dav", "/dav/a.txt"}, "[a.txt]"},
		{"escaped more than needed", []string{"/d%61v/", "/d%61v/%61%2e%74xt"}, "[a.txt]"},
		{"escaped less than needed", []string{"/dav/", "/dav/é ü.txt"}, "[é ü.txt]"},
		{"a percent that is none", []string{"/dav/", "/dav/100%25.txt"}, "[100%.txt]"},
		{"an escaped slash in a name", []string{"/dav/", "/dav/a%2Fb.txt"}, "[a/b.txt]"},
		{"with spaces around", []string{"\n  /dav/ ", "\n  /dav/a.txt\n"}, "[a.txt]"},
		{"a foreign host", []string{"/dav/", "http://elsewhere.example/dav/a.txt"}, "at another server"},
		{"another scheme", []string{"/dav/", "https://" + "HOST/dav/a.txt"}, "at another server"},
		{"another folder", []string{"/dav/", "/other/a.txt"}, "not in the folder"},
		{"a folder's neighbour", []string{"/dav/", "/davit.txt"}, "not in the folder"},
		{"deeper than asked", []string{"/dav/", "/dav/a/b.txt"}, "not in the folder"},
		{"a step up", []string{"/dav/", "/dav/%2e%2e"}, "a step and no name"},
		{"escaped wrongly", []string{"/dav/", "/dav/%zz"}, "is not an address"},
		{"without the folder itself", []string{"/dav/a.txt"}, "without the folder itself"},
	} {
		s, got := odd(t, func(w http.ResponseWriter, r *http.Request) {
			var responses []string
			for i, href := range c.hrefs {
				href = strings.NewReplacer("SERVER", server.URL, "CAPITALS", strings.Replace(server.URL, "http://", "HTTP://", 1), "HOST",
					strings.TrimPrefix(server.URL, "http://")).Replace(href)
				if i == 0 && len(c.hrefs) > 1 {
					responses = append(responses, collection(href))
				} else {
					responses = append(responses, file(href, `"1"`, 1))
				}
			}
			multistatus(w, responses...)
		})
		server = got
		found, err := names(t, s)
		if err != nil {
			if !strings.Contains(err.Error(), c.want) || errors.Is(err, store.ErrNotFound) {
				t.Errorf("%s: %v; want it to say %q", c.name, err, c.want)
			}
		} else if fmt.Sprint(found) != c.want {
			t.Errorf("%s: listed %q, want %s", c.name, found, c.want)
		}
	}
}

// TestListingsThatBreakOff must never be taken for the whole.
func TestListingsThatBreakOff(t *testing.T) {
	for _, c := range []struct {
		name, body string
		kind       error
	}{
		{"in the middle", `<d:multistatus xmlns:d="DAV:">` + collection("/dav/") + file("/dav/a.txt", `"1"`, 1) + `<d:respon`, store.ErrTryAgain},
		{"before its end", `<d:multistatus xmlns:d="DAV:">` + collection("/dav/"), store.ErrTryAgain},
		{"empty", "", store.ErrTryAgain},
		{"no XML", "It works!", store.ErrTryAgain},
		{"the folder itself is gone", `<d:multistatus xmlns:d="DAV:"><d:response><d:href>/dav/</d:href><d:status>HTTP/1.1 404 Not Found</d:status></d:response></d:multistatus>`, store.ErrNotFound},
	} {
		s, _ := odd(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/xml")
			w.WriteHeader(http.StatusMultiStatus)
			io.WriteString(w, c.body)
		})
		if found, err := names(t, s); !errors.Is(err, c.kind) {
			t.Errorf("%s: listed %q, %v; want an error that is %q", c.name, found, err, c.kind)
		}
	}
}

// TestPassingFaults are asked for again, and a wait that the server names is kept.
func TestPassingFaults(t *testing.T) {
	for _, status := range []int{500, 502, 429, 503} {
		var asked atomic.Int32
		s, _ := odd(t, func(w http.ResponseWriter, r *http.Request) {
			if asked.Add(1) == 1 {
				w.Header().Set("Retry-After", "0")
				w.WriteHeader(status)
				return
			}
			multistatus(w, collection("/dav/"), file("/dav/a.txt", `"1"`, 1))
		})
		if found, err := names(t, s); err != nil || fmt.Sprint(found) != "[a.txt]" || asked.Load() != 2 {
			t.Errorf("%d: listed %q after %d requests, %v", status, found, asked.Load(), err)
		}
	}
}

// TestRedirects are followed within the server alone.
func TestRedirects(t *testing.T) {
	var target string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/old/":
			http.Redirect(w, r, target, http.StatusMovedPermanently)
		case r.Method != "PROPFIND":
			w.WriteHeader(http.StatusMethodNotAllowed)
		case r.Header.Get("Depth") == "0":
			multistatus(w, collection("/new/"))
		default:
			multistatus(w, collection("/new/"), file("/new/a.txt", `"1"`, 1))
		}
	}))
	defer server.Close()
	target = "/new/"
	s := open(t, map[string]string{"url": server.URL + "/old"}, "")
	if found, err := names(t, s); err != nil || fmt.Sprint(found) != "[a.txt]" {
		t.Errorf("after a redirect: listed %q, %v", found, err)
	}
	target = "https://elsewhere.example/new/"
	if _, err := openErr(t.Context(), map[string]string{"url": server.URL + "/old"}, ""); err == nil ||
		!strings.Contains(err.Error(), "elsewhere.example, where the sign-in is not sent") {
		t.Errorf("a redirect to another server: %v", err)
	}
	target = "/old/"
	if _, err := openErr(t.Context(), map[string]string{"url": server.URL + "/old"}, ""); err == nil ||
		!strings.Contains(err.Error(), "without an end") {
		t.Errorf("a redirect to itself: %v", err)
	}
}

// TestReadingOddServers reads from those without ranges, entity tags, or lengths
// that hold.
func TestReadingOddServers(t *testing.T) {
	const text = "0123456789"
	for _, c := range []struct {
		name   string
		answer http.HandlerFunc
		offset int64
		length int64
		want   string
		kind   error
	}{
		{"no ranges", func(w http.ResponseWriter, r *http.Request) { w.Header().Set("ETag", `"1"`); io.WriteString(w, text) }, 2, 3, "234", nil},
		{"no ranges, to the end", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", `"1"`)
			io.WriteString(w, text)
		}, 7, 0, "789", nil},
		{"a weak tag", func(w http.ResponseWriter, r *http.Request) { w.Header().Set("ETag", `W/"1"`); io.WriteString(w, text) }, 0, 0, text,
			nil},
		{"another tag", func(w http.ResponseWriter, r *http.Request) { w.Header().Set("ETag", `"2"`); io.WriteString(w, text) }, 0, 0, "",
			store.ErrChanged},
		{"another range", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", `"1"`)
			w.Header().Set("Content-Range", "bytes 0-2/10")
			w.WriteHeader(http.StatusPartialContent)
			io.WriteString(w, text[:3])
		}, 2, 3, "", store.ErrRefused},
		{"shorter than promised", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", `"1"`)
			w.Header().Set("Content-Length", "20")
			io.WriteString(w, text)
		}, 0, 0, "", store.ErrTryAgain},
	} {
		s, _ := odd(t, c.answer)
		body, err := s.Open(t.Context(), store.Reading{Place: store.At("a.txt"), Revision: "1", Offset: c.offset, Length: c.length})
		var data []byte
		if err == nil {
			data, err = io.ReadAll(body)
			body.Close()
		}
		if c.kind != nil && !errors.Is(err, c.kind) || c.kind == nil && (err != nil || string(data) != c.want) {
			t.Errorf("%s: read %q, %v; want %q, %v", c.name, data, err, c.want, c.kind)
		}
	}
}

// TestWithoutEntityTags takes size and time for the revision.
func TestWithoutEntityTags(t *testing.T) {
	size := 3
	s, _ := odd(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			w.Header().Set("Last-Modified", "Mon, 02 Mar 2026 08:00:00 GMT")
			io.WriteString(w, "abcdef"[:size])
			return
		}
		multistatus(w, file("/dav/a.txt", "", size))
	})
	entry, err := s.Stat(t.Context(), store.At("a.txt"))
	if err != nil || entry.Revision == "" {
		t.Fatalf("%+v, %v", entry, err)
	}
	if sum, _, err := store.ReadBack(t.Context(), s, store.At("a.txt"), entry.Revision, store.MD5); err != nil || sum.IsZero() {
		t.Errorf("reading the revision that is there: %v", err)
	}
	size = 4
	if _, err := s.Open(t.Context(), store.Reading{Place: store.At("a.txt"), Revision: entry.Revision}); !errors.Is(err, store.ErrChanged) {
		t.Errorf("reading a revision that is gone: %v", err)
	}
}

// TestChanges speaks RFC 6578, which neither of the servers for tests does.
func TestChanges(t *testing.T) {
	s, _ := odd(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		asked := string(body)
		gone := `<d:response><d:href>/dav/sub/gone.txt</d:href><d:status>HTTP/1.1 404 Not Found</d:status></d:response>`
		switch {
		case r.Method == "PROPFIND":
			multistatus(w, `<d:response><d:href>/dav/sub/</d:href><d:propstat><d:prop><d:sync-token>urn:1&amp;0</d:sync-token></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>`)
		case strings.Contains(asked, "<D:sync-token>urn:1&amp;0</D:sync-token>"):
			multistatus(w, file("/dav/sub/deep/new.txt", `"n"`, 5), gone,
				`<d:response><d:href>/dav/sub/</d:href><d:status>HTTP/1.1 507 Insufficient Storage</d:status></d:response>`,
				`<d:sync-token>urn:2</d:sync-token>`)
		case strings.Contains(asked, "urn:2"):
			multistatus(w, `<d:sync-token>urn:3</d:sync-token>`)
		default:
			w.WriteHeader(http.StatusForbidden)
		}
	})
	folder := store.Folder{Path: "sub/"}
	page, err := store.Changes(t.Context(), s, folder, "")
	if err != nil || page.Cursor != "urn:1&0" || len(page.Changes) != 0 {
		t.Fatalf("from now on: %+v, %v", page, err)
	}
	page, err = store.Changes(t.Context(), s, folder, page.Cursor)
	if err != nil || page.Cursor != "urn:2" || !page.More || len(page.Changes) != 2 {
		t.Fatalf("the first page: %+v, %v", page, err)
	}
	added, removed := page.Changes[0], page.Changes[1]
	if added.Place.String() != "/sub/deep/new.txt" || added.Entry.Size != 5 || added.Gone || !removed.Gone ||
		removed.Place.String() != "/sub/gone.txt" {
		t.Errorf("changes: %+v", page.Changes)
	}
	if page, err = store.Changes(t.Context(), s, folder, page.Cursor); err != nil || page.More || len(page.Changes) != 0 {
		t.Errorf("the last page: %+v, %v", page, err)
	}
	if _, err := store.Changes(t.Context(), s, folder, "urn:forgotten"); !errors.Is(err, store.ErrChanged) {
		t.Errorf("a token that the server no longer knows: %v", err)
	}
	if _, err := store.Changes(t.Context(), standIn(t), store.Folder{}, ""); !errors.Is(err, store.ErrUnsupported) {
		t.Errorf("a server without such a report: %v", err)
	}
}

// TestSpace is of RFC 4331.
func TestSpace(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		multistatus(w, `<d:response><d:href>/</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype><d:quota-used-bytes>700</d:quota-used-bytes>
			<d:quota-available-bytes>300</d:quota-available-bytes></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>`)
	}))
	defer server.Close()
	space, err := store.SpaceOf(t.Context(), open(t, map[string]string{"url": server.URL}, ""))
	if err != nil || space != (store.Space{Used: 700, Free: 300, Total: 1000}) {
		t.Errorf("%+v, %v", space, err)
	}
	if space, err := store.SpaceOf(t.Context(), standIn(t)); err != nil || space != store.UnknownSpace {
		t.Errorf("of a server that does not tell: %+v, %v", space, err)
	}
}

// TestFindings are what is found out of the two servers before the first write.
func TestFindings(t *testing.T) {
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, path := apache.Folder(t)
	for _, c := range []struct {
		name  string
		store store.Store
		says  string
	}{
		{"Apache", open(t, map[string]string{"url": url, "user": apache.User}, apache.Password), "when a request starts"},
		{"x/net/webdav", standIn(t), "while it is still being sent"},
	} {
		if err := store.Prepare(t.Context(), c.store); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		traits := c.store.Traits()
		if traits.Conditional || !traits.Whole || !strings.Contains(strings.Join(traits.Windows, " "), c.says) {
			t.Errorf("%s: %+v; want the window %q", c.name, traits, c.says)
		}
		if found, err := names(t, c.store); err != nil || len(found) != 0 {
			t.Errorf("%s: looking left %q, %v", c.name, found, err)
		}
	}
	if left, _ := os.ReadDir(path); len(left) != 0 {
		t.Errorf("on Apache's disk %v is left", left)
	}
}

// TestLock holds a lock at Apache, which tells by whom.
func TestLock(t *testing.T) {
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, _ := apache.Folder(t)
	s := open(t, map[string]string{"url": url, "user": apache.User}, apache.Password)
	first, err := s.Write(t.Context(), store.Writing{Place: store.At("a b.txt"), Size: 5, Content: storetest.Text("first")})
	if err != nil {
		t.Fatal(err)
	}
	body := `<D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner>the office, second desk</D:owner></D:lockinfo>`
	request, _ := http.NewRequestWithContext(t.Context(), "LOCK", url+"a%20b.txt", strings.NewReader(body))
	request.SetBasicAuth(apache.User, apache.Password)
	answer, err := http.DefaultClient.Do(request)
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Fatalf("%v, %v", answer, err)
	}
	answer.Body.Close()
	_, written := s.Write(t.Context(), store.Writing{Place: store.At("a b.txt"), Size: 6, If: store.AtRevision(first.Revision),
		Content: storetest.Text("second")})
	_, removed := s.Remove(t.Context(), store.At("a b.txt"), "")
	_, moved := store.Move(t.Context(), s, store.At("a b.txt"), "", store.At("other.txt"))
	for what, err := range map[string]error{"writing": written, "removing": removed, "moving": moved} {
		if !errors.Is(err, store.ErrLocked) || !strings.Contains(err.Error(), "the office, second desk") {
			t.Errorf("%s what is locked: %v; want it to name who locked it", what, err)
		}
	}
	if sum, _, err := store.ReadBack(t.Context(), s, store.At("a b.txt"), first.Revision, store.MD5); err != nil || sum.IsZero() {
		t.Errorf("reading what is locked: %v", err)
	}
}

// TestHeldLock locks at servers: others are refused there, whoever shows the lock is not,
// and a lock that is renewed or has ended is found to be so.
func TestHeldLock(t *testing.T) {
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	apacheURL, _ := apache.Folder(t)
	other := httptest.NewServer(&xnet.Handler{FileSystem: xnet.Dir(t.TempDir()), LockSystem: xnet.NewMemLS()})
	t.Cleanup(other.Close)
	for name, s := range map[string]store.Store{
		"Apache": open(t, map[string]string{"url": apacheURL, "user": apache.User}, apache.Password),
		"x/net":  open(t, map[string]string{"url": other.URL + "/"}, ""),
	} {
		t.Run(name, func(t *testing.T) { heldLock(t, s) })
	}
	beneath := standin.WebDAV(t.TempDir(), "", "")
	lockless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "LOCK" {
			http.Error(w, "no locks here", http.StatusMethodNotAllowed)
			return
		}
		beneath.ServeHTTP(w, r)
	}))
	t.Cleanup(lockless.Close)
	without := open(t, map[string]string{"url": lockless.URL}, "")
	if _, err := without.Capabilities().Locker.LockEntry(t.Context(), store.At("x").As(store.KindFile), "office", time.Hour,
		""); !errors.Is(err, store.ErrUnsupported) {
		t.Errorf("a server without locks: %v", err)
	}
}

func heldLock(t *testing.T, s store.Store) {
	ctx := t.Context()
	if _, err := s.MakeFolder(ctx, store.At("in")); err != nil {
		t.Fatal(err)
	}
	file, folder := store.At("in", "a b.txt").As(store.KindFile), store.At("in").As(store.KindFolder)
	write := func(ctx context.Context, text string) error {
		_, err := s.Write(ctx, store.Writing{Place: file, Size: int64(len(text)), If: store.Any, Content: storetest.Text(text)})
		return err
	}
	if err := write(ctx, "first"); err != nil {
		t.Fatal(err)
	}
	locker := s.Capabilities().Locker
	for _, locked := range []store.Ref{file, folder} {
		held, err := locker.LockEntry(ctx, locked, "the <office> & desk", time.Hour, "")
		if err != nil || held.Token == "" || time.Until(held.Until) < time.Minute {
			t.Fatalf("%s: %+v, %v", locked, held, err)
		}
		if _, err := locker.LockEntry(ctx, locked, "another", time.Hour, ""); !errors.Is(err, store.ErrLocked) {
			t.Errorf("%s is locked twice: %v", locked, err)
		}
		if err := write(ctx, "of another"); !errors.Is(err, store.ErrLocked) {
			t.Errorf("%s: another writes: %v", locked, err)
		}
		mine := store.WithLock(ctx, store.ShownLock{Ref: locked, Token: held.Token})
		for range 2 { // the first may end the lock of a file, which it replaces
			if err := write(mine, "mine"); err != nil {
				t.Errorf("%s: its holder writes: %v", locked, err)
			}
		}
		renewed, err := locker.LockEntry(ctx, locked, "the office", time.Hour, held.Token)
		if err != nil || renewed.Token == "" {
			t.Fatalf("%s renewed: %+v, %v", locked, renewed, err)
		}
		if err := write(ctx, "of another"); !errors.Is(err, store.ErrLocked) {
			t.Errorf("%s: another writes after it was renewed: %v", locked, err)
		}
		for range 2 {
			if err := locker.UnlockEntry(ctx, locked, renewed.Token); err != nil {
				t.Errorf("%s unlocked: %v", locked, err)
			}
		}
		if err := write(ctx, "free"); err != nil {
			t.Errorf("%s: after it was unlocked: %v", locked, err)
		}
	}
}

// TestInterruptedReplacement finds the old content put aside by a process that
// died between two requests, and puts it back.
func TestInterruptedReplacement(t *testing.T) {
	folder := t.TempDir()
	server := httptest.NewServer(standin.WebDAV(folder, "", ""))
	defer server.Close()
	s := open(t, map[string]string{"url": server.URL}, "")
	for name, content := range map[string]string{
		".heron-arriving-run1-aside-report.txt": "old", ".heron-arriving-run1-aaaaaaaaaaaa": "half of the n",
		"below/.heron-arriving-run1-cccccccccccc": "half",
		".heron-arriving-run1-aside-replaced.txt": "older", "replaced.txt": "new", ".heron-arriving-run2-bbbbbbbbbbbb": "of another run",
	} {
		path := filepath.Join(folder, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		os.WriteFile(path, []byte(content), 0o644)
	}
	cleaned, err := store.Clean(t.Context(), s, store.Cleaning{Run: "run1"})
	if err != nil || len(cleaned) != 3 {
		t.Errorf("cleaned %v, %v; want 3", cleaned, err)
	}
	var left []string
	filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
		if !entry.IsDir() {
			data, _ := os.ReadFile(path)
			left = append(left, entry.Name()+"="+string(data))
		}
		return err
	})
	if fmt.Sprint(left) != "[.heron-arriving-run2-bbbbbbbbbbbb=of another run replaced.txt=new report.txt=old]" {
		t.Errorf("left are %v", left)
	}
}

// TestInterruptedRemoval finds what a removal has put aside that was broken off before it was
// removed: whoever removes it again goes on with it, and else it gets its name back. On
// Samba, too, only folders are removed in two steps.
func TestInterruptedRemoval(t *testing.T) {
	folder := t.TempDir()
	server := httptest.NewServer(standin.WebDAV(folder, "", ""))
	defer server.Close()
	s := open(t, map[string]string{"url": server.URL}, "")
	ctx, long := t.Context(), strings.Repeat("l", 230)
	const aside = ".heron-arriving-removed-aside-"
	for _, name := range []string{"gone on.txt", "back.txt", "taken.txt", "changed.txt"} {
		os.WriteFile(filepath.Join(folder, aside+name), []byte("old"), 0o644)
	}
	os.WriteFile(filepath.Join(folder, "taken.txt"), []byte("new"), 0o644)
	os.MkdirAll(filepath.Join(folder, ".heron-arriving-removed-asides"), 0o755)
	os.WriteFile(filepath.Join(folder, ".heron-arriving-removed-asides", long), []byte("old"), 0o644)
	for _, name := range []string{"empty", "full"} {
		os.MkdirAll(filepath.Join(folder, aside+name), 0o755)
	}
	os.WriteFile(filepath.Join(folder, aside+"full", "in.txt"), []byte("old"), 0o644)
	for _, name := range []string{aside + "again", "again"} { // made again after its removal was broken off
		os.MkdirAll(filepath.Join(folder, name), 0o755)
	}
	if _, err := s.RemoveFolder(ctx, store.At("again").As(store.KindFolder)); err != nil {
		t.Errorf("a folder that was made again: %v", err)
	}
	if _, err := os.Stat(filepath.Join(folder, aside+"again")); !os.IsNotExist(err) {
		t.Errorf("what its first removal left is there: %v", err)
	}

	there, err := s.Stat(ctx, store.At(aside+"gone on.txt"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Remove(ctx, store.At("gone on.txt"), there.Revision); err != nil {
		t.Errorf("it is not gone on with: %v", err)
	}
	if _, err := s.Remove(ctx, store.At("changed.txt"), "another"); !errors.Is(err, store.ErrChanged) {
		t.Errorf("what changed is removed: %v", err)
	}
	if _, err := s.Remove(ctx, store.At("none.txt"), ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("what was never there: %v", err)
	}
	if _, err := s.RemoveFolder(ctx, store.At("empty").As(store.KindFolder)); err != nil {
		t.Errorf("a folder is not gone on with: %v", err)
	}
	if _, err := s.RemoveFolder(ctx, store.At("full").As(store.KindFolder)); !errors.Is(err, store.ErrRefused) {
		t.Errorf("a folder that holds something is removed: %v", err)
	}
	if _, err := store.Clean(ctx, s, store.Cleaning{Run: "run1"}); err != nil {
		t.Fatal(err)
	}
	var left []string
	filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
		name, _ := filepath.Rel(folder, path)
		data, _ := os.ReadFile(path)
		left = append(left, strings.ReplaceAll(name, long, "long")+"="+string(data))
		return err
	})
	if want := "[.= back.txt=old changed.txt=old full= full/in.txt=old long=old taken.txt=new]"; fmt.Sprint(left) != want {
		t.Errorf("left are %v, want %s", left, want)
	}
}

// TestOpenExplains says what is wrong and what to do.
func TestOpenExplains(t *testing.T) {
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	digest := servertest.StartApache(t, servertest.ApacheOptions{Digest: true})
	unknown := servertest.StartApache(t, servertest.ApacheOptions{NotAfter: time.Now().Add(48 * time.Hour)})
	expired := servertest.StartApache(t, servertest.ApacheOptions{NotAfter: time.Now().Add(-time.Hour)})
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "<html>It works!</html>") }))
	defer plain.Close()
	refusing := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		w.WriteHeader(http.StatusMethodNotAllowed)
	}))
	defer refusing.Close()
	for _, c := range []struct {
		name     string
		options  map[string]string
		password string
		want     string
	}{
		{"not a URL", map[string]string{"url": "files.example.org"}, "", "is not a URL"},
		{"a secret in the URL", map[string]string{"url": "http://me:pw@127.0.0.1/"}, "", "apart from it"},
		{"a query", map[string]string{"url": "http://127.0.0.1/?a=b"}, "", "alone"},
		{"no such port", map[string]string{"url": "http://127.0.0.1:1/"}, "", "check the host and port"},
		{"no such host", map[string]string{"url": "http://nowhere.invalid/"}, "", "is not known"},
		{"TLS where there is none", map[string]string{"url": strings.Replace(apache.URL, "http", "https", 1)}, "", "speaks no TLS"},
		{"no WebDAV server", map[string]string{"url": plain.URL}, "", "not as a WebDAV server"},
		{"no WebDAV at all", map[string]string{"url": refusing.URL}, "", "not as a WebDAV server"},
		{"nobody signed in", map[string]string{"url": apache.URL}, "", "asks for a sign-in; give a user"},
		{"wrong password", map[string]string{"url": apache.URL, "user": apache.User}, "wrong", "does not accept the user"},
		{"wrong password, digest", map[string]string{"url": digest.URL, "user": apache.User}, "wrong", "does not accept the user"},
		{"nothing there", map[string]string{"url": apache.URL + "nothing", "user": apache.User}, apache.Password, "nothing for a WebDAV client"},
		{"missing start", map[string]string{"url": apache.URL, "user": apache.User, "start": "nowhere/"}, apache.Password,
			"another starting folder"},
		{"unknown certificate", map[string]string{"url": unknown.URL, "user": apache.User}, apache.Password,
			"no authority that this machine trusts vouches"},
		{"unknown certificate, its sum", map[string]string{"url": unknown.URL, "user": apache.User}, apache.Password,
			"accept the certificate " + unknown.Certificate[:2] + ":" + unknown.Certificate[2:4]},
		{"expired certificate", map[string]string{"url": expired.URL, "user": apache.User}, apache.Password, "expired on"},
		{"another certificate", map[string]string{"url": expired.URL, "user": apache.User, "certificate": unknown.Certificate}, apache.Password,
			"another certificate than the one accepted"},
		{"no SHA-256", map[string]string{"url": unknown.URL, "certificate": "abc"}, "", "is not a SHA-256"},
		{"unknown option", map[string]string{"url": apache.URL, "colour": "blue"}, "", "has no option"},
	} {
		_, err := openErr(t.Context(), c.options, c.password)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: got %v; want it to say %q", c.name, err, c.want)
		}
		if err != nil && strings.Contains(err.Error(), apache.Password) {
			t.Errorf("%s: the error holds the secret", c.name)
		}
	}
	for name, server := range map[string]*servertest.Apache{"unknown": unknown, "expired": expired} {
		options := map[string]string{"url": server.URL, "user": server.User, "certificate": server.Certificate}
		if _, err := openErr(t.Context(), options, server.Password); err != nil {
			t.Errorf("a certificate that is %s and pinned: %v", name, err)
		}
	}
}

// TestSecretStaysHere sends nothing of the sign-in before it is asked for, nor to
// a server that it is redirected to.
func TestSecretStaysHere(t *testing.T) {
	var leaked atomic.Bool
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		leaked.Store(leaked.Load() || r.Header.Get("Authorization") != "")
		multistatus(w, collection("/"))
	}))
	defer other.Close()
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked == 1 && r.Header.Get("Authorization") != "" {
			t.Error("the sign-in was sent before it was asked for")
		}
		if r.Header.Get("Authorization") == "" {
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
	}))
	defer server.Close()
	if _, err := openErr(t.Context(), map[string]string{"url": server.URL, "user": "u"}, "p"); err == nil || leaked.Load() {
		t.Errorf("redirected to another server: %v, the sign-in leaked: %v", err, leaked.Load())
	}
}

// TestContentThatIsReadOnce goes through though the server asks for the sign-in
// again: it is not touched before the server takes it.
func TestContentThatIsReadOnce(t *testing.T) {
	apache := servertest.StartApache(t, servertest.ApacheOptions{Digest: true})
	url, _ := apache.Folder(t)
	s := open(t, map[string]string{"url": url, "user": apache.User}, apache.Password)
	if err := store.Prepare(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	for i, size := range []int{0, 10, 100_000, 1 << 20} {
		<-time.After(1500 * time.Millisecond) // until the nonce is of no use any more
		content := strings.Repeat("x", size)
		put, err := files.Write(t.Context(), s,
			files.Putting{Place: store.At(fmt.Sprint(i)), Size: int64(size), Run: "once", Body: io.NopCloser(strings.NewReader(content))})
		if err != nil || put.Size != int64(size) {
			t.Errorf("%d bytes: %+v, %v", size, put, err)
		}
	}
}

func TestNamesRefused(t *testing.T) {
	s := standIn(t)
	for _, name := range []string{"", ".", "..", "a/b", "bad\xff", "nul\x00", strings.Repeat("x", 256)} {
		_, err := s.Write(t.Context(), store.Writing{Place: store.Folder{}.Ref(name), Size: 1, Content: storetest.Text("x")})
		if !errors.Is(err, store.ErrNameRefused) {
			t.Errorf("%q: %v, want %q", name, err, store.ErrNameRefused)
		}
	}
}

// TestHostThatDoesNotAnswer has something listen that never says a word.
func TestHostThatDoesNotAnswer(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	_, err = openErr(ctx, map[string]string{"url": "http://" + silent.Addr().String()}, "")
	if err == nil || !strings.Contains(err.Error(), "did not answer in time") {
		t.Errorf("%v; want it to say that nothing answers in time", err)
	}
}
