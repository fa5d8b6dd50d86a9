package gateway

import (
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"deftheron/core/store"
)

func TestPaths(t *testing.T) {
	for _, c := range []struct {
		path, address string
		level         level
		href          string // of a file there
	}{
		{"/dav", "/", levelTree, "/dav"},
		{"/dav/", "/", levelTree, "/dav"},
		{"/dav/desk/", "/desk", levelTree, "/dav/desk"},
		{"/dav/desk/a%20b/%C3%A9.txt", "/desk/a b/é.txt", levelTree, "/dav/desk/a%20b/%C3%A9.txt"},
		{"/dav/desk/x%252Fy", "/desk/x%2Fy", levelTree, "/dav/desk/x%252Fy"},
		{"/dav/desk/%2e%2e/x", "/desk/../x", levelTree, "/dav/desk/%2E%2E/x"},
		{"/dav/.history/", "/", levelHistory, "/dav/.history"},
		{"/dav/.history/desk/", "/desk", levelHistoryAccount, "/dav/.history/desk"},
		{"/dav/.history/desk/2026-11-27T220000.000Z/a/b", "/desk/a/b", levelHistoryAtMoment, "/dav/.history/desk/2026-11-27T220000.000Z/a/b"},
	} {
		at, err := parsePath(c.path)
		if err != nil || at.address.String() != c.address || at.level != c.level {
			t.Errorf("%s: %v at level %d, %v; want %s at level %d", c.path, at.address, at.level, err, c.address, c.level)
			continue
		}
		if got := at.href(at.address, store.KindFile); got != c.href {
			t.Errorf("%s: the path of %s is %s, want %s", c.path, c.address, got, c.href)
		}
	}
	for path, status := range map[string]int{
		"/davother": http.StatusNotFound, "/dav/desk/a%2Fb": http.StatusBadRequest, "/dav/desk/a%00b": http.StatusBadRequest,
		"/dav/Not An Account/x": http.StatusNotFound, "/dav/desk/%25id=5": http.StatusNotFound,
		"/dav/.history/desk/yesterday": http.StatusNotFound,
	} {
		if _, err := parsePath(path); err == nil || statusOf(err) != status {
			t.Errorf("%s: %v, want %d", path, err, status)
		}
	}
}

func atHost(host string) bool { return host == "" || host == "host" }

// TestDestination takes addresses of this service alone, by each of its names.
func TestDestination(t *testing.T) {
	g := &Gateway{PublicHost: "heron.example.org"}
	for text, status := range map[string]int{
		"/dav/desk/a": 0, "http://host:8420/dav/desk/a": 0, "https://heron.example.org/dav/desk/a": 0,
		"": http.StatusBadRequest, "http://elsewhere.example/dav/desk/a": http.StatusBadGateway, "/api/v1/accounts": http.StatusBadGateway,
		"http://host:8420/dav/../desk": http.StatusBadGateway,
	} {
		request := httptest.NewRequest("MOVE", "http://host:8420/dav/desk/b", nil)
		request.Header.Set("Destination", text)
		at, err := g.destination(request)
		if (err == nil) != (status == 0) || err != nil && statusOf(err) != status || err == nil && at.address.String() != "/desk/a" {
			t.Errorf("%q: %v, %v", text, at.address, err)
		}
	}
}

func TestParseIf(t *testing.T) {
	token, tag := func(s string) condition { return condition{token: s} }, func(s string) condition { return condition{tag: s} }
	not := func(c condition) condition { c.not = true; return c }
	for _, c := range []struct {
		header string
		want   conditions
	}{
		{"", nil},
		{`(<urn:a>)`, conditions{{all: []condition{token("urn:a")}}}},
		{`(<urn:a> ["x"]) (Not <DAV:no-lock>)`, conditions{{all: []condition{token("urn:a"), tag(`"x"`)}},
			{all: []condition{not(token("DAV:no-lock"))}}}},
		{`<http://host/dav/desk/a> (<urn:a>) (["y"]) <http://elsewhere/dav/desk/b> (not ["z"])`, conditions{
			{true, "/dav/desk/a", []condition{token("urn:a")}}, {true, "/dav/desk/a", []condition{tag(`"y"`)}},
			{true, "", []condition{not(tag(`"z"`))}}}},
	} {
		got, err := parseIf(c.header, atHost)
		if err != nil || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, %v; want %+v", c.header, got, err, c.want)
		}
	}
	for _, wrong := range []string{"()", "(<a", "<a>", "(Not)", "<a> (<b>) x", "(<a>) <b> (<c>)", "([])", strings.Repeat("(<a>)", 101)} {
		if _, err := parseIf(wrong, atHost); statusOf(err) != http.StatusBadRequest {
			t.Errorf("%s: %v, want it refused", wrong, err)
		}
	}
}

func FuzzParseIf(f *testing.F) {
	f.Add(`<http://host/dav/desk/a> (<urn:a>) (Not ["y"])`)
	f.Fuzz(func(t *testing.T, header string) {
		all, err := parseIf(header, atHost)
		if err != nil && statusOf(err) != http.StatusBadRequest {
			t.Errorf("%v", err)
		}
		for _, list := range all {
			if len(list.all) == 0 {
				t.Error("a list of no conditions would hold")
			}
		}
	})
}

func TestTimeout(t *testing.T) {
	for header, want := range map[string]time.Duration{
		"": longestLock, "Infinite": longestLock, "Second-60": time.Minute, "Infinite, Second-30": 30 * time.Second,
		"Second-999999": longestLock, "Second-0": longestLock, "Second--1": longestLock,
	} {
		if got := timeout(header); got != want {
			t.Errorf("%q: %s, want %s", header, got, want)
		}
	}
}

// TestReadXML reads bodies, and writes properties so that they can be read back anywhere.
func TestReadXML(t *testing.T) {
	read := func(text string) (*element, error) {
		return readXML(httptest.NewRecorder(), httptest.NewRequest("PROPFIND", "/dav/", strings.NewReader(text)))
	}
	root, err := read(`<?xml version="1.0"?><D:propertyupdate xmlns:D="DAV:" xmlns:z="urn:z"><D:set xml:lang="en"><D:prop>` +
		`<z:a b="1" z:c="2">x &lt; y<e xmlns=""/></z:a></D:prop></D:set></D:propertyupdate>`)
	if err != nil {
		t.Fatal(err)
	}
	got := root.child("set").child("prop").children[0].property()
	if want := `<a xmlns="urn:z" xml:lang="en">x &lt; y<e xmlns=""></e></a>`; got != want {
		t.Errorf("the property is %s, want %s", got, want)
	}
	for _, wrong := range []string{"x", "<a>", "<a></b>", "<a/><b/>", `<!DOCTYPE a><a/>`, `<a xmlns:p=""/>`, strings.Repeat("<a>", 50)} {
		if _, err := read(wrong); statusOf(err) != http.StatusBadRequest {
			t.Errorf("%s: %v, want it refused", wrong, err)
		}
	}
	if root, err := read(""); root != nil || err != nil {
		t.Errorf("an empty body: %v, %v", root, err)
	}
}
