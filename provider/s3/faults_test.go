package s3_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/s3"
	"deftheron/standin"
)

// faults stand in front of an object store, and answer in its place when asked to.
type faults struct {
	mu     sync.Mutex
	behind http.Handler
	// instead, where not nil, answers a request and reports whether it did.
	instead func(w http.ResponseWriter, r *http.Request) bool
	seen    int
}

func (f *faults) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	instead := f.instead
	f.seen++
	f.mu.Unlock()
	if instead == nil || !instead(w, r) {
		f.behind.ServeHTTP(w, r)
	}
}

func (f *faults) set(instead func(w http.ResponseWriter, r *http.Request) bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.instead, f.seen = instead, 0
}

// refuse answers with an error of the protocol.
func refuse(status int, code string) func(http.ResponseWriter, *http.Request) bool {
	return func(w http.ResponseWriter, r *http.Request) bool {
		w.Header().Set("Content-Type", "application/xml")
		w.WriteHeader(status)
		io.WriteString(w, "<Error><Code>"+code+"</Code><Message>as the test asked</Message></Error>")
		return true
	}
}

func cutOff(w http.ResponseWriter, r *http.Request) bool {
	io.Copy(io.Discard, r.Body)
	panic(http.ErrAbortHandler)
}

func behindFaults(t *testing.T) (store.Store, *faults) {
	t.Helper()
	handler, err := standin.ObjectStore("place")
	if err != nil {
		t.Fatal(err)
	}
	f := &faults{behind: handler}
	server := httptest.NewServer(f)
	t.Cleanup(server.Close)
	options, err := store.CheckOptions(s3.Provider{}, map[string]string{"endpoint": server.URL, "bucket": "place", "key": "k"}, true)
	if err != nil {
		t.Fatal(err)
	}
	s, err := s3.Provider{}.Open(t.Context(), store.Opening{Options: options, Secrets: store.FixedSecret("s")})
	if err != nil {
		t.Fatal(err)
	}
	if err := store.Prepare(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	return s, f
}

// TestFaultsHaveTheirKind wants of each fault the error by which the engine
// decides what to do.
func TestFaultsHaveTheirKind(t *testing.T) {
	s, f := behindFaults(t)
	write := func() error {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At("x"), Size: 5, If: store.Any, Content: storetest.Text("hello")})
		return err
	}
	if err := write(); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name    string
		instead func(http.ResponseWriter, *http.Request) bool
		want    error
	}{
		{"slow down", refuse(503, "SlowDown"), store.ErrSlowDown},
		{"too many requests", refuse(429, "TooManyRequests"), store.ErrSlowDown},
		{"an error of the server", refuse(500, "InternalError"), store.ErrTryAgain},
		{"a bad gateway with no words", func(w http.ResponseWriter, r *http.Request) bool { w.WriteHeader(502); return true }, store.ErrTryAgain},
		{"a wrong digest", refuse(400, "BadDigest"), store.ErrTryAgain},
		{"no permission", refuse(403, "AccessDenied"), store.ErrRefused},
		{"a secret that changed", refuse(403, "SignatureDoesNotMatch"), store.ErrSignInExpired},
		{"a token that expired", refuse(400, "ExpiredToken"), store.ErrSignInExpired},
		{"a quota that is full", refuse(507, "QuotaExceeded"), store.ErrNoSpace},
		{"too large", refuse(400, "EntityTooLarge"), store.ErrTooLarge},
		{"a key that is too long", refuse(400, "KeyTooLongError"), store.ErrNameRefused},
		{"an answer that was lost", cutOff, store.ErrOutcomeUnknown},
	} {
		f.set(c.instead)
		if err := write(); store.KindOf(err) != c.want {
			t.Errorf("%s: %v, want it to be %q", c.name, err, c.want)
		}
	}
	for _, condition := range []struct {
		what store.Condition
		want error
	}{{store.Absent, store.ErrExists}, {store.AtRevision("other"), store.ErrChanged}} {
		f.set(refuse(412, "PreconditionFailed"))
		_, err := s.Write(t.Context(), store.Writing{Place: store.At("x"), Size: 5, If: condition.what, Content: storetest.Text("hello")})
		if store.KindOf(err) != condition.want {
			t.Errorf("a condition that does not hold: %v, want it to be %q", err, condition.want)
		}
	}
}

// TestSentElsewhere has the server send every first request to another place, which is
// followed: a listing, a read and a write.
func TestSentElsewhere(t *testing.T) {
	s, f := behindFaults(t)
	sent := 0
	elsewhere := func(w http.ResponseWriter, r *http.Request) bool {
		if sent++; sent%2 == 0 {
			return false
		}
		w.Header().Set("Location", r.URL.String())
		w.WriteHeader(http.StatusTemporaryRedirect)
		return true
	}
	f.set(elsewhere)
	if _, err := s.Write(t.Context(), store.Writing{Place: store.At("x"), Size: 5, If: store.Absent,
		Content: storetest.Text("hello")}); err != nil {
		t.Errorf("a write: %v", err)
	}
	body, err := s.Open(t.Context(), store.Reading{Place: store.At("x")})
	if err != nil {
		t.Fatalf("a read: %v", err)
	}
	defer body.Close()
	if text, err := io.ReadAll(body); err != nil || string(text) != "hello" {
		t.Errorf("read %q, %v", text, err)
	}
	found := 0
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			t.Errorf("a listing: %v", err)
		}
		if entry.Name == "x" {
			found++
		}
	}
	if found != 1 || sent < 6 {
		t.Errorf("the object was listed %d times, in %d requests", found, sent)
	}
}

func TestBodiesThatBreakOff(t *testing.T) {
	s, f := behindFaults(t)
	content := strings.Repeat("0123456789", 100_000)
	if _, err := s.Write(t.Context(), store.Writing{Place: store.At("x"), Size: int64(len(content)),
		Content: storetest.Text(content)}); err != nil {
		t.Fatal(err)
	}
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		w.Header().Set("Content-Length", "1000000")
		w.Header().Set("ETag", `"x"`)
		w.Header().Set("Last-Modified", "Mon, 23 Nov 2026 00:00:00 GMT")
		io.WriteString(w, content[:1000])
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	})
	body, err := s.Open(t.Context(), store.Reading{Place: store.At("x")})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if data, err := io.ReadAll(body); !errors.Is(err, store.ErrTryAgain) {
		t.Errorf("%d bytes, %v; want %q, never a clean end", len(data), err, store.ErrTryAgain)
	}
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet {
			w.Header().Set("ETag", `"another"`)
			w.Header().Set("Last-Modified", "Mon, 23 Nov 2026 00:00:00 GMT")
			w.Write(nil)
		}
		return r.Method == http.MethodGet
	})
	if _, err := s.Open(t.Context(), store.Reading{Place: store.At("x"), Revision: "first"}); !errors.Is(err, store.ErrChanged) {
		t.Errorf("a server that does not obey If-Match: %v, want %q", err, store.ErrChanged)
	}
}

// TestListingPagesThatFail wants a page that fails to be asked for again, and a
// listing that fails for good to say so.
func TestListingPagesThatFail(t *testing.T) {
	s, f := behindFaults(t)
	for _, name := range []string{"a", "b"} {
		if _, err := s.Write(t.Context(), store.Writing{Place: store.At(name), Size: 1, Content: storetest.Text("x")}); err != nil {
			t.Fatal(err)
		}
	}
	fails := 2
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		if fails--; fails >= 0 {
			return refuse(503, "SlowDown")(w, r)
		}
		return false
	})
	n := 0
	for _, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		n++
	}
	if n != 2 || f.seen != 3 {
		t.Errorf("%d entries after %d requests, want 2 after 3", n, f.seen)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	f.set(refuse(500, "InternalError"))
	var last error
	for _, err := range listing.Flat(ctx, s, store.Folder{}) {
		last = err
	}
	if last == nil {
		t.Error("a listing that failed ended well")
	}
	f.set(refuse(403, "AccessDenied"))
	for _, err := range s.List(t.Context(), store.Folder{}) {
		last = err
	}
	if store.KindOf(last) != store.ErrRefused || f.seen != 1 {
		t.Errorf("%v after %d requests; want it refused, and not asked again", last, f.seen)
	}
}

// TestPutTogetherLater has a server say that parts were put together while it is still
// at it, as one does that was asked for the same a second time.
func TestPutTogetherLater(t *testing.T) {
	s, f := behindFaults(t)
	writer := s.Capabilities().Parts
	content := strings.Repeat("x", 5<<20) + "y"
	writing := store.Writing{Place: store.At("large"), Size: int64(len(content)), If: store.Absent, Content: storetest.Text(content)}
	upload, err := writer.BeginParts(t.Context(), writing)
	if err != nil {
		t.Fatal(err)
	}
	var parts []store.Part
	for i, text := range []string{content[:5<<20], content[5<<20:]} {
		part, err := writer.WritePart(t.Context(), writing, upload, i+1, int64(len(text)),
			store.NewStream(io.NopCloser(strings.NewReader(text)), store.MD5, nil))
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, part)
	}
	looks, committed := 0, false
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		committed = committed || r.Method == http.MethodPost
		if !committed || r.Method != http.MethodHead && r.Method != http.MethodGet {
			return false
		}
		looks++
		return looks <= 3 && refuse(404, "NoSuchKey")(w, r)
	})
	written, err := writer.CommitParts(t.Context(), writing, upload, parts)
	if err != nil || written.Size != writing.Size || looks <= 3 {
		t.Errorf("%+v, %v, after %d looks", written, err, looks)
	}
}
