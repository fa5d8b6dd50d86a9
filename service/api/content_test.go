package api

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/tree"
	"deftheron/service/live"
	"deftheron/service/runner"
)

type oneAccount struct{ store store.Store }

func (oneAccount) Names(context.Context) ([]string, error) { return []string{"desk"}, nil }

func (a oneAccount) Open(context.Context, string) (tree.Account, error) {
	return tree.Account{Name: "desk", Store: a.store}, nil
}

// contents serves what a store holds.
func contents(t *testing.T, s store.Store) *httptest.Server {
	t.Helper()
	all := &tree.Tree{Accounts: oneAccount{s}}
	server := &Server{Tree: all, Recent: &tree.Recent{Tree: all}, Log: slog.New(slog.DiscardHandler)}
	server.Runner = runner.New(t.Context(), nil, nil, all, live.NewHub(), server.Log)
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.GET("/content", server.readContent)
	router.HEAD("/content", server.readContent)
	router.GET("/archive", server.readArchive)
	running := httptest.NewServer(router)
	t.Cleanup(running.Close)
	return running
}

func get(t *testing.T, server *httptest.Server, name string, header map[string]string) (*http.Response, string, error) {
	t.Helper()
	request, _ := http.NewRequest(http.MethodGet, server.URL+"/content?"+url.Values{"address": {"/desk/" + name}}.Encode(), nil)
	for name, value := range header {
		request.Header.Set(name, value)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	return response, string(body), err
}

// TestRanges answers as RFC 9110 says, and opens no more than is asked for.
func TestRanges(t *testing.T) {
	m := storetest.NewMemory()
	text := strings.Repeat("0123456789", 1000)
	m.Put(text, "a.txt")
	m.Put("", "empty.txt")
	m.Put("<script>alert(1)</script>", "page.html")
	m.Put("<svg/>", "picture.svg")
	m.Put("x", "program.exe")
	server := contents(t, m)
	whole, body, err := get(t, server, "a.txt", nil)
	tag := whole.Header.Get("ETag")
	if err != nil || whole.StatusCode != 200 || body != text || tag == "" {
		t.Fatalf("%v, %d bytes, %v", whole.Status, len(body), err)
	}
	for _, c := range []struct {
		name   string
		header map[string]string
		status int
		want   string
	}{
		{"the beginning", map[string]string{"Range": "bytes=0-4"}, 206, "01234"},
		{"the middle", map[string]string{"Range": "bytes=5000-5002"}, 206, "012"},
		{"to the end", map[string]string{"Range": "bytes=9998-"}, 206, "89"},
		{"the last", map[string]string{"Range": "bytes=-3"}, 206, "789"},
		{"past the end", map[string]string{"Range": "bytes=9999-20000"}, 206, "9"},
		{"beyond", map[string]string{"Range": "bytes=10000-"}, 416, ""},
		{"no range", map[string]string{"Range": "lines=1-2"}, 416, ""},
		{"of this revision", map[string]string{"Range": "bytes=1-2", "If-Range": tag}, 206, "12"},
		{"of another revision: the whole", map[string]string{"Range": "bytes=1-2", "If-Range": `"bm90IGl0"`}, 200, text},
		{"known already", map[string]string{"If-None-Match": tag}, 304, ""},
	} {
		response, body, err := get(t, server, "a.txt", c.header)
		if response.StatusCode != c.status || err != nil || c.status < 400 && body != c.want {
			t.Errorf("%s: %s, %d bytes, %v; want %d, %d bytes", c.name, response.Status, len(body), err, c.status, len(c.want))
		}
	}
	response, body, _ := get(t, server, "a.txt", map[string]string{"Range": "bytes=0-1,5000-5001"})
	if response.StatusCode != 206 || strings.Count(body, "01") < 2 ||
		!strings.HasPrefix(response.Header.Get("Content-Type"), "multipart/byteranges") {
		t.Errorf("two ranges: %s %s", response.Status, body)
	}
	if response, body, err := get(t, server, "empty.txt", nil); response.StatusCode != 200 || body != "" || err != nil {
		t.Errorf("an empty file: %s %q %v", response.Status, body, err)
	}
	// Whatever a file holds, it can do nothing to who looks at it.
	for name, kind := range map[string]string{"page.html": "text/plain; charset=utf-8", "picture.svg": "image/svg+xml", "program.exe": ""} {
		response, _, _ := get(t, server, name, nil)
		if policy := response.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "sandbox") ||
			!strings.Contains(policy, "default-src 'none'") {
			t.Errorf("%s: its policy is %q", name, policy)
		}
		if got := response.Header.Get("Content-Type"); kind != "" && got != kind {
			t.Errorf("%s: its type is %q, want %q", name, got, kind)
		}
		if attached := strings.HasPrefix(response.Header.Get("Content-Disposition"), "attachment"); attached != (kind == "") {
			t.Errorf("%s: as an attachment: %v", name, attached)
		}
	}
}

// TestReadingThatFails is an error before anything was answered, and broken off
// after.
func TestReadingThatFails(t *testing.T) {
	m := storetest.NewMemory()
	m.Put(strings.Repeat("x", 100_000), "a.txt")
	faulty := storetest.NewFaulty(m, storetest.Fault{Op: storetest.OpOpen, Times: 1, Err: store.Errorf(store.ErrTryAgain, "away")})
	server := contents(t, faulty)
	if response, body, _ := get(t, server, "a.txt", nil); response.StatusCode != http.StatusBadGateway || !strings.Contains(body, "remedy") {
		t.Errorf("at its beginning: %s %s", response.Status, body)
	}
	faulty.Add(storetest.Fault{Op: storetest.OpRead, Times: 1, Err: store.Errorf(store.ErrTryAgain, "broken"), At: 50_000})
	if response, body, err := get(t, server, "a.txt", nil); err == nil {
		t.Errorf("in its middle: %s, %d bytes, and no error", response.Status, len(body))
	}
	faulty.Clear()
	faulty.Add(storetest.Fault{Op: storetest.OpList, Times: 1, Err: store.Errorf(store.ErrTryAgain, "broken"), At: 0})
	response, err := http.Get(server.URL + "/archive?address=/desk")
	if err == nil {
		_, err = io.ReadAll(response.Body)
		response.Body.Close()
	}
	if err == nil {
		t.Error("an archive whose listing broke off came to an end")
	}
}
