package provider_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/provider/declared"
	"deftheron/provider/ftp"
	"deftheron/provider/s3"
	"deftheron/provider/webdav"
)

// endless writes a text before, and then one again and again, until the other side has
// enough, or too much has gone out.
func endless(w io.Writer, before, again string, sent *atomic.Int64) {
	const tooMuch = 512 << 20
	buffered := bufio.NewWriterSize(w, 1<<20)
	io.WriteString(buffered, before)
	for sent.Load() < tooMuch {
		n, err := io.WriteString(buffered, again)
		sent.Add(int64(n))
		if err != nil {
			return
		}
	}
}

// TestEndlessAnswers has servers of several protocols answer with elements, lines and
// nestings that have no end. Each is an error, before much was held in memory.
func TestEndlessAnswers(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends a lot")
	}
	var before, again string
	var pages func(w http.ResponseWriter, r *http.Request) bool
	var sent atomic.Int64
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if pages != nil && pages(w, r) {
			return
		}
		status := http.StatusOK
		if r.Method == "PROPFIND" {
			status = http.StatusMultiStatus
		}
		w.Header().Set("Content-Type", "application/xml")
		w.WriteHeader(status)
		endless(w, before, again, &sent)
	})}
	go server.Serve(listener)
	defer server.Close()
	address := "http://" + listener.Addr().String()
	open := func(p store.Provider, options map[string]string) (store.Store, error) {
		ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
		defer cancel()
		checked, err := store.CheckOptions(p, options, true)
		if err != nil {
			t.Fatal(err)
		}
		return p.Open(ctx, store.Opening{Options: checked, Secrets: store.FixedSecret("a secret"), Gate: gate.New("x", 4, 8),
			Transport: http.DefaultTransport, Now: time.Now})
	}
	definition, err := declared.Load("x.yaml", []byte(`definition: 1
name: example-files
title: Example Files
base: "`+address+`/v1"
sign-in: [{way: bearer}]
addressed: path
entry: {name: .name, kind: .type == "dir", size: .bytes, modified: .changed, revision: .etag}
list: {request: GET /list, query: {path: .path, after: .page}, items: ".entries[]", next: {token: .after}}
download: {request: GET /content, query: {path: .path}}
`))
	if err != nil {
		t.Fatal(err)
	}
	look := func(p store.Provider, options map[string]string) error {
		s, err := open(p, options)
		if err != nil {
			return err
		}
		defer store.Close(s)
		for _, err := range s.List(t.Context(), store.Folder{}) {
			if err != nil {
				return err
			}
		}
		return nil
	}
	dav := func() error {
		return look(webdav.Provider{}, map[string]string{"url": address + "/dav/", "user": "u"})
	}
	bucket := func() error {
		return look(s3.Provider{}, map[string]string{"endpoint": address, "bucket": "bucket", "key": "k"})
	}
	drive := func() error { return look(declared.New(definition), nil) }
	const multistatus = `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">`
	number := 0
	for _, c := range []struct {
		name          string
		before, again string
		pages         func(http.ResponseWriter, *http.Request) bool
		do            func() error
	}{
		{"href", multistatus + "<D:response><D:href>/", "aaaaaaaaaaaaaaaa", nil, dav},
		{"nesting", multistatus + "<D:response>", "<D:x>", nil, dav},
		{"nesting that is skipped", multistatus, "<x>", nil, dav},
		{"attribute", multistatus + `<D:response a="`, "aaaaaaaaaaaaaaaa", nil, dav},
		{"comment", multistatus + "<!-- ", "aaaaaaaaaaaaaaaa", nil, dav},
		{"properties of one resource", multistatus + "<D:response>", "<D:propstat><D:status>HTTP/1.1 200 OK</D:status></D:propstat>", nil, dav},
		{"DOCTYPE", `<?xml version="1.0"?><!DOCTYPE x [`, `<!ENTITY a "&a;&a;">`, nil, dav},
		{"no XML", "", "\x00", nil, dav},
		{"key", `<?xml version="1.0"?><ListBucketResult><Contents><Key>`, "aaaaaaaaaaaaaaaa", nil, bucket},
		{"keys", `<?xml version="1.0"?><ListBucketResult>`, "<Contents><Key>a</Key></Contents>", nil, bucket},
		{"pages that bring nothing", "", "", func(w http.ResponseWriter, r *http.Request) bool {
			number++
			fmt.Fprintf(w, `<?xml version="1.0"?><ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>%d</NextContinuationToken></ListBucketResult>`, number)
			return true
		}, bucket},
		{"pages that lead back", "", "", func(w http.ResponseWriter, r *http.Request) bool {
			io.WriteString(w, `<?xml version="1.0"?><ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>again</NextContinuationToken><Contents><Key>a</Key></Contents></ListBucketResult>`)
			return true
		}, bucket},
		{"JSON text", `{"entries":[{"name":"`, "aaaaaaaaaaaaaaaa", nil, drive},
		{"JSON list", `{"entries":[`, "{},", nil, drive},
		{"JSON nesting", "", "[", nil, drive},
		{"pages of JSON that bring nothing", "", "", func(w http.ResponseWriter, r *http.Request) bool {
			number++
			fmt.Fprintf(w, `{"entries":[],"after":"%d"}`, number)
			return true
		}, drive},
		{"redirects", "", "", func(w http.ResponseWriter, r *http.Request) bool {
			number++
			http.Redirect(w, r, fmt.Sprintf("/v1/%d", number), http.StatusTemporaryRedirect)
			return true
		}, drive},
		{"redirects of a share", "", "", func(w http.ResponseWriter, r *http.Request) bool {
			number++
			http.Redirect(w, r, fmt.Sprintf("/dav/%d", number), http.StatusTemporaryRedirect)
			return true
		}, dav},
		{"headers", "", "", func(w http.ResponseWriter, r *http.Request) bool {
			w.Header().Set("X-Long", strings.Repeat("a", 20<<20))
			w.WriteHeader(http.StatusMultiStatus)
			return true
		}, dav},
		{"a line", "220 ", "aaaaaaaaaaaaaaaa", nil, func() error { return lines(t, "220 ", "aaaaaaaaaaaaaaaa", &sent) }},
		{"lines", "220-", "a\r\n", nil, func() error { return lines(t, "220-", "a\r\n", &sent) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			before, again, pages = c.before, c.again, c.pages
			number = 0
			sent.Store(0)
			debug.FreeOSMemory()
			var start, end runtime.MemStats
			runtime.ReadMemStats(&start)
			begun := time.Now()
			err := c.do()
			if err == nil {
				t.Error("it is no error")
			}
			runtime.ReadMemStats(&end)
			if grown := int64(end.HeapSys) - int64(start.HeapSys); grown > 200<<20 {
				t.Errorf("the heap has grown by %d MiB", grown>>20)
			}
			if took := time.Since(begun); took > 20*time.Second || sent.Load() > 400<<20 {
				t.Errorf("it took %v and %d MiB to find out", took, sent.Load()>>20)
			}
			t.Logf("%v after %d MiB: %.160v", time.Since(begun).Round(time.Millisecond), sent.Load()>>20, err)
		})
	}
}

// lines has an FTP server greet without an end.
func lines(t *testing.T, before, again string, sent *atomic.Int64) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			connection, err := listener.Accept()
			if err != nil {
				return
			}
			endless(connection, before, again, sent)
			connection.Close()
		}
	}()
	host, port, _ := net.SplitHostPort(listener.Addr().String())
	checked, err := store.CheckOptions(ftp.Provider{}, map[string]string{"host": host, "port": port, "user": "u", "tls": "none"}, true)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ftp.Provider{}.Open(t.Context(), store.Opening{Options: checked, Secrets: store.FixedSecret("x"), Gate: gate.New("x", 4, 8),
		Now: time.Now})
	if err == nil {
		store.Close(s)
	}
	return err
}
