package e2e

import (
	"database/sql"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/demo"
)

// inRecords carries a statement out in the records of a service that has ended.
func (h *heron) inRecords(statement string, args ...any) {
	h.t.Helper()
	db, err := sql.Open("sqlite3", filepath.Join(h.data, "heron.db"))
	if err != nil {
		h.t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statement, args...); err != nil {
		h.t.Fatal(err)
	}
}

// TestFreshSignIn has what matters most ask for the password again after 15 minutes, in the console and
// by the API, and then goes on with it.
func TestFreshSignIn(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.addUser("surveyor", "operator")
	b := openBrowser(t)
	b.signInBy(h, "surveyor")
	who := h.signIn("surveyor")
	h.end(terminate)
	h.inRecords("UPDATE tokens SET confirmed_at = ? WHERE kind = 'session'", time.Now().Add(-16*time.Minute))
	h.serve()
	if status, text := h.as(who, "PUT", "/api/v1/me/password", `{"password":"another horse reed"}`); status != http.StatusForbidden ||
		!strings.Contains(text, contract.CauseSignInAgain) {
		t.Errorf("a password changed by an old sign-in: %d %s", status, text)
	}
	if status, text := h.as(who, "POST", "/api/v1/accounts", `{"provider":"webdav","name":"share","secret":"s3cret",`+
		`"options":{"url":"http://127.0.0.1:1","user":"u"}}`); status != http.StatusForbidden || !strings.Contains(text, contract.CauseSignInAgain) {
		t.Errorf("an account linked with a secret by an old sign-in: %d %s", status, text)
	}
	if status, _ := h.as(who, "GET", "/api/v1/jobs", ""); status != http.StatusOK {
		t.Errorf("what needs no fresh sign-in: %d", status)
	}
	b.open("http://" + h.listen + "/settings/signin")
	b.field("New password, at least 12 characters", "another horse reed")
	b.click("Set the password")
	b.shows("This needs a sign-in of the last 15 minutes")
	b.look("people-again")
	b.accessible("sign in again")
	b.field("Password", "not the password")
	b.click("Sign in")
	b.shows("is not right")
	b.field("Password", testPassword)
	b.click("Sign in")
	b.shows("The password is set.")
	if status, _ := h.as(who, "GET", "/api/v1/jobs", ""); status != http.StatusUnauthorized {
		t.Errorf("another session after the password changed: %d", status)
	}
	made, err := h.client().TokenFor(t.Context(), contract.SignIn{Name: "surveyor", Password: "another horse reed"},
		contract.TokenRequest{Name: "reader", Scopes: []string{"read"}})
	if err != nil {
		t.Fatal(err)
	}
	reader := someone{token: made.Secret}
	if status, text := h.as(reader, "PUT", "/api/v1/me/password", `{"password":"a third horse reed"}`); status != http.StatusForbidden {
		t.Errorf("a token changes the password of its user: %d %s", status, text)
	}
	if status, text := h.as(reader, "POST", "/api/v1/job-files", `{"text":"job: x"}`); status != http.StatusForbidden ||
		!strings.Contains(text, "needs a token for jobs") {
		t.Errorf("a token for reading makes jobs: %d %s", status, text)
	}
}

// TestOperatorsAccounts has an operator link an account, which is then theirs to use; folders of the
// machine are an owner's.
func TestOperatorsAccounts(t *testing.T) {
	t.Parallel()
	c := clouds(t)
	h := start(t)
	h.addUser("surveyor", "operator")
	made, err := h.client().TokenFor(t.Context(), contract.SignIn{Name: "surveyor", Password: testPassword}, contract.TokenRequest{Name: "t"})
	if err != nil {
		t.Fatal(err)
	}
	if r := h.runAs(made.Secret, "", "account", "link", "folder", "desk", "--path", t.TempDir()); r.code != 4 ||
		!strings.Contains(r.err, "Only an owner") {
		t.Errorf("an operator links a folder: %d %s%s", r.code, r.out, r.err)
	}
	operator := &heron{t: t, data: h.data, listen: h.listen, asToken: made.Secret}
	operator.agree(contract.Consenting{Link: contract.Link{Provider: "alder", Name: "office-drive",
		Options: map[string]string{"url": c.AlderURL}}},
		alderUser)
	if r := h.runAs(made.Secret, "", "mkdir", "/office-drive/New"); r.code != 0 {
		t.Errorf("the operator uses it: %d %s", r.code, r.err)
	}
	user, err := h.client().User(t.Context(), "surveyor")
	if err != nil || len(user.Grants) != 1 || user.Grants[0].Address != "/office-drive" {
		t.Errorf("%+v, %v", user, err)
	}
	// What may only be looked at takes no sealed place.
	shared := t.TempDir()
	h.linkFolder("shared", shared)
	if _, err := h.client().SetGrant(t.Context(), "surveyor", contract.Grant{Address: "/shared", Role: "viewer"}); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(t.TempDir(), "key.txt")
	if r := h.runAs(made.Secret, "", "account", "link", "sealed", "vault", "--in", "/shared/vault", "--key-file", key); r.code == 0 ||
		!strings.Contains(r.err, "looked at but not changed") {
		t.Errorf("a sealed place where one may only look: %d %s%s", r.code, r.out, r.err)
	}
	if entries, err := os.ReadDir(shared); err != nil || len(entries) > 0 {
		t.Errorf("it left %v, %v", entries, err)
	}
	// Another one does not see it, nor the consent.
	h.addUser("trustee", "operator")
	if r := h.runAs(made.Secret, "", "ls", "/office-drive"); r.code != 0 {
		t.Error(r.err)
	}
	others, err := h.client().TokenFor(t.Context(), contract.SignIn{Name: "trustee", Password: testPassword}, contract.TokenRequest{Name: "t"})
	if err != nil {
		t.Fatal(err)
	}
	if r := h.runAs(others.Secret, "", "ls", "/office-drive"); r.code == 0 {
		t.Errorf("somebody else sees it: %s", r.out)
	}
	consent, err := (&client.Client{URL: "http://" + h.listen, Token: made.Secret}).BeginConsent(t.Context(),
		contract.Consenting{Link: contract.Link{Provider: "alder", Name: "second", Options: map[string]string{"url": c.AlderURL}}, Way: "page"})
	if err != nil {
		t.Fatal(err)
	}
	if status, _ := h.as(someone{token: others.Secret}, "GET", "/api/v1/consents/"+consent.ID, ""); status != http.StatusNotFound &&
		status != http.StatusUnprocessableEntity {
		t.Errorf("somebody else sees a consent: %d", status)
	}
	// An answer counts in the browser that began alone.
	who := h.signIn("surveyor")
	_, text := h.as(who, "POST", "/api/v1/consents", `{"provider":"alder","name":"third","options":{"url":"`+c.AlderURL+
		`"},"way":"page","console":true}`)
	var begun contract.Consent
	if err := json.Unmarshal([]byte(text), &begun); err != nil || begun.URL == "" {
		t.Fatalf("%s, %v", text, err)
	}
	_ = demo.Agree(t.Context(), begun.URL, alderUser) // a browser of somebody else, without the cookie
	if _, text := h.as(who, "GET", "/api/v1/consents/"+begun.ID, ""); !strings.Contains(text, `"state":"waiting"`) {
		t.Errorf("another browser answered a consent: %s", text)
	}
}
