package standin_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"deftheron/standin"
)

// server is a stand-in that is asked by hand.
type server struct {
	t     *testing.T
	url   string
	token string
}

type reply struct {
	status int
	header http.Header
	body   map[string]any
	text   string
}

func (s server) ask(method, path string, body io.Reader, headers ...string) reply {
	s.t.Helper()
	request, err := http.NewRequest(method, s.url+path, body)
	if err != nil {
		s.t.Fatal(err)
	}
	if s.token != "" {
		request.Header.Set("Authorization", "Bearer "+s.token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	// Each on a connection of its own: one that is used again is tried again by
	// itself when it breaks.
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	if err != nil {
		return reply{text: err.Error()}
	}
	defer response.Body.Close()
	data, _ := io.ReadAll(response.Body)
	r := reply{status: response.StatusCode, header: response.Header, text: string(data)}
	_ = json.Unmarshal(data, &r.body)
	return r
}

func (s server) form(path string, values url.Values) reply {
	s.t.Helper()
	return s.ask(http.MethodPost, path, strings.NewReader(values.Encode()), "Content-Type", "application/x-www-form-urlencoded")
}

func newSedge(t *testing.T) (*standin.Sedge, server) {
	t.Helper()
	sedge, err := standin.OpenSedge(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	sedge.Consents.Register(standin.Client{ID: "app", Secret: "s",
		Redirects: []string{standin.Callback, "https://heron.example/consent/callback"}})
	h := httptest.NewServer(sedge)
	t.Cleanup(h.Close)
	access, _, _ := sedge.Consents.Grant("app", sedge.Consents.Users[0], "items.read", "items.write")
	return sedge, server{t, h.URL, access}
}

func challenge(verifier string) string {
	sum := sha256.Sum256([]byte(verifier))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// TestConsentIsStrict asks for consent in every wrong way, and once in the right
// one.
func TestConsentIsStrict(t *testing.T) {
	sedge, s := newSedge(t)
	s.token = ""
	right := url.Values{
		"client_id": {"app"}, "redirect_uri": {"http://127.0.0.1:5123/consent/callback"}, "response_type": {"code"}, "scope": {"items.read"},
		"state":          {"st"},
		"code_challenge": {challenge("v")}, "code_challenge_method": {"S256"},
	}
	with := func(name, value string) url.Values {
		changed := url.Values{}
		for key, values := range right {
			changed[key] = values
		}
		changed.Set(name, value)
		return changed
	}
	for name, c := range map[string]struct {
		query  url.Values
		status int
		tells  string
	}{
		"another client":           {with("client_id", "x"), 400, "No app is registered"},
		"another path":             {with("redirect_uri", "http://127.0.0.1:5123/other"), 400, "not registered to lead back"},
		"another host":             {with("redirect_uri", "http://evil.example/consent/callback"), 400, "not registered to lead back"},
		"a port on another host":   {with("redirect_uri", "https://heron.example:444/consent/callback"), 400, "not registered to lead back"},
		"no redirect":              {with("redirect_uri", ""), 400, "not registered to lead back"},
		"a token in place of code": {with("response_type", "token"), 303, "unsupported_response_type"},
		"no challenge":             {with("code_challenge", ""), 303, "invalid_request"},
		"a plain challenge":        {with("code_challenge_method", "plain"), 303, "invalid_request"},
		"a scope that is not":      {with("scope", "all"), 303, "invalid_scope"},
		"what is right":            {right, 200, "see and download your files"},
	} {
		r := s.ask(http.MethodGet, "/agree?"+c.query.Encode(), nil)
		if r.status != c.status || !strings.Contains(r.text+r.header.Get("Location"), c.tells) {
			t.Errorf("%s: %d %s", name, r.status, r.header.Get("Location"))
		}
	}
	agree := func(answer string) url.Values {
		r := s.form("/agree", url.Values{"query": {right.Encode()}, "user": {sedge.Consents.Users[0]}, "answer": {answer}})
		location, err := url.Parse(r.header.Get("Location"))
		if err != nil || location.Query().Get("state") != "st" {
			t.Fatalf("%+v", r)
		}
		return location.Query()
	}
	if refused := agree("refuse"); refused.Get("error") != "access_denied" || refused.Has("code") {
		t.Errorf("refused: %v", refused)
	}
	exchange := func(code, verifier, redirect, secret string) reply {
		return s.form("/token", url.Values{
			"grant_type": {"authorization_code"}, "code": {code}, "code_verifier": {verifier}, "redirect_uri": {redirect}, "client_id": {"app"},
			"client_secret": {secret},
		})
	}
	here := right.Get("redirect_uri")
	for name, r := range map[string]reply{
		"another verifier": exchange(agree("agree").Get("code"), "w", here, "s"),
		"another redirect": exchange(agree("agree").Get("code"), "v", standin.Callback, "s"),
		"another secret":   exchange(agree("agree").Get("code"), "v", here, "x"), "no code": exchange("none", "v", here, "s"),
	} {
		if r.status < 400 || r.body["access_token"] != nil {
			t.Errorf("%s: %+v", name, r)
		}
	}
	code := agree("agree").Get("code")
	first := exchange(code, "v", here, "s")
	if first.status != 200 || exchange(code, "v", here, "s").status != 400 {
		t.Fatalf("a code is good once: %+v", first)
	}
	// Refresh tokens rotate; one that is used twice ends everything.
	refresh := func(token any) reply {
		return s.form("/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {fmt.Sprint(token)}, "client_id": {"app"},
			"client_secret": {"s"}})
	}
	second := refresh(first.body["refresh_token"])
	if second.status != 200 || second.body["refresh_token"] == first.body["refresh_token"] {
		t.Fatalf("%+v", second)
	}
	s.token = fmt.Sprint(second.body["access_token"])
	if r := s.ask(http.MethodGet, "/v2/me", nil); r.status != 200 {
		t.Errorf("%+v", r)
	}
	if r := s.ask(http.MethodDelete, "/v2/items/x", nil); r.status != 403 || !strings.Contains(r.text, "items.write") {
		t.Errorf("without the scope: %+v", r)
	}
	if refresh(first.body["refresh_token"]).status != 400 || refresh(second.body["refresh_token"]).status != 400 ||
		s.ask(http.MethodGet, "/v2/me", nil).status != 401 {
		t.Error("a refresh token that was used twice did not end what came of the consent")
	}
}

// TestSedgeIsStrict sends what a client of Sedge must not.
func TestSedgeIsStrict(t *testing.T) {
	_, s := newSedge(t)
	for name, c := range map[string]struct {
		r      reply
		status int
	}{
		"no page size":       {s.ask("GET", "/v2/items?parent=root-own", nil), 400},
		"a page too large":   {s.ask("GET", "/v2/items?parent=root-own&page_size=1001", nil), 400},
		"a token of its own": {s.ask("GET", "/v2/items?parent=root-own&page_size=10&page_token=eA", nil), 400},
		"no folder":          {s.ask("GET", "/v2/items?parent=x&page_size=10", nil), 404},
		"an unknown member": {s.ask("POST", "/v2/items",
			strings.NewReader(`{"title":"a","parent":"root-own","type":"folder","colour":"red"}`)), 400},
		"an empty title":       {s.ask("POST", "/v2/items", strings.NewReader(`{"title":"","parent":"root-own","type":"folder"}`)), 400},
		"another body":         {s.ask("POST", "/v2/upload", strings.NewReader("x"), "Content-Type", "text/plain"), 415},
		"tus of no version":    {s.ask("POST", "/v2/tus", nil, "Upload-Length", "1"), 412},
		"tus without a length": {s.ask("POST", "/v2/tus", nil, "Tus-Resumable", "1.0.0"), 400},
		"a lost cursor":        {s.ask("GET", "/v2/changes?cursor=c99999", nil), 410},
		"the root removed":     {s.ask("DELETE", "/v2/items/root-own", nil), 404},
		"nothing there":        {s.ask("GET", "/v2/nothing", nil), 404},
	} {
		if c.r.status != c.status {
			t.Errorf("%s: %d %s, want %d", name, c.r.status, c.r.text, c.status)
		}
	}
	made := s.ask("POST", "/v2/tus", nil, "Tus-Resumable", "1.0.0", "Upload-Length", "6", "Upload-Metadata",
		"title "+base64.StdEncoding.EncodeToString([]byte("a"))+",parent "+base64.StdEncoding.EncodeToString([]byte("root-own")))
	at := made.header.Get("Location")
	patch := func(offset, data string) reply {
		return s.ask("PATCH", at, strings.NewReader(data), "Tus-Resumable", "1.0.0", "Upload-Offset", offset, "Content-Type",
			"application/offset+octet-stream")
	}
	if r := patch("1", "abc"); r.status != 409 {
		t.Errorf("at another offset: %+v", r)
	}
	if r := patch("0", "abc"); r.status != 204 || r.header.Get("Upload-Offset") != "3" {
		t.Errorf("%+v", r)
	}
	if r := patch("3", "defg"); r.status != 400 {
		t.Errorf("more than was announced: %+v", r)
	}
	for range 2 { // two of one name
		if r := s.ask("POST", "/v2/items", strings.NewReader(`{"title":"twin","parent":"root-own","type":"folder"}`)); r.status != 201 {
			t.Errorf("%+v", r)
		}
	}
}

// TestAlderIsStrict sends what a client of Alder must not, and follows a task and
// a wait.
func TestAlderIsStrict(t *testing.T) {
	alder, err := standin.OpenAlder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	h := httptest.NewServer(alder)
	defer h.Close()
	access, _, _ := alder.Consents.Grant(standin.AlderClient, alder.Consents.Users[0], "folders:view", "folders:edit")
	s := server{t, h.URL, access}
	post := func(path, body string) reply { return s.ask("POST", "/api"+path, strings.NewReader(body)) }
	if r := post("/folder/make", `{"path":"/Reports"}`); r.status != 201 {
		t.Fatalf("%+v", r)
	}
	for name, c := range map[string]struct {
		r       reply
		status  int
		problem string
	}{
		"the same name in other letters": {post("/folder/make", `{"path":"/REPORTS"}`), 409, "name-taken"},
		"a trailing dot":                 {post("/folder/make", `{"path":"/a."}`), 400, "name-refused"},
		"a reserved name":                {post("/folder/make", `{"path":"/Con.txt"}`), 400, "name-refused"},
		"a colon":                        {post("/folder/make", `{"path":"/a:b"}`), 400, "name-refused"},
		"no slash":                       {post("/folder/make", `{"path":"a"}`), 400, "bad-path"},
		"the root, removed":              {post("/entry/remove", `{"path":""}`), 400, "bad-path"},
		"nothing there":                  {post("/entry/describe", `{"path":"/none"}`), 404, "not-found"},
		"into itself":                    {post("/entry/describe", `{"path":"/Reports/none/x"}`), 404, "not-found"},
		"a body that is not a form":      {post("/content/write", `{}`), 415, "bad-body"},
		"a range of nothing": {s.ask("PUT", "/api/drafts/none", strings.NewReader("x"), "Content-Range", "bytes 0-0/*"), 404,
			"not-found"},
		"no range":          {s.ask("PUT", "/api/drafts/none", strings.NewReader("x")), 400, "bad-range"},
		"a mark of its own": {s.ask("GET", "/api/changes?since=99999", nil), 410, "mark-lost"},
		"an unknown member": {post("/folder/make", `{"path":"/b","colour":"red"}`), 400, ""},
	} {
		if c.r.status != c.status || c.problem != "" && c.r.body["type"] != "/problems/"+c.problem {
			t.Errorf("%s: %d %s", name, c.r.status, c.r.text)
		}
	}
	moved := post("/entry/move", `{"from":"/Reports","to":"/Kept"}`)
	if moved.status != 202 || moved.header.Get("Location") == "" {
		t.Fatalf("%+v", moved)
	}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		task := s.ask("GET", moved.header.Get("Location"), nil)
		if task.body["state"] == "finished" {
			break
		}
		if task.status != 200 || time.Now().After(deadline) {
			t.Fatalf("%+v", task)
		}
	}
	mark := fmt.Sprint(post("/changes/mark", "").body["mark"])
	begun := time.Now()
	told := make(chan reply, 1)
	go func() { told <- s.ask("GET", "/api/changes?since="+mark, nil, "Prefer", "wait=20") }()
	select {
	case r := <-told:
		t.Fatalf("it did not wait: %+v", r)
	case <-time.After(100 * time.Millisecond):
	}
	if err := alder.Put([]string{"Kept"}, "new.txt", []byte("x"), time.Now()); err != nil {
		t.Fatal(err)
	}
	if r := <-told; !strings.Contains(r.text, "/Kept/new.txt") || time.Since(begun) > 10*time.Second {
		t.Errorf("after %v: %+v", time.Since(begun), r)
	}
	if err := alder.Put([]string{"Kept"}, "new.txt", []byte("newer"), time.Now()); err != nil {
		t.Fatal(err)
	}
	if r := post("/entry/revisions", `{"path":"/kept/NEW.txt"}`); !strings.Contains(r.text, `"length":1`) {
		t.Errorf("the old revision: %+v", r)
	}
}

// TestControl sets faults by the control address, and counts requests.
func TestControl(t *testing.T) {
	clouds, err := standin.StartClouds(t.TempDir(), "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer clouds.Close()
	access, _, _ := clouds.Sedge.Consents.Grant(standin.SedgeClient, clouds.Sedge.Consents.Users[0], "items.read", "items.write")
	s, control := server{t, clouds.SedgeURL, access}, server{t, clouds.ControlURL + "/sedge", ""}
	set := func(faults string) {
		t.Helper()
		if r := control.ask("PUT", "/faults", strings.NewReader(faults)); r.status != 204 {
			t.Fatalf("%+v", r)
		}
	}
	for kind, want := range map[string]int{"500": 500, "503": 503, "429": 429, "429-bare": 429, "html": 200, "reset": 0, "lost": 0} {
		set(`{"rates":{"` + kind + `":1},"times":1,"match":"GET /v2/me"}`)
		if r := s.ask("GET", "/v2/areas", nil); r.status != 200 {
			t.Errorf("%s struck another route: %+v", kind, r)
		}
		if r := s.ask("GET", "/v2/me", nil); r.status != want || (kind == "429") != (r.header.Get("Retry-After") != "") && want == 429 {
			t.Errorf("%s: %+v", kind, r)
		}
		if r := s.ask("GET", "/v2/me", nil); r.status != 200 {
			t.Errorf("%s struck twice: %+v", kind, r)
		}
	}
	if r := control.ask("GET", "/requests", nil); r.body["GET /v2/me"] != float64(14) {
		t.Errorf("%+v", r.body)
	}
	if r := control.ask("DELETE", "/requests", nil); r.status != 204 || len(clouds.Sedge.Control.Requests()) != 0 {
		t.Errorf("%+v", r)
	}
	set(`{"delay_ms":120}`)
	begun := time.Now()
	if s.ask("GET", "/v2/me", nil); time.Since(begun) < 120*time.Millisecond {
		t.Error("there is no delay")
	}
	set(`{"bandwidth":200000}`)
	if err := clouds.Sedge.Put(nil, "slow.bin", bytes.Repeat([]byte("x"), 60_000), time.Now()); err != nil {
		t.Fatal(err)
	}
	id := ""
	for _, item := range s.ask("GET", "/v2/items?parent=root-own&page_size=10", nil).body["items"].([]any) {
		id = fmt.Sprint(item.(map[string]any)["item_id"])
	}
	begun = time.Now()
	if r := s.ask("GET", "/v2/items/"+id+"/bytes", nil); len(r.text) != 60_000 || time.Since(begun) < 200*time.Millisecond {
		t.Errorf("%d bytes after %v", len(r.text), time.Since(begun))
	}
	set(`{}`)
	if r := control.ask("POST", "/expire", nil); r.status != 204 || s.ask("GET", "/v2/me", nil).status != 401 {
		t.Error("the token did not end")
	}
	for _, r := range []reply{control.ask("PUT", "/faults", strings.NewReader(`{"rats":{}}`)), control.ask("GET", "/nothing", nil)} {
		if r.status < 400 {
			t.Errorf("%+v", r)
		}
	}
	if _, err := standin.StartClouds(t.TempDir(), "0.0.0.0:0", "127.0.0.1:0", ""); err == nil {
		t.Error("a stand-in listens to the network")
	}
}

// TestKept has what a stand-in holds outlive it.
func TestKept(t *testing.T) {
	dir := t.TempDir()
	sedge, err := standin.OpenSedge(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := sedge.Put([]string{"a", "b"}, "c.txt", []byte("kept"), time.Now()); err != nil {
		t.Fatal(err)
	}
	sedge.Document([]string{"a"}, "text", "Note", "One line.")
	if err := sedge.Close(); err != nil {
		t.Fatal(err)
	}
	again, err := standin.OpenSedge(dir)
	if err != nil {
		t.Fatal(err)
	}
	h := httptest.NewServer(again)
	defer h.Close()
	again.Consents.Register(standin.Client{ID: "app"})
	access, _, _ := again.Consents.Grant("app", again.Consents.Users[0], "items.read")
	s := server{t, h.URL, access}
	find := func(parent, title string) string {
		r := s.ask("GET", "/v2/items?page_size=10&parent="+parent+"&title="+title, nil)
		items, _ := r.body["items"].([]any)
		if len(items) != 1 {
			t.Fatalf("%s: %+v", title, r)
		}
		return fmt.Sprint(items[0].(map[string]any)["item_id"])
	}
	folder := find("root-own", "a")
	if r := s.ask("GET", "/v2/items/"+find(find(folder, "b"), "c.txt")+"/bytes", nil); r.text != "kept" {
		t.Errorf("%+v", r)
	}
	for format, begins := range map[string]string{"odt": "PK", "pdf": "%PDF-1.4", "html": "<!doctype html>", "txt": "Note"} {
		if r := s.ask("GET", "/v2/items/"+find(folder, "Note")+"/export?as="+format, nil); !strings.HasPrefix(r.text, begins) {
			t.Errorf("%s: %.40q", format, r.text)
		}
	}
	if r := s.ask("GET", "/v2/items/"+find(folder, "Note")+"/export?as=ods", nil); r.status != 400 {
		t.Errorf("a text as a sheet: %+v", r)
	}
}
