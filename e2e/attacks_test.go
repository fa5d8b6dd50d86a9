package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// send sends a request to the service, signed in by a token unless that is empty.
func (h *heron) send(method, path, token string, body io.Reader, header ...string) (int, string, http.Header) {
	h.t.Helper()
	request, err := http.NewRequestWithContext(h.t.Context(), method, "http://"+h.listen+path, body)
	if err != nil {
		h.t.Fatal(err)
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	request.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	client := http.Client{Timeout: 60 * time.Second, Transport: &http.Transport{DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(request)
	if err != nil {
		return 0, err.Error(), nil
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 8<<20))
	if err != nil {
		h.t.Logf("%s %s: %v", method, path, err)
	}
	return answer.StatusCode, string(text), answer.Header
}

// resident is how much memory a process of the service has of its own, in bytes.
func (h *heron) resident() int64 {
	h.t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.cmd.Process.Pid))
	if err != nil {
		h.t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "RssAnon:"); ok {
			n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			if err != nil {
				h.t.Fatal(err)
			}
			return n << 10
		}
	}
	h.t.Fatal("the memory of the service is not told")
	return 0
}

// operations are those of the OpenAPI document, with a value for what is in the path.
func (h *heron) operations() (all [][2]string) {
	h.t.Helper()
	_, text, _ := h.send(http.MethodGet, "/api/v1/openapi.json", h.token(), nil)
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal([]byte(text), &document); err != nil {
		h.t.Fatal(err)
	}
	for path, methods := range document.Paths {
		for method := range methods {
			if method == "parameters" {
				continue
			}
			for strings.Contains(path, "{") {
				begin, end := strings.Index(path, "{"), strings.Index(path, "}")
				path = path[:begin] + "x" + path[end+1:]
			}
			all = append(all, [2]string{strings.ToUpper(method), path})
		}
	}
	if len(all) < 60 {
		h.t.Fatalf("%d operations are documented", len(all))
	}
	return all
}

// TestRequestsThatAreWrong sends to every operation bodies that are wrong in a thousand
// properties, deep, huge, and hold secrets: signed in and not. No answer is long, or
// tells what was sent.
func TestRequestsThatAreWrong(t *testing.T) {
	t.Parallel()
	h := start(t)
	var wrong strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&wrong, `,"no%d":"SECRET-%d"`, i, i)
	}
	bodies := map[string]string{
		"a thousand properties":  `{"token":"SECRET-TOKEN","secret":"SECRET-SECRET"` + wrong.String() + `}`,
		"deep":                   strings.Repeat(`{"a":[`, 5000) + `"SECRET-DEEP"` + strings.Repeat(`]}`, 5000),
		"huge":                   `{"name":"` + strings.Repeat("SECRET-HUGE", 300_000) + `"}`,
		"a name without end":     `{"` + strings.Repeat("SECRET", 20_000) + `":1}`,
		"other types":            `[1,"SECRET-LIST",{"SECRET":null}]`,
		"no JSON":                "SECRET\x00\xff{",
		"numbers without bounds": `{"name":1e999999,"token":-1e999999}`,
	}
	token := h.token()
	for _, operation := range h.operations() {
		if operation[0] == http.MethodGet || operation[1] == "/api/v1/token/rotation" || operation[1] == "/api/v1/sessions" ||
			operation[1] == "/api/v1/keys" { // whose answers are new secrets
			continue
		}
		for name, body := range bodies {
			for _, by := range []string{"", token} {
				begun := time.Now()
				code, text, _ := h.send(operation[0], operation[1], by, strings.NewReader(body))
				if code == 0 { // it hung up while the rest was being sent
					continue
				}
				if took := time.Since(begun); took > 5*time.Second {
					t.Errorf("%s %s, %s: answered after %v", operation[0], operation[1], name, took)
				}
				if len(text) > 2000 || strings.Contains(text, "SECRET-") {
					t.Errorf("%s %s, %s: %d bytes, %.300s", operation[0], operation[1], name, len(text), text)
				}
				if by == "" && code != 401 && !signsIn(operation) {
					t.Errorf("%s %s, %s: %d without a sign-in", operation[0], operation[1], name, code)
				}
				if code == 500 {
					t.Errorf("%s %s, %s: %s", operation[0], operation[1], name, text)
				}
			}
		}
	}
	code, text, _ := h.send(http.MethodPost, "/api/v1/session", "", strings.NewReader(`{"token":"`+strings.Repeat("x", 2000)+`"}`))
	if code != http.StatusRequestEntityTooLarge {
		t.Errorf("2 KB to the exchange of links: %d %s", code, text)
	}
	if n := h.resident(); n > 200<<20 {
		t.Errorf("the service holds %d MiB", n>>20)
	}
}

// TestNobodyIsLetIn asks every operation as nobody, with wrong tokens, from pages
// elsewhere and under other names.
func TestNobodyIsLetIn(t *testing.T) {
	h := start(t)
	token := h.token()
	for _, operation := range append(h.operations(), [][2]string{
		{"GET", "/api/v1/live"}, {"GET", "/api/v1/content?address=/x"}, {"PUT", "/api/v1/content?address=/x"},
		{"GET", "/api/v1/archive?address=/x"}, {"GET", "/api/v1/metrics"},
		{"GET", "/api/v1/runs/x/report"}, {"GET", "/api/v1/runs/x/certificate"}, {"POST", "/api/v1/trials"}, {"GET", "/api/v1/comparison"},
		{"GET", "/api/v1/survey"},
	}...) {
		if signsIn(operation) {
			continue
		}
		body := func() io.Reader {
			if operation[0] == "GET" || operation[0] == "DELETE" {
				return nil
			}
			return strings.NewReader("{}")
		}
		for what, want := range map[string]struct {
			code   int
			token  string
			header []string
		}{
			"nobody":                      {401, "", nil},
			"a page elsewhere":            {403, token, []string{"Origin", "http://elsewhere.example"}},
			"a page elsewhere, of a file": {403, token, []string{"Origin", "null"}},
		} {
			if code, text, _ := h.send(operation[0], operation[1], want.token, body(), want.header...); code != want.code {
				t.Errorf("%s %s as %s: %d %.200s; want %d", operation[0], operation[1], what, code, text, want.code)
			}
		}
		request, err := http.NewRequestWithContext(t.Context(), operation[0], "http://"+h.listen+operation[1], body())
		if err != nil {
			t.Fatal(err)
		}
		request.Host = "elsewhere.example:1"
		request.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusMisdirectedRequest {
			t.Errorf("%s %s under another name: %d", operation[0], operation[1], answer.StatusCode)
		}
	}
}

// TestSignInsThatFail tries ten thousand wrong tokens and links. They are slowed down
// and logged, the memory stays, and who is signed in notices nothing.
func TestSignInsThatFail(t *testing.T) {
	t.Parallel()
	h := start(t)
	before := h.resident()
	ctx, stop := context.WithTimeout(t.Context(), 8*time.Second)
	defer stop()
	var group sync.WaitGroup
	var answered, refused, left atomic.Int64
	left.Store(10_000)
	transport := &http.Transport{MaxIdleConnsPerHost: 100}
	defer transport.CloseIdleConnections()
	for worker := range 100 {
		group.Go(func() {
			for n := 0; ctx.Err() == nil && left.Add(-1) >= 0; n++ {
				request, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+h.listen+"/api/v1/accounts", nil)
				if worker%2 == 0 {
					request, _ = http.NewRequestWithContext(ctx, http.MethodPost, "http://"+h.listen+"/api/v1/session",
						strings.NewReader(`{"token":"wrong"}`))
					request.Header.Set("Content-Type", "application/json")
				} else {
					request.Header.Set("Authorization", fmt.Sprintf("Bearer wrong-%d-%d", worker, n))
				}
				answer, err := transport.RoundTrip(request)
				if err != nil {
					continue
				}
				answer.Body.Close()
				switch answer.StatusCode {
				case http.StatusUnauthorized:
					answered.Add(1)
				case http.StatusTooManyRequests:
					refused.Add(1)
				default:
					t.Errorf("a wrong sign-in was answered with %s", answer.Status)
				}
			}
		})
	}
	for range 20 {
		begun := time.Now()
		if code, text, _ := h.send(http.MethodGet, "/api/v1/whoami", h.token(), nil); code != 200 {
			t.Errorf("who is signed in gets %d %s", code, text)
		}
		if took := time.Since(begun); took > 2*time.Second {
			t.Errorf("who is signed in waits %v", took)
		}
		time.Sleep(100 * time.Millisecond)
	}
	group.Wait()
	if n := answered.Load(); n > 64*8*4 {
		t.Errorf("%d wrong sign-ins were answered within 8 s; want them slowed down", n)
	}
	if refused.Load() == 0 {
		t.Error("none was refused for being one too many")
	}
	if !strings.Contains(h.log.String(), "a sign-in failed") {
		t.Error("the log does not tell of them")
	}
	if grown := h.resident() - before; grown > 64<<20 {
		t.Errorf("the service holds %d MiB more", grown>>20)
	}
}

// TestSlowConnections opens thousands of connections that send nothing, a request that
// does not end, or a body that does not, without signing in.
func TestSlowConnections(t *testing.T) {
	t.Parallel()
	h := start(t)
	before := h.resident()
	var open []net.Conn
	defer func() {
		for _, conn := range open {
			conn.Close()
		}
	}()
	for i := range 5000 {
		conn, err := net.DialTimeout("tcp", h.listen, 5*time.Second)
		if err != nil {
			t.Fatalf("connection %d: %v", i, err)
		}
		open = append(open, conn)
		switch i % 4 {
		case 0:
			fmt.Fprintf(conn, "GET /healthz HTTP/1.1\r\nHost: %s\r\nX-", h.listen)
		case 1:
			fmt.Fprintf(conn, "POST /api/v1/copies HTTP/1.1\r\nHost: %s\r\nContent-Length: 1000000\r\n\r\n{", h.listen)
		case 2:
			fmt.Fprintf(conn, "POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
				h.listen)
		}
		if i%500 == 499 {
			begun := time.Now()
			if code, text, _ := h.send(http.MethodGet, "/healthz", "", nil); code != 200 || time.Since(begun) > 2*time.Second {
				t.Errorf("with %d connections open: %d %s after %v", i+1, code, text, time.Since(begun))
			}
		}
	}
	if grown := h.resident() - before; grown > 80<<20 {
		t.Errorf("the service holds %d MiB more", grown>>20)
	}
	// After the time that a request may take they have all been ended by the service.
	deadline := time.Now().Add(longestWait)
	ended, standing := 0, []int{}
	for i, conn := range open {
		if i%4 == 3 { // these may stand idle
			continue
		}
		if time.Now().After(deadline) {
			deadline = time.Now().Add(20 * time.Millisecond)
		}
		conn.SetReadDeadline(deadline)
		_, err := io.Copy(io.Discard, conn)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			standing = append(standing, i)
			continue
		}
		ended++
	}
	if len(standing) > 0 {
		t.Errorf("%d connections were ended; %d still stand open, such as %d, of kind %d", ended, len(standing), standing[0], standing[0]%4)
	}
}

// TestStreamsEndWithTheSession opens event streams by a session and ends that, rotates
// the owner's token, and holds the number of streams.
func TestStreamsEndWithTheSession(t *testing.T) {
	h := start(t)
	link, err := h.client().SigninLink(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	_, secret, _ := strings.Cut(link.URL, "#")
	code, text, header := h.send(http.MethodPost, "/api/v1/session", "", strings.NewReader(`{"token":"`+secret+`"}`), "User-Agent",
		"a browser")
	if code != http.StatusNoContent {
		t.Fatalf("%d %s", code, text)
	}
	cookie, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	stream := func(name, value string) *bufio.Reader {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+h.listen+"/api/v1/live", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set(name, value)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		if answer.StatusCode != http.StatusOK {
			return nil
		}
		return bufio.NewReader(answer.Body)
	}
	ends := func(what string, reader *bufio.Reader) {
		t.Helper()
		done := make(chan error, 1)
		go func() {
			_, err := io.Copy(io.Discard, reader)
			done <- err
		}()
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			t.Errorf("%s: the stream goes on", what)
		}
	}
	sessions, err := h.client().Sessions(t.Context())
	if err != nil || len(sessions) != 1 || sessions[0].Client != "a browser" || sessions[0].From != "127.0.0.1" {
		t.Fatalf("%+v, %v", sessions, err)
	}
	if out := h.must("token", "list"); !strings.Contains(out, sessions[0].ID) || !strings.Contains(out, "a browser") {
		t.Errorf("token list: %s", out)
	}
	one := stream("Cookie", cookie)
	h.must("token", "revoke", sessions[0].ID)
	ends("the session was revoked", one)
	if code, _, _ := h.send(http.MethodGet, "/api/v1/whoami", "", nil, "Cookie", cookie); code != 401 {
		t.Errorf("a session that was revoked is answered with %d", code)
	}

	before := h.token()
	opened := 0
	var last *bufio.Reader
	for range 40 {
		if reader := stream("Authorization", "Bearer "+before); reader != nil {
			opened++
			last = reader
		}
	}
	if opened != 32 {
		t.Errorf("%d streams of one sign-in stand open; want 32", opened)
	}
	h.must("token", "rotate")
	ends("the token was rotated", last)
	if code, _, _ := h.send(http.MethodGet, "/api/v1/whoami", before, nil); code != 401 {
		t.Errorf("the token before is answered with %d", code)
	}
	if now := h.token(); now == before {
		t.Error("the file holds the token before")
	} else if code, _, _ := h.send(http.MethodGet, "/api/v1/whoami", now, nil); code != 200 {
		t.Errorf("the new token is answered with %d", code)
	}
	if info, err := os.Stat(filepath.Join(h.data, "owner.token")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v; want the token's file readable by its owner alone", info, err)
	}
	// A link that is made by what has ended is void.
	unused, err := h.client().SigninLink(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	h.must("token", "revoke", "--all")
	_, secret, _ = strings.Cut(unused.URL, "#")
	if code, _, _ := h.send(http.MethodPost, "/api/v1/session", "", strings.NewReader(`{"token":"`+secret+`"}`)); code != 401 {
		t.Errorf("a link that was made void is answered with %d", code)
	}
}

// TestTokenStaysHere has the command meet another service, and one that redirects: the
// token goes to neither.
func TestTokenStaysHere(t *testing.T) {
	h := start(t)
	var met atomic.Pointer[string]
	thief := func(w http.ResponseWriter, r *http.Request) {
		if seen := r.Header.Get("Authorization"); strings.Contains(seen, h.token()) {
			met.Store(&seen)
		}
		json.NewEncoder(w).Encode(contract.Whoami{Role: "owner"})
	}
	elsewhere := serveOn(t, http.HandlerFunc(thief))
	redirecting := serveOn(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	token := h.token()
	if r := h.run(token, "signin", "http://"+h.listen, "--token-file", "-"); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	for _, args := range [][]string{{"signin", elsewhere}, {"signin", elsewhere, "--console"}, {"whoami", "--service", elsewhere},
		{"ls", "--service", elsewhere}} {
		h.run("", args...)
		if seen := met.Swap(nil); seen != nil {
			t.Errorf("%q sent the token elsewhere", args)
		}
	}
	if r := h.run(token, "signin", redirecting, "--token-file", "-"); r.code == 0 || met.Load() != nil {
		t.Errorf("along a redirect: exit %d, token sent: %v, %s", r.code, met.Load() != nil, r.err)
	}
}

// serveOn serves a handler on loopback until the test ends.
func serveOn(t *testing.T, handler http.Handler) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: handler}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	return "http://" + listener.Addr().String()
}

// TestMetricsListener asks the address of the metrics under another name.
func TestMetricsListener(t *testing.T) {
	h := start(t)
	h.end(syscall.SIGTERM)
	address := servertest.FreeAddress(t)
	h.serve("--metrics", address)
	for host, want := range map[string]int{"": 200, "elsewhere.example": 421, "localhost": 200} {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+"/metrics", nil)
		if err != nil {
			t.Fatal(err)
		}
		if host != "" {
			request.Host = host
		}
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		content, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != want || want == 200 && !bytes.Contains(content, []byte("heron_")) {
			t.Errorf("host %q: %s", host, answer.Status)
		}
	}
}

// secretTaker notes where a password or a token comes along.
type secretTaker struct {
	mu   sync.Mutex
	seen []string
}

func (s *secretTaker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, password, _ := r.BasicAuth()
	s.seen = append(s.seen, password+r.Header.Get("Authorization"))
	w.Header().Set("WWW-Authenticate", `Basic realm="here"`)
	w.WriteHeader(http.StatusUnauthorized)
}

func (s *secretTaker) took(secret string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Contains(strings.Join(s.seen, "\n"), secret)
}

// TestSecretsStayWithTheirServer edits addresses, a definition and the mail server to
// lead elsewhere: no stored secret goes there, and the attempts are in the history.
func TestSecretsStayWithTheirServer(t *testing.T) {
	t.Parallel()
	h := start(t)
	taker := &secretTaker{}
	elsewhere := serveOn(t, taker)
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(elsewhere, "http://"))

	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, _ := apache.Folder(t)
	h.linkApache("share", apache, url)
	objects := servertest.StartObjectStore(t)
	h.linkBucket("objects", objects, objects.Bucket(t))
	shell := servertest.StartOpenSSH(t)
	h.link(shell.Password, "sftp", "server", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", shell.Folder(t))
	for account, option := range map[string][]string{
		"share": {"--url", elsewhere + "/dav/"}, "objects": {"--endpoint", elsewhere}, "server": {"--port", port},
	} {
		r := h.run("", append([]string{"account", "edit", account}, option...)...)
		if r.code == 0 || !strings.Contains(r.err, "is not sent to") || !strings.Contains(r.err, "--secret-file") {
			t.Errorf("%s to another server: exit %d, %s%s", account, r.code, r.out, r.err)
		}
		if out := h.must("account", "history", account); !strings.Contains(out, "refused") || !strings.Contains(out, "without the secret") {
			t.Errorf("the history of %s does not tell of it: %s", account, out)
		}
		h.must("account", "check", account)
	}
	// With the secret given again it is sent, as that is meant.
	if h.run("another password\n", "account", "edit", "share", "--url", elsewhere+"/dav/", "--secret-file",
		"-"); !taker.took("another password") {
		t.Error("a secret that was given for the new server was not tried there")
	}

	definition := `definition: 1
name: example-files
title: Example Files
options: []
base: "%s/v1"
sign-in: [{way: bearer}]
addressed: path
entry: {name: .name, kind: .type == "dir", size: .bytes, modified: .changed, revision: .etag}
list: {request: GET /list, query: {path: .path}, items: ".entries[]"}
download: {request: GET /content, query: {path: .path}}
`
	honest := serveOn(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer a bearer secret" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, `{"entries":[{"name":"a.txt","type":"file","bytes":1,"changed":"2026-01-01T00:00:00Z","etag":"1"}]}`)
	}))
	file := filepath.Join(t.TempDir(), "example.yaml")
	add := func(base string) {
		t.Helper()
		if err := os.WriteFile(file, fmt.Appendf(nil, definition, base), 0o600); err != nil {
			t.Fatal(err)
		}
		h.must("provider", "add", file)
	}
	add(honest)
	h.link("a bearer secret", "example-files", "drive")
	h.must("ls", "/drive")
	add(elsewhere)
	if r := h.run("", "account", "check", "drive"); r.code == 0 || !strings.Contains(r.err, "is not sent to") {
		t.Errorf("the definition leads elsewhere: exit %d, %s%s", r.code, r.out, r.err)
	}
	add(honest)
	h.must("ls", "/drive")

	mail := []string{"notify", "email", "--user", "heron", "--sender", "a@example.org", "--recipient", "b@example.org", "--server"}
	if r := h.run("the mail password\n", append(mail, "127.0.0.1:2525", "--secret-file", "-")...); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	if r := h.run("", append(mail, "127.0.0.1:"+port)...); r.code == 0 || !strings.Contains(r.err, "is not sent to") {
		t.Errorf("another mail server: exit %d, %s%s", r.code, r.out, r.err)
	}
	for _, secret := range []string{apache.Password, objects.Secret, shell.Password, "a bearer secret", "the mail password"} {
		if taker.took(secret) {
			t.Errorf("the secret %q was sent elsewhere", secret)
		}
	}
}

// TestDataFolderIsPrivate starts a service on a folder that others can read, and links
// what holds it: nobody else can read what is written there, and no account leads to it.
func TestDataFolderIsPrivate(t *testing.T) {
	t.Parallel()
	h := &heron{t: t, data: filepath.Join(t.TempDir(), "open", "data"), listen: servertest.FreeAddress(t)}
	if err := os.MkdirAll(h.data, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(h.data, 0o777); err != nil {
		t.Fatal(err)
	}
	old := syscall.Umask(0)
	h.serve()
	syscall.Umask(old)
	top := filepath.Dir(h.data)
	writeFile(t, "mine", top, "mine.txt")
	h.linkFolder("desk", top)
	h.copy("/desk/mine.txt", "/desk/copies")
	err := filepath.WalkDir(h.data, func(path string, entry os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if err == nil && path != h.data && info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s has the mode %v", path, info.Mode())
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{h.data, "/", "/etc", "/proc/1"} {
		if r := h.run("", "account", "link", "folder", "other", "--path", path); r.code != 2 {
			t.Errorf("%s was linked: exit %d, %s%s", path, r.code, r.out, r.err)
		}
	}
	if out := h.must("ls", "/desk"); strings.Contains(out, "data") || !strings.Contains(out, "mine.txt") {
		t.Errorf("listed: %s", out)
	}
	token := h.token()
	for _, request := range [][2]string{
		{"GET", "/api/v1/content?address=/desk/data/heron.db"}, {"GET", "/api/v1/content?address=/desk/data/heron.key"},
		{"GET", "/api/v1/entry?address=/desk/data"},
		{"GET", "/api/v1/tree?address=/desk/data"}, {"GET", "/api/v1/archive?address=/desk/data"},
		{"PUT", "/api/v1/content?address=/desk/data/owner.token"}, {"PUT", "/api/v1/content?address=/desk/data&name=new"},
	} {
		if code, text, _ := h.send(request[0], request[1], token, strings.NewReader("x"), "Content-Type", "application/octet-stream", "If-Match",
			"*"); code < 400 {
			t.Errorf("%s %s: %d %.100s", request[0], request[1], code, text)
		}
	}
	h.end(syscall.SIGTERM)
	h.serve("--folders", filepath.Join(top, "copies"))
	for path, code := range map[string]int{filepath.Join(top, "copies"): 0, t.TempDir(): 2} {
		if r := h.run("", "account", "link", "folder", fmt.Sprint("a", code), "--path", path); r.code != code {
			t.Errorf("with --folders, %s: exit %d, %s%s", path, r.code, r.out, r.err)
		}
	}
	// Those that were linked before are held to it as well.
	if r := h.run("", "account", "check", "desk"); r.code == 0 {
		t.Errorf("an account outside of --folders is reached: %s", r.out)
	}
	_, _, header := h.send("GET", "/api/v1/survey?address=/a0&format=html", token, nil)
	if policy := header.Get("Content-Security-Policy"); !strings.Contains(policy, "style-src 'unsafe-inline'") ||
		!strings.Contains(policy, "default-src 'none'") {
		t.Errorf("the page of a survey has the policy %q", policy)
	}
}

// signsIn reports whether an operation, a method and a path, is one of those that sign in, which
// nobody has to be signed in for.
func signsIn(operation [2]string) bool {
	return strings.HasPrefix(operation[1], "/api/v1/session/") && !strings.Contains(operation[1], "confirmation") ||
		operation == [2]string{"POST", "/api/v1/session"} || operation == [2]string{"POST", "/api/v1/worker/join"}
}
