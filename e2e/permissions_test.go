package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"deftheron/contract"
)

// What who asks gets: whether an operation is theirs, and whether what it names is.
const (
	in     = "may"    // not refused; what is named may be missing or wrong
	seen   = "sees"   // not refused, and what is named is there
	hidden = "hidden" // as if what is named were not there
	noRole = "denied"
	nobody = "nobody" // has to sign in
)

// expected is what an operation answers nobody, a viewer and an operator with a grant elsewhere, a viewer
// and an operator with the grant, and the owner.
type expected [6]string

var (
	open     = expected{in, in, in, in, in, in}
	anybody  = expected{nobody, in, in, in, in, in}
	lookAt   = expected{nobody, hidden, hidden, seen, seen, seen}
	operator = expected{nobody, noRole, in, noRole, in, in}
	changeAt = expected{nobody, noRole, hidden, noRole, seen, seen}
	own      = expected{nobody, noRole, noRole, noRole, noRole, in}
	// unassigned is of a worker that nobody but owners manages, which is refused as a role is.
	unassigned = own
)

// permissions is the written table: who may do what.
var permissions = map[string]expected{
	"start-session": open, "sign-in-ways": open, "begin-provider-sign-in": open, "end-provider-sign-in": open,
	"begin-passkey-sign-in": open, "end-passkey-sign-in": open, "join-worker": open,

	"whoami": anybody, "end-session": anybody, "confirm-session": anybody, "list-sessions": anybody, "end-sessions": anybody,
	"end-one-session": anybody, "set-password": anybody, "new-codes": anybody, "set-codes": anybody, "remove-codes": anybody,
	"list-tokens": anybody, "make-token": anybody, "revoke-token": anybody, "make-signin-link": anybody, "list-passkeys": anybody,
	"begin-passkey": anybody, "end-passkey": anybody, "remove-passkey": anybody, "begin-passkey-confirmation": anybody,
	"end-passkey-confirmation": anybody,
	// Lists, which hold only what one sees.
	"list-providers": anybody, "show-provider": anybody, "list-accounts": anybody, "list-link-events": anybody, "show-bandwidth": anybody,
	"show-runs-at-once": anybody, "space": anybody, "list-causes": anybody, "read-people": anybody, "list-jobs": anybody,
	"list-rehearsal-warnings": anybody, "list-runs": anybody, "list-flows": anybody, "rates": anybody, "check-paper": anybody,
	"read-week": anybody, "list-times": anybody,

	"list-folder": lookAt, "show-entry": lookAt, "read-content": lookAt, "read-archive": lookAt, "read-preview": {nobody, hidden, hidden, in,
		in, in}, "compare": lookAt,
	"survey": lookAt, "show-history": lookAt,
	"show-account": lookAt, "show-account-usage": lookAt, "list-speeds": lookAt, "show-sealing": lookAt,
	"show-annotations": lookAt, "list-annotated": anybody, "list-tags": anybody, "list-locks": anybody, "tag": changeAt,
	"import-annotations": operator, "add-comment": lookAt, "edit-comment": {nobody, hidden, hidden, hidden, hidden, hidden},
	"remove-comment": {nobody, hidden, hidden, hidden, hidden, hidden}, "lock": changeAt,
	"unlock":       {nobody, noRole, hidden, noRole, hidden, hidden},
	"list-workers": anybody, "show-worker-sharing": anybody, "list-share-links": anybody,
	"show-share-settings": anybody, "show-share-link": {nobody, hidden, hidden, hidden, hidden, hidden},
	"make-share-link":   {nobody, noRole, hidden, noRole, seen, seen},
	"revoke-share-link": {nobody, noRole, hidden, noRole, hidden, hidden}, "set-share-settings": own, "search": anybody,
	"list-search-states": anybody, "list-unread": lookAt, "set-search": changeAt, "show-people": lookAt, "show-job": lookAt,
	"show-job-file": lookAt, "list-arrivals": lookAt, "list-rehearsals": lookAt,
	"show-run": lookAt, "list-items": lookAt, "count-causes": lookAt, "show-run-series": lookAt, "list-run-events": lookAt, "report": lookAt,
	"certificate": {nobody, hidden, hidden, in, in, in}, "verify-certificate": {nobody, hidden, hidden, in, in, in},

	"plan-copy": changeAt, "plan-restore": changeAt, "plan-removal": changeAt, "plan-job": changeAt, "plan-job-history": changeAt,
	"plan-new-job": changeAt, "try-arrival": changeAt, "try-new-arrival": operator,
	"diagnose": own, "make-folder": changeAt, "move": changeAt, "remove": changeAt, "write-content": changeAt,
	"start-copy": changeAt, "start-restore": changeAt, "create-job": changeAt, "change-job": changeAt, "remove-job": changeAt,
	"start-job": changeAt, "suspend-job": changeAt, "resume-job": changeAt, "load-job-file": operator, "announce-arrival": changeAt,
	"start-rehearsal": changeAt, "cancel-run": changeAt, "pause-run": changeAt, "resume-run": changeAt, "retry-run": changeAt,
	"decide-items": changeAt, "set-run-bandwidth": changeAt, "set-run-priority": changeAt, "release-run": changeAt,

	"check-account": changeAt, "edit-account": {nobody, noRole, hidden, noRole, noRole, seen}, // a folder's path is an owner's
	"suspend-account": changeAt, "resume-account": changeAt, "unlink-account": changeAt, "reauthorize-account": changeAt,
	"list-account-resources": changeAt, "link-resource": changeAt, "measure-speed": changeAt, "set-account-bandwidth": changeAt,
	"start-sealing": changeAt,
	"link-account":  operator, "list-resources": operator, "probe-identity": operator, "list-nearby": operator, "begin-consent": operator,
	"show-consent": operator, "answer-consent": operator, "give-up-consent": operator, "new-key": operator,

	"make-backup": own, "set-backups": own, "end-backups": own, "show-backups": own,
	"set-bandwidth": own, "set-runs-at-once": own, "list-notifications": own, "show-notification-settings": own,
	"set-notification-settings": own, "test-notifications": own, "add-definition": own, "check-definition": own, "remove-definition": own,
	"try-definition": own, "register-app": own, "rotate-token": own, "list-users": own, "add-user": own, "show-user": own,
	"change-user": own, "remove-user": own, "set-grant": own, "remove-grant": own, "make-user-link": own, "list-audit": own,
	"verify-audit": own, "export-audit": own, "create-worker": own, "change-worker": unassigned, "set-worker-sharing": own,
	"set-site-bandwidth": own,
	"new-worker-code":    unassigned, "remove-worker": own,
}

// documentedOperation is one of the API's document.
type documentedOperation struct{ method, path, id string }

func (h *heron) documented() (all []documentedOperation) {
	h.t.Helper()
	_, text, _ := h.send("GET", "/api/v1/openapi.json", h.token(), nil)
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal([]byte(text), &document); err != nil {
		h.t.Fatal(err)
	}
	for path, methods := range document.Paths {
		for method, raw := range methods {
			var operation struct {
				OperationID string `json:"operationId"`
			}
			if json.Unmarshal(raw, &operation) == nil && operation.OperationID != "" {
				all = append(all, documentedOperation{strings.ToUpper(method), path, operation.OperationID})
			}
		}
	}
	slices.SortFunc(all, func(a, b documentedOperation) int { return strings.Compare(a.id, b.id) })
	return all
}

// someone is who makes requests: with a token, or with the cookie of a session.
type someone struct {
	name, token string
	cookie      *http.Cookie
}

const testPassword = "correct horse weir"

// signIn signs a user in with a password.
func (h *heron) signIn(name string) someone {
	h.t.Helper()
	body := fmt.Sprintf(`{"name":%q,"password":%q}`, name, testPassword)
	response, err := http.Post("http://"+h.listen+"/api/v1/session", "application/json", strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusNoContent || len(response.Cookies()) != 1 {
		text, _ := io.ReadAll(response.Body)
		h.t.Fatalf("%s signs in: %d %s", name, response.StatusCode, text)
	}
	return someone{name: name, cookie: response.Cookies()[0]}
}

// as sends a request as somebody.
func (h *heron) as(who someone, method, path, body string) (status int, text string) {
	h.t.Helper()
	var content io.Reader
	if body != "" {
		content = strings.NewReader(body)
	}
	request, err := http.NewRequestWithContext(h.t.Context(), method, "http://"+h.listen+path, content)
	if err != nil {
		h.t.Fatal(err)
	}
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if who.token != "" {
		request.Header.Set("Authorization", "Bearer "+who.token)
	}
	if who.cookie != nil {
		request.AddCookie(who.cookie)
		request.Header.Set("Origin", "http://"+h.listen)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		h.t.Fatal(err)
	}
	defer response.Body.Close()
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return response.StatusCode, string(data)
}

// addUser adds a user with a password and grants.
func (h *heron) addUser(name, role string, grants ...contract.Grant) {
	h.t.Helper()
	if _, err := h.client().AddUser(h.t.Context(), contract.NewUser{Name: name, Role: role, Password: testPassword,
		Grants: grants}); err != nil {
		h.t.Fatal(err)
	}
}

// sample is a request of an operation.
type sample struct{ query, body string }

// samples are requests of those operations that name places, jobs or users elsewhere than in their path.
func samples(run string) map[string]sample {
	const spec = `{"name":"made","type":"copy","routes":[{"from":"/desk/Reports","to":"/desk/Made"}]}`
	at := `"at":"2020-01-01T00:00:00Z"`
	return map[string]sample{
		"list-folder": {query: "address=/desk/Reports"}, "show-entry": {query: "address=/desk/Reports"},
		"read-content": {query: "address=/desk/Reports/a.txt"}, "read-archive": {query: "address=/desk/Reports"},
		"read-preview": {query: "address=/desk/Reports/a.png"}, "compare": {query: "here=/desk/Reports&there=/desk/Reports"},
		"survey": {query: "address=/desk/Reports"}, "show-history": {query: "address=/desk/Reports"},
		"write-content": {query: "address=/desk/Reports/new.txt", body: `x`},
		"plan-copy":     {body: `{"from":["/desk/Reports"],"to":"/desk/Copies"}`},
		"start-copy":    {body: `{"from":["/desk/Reports"],"to":"/desk/Copies"}`},
		"plan-restore":  {body: `{"address":"/desk/Reports",` + at + `}`}, "start-restore": {body: `{"address":"/desk/Reports",` + at + `}`},
		"plan-removal": {body: `{"addresses":["/desk/Reports/a.txt"]}`},
		"remove":       {body: `{"addresses":["/desk/Reports/a.txt"],"agreed":{"files":0,"folders":0,"others":0,"bytes":0}}`},
		"move":         {body: `{"from":["/desk/Reports/a.txt"],"to":"/desk/Reports","name":"a.txt"}`},
		"make-folder":  {body: `{"address":"/desk/Reports/Made","parents":true}`}, "create-job": {body: spec}, "plan-new-job": {body: spec},
		"change-job":       {body: `{"name":"kept","type":"copy","routes":[{"from":"/desk/Reports","to":"/desk/Kept"}]}`},
		"announce-arrival": {body: `{"address":"/desk/Reports/a.txt"}`}, "try-arrival": {body: `{}`},
		"remove-grant": {query: "address=/desk"}, "edit-account": {body: `{"read_only":false}`},
		"confirm-session": {body: `{"password":"` + testPassword + `"}`},
		"end-sessions":    {query: "everybody=false"}, "report": {query: "format=json"},
		"set-run-priority": {body: `{"priority":"high"}`}, "start-rehearsal": {body: `{}`}, "plan-job-history": {body: `{}`},
		"measure-speed": {body: `{"size":1024,"number":1,"lanes":1}`}, "reauthorize-account": {body: `{}`},
		"link-resource": {body: `{"value":"x"}`}, "make-share-link": {body: `{"address":"/desk/Reports"}`},
		"show-annotations": {query: "address=/desk/Reports/a.txt"}, "tag": {body: `{"addresses":["/desk/Reports/a.txt"],"add":["x"]}`},
		"add-comment": {body: `{"address":"/desk/Reports/a.txt","text":"x"}`}, "edit-comment": {body: `{"text":"x"}`},
		"create-worker": {body: `{"name":"gauge-house"}`}, "set-worker-sharing": {body: `{"only_workers":false}`},
		"change-worker": {body: `{"draining":true}`},
		"lock":          {body: `{"addresses":["/desk/Reports"]}`}, "unlock": {body: `{"addresses":["/desk/Kept"]}`},
	}
}

func outcome(status int) string {
	switch status {
	case http.StatusUnauthorized:
		return nobody
	case http.StatusForbidden:
		return noRole
	case http.StatusNotFound:
		return hidden
	}
	return seen
}

// TestPermissions calls every operation of the API's document as everybody, and compares what comes back
// with the written table.
func TestPermissions(t *testing.T) {
	t.Parallel()
	h := start(t)
	root := t.TempDir()
	for path, text := range map[string]string{"Reports/a.txt": "a", "Reports/a.png": "not a picture", "Kept/x": "x"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, path), []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	h.linkFolder("desk", root)
	h.linkFolder("other", t.TempDir())
	for _, role := range []string{"viewer", "operator"} {
		h.addUser(role+"-elsewhere", role, contract.Grant{Address: "/other", Role: role})
		h.addUser(role+"-here", role, contract.Grant{Address: "/desk", Role: role})
	}
	everybody := []someone{{name: "nobody"}, h.signIn("viewer-elsewhere"), h.signIn("operator-elsewhere"), h.signIn("viewer-here"),
		h.signIn("operator-here"), {name: "owner"}}
	owner := func() someone { return someone{name: "owner", token: h.token()} }
	jobs := `{"text":"job: kept\ntype: copy\nroutes:\n  - {from: /desk/Reports, to: /desk/Kept}\n"}`
	if status, text := h.as(owner(), "POST", "/api/v1/job-files", jobs); status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	started, err := h.client().StartJob(t.Context(), "kept")
	if err != nil {
		t.Fatal(err)
	}
	run := started.Run
	h.waitState(run, "done")
	// What has to be there again before each call of an operation that takes it away.
	again := map[string]func(){
		"unlink-account": func() {
			h.client().Link(t.Context(), contract.Link{Provider: "folder", Name: "desk",
				Options: map[string]string{"path": root}, Again: true})
		},
		"remove-job": func() { h.as(owner(), "POST", "/api/v1/job-files", jobs) },
		"remove-user": func() {
			h.as(owner(), "POST", "/api/v1/users", `{"name":"spare","role":"viewer"}`)
		},
	}
	operations := h.documented()
	if len(operations) < 120 {
		t.Fatalf("%d operations are documented", len(operations))
	}
	// These end sign-ins, or lock the tree for the others.
	last := []string{"end-session", "end-sessions", "rotate-token", "suspend-account", "resume-account", "remove-job", "unlink-account"}
	slices.SortStableFunc(operations, func(a, b documentedOperation) int {
		return slices.Index(last, a.id) - slices.Index(last, b.id)
	})
	given := samples(run)
	for _, operation := range operations {
		want, ok := permissions[operation.id]
		if !ok {
			if operation.id != "live" {
				t.Errorf("the table says nothing about %s", operation.id)
			}
			continue
		}
		id := "none"
		switch {
		case strings.Contains(operation.path, "/runs/"):
			id = run
		case strings.Contains(operation.path, "/comments/"):
			id = "999"
		}
		path := strings.NewReplacer("{user}", "spare", "{id}", id).Replace(operation.path)
		switch {
		case strings.Contains(path, "/accounts/"):
			path = strings.Replace(path, "{name}", "desk", 1)
		case strings.Contains(path, "/jobs/"):
			path = strings.Replace(path, "{name}", "kept", 1)
		default:
			path = strings.Replace(path, "{name}", "folder", 1)
		}
		one := given[operation.id]
		if one.query != "" {
			path += "?" + one.query
		}
		if one.body == "" && operation.method != "GET" && operation.method != "DELETE" {
			one.body = "{}"
		}
		for i, who := range everybody {
			if do := again[operation.id]; do != nil {
				do()
			}
			if who.name == "owner" {
				who = owner()
			}
			if operation.id == "end-session" && who.cookie != nil {
				who = h.signIn(who.name) // a session to end
			}
			status, text := h.as(who, operation.method, path, one.body)
			got := outcome(status)
			if got != want[i] && !(want[i] == in && (got == seen || got == hidden)) {
				t.Errorf("%s as %s: %d %.200s; want %s", operation.id, who.name, status, text, want[i])
			}
			if want[i] == hidden && status == http.StatusNotFound && strings.Contains(text, "a.txt\"") {
				t.Errorf("%s as %s tells what is hidden: %s", operation.id, who.name, text)
			}
		}
	}
}

// TestListsHoldWhatIsSeen has lists of everything tell a user nothing of what the user does not see.
func TestListsHoldWhatIsSeen(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("mine", t.TempDir())
	h.linkFolder("secretive", t.TempDir())
	h.must("bandwidth", "set", "secretive", "--up", "1MB/s")
	h.must("mkdir", "/secretive/inside")
	jobs := `{"text":"job: hidden-job\ntype: copy\nroutes:\n  - {from: /secretive/inside, to: /secretive/copy}\n"}`
	if status, text := h.as(someone{token: h.token()}, "POST", "/api/v1/job-files", jobs); status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	started, err := h.client().StartJob(t.Context(), "hidden-job")
	if err != nil {
		t.Fatal(err)
	}
	h.waitState(started.Run, "done")
	h.addUser("surveyor", "operator", contract.Grant{Address: "/mine", Role: "operator"})
	who := h.signIn("surveyor")
	for _, operation := range h.documented() {
		if operation.method != "GET" || strings.Contains(operation.path, "{") || permissions[operation.id] == own || operation.id == "live" {
			continue
		}
		_, text := h.as(who, "GET", operation.path+"?address=/&here=/mine&there=/mine", "")
		for _, hidden := range []string{"secretive", "hidden-job", started.Run} {
			if strings.Contains(text, hidden) {
				t.Errorf("%s tells of %s: %.300s", operation.id, hidden, text)
			}
		}
	}
	// A name that is taken is said to be, and no more.
	status, text := h.as(who, "POST", "/api/v1/job-files",
		`{"text":"job: hidden-job\ntype: copy\nroutes:\n  - {from: /mine/a, to: /mine/b}\n"}`)
	if status != http.StatusConflict || strings.Contains(text, "secretive") {
		t.Errorf("a name that is taken: %d %s", status, text)
	}
	// A token for less does not lead to more.
	made, err := h.client().MakeToken(t.Context(), contract.TokenRequest{Name: "reader", Scopes: []string{"read"},
		Grants: []contract.Grant{{Address: "/mine", Role: "viewer"}}})
	if err != nil {
		t.Fatal(err)
	}
	reader := someone{token: made.Secret}
	for _, one := range [][2]string{{"POST", "/api/v1/signin-links"}, {"POST", "/api/v1/tokens"}, {"GET", "/api/v1/sessions"},
		{"GET", "/api/v1/users"}, {"DELETE", "/api/v1/sessions"}} {
		if status, text := h.as(reader, one[0], one[1], `{"name":"more"}`); status != http.StatusForbidden {
			t.Errorf("%s with a token for reading /mine: %d %s", one, status, text)
		}
	}
	if status, text := h.as(reader, "GET", "/api/v1/tree?address=/secretive", ""); status != http.StatusNotFound {
		t.Errorf("with a token for /mine: %d %s", status, text)
	}
}

// TestRunsOfAUser pages through the runs as somebody who sees every other of them.
func TestRunsOfAUser(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, other := t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("other", other)
	writeFile(t, "x", desk, "mine", "a.txt")
	writeFile(t, "x", desk, "not", "a.txt")
	writeFile(t, "x", other, "a.txt")
	var want []string
	for i := range 24 {
		from, to := "/desk/mine/a.txt", fmt.Sprint("/desk/mine/copy ", i)
		switch i % 4 {
		case 1:
			from = "/other/a.txt" // its target alone is seen
		case 2:
			from, to = "/desk/not/a.txt", fmt.Sprint("/desk/not/copy ", i)
		case 3:
			from, to = "/other/a.txt", fmt.Sprint("/other/copy ", i)
		}
		started, err := h.client().Copy(t.Context(), contract.Copy{From: []string{from}, To: to})
		if err != nil {
			t.Fatal(err)
		}
		h.waitState(started.Run, "done")
		if i%4 == 0 {
			want = append(want, started.Run)
		}
	}
	slices.Reverse(want)
	h.addUser("surveyor", "viewer", contract.Grant{Address: "/desk/mine", Role: "viewer"})
	who := h.signIn("surveyor")
	for query, want := range map[string][]string{"": want, "&account=desk": want, "&account=other": nil, "&state=done": want,
		"&state=failed": nil,
		"&text=mine":    want, "&text=" + want[2]: want[2:3]} {
		var got []string
		for cursor, pages := "", 0; ; pages++ {
			_, text := h.as(who, "GET", "/api/v1/runs?limit=2&cursor="+cursor+query, "")
			var page contract.RunPage
			if err := json.Unmarshal([]byte(text), &page); err != nil || pages > 20 {
				t.Fatalf("%s: %s, %v", query, text, err)
			}
			for _, run := range page.Runs {
				got = append(got, run.ID)
			}
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("runs%s: %v, want %v", query, got, want)
		}
	}
}
