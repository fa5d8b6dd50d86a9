package declared_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/declared"
	"deftheron/standin"
)

// drive is either stand-in, opened, with what tests do to it.
type drive struct {
	name     string
	store    store.Store
	control  *standin.Control
	consents *standin.Consents
	secrets  *vault
	// The routes of listing, of reading, and of writing small and large.
	list, read, small, large string
}

// drives runs a test on each stand-in.
func drives(t *testing.T, test func(t *testing.T, d drive)) {
	t.Run("sedge", func(t *testing.T) {
		t.Parallel()
		s, address := sedge(t)
		secrets := granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read", "items.write")
		opened, err := shipped(t, "sedge").Open(t.Context(), opening(t, address, secrets, nil))
		if err != nil {
			t.Fatal(err)
		}
		test(t, drive{"sedge", opened, s.Control, s.Consents, secrets, "GET /v2/items", "/bytes", "POST /v2/upload", "PATCH /v2/tus"})
	})
	t.Run("alder", func(t *testing.T) {
		t.Parallel()
		a, address := alder(t)
		secrets := granted(t, "code", a.Consents, standin.AlderClient, "alder-app", "office@tolland.example", "folders:view", "folders:edit")
		opened, err := shipped(t, "alder").Open(t.Context(), opening(t, address, secrets, nil))
		if err != nil {
			t.Fatal(err)
		}
		test(t, drive{"alder", opened, a.Control, a.Consents, secrets, "folder/children", "content/read", "content/write", "PUT /api/drafts"})
	})
}

func (d drive) put(t *testing.T, name, data string) error {
	t.Helper()
	written, err := d.store.Write(t.Context(),
		store.Writing{Place: store.At(name), Size: int64(len(data)), Run: "faults", Content: storetest.Text(data)})
	if err != nil {
		return err
	}
	sum := d.store.Traits().VerificationKind.New()
	io.WriteString(sum, data)
	if want := store.HashOf(d.store.Traits().VerificationKind, sum.Sum(nil)); written.Verification != want {
		// As the engine takes it; see store.Verify.
		return store.Errorf(store.ErrTryAgain, "%s is told to have %v, and has %v: %w", name, written.Verification, want, store.ErrVerification)
	}
	return nil
}

func (d drive) get(t *testing.T, name string) (string, error) {
	t.Helper()
	return readAll(t, d.store, store.At(name))
}

func readAll(t *testing.T, s store.Store, place store.Ref) (string, error) {
	t.Helper()
	body, err := s.Open(t.Context(), store.Reading{Place: place})
	if err != nil {
		return "", err
	}
	stream := store.NewStream(body, s.Traits().VerificationKind, nil)
	defer stream.Close()
	data, err := io.ReadAll(stream)
	return string(data), err
}

// TestTokens expire in the middle of everything, with many lanes at work, and
// rotate once each time.
func TestTokens(t *testing.T) {
	drives(t, func(t *testing.T, d drive) {
		const rounds, lanes = 4, 12
		for round := range rounds {
			d.consents.Expire()
			var group sync.WaitGroup
			for lane := range lanes {
				group.Go(func() {
					name := fmt.Sprintf("round %d lane %d", round, lane)
					if err := d.put(t, name, name); err != nil {
						t.Errorf("%s: %v", name, err)
						return
					}
					if got, err := d.get(t, name); err != nil || got != name {
						t.Errorf("%s holds %q, %v", name, got, err)
					}
				})
			}
			group.Wait()
		}
		if d.secrets.saves != rounds {
			t.Errorf("the token was renewed %d times, want %d", d.secrets.saves, rounds)
		}
		// Between the pieces of a large file.
		large := strings.Repeat("0123456789abcdef", 3<<16+1) // 3 MiB and a little: one tus upload, or one draft
		expire := expiring{storetest.Text(large), sync.OnceFunc(d.consents.Expire)}
		written, err := d.store.Write(t.Context(),
			store.Writing{Place: store.At("large"), Size: int64(len(large)), Run: "faults", Content: expire})
		if err != nil || written.Size != int64(len(large)) {
			t.Errorf("a token that expired while a file was sent: %+v, %v", written, err)
		}
		d.consents.Withdraw()
		_, err = d.get(t, "large")
		if !errors.Is(err, store.ErrSignInExpired) {
			t.Errorf("after consent was withdrawn: %v", err)
		}
		for _, err := range d.store.List(t.Context(), store.Folder{}) {
			if !errors.Is(err, store.ErrSignInExpired) {
				t.Errorf("listing after consent was withdrawn: %v", err)
			}
		}
	})
}

// expiring does something when its content is opened.
type expiring struct {
	store.Content
	do func()
}

func (e expiring) Open(ctx context.Context) (*store.Stream, error) {
	e.do()
	return e.Content.Open(ctx)
}

// TestFaults injects one kind of fault at a time: what is written and read is
// right, or the error is one of ours and nothing wrong is there.
func TestFaults(t *testing.T) {
	for _, kind := range []string{"500", "503", "429", "429-bare", "reset", "lost", "truncated", "flipped", "html"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			drives(t, func(t *testing.T, d drive) { faulty(t, d, kind) })
		})
	}
}

// faulty writes and reads through one fault of a kind.
func faulty(t *testing.T, d drive, kind string) {
	if d.name == "sedge" {
		if _, err := d.store.MakeFolder(t.Context(), store.At("elsewhere")); err != nil {
			t.Fatal(err)
		}
	}
	small, large := strings.Repeat("small ", 500), strings.Repeat("large, and in pieces ", 600_000)
	for _, what := range []struct {
		name, route, data string
	}{{"small", d.small, small}, {"large", d.large, large}} {
		d.control.SetFaults(standin.Faults{Rates: map[string]float64{kind: 1}, Times: 1, Match: what.route})
		err := d.put(t, what.name, what.data)
		struck := d.control.Struck()
		d.control.SetFaults(standin.Faults{})
		if struck != 1 {
			t.Errorf("%s: the fault struck %d times", what.name, struck)
		}
		if err != nil && store.KindOf(err) == nil || errors.Is(err, store.ErrVerification) && kind != "flipped" {
			t.Errorf("writing %s: %v", what.name, err)
		}
		got, readErr := d.get(t, what.name)
		if readErr == nil && got != what.data || err == nil && readErr != nil {
			t.Errorf("after %s (%v): %d bytes, %v", what.name, err, len(got), readErr)
		}
		if err != nil && !errors.Is(readErr, store.ErrNotFound) && store.KindOf(err) != store.ErrOutcomeUnknown &&
			store.KindOf(err) != store.ErrTryAgain {
			t.Errorf("%s failed with %v, and is there", what.name, err)
		}
		if readErr == nil {
			continue
		}
		if err := d.put(t, what.name, what.data); err != nil {
			t.Errorf("%s again: %v", what.name, err)
		}
	}
	d.control.SetFaults(standin.Faults{Rates: map[string]float64{kind: 1}, Times: 1, Match: d.read})
	got, err := d.get(t, "large")
	if err == nil && got != large {
		t.Errorf("read through %s: %d other bytes", kind, len(got))
	}
	if err != nil && store.KindOf(err) == nil {
		t.Errorf("reading through %s: an error of no kind: %v", kind, err)
	}
	d.control.SetFaults(standin.Faults{})
}

// TestListingFaults has pages fail in the middle of a listing: it is whole, or
// ends with an error.
func TestListingFaults(t *testing.T) {
	drives(t, func(t *testing.T, d drive) {
		want := 1200
		for i := range want { // more than a page
			if i%2 == 0 {
				continue
			}
			if err := d.put(t, fmt.Sprint("file ", i), "x"); err != nil {
				t.Fatal(err)
			}
		}
		want /= 2
		count := func() (n int, err error) {
			for _, err := range d.store.List(t.Context(), store.Folder{}) {
				if err != nil {
					return n, err
				}
				n++
			}
			return n, nil
		}
		for _, kind := range []string{"500", "429", "reset", "truncated", "html", "flipped"} {
			d.control.SetFaults(standin.Faults{Rates: map[string]float64{kind: 1}, Times: 1, Match: d.list})
			if n, err := count(); kind != "flipped" && (err != nil || n != want) {
				t.Errorf("one page with %s: %d entries, %v", kind, n, err)
			}
			d.control.SetFaults(standin.Faults{})
		}
		d.control.SetFaults(standin.Faults{Rates: map[string]float64{"html": 1}, Match: d.list})
		_, err := count()
		d.control.SetFaults(standin.Faults{})
		if err == nil || !strings.Contains(err.Error(), "Welcome to the guest network") || !strings.Contains(err.Error(), "JSON is due") {
			t.Errorf("pages that are web pages: %v", err)
		}
	})
}

// TestStalled has a body stall: the reader gives up when it is told to, and the
// slot of the gate is free again.
func TestStalled(t *testing.T) {
	drives(t, func(t *testing.T, d drive) {
		if err := d.put(t, "file", strings.Repeat("x", 100_000)); err != nil {
			t.Fatal(err)
		}
		d.control.SetFaults(standin.Faults{Rates: map[string]float64{"stalled": 1}, Times: 1, Match: d.read})
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer cancel()
		body, err := d.store.Open(ctx, store.Reading{Place: store.At("file")})
		if err == nil {
			_, err = io.Copy(io.Discard, body)
			body.Close()
		}
		if err == nil {
			t.Error("a body that stalled was read to its end")
		}
		d.control.SetFaults(standin.Faults{})
		if _, err := d.get(t, "file"); err != nil {
			t.Error(err)
		}
	})
}

// TestQuota is used up in the middle.
func TestQuota(t *testing.T) {
	drives(t, func(t *testing.T, d drive) {
		if err := d.put(t, "first", "x"); err != nil {
			t.Fatal(err)
		}
		request, _ := http.NewRequest(http.MethodPut, "/quota", strings.NewReader(`{"bytes":1000}`))
		recorder := httptest.NewRecorder()
		d.control.ServeHTTP(recorder, request)
		if recorder.Code != http.StatusNoContent {
			t.Fatal(recorder.Code)
		}
		for _, size := range []int{2000, 4 << 20} {
			if err := d.put(t, "too much", strings.Repeat("x", size)); !errors.Is(err, store.ErrNoSpace) {
				t.Errorf("%d bytes: %v", size, err)
			}
		}
		if _, err := d.store.Stat(t.Context(), store.At("too much")); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("something is left: %v", err)
		}
	})
}

// TestOpening is of accounts that cannot be opened, each with what to do.
func TestOpening(t *testing.T) {
	s, address := sedge(t)
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<html><head><title>Sign in to the network</title></head></html>")
	}))
	defer page.Close()
	reads := granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read")
	none := granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example")
	wrong := granted(t, "code", s.Consents, "own", "other-secret", "surveys@fenmere.example", "items.read")
	s.Consents.Register(standin.Client{ID: "own", Secret: "own-secret", Redirects: []string{standin.Callback}})
	for _, c := range []struct {
		what, address string
		secrets       store.Secrets
		options       map[string]string
		reason        string
	}{
		{"no address", "nowhere", reads, nil, "not an address of a service"},
		{"nothing there", "http://127.0.0.1:1", reads, nil, "nothing answers at"},
		{"a web page", page.URL, reads, nil, "JSON is due"},
		{"a scope that does not suffice", address, none, nil, "the scope items.read"},
		{"no such area", address, reads, map[string]string{"area": "Moon"}, `"Rivers team"`},
		{"a way that there is not", address, reads, map[string]string{"sign-in": "key"}, "no way to sign in"},
		{"no secret", address, store.FixedSecret(""), nil, "reauthorize it"},
		{"the token of nobody", address, store.FixedSecret(`{"way":"code","access":"x","refresh":"y"}`), nil, "invalid_grant"},
	} {
		_, err := shipped(t, "sedge").Open(t.Context(), opening(t, c.address, c.secrets, c.options))
		if err == nil || !strings.Contains(err.Error(), c.reason) {
			t.Errorf("%s: %v; want %q", c.what, err, c.reason)
		}
	}
	s.Consents.Expire()
	if _, err := shipped(t, "sedge").Open(t.Context(), opening(t, address, wrong, nil)); !errors.Is(err, store.ErrSignInExpired) ||
		!strings.Contains(err.Error(), "client id") {
		t.Errorf("a wrong client secret: %v", err)
	}
}

// TestDeviceCode expires before anybody typed it.
func TestDeviceCode(t *testing.T) {
	s, address := sedge(t)
	provider := shipped(t, "sedge")
	o := opening(t, address, store.FixedSecret(""), nil)
	consent, err := provider.BeginConsent(t.Context(), o, store.ConsentAsking{Way: store.ConsentByDevice})
	if err != nil || consent.UserCode == "" {
		t.Fatal(consent, err)
	}
	if _, err := provider.EndConsent(t.Context(), o, consent, store.ConsentAnswer{}); !errors.Is(err, store.ErrSlowDown) {
		t.Errorf("before anybody agreed: %v", err)
	}
	s.Consents.ExpireDevices()
	if _, err := provider.EndConsent(t.Context(), o, consent, store.ConsentAnswer{}); !errors.Is(err, store.ErrRefused) ||
		!strings.Contains(err.Error(), "has expired") {
		t.Errorf("an expired code: %v", err)
	}
}

// TestIssuer takes an answer of a consent page from whom it was asked of alone.
func TestIssuer(t *testing.T) {
	_, address := sedge(t)
	provider := shipped(t, "sedge")
	o := opening(t, address, store.FixedSecret(""), nil)
	consent, err := provider.BeginConsent(t.Context(), o, store.ConsentAsking{Way: store.ConsentByPage, Callback: "http://127.0.0.1:1/consent",
		State: "s"})
	if err != nil {
		t.Fatal(err)
	}
	for issuer, refused := range map[string]bool{"": false, address: false, address + "/": false, "https://elsewhere.example": true,
		"http://127.0.0.1:1": true} {
		_, err := provider.EndConsent(t.Context(), o, consent, store.ConsentAnswer{Code: "a wrong code", Issuer: issuer})
		if said := strings.Contains(fmt.Sprint(err), "consent was asked of another"); said != refused {
			t.Errorf("an answer of %q: %v; want it refused for that: %v", issuer, err, refused)
		}
	}
}

// TestDefinitionsRefused is of what is wrong with a definition, and where.
func TestDefinitionsRefused(t *testing.T) {
	const good = `definition: 1
name: small
title: Small
base: https://files.example.org/v1
addressed: path
entry: {path: .path, kind: .folder, revision: .etag}
list: {request: "GET /list", items: ".items[]"}
download: {request: "GET /get"}
`
	if _, err := declared.Load("good.yaml", []byte(good)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ old, new, want string }{
		{"definition: 1", "definition: 2", "line 1 of f.yaml: definition: version 2"},
		{"definition: 1\n", "", "definition: it is missing"},
		{"title: Small", "titel: Small", "line 3 of f.yaml: titel: there is no such field here (title is meant, maybe)"},
		{"name: small", "name: Small Drive", "line 2 of f.yaml: name:"},
		{"addressed: path", "addressed: id", "start: it is missing"},
		{".items[]", ".items[", "line 7 of f.yaml: list.items: jq:"},
		{".items[]", "[.items[] | input]", "the function input cannot be used"},
		{".items[]", "def f: f; f", "the function f cannot be used"},
		{"GET /list", "GET /list{?pathh}", "line 7 of f.yaml: list.request: {pathh} is in the address \"/list{?pathh}\", and there is no " +
			"pathh here (path is meant, maybe)"},
		{"GET /get", "GET /get{?parent.pat}", "there is no pat here (path is meant, maybe)"},
		{"GET /get", "GET {+option.ur}/get", "line 8 of f.yaml: download.request: {option.ur}"},
		{"GET /list", "FETCH list", "line 7 of f.yaml: request: the address"},
		{"GET /list", "/list", "write the method and the address"},
		{"GET /get", "GET /get{", "not a URI template"},
		{"https://files.example.org/v1", "'{+option.url'", "not a URI template"},
		{"entry: {", "entry: {path: .p, ", "path: it is given twice"},
		{"title: Small", "title: [Small]", "one value is due here"},
		{"title: Small", "title: &a Small", "anchors"},
		{"title: Small", "title: Small\nsign-in: [{way: code}]", "sign-in[0].authorize: it is missing"},
		{"title: Small", "title: Small\nuploads: [{up-to: 1 parsec, send: {request: PUT /x, content: true}}]", "not a number of bytes"},
		{"title: Small", "title: Small\nuploads: [{send: {request: PUT /x}}]", "uploads[0].send: none of its requests sends the content"},
		{"title: Small", "title: Small\nmove: {request: POST /m, json: ., form: {a: .}}", "move: it has 2 bodies"},
		{"title: Small", "title: Small\nhashes: [{kind: md4, value: .h}]", `"md4" cannot be; it is one of`},
		{"title: Small", "title: Small\nnames: {refused: ['[']}", "missing closing ]"},
		{"title: Small", "title: Small\nlimits: {streams: many}", "line 4 of f.yaml"},
		{"title: Small", "\ttitle: Small", "not valid YAML"},
	} {
		_, err := declared.Load("f.yaml", []byte(strings.Replace(good, c.old, c.new, 1)))
		var problem *declared.Problem
		if !errors.As(err, &problem) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; want %q", c.new, err, c.want)
		}
	}
	if _, err := declared.Load("large.yaml", []byte(strings.Repeat("#", declared.Largest+1))); err == nil {
		t.Error("a definition of any size is read")
	}
}

// TestGreedy is of jq that would not end, or would fill the memory, in the answer
// to a listing.
func TestGreedy(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"items":[{"path":"/a"}],"n":1000000000}`)
	}))
	defer server.Close()
	for _, greedy := range []string{`"x" * .n`, `[range(.n)]`, `reduce range(.n) as $i (""; . + "x")`, `[recurse(.)]`} {
		definition, err := declared.Load("greedy.yaml", []byte("definition: 1\nname: greedy\ntitle: Greedy\nbase: "+server.URL+
			"\naddressed: path\nentry: {path: .path, kind: false, revision: .path}\ndownload: {request: GET /x}\nlist:\n  request: GET /list\n"+
			"  items: '"+greedy+"'\n"))
		if err != nil {
			t.Fatal(err)
		}
		begun := time.Now()
		o := opening(t, "", store.FixedSecret(""), nil)
		o.Options = nil
		_, err = declared.New(definition).Open(t.Context(), o)
		if err == nil || time.Since(begun) > 5*time.Second || !strings.Contains(err.Error(), "jq") {
			t.Errorf("%s: %v after %v", greedy, err, time.Since(begun))
		}
	}
}

// TestRenewedAhead has a token that is about to end: it is renewed before anybody
// is told that it has, and not used unless it could be kept.
func TestRenewedAhead(t *testing.T) {
	s, address := sedge(t)
	secrets := granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read")
	before := string(secrets.now)
	o := opening(t, address, secrets, nil)
	o.Now = func() time.Time { return time.Now().Add(s.Consents.Lifetime - 30*time.Second) }
	opened, err := shipped(t, "sedge").Open(t.Context(), o)
	if err != nil || secrets.saves != 1 || string(secrets.now) == before {
		t.Fatalf("%d times saved, %v", secrets.saves, err)
	}
	if requests := s.Control.Requests()["POST /token"]; requests != 1 {
		t.Errorf("%d requests for a token", requests)
	}
	s.Consents.Expire()
	secrets.mu.Lock()
	secrets.broken = errors.New("the disk is full")
	secrets.mu.Unlock()
	s.Control.Forget()
	if _, err := opened.Stat(t.Context(), store.At("x")); !errors.Is(err, store.ErrTryAgain) ||
		!strings.Contains(err.Error(), "the disk is full") {
		t.Errorf("a token that could not be kept: %v", err)
	}
	if requests := s.Control.Requests()["GET /v2/items"]; requests != 1 {
		t.Errorf("%d requests, want the one that was refused", requests)
	}
	secrets.mu.Lock()
	secrets.broken = nil
	secrets.mu.Unlock()
	if _, err := opened.Stat(t.Context(), store.At("x")); !errors.Is(err, store.ErrNotFound) || s.Control.Requests()["POST /token"] != 1 {
		t.Errorf("when it can be kept: %v, %d requests for tokens", err, s.Control.Requests()["POST /token"])
	}
}
