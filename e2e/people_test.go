package e2e

import (
	"bufio"
	"context"
	"database/sql"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	_ "github.com/mattn/go-sqlite3" // opens the records, to alter them
	"github.com/pquerna/otp/totp"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/standin"
)

// signInBy signs a browser in with a name and a password.
func (b *window) signInBy(h *heron, name string) {
	b.t.Helper()
	b.open("http://" + h.listen + "/signin")
	b.field("Name", name)
	b.field("Password", testPassword)
	b.click("Sign in")
	b.shows("Overview")
}

// heard collects what the live events tell somebody until stopped.
func (h *heron) heard(who someone) (stop func() string) {
	h.t.Helper()
	ctx, cancel := context.WithCancel(h.t.Context())
	request, err := http.NewRequestWithContext(ctx, "GET", "http://"+h.listen+"/api/v1/live", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	request.AddCookie(who.cookie)
	response, err := http.DefaultClient.Do(request)
	if err != nil || response.StatusCode != http.StatusOK {
		h.t.Fatalf("live events: %v, %v", response, err)
	}
	var text strings.Builder
	done := make(chan struct{})
	go func() {
		defer close(done)
		for lines := bufio.NewScanner(response.Body); lines.Scan(); {
			text.WriteString(lines.Text() + "\n")
		}
	}()
	return func() string {
		cancel()
		<-done
		response.Body.Close()
		return text.String()
	}
}

// TestTwoPeople has two people work at once, each in a browser of their own. Neither sees what is
// not theirs: in the tree, in lists, in the command field, in live events, nor by address.
func TestTwoPeople(t *testing.T) {
	t.Parallel()
	h := start(t)
	root := t.TempDir()
	writeFile(t, "levels", root, "Surveys", "levels.csv")
	writeFile(t, "permit", root, "Permits", "permit.txt")
	h.linkFolder("desk", root)
	h.linkFolder("private", t.TempDir())
	h.addUser("surveyor", "operator", contract.Grant{Address: "/desk/Surveys", Role: "operator"})
	h.addUser("trustee", "viewer", contract.Grant{Address: "/desk/Permits", Role: "viewer"})
	surveyor, trustee := openBrowser(t), openBrowser(t)
	surveyor.signInBy(h, "surveyor")
	trustee.signInBy(h, "trustee")
	surveyor.look("people-overview")

	surveyor.open("http://" + h.listen + "/files/desk")
	surveyor.until(`[...document.querySelectorAll('a')].some((e) => e.textContent === 'Surveys')`)
	trustee.open("http://" + h.listen + "/files/desk")
	trustee.until(`[...document.querySelectorAll('a')].some((e) => e.textContent === 'Permits')`)
	for b, hidden := range map[*window][]string{surveyor: {"Permits", "private"}, trustee: {"Surveys", "private"}} {
		for _, name := range hidden {
			if js[bool](b, "document.body.innerText.includes("+quote(name)+")") {
				t.Errorf("a page shows %s", name)
			}
		}
	}
	trustee.open("http://" + h.listen + "/files/desk/Surveys")
	trustee.shows("does not exist")
	trustee.look("people-hidden")

	listening := h.heard(h.signIn("trustee"))
	mine := h.heard(h.signIn("surveyor"))
	status, text := h.as(h.signIn("surveyor"), "POST", "/api/v1/copies", `{"from":["/desk/Surveys/levels.csv"],"to":"/desk/Surveys/Copies"}`)
	if status != http.StatusCreated {
		t.Fatalf("the surveyor copies: %d %s", status, text)
	}
	id := strings.Split(strings.SplitN(text, `"run":"`, 2)[1], `"`)[0]
	h.waitState(id, "done")
	surveyor.open("http://" + h.listen + "/runs")
	surveyor.shows("/desk/Surveys/levels.csv → /desk/Surveys/Copies/levels.csv")
	trustee.open("http://" + h.listen + "/runs/" + id)
	trustee.shows("There is no run")
	if heard := mine(); !strings.Contains(heard, id) {
		t.Errorf("the surveyor's own run is not told: %s", heard)
	}
	if heard := listening(); strings.Contains(heard, id) || strings.Contains(heard, "Surveys") {
		t.Errorf("the trustee hears of the surveyor's run: %s", heard)
	}
	// An open page follows its grants: what was taken away is gone, without a new sign-in.
	if _, err := h.client().RemoveGrant(t.Context(), "surveyor", "/desk/Surveys"); err != nil {
		t.Fatal(err)
	}
	surveyor.open("http://" + h.listen + "/files")
	surveyor.until(`!document.body.innerText.includes('desk')`)
	// A token of somebody sees no more than they do.
	made, err := h.client().TokenFor(t.Context(), contract.SignIn{Name: "trustee", Password: testPassword},
		contract.TokenRequest{Name: "reader"})
	if err != nil {
		t.Fatal(err)
	}
	if r := h.runAs(made.Secret, "", "ls", "/desk"); !strings.Contains(r.out, "Permits") || strings.Contains(r.out, "Surveys") {
		t.Errorf("heron ls as the trustee: %s%s", r.out, r.err)
	}
	for _, args := range [][]string{{"ls", "/private"}, {"rm", "--yes", "/desk/Permits/permit.txt"}, {"user", "list"}} {
		if r := h.runAs(made.Secret, "", args...); r.code != 4 && r.code != 1 {
			t.Errorf("heron %s as the trustee: %d %s%s", args, r.code, r.out, r.err)
		}
	}
}

// TestOwnerLosesGrants takes the grants of a job's owner away: its runs are held, also one that goes,
// and continue when the grants are back.
func TestOwnerLosesGrants(t *testing.T) {
	t.Parallel()
	h := start(t)
	root := t.TempDir()
	for i := range 40 {
		writeFile(t, strings.Repeat("x", 64<<10), root, "Surveys", string(rune('a'+i%26))+strings.Repeat("b", i))
	}
	h.linkFolder("desk", root)
	h.linkFolder("archive", t.TempDir())
	for _, address := range []string{"/desk/Surveys", "/archive"} {
		if address == "/archive" {
			if _, err := h.client().SetGrant(t.Context(), "surveyor", contract.Grant{Address: address, Role: "operator"}); err != nil {
				t.Fatal(err)
			}
			continue
		}
		h.addUser("surveyor", "operator", contract.Grant{Address: address, Role: "viewer"})
	}
	who := h.signIn("surveyor")
	job := `{"text":"job: surveys\ntype: copy\nroutes:\n  - {from: /desk/Surveys, to: /archive/surveys}\nbandwidth: {up: 500kB/s}\n"}`
	if status, text := h.as(who, "POST", "/api/v1/job-files", job); status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	mirror := `{"text":"job: two\ntype: two-way\nroutes:\n  - {from: /desk/Surveys, to: /archive/two}\n"}`
	if status, text := h.as(who, "POST", "/api/v1/job-files", mirror); status != http.StatusForbidden && status != http.StatusConflict {
		t.Errorf("a job that changes what may only be looked at: %d %s", status, text)
	}
	started, err := h.client().StartJob(t.Context(), "surveys")
	if err != nil {
		t.Fatal(err)
	}
	h.waitState(started.Run, string(run.Running))
	if _, err := h.client().RemoveGrant(t.Context(), "surveyor", "/archive"); err != nil {
		t.Fatal(err)
	}
	h.waitState(started.Run, string(run.Held))
	shown, err := h.client().Run(t.Context(), started.Run)
	if err != nil || shown.Cause != string(plan.CauseOwner) || shown.Remedy == "" {
		t.Errorf("%+v, %v", shown, err)
	}
	if _, err := h.client().SetGrant(t.Context(), "surveyor", contract.Grant{Address: "/archive", Role: "operator"}); err != nil {
		t.Fatal(err)
	}
	h.waitState(started.Run, string(run.Done))
	if shown, err := h.client().Run(t.Context(), started.Run); err != nil || shown.Items.Done < 40 {
		t.Errorf("%+v, %v", shown.Items, err)
	}
}

// TestOpenIDSignIn signs in through the stand-in OpenID provider in a browser: with the role of a
// group, after its keys were replaced, and not when an answer is forged in any way.
func TestOpenIDSignIn(t *testing.T) {
	t.Parallel()
	c := clouds(t)
	provider, at, err := c.StartSignIn("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte(standin.SignInSecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h := start(t)
	h.end(terminate)
	h.serve("--openid-issuer", at, "--openid-client", standin.SignInClient, "--openid-secret-file", secret, "--openid-title",
		"Fenmere sign-in",
		"--openid-role", "surveys=operator", "--openid-role", "trustees=viewer")
	b := openBrowser(t)
	enter := func(name, want string) {
		t.Helper()
		b.open("http://" + h.listen + "/signin")
		b.click("Sign in with Fenmere sign-in")
		b.shows("Who are you?")
		b.click(name)
		b.shows(want)
	}
	b.open("http://" + h.listen + "/signin")
	b.shows("Sign in with Fenmere sign-in")
	b.look("people-signin")
	b.accessible("the sign-in page")
	for fault, want := range map[string]string{"iss": "not from", "nonce": "cannot be trusted", "audience": "cannot be trusted",
		"signature": "cannot be trusted", "expired": "cannot be trusted"} {
		provider.SetFault(fault)
		enter("surveyor", want)
		if status, _ := h.as(someone{}, "GET", "/api/v1/whoami", ""); status != http.StatusUnauthorized {
			t.Errorf("with a wrong %s somebody is signed in", fault)
		}
	}
	provider.SetFault("")
	enter("visitor", "None of your groups")
	b.look("people-not-signed-in")
	enter("Cancel", "did not sign you in")
	if err := provider.Rotate(); err != nil {
		t.Fatal(err)
	}
	enter("surveyor", "Overview")
	user, err := h.client().User(t.Context(), "surveyor")
	if err != nil || user.Role != "operator" || user.Provider != at {
		t.Errorf("%+v, %v", user, err)
	}
	// An answer that another browser began is none of this one's.
	b.open("http://" + h.listen + "/api/v1/session/provider/callback?state=forged&code=x&iss=" + at)
	b.shows("belongs to no sign-in of this browser")
	// The role follows the groups.
	provider.SetIdentities([]standin.Identity{{Subject: "s-1", Name: "surveyor", Groups: []string{"trustees"}}})
	enter("surveyor", "Overview")
	if user, err := h.client().User(t.Context(), "surveyor"); err != nil || user.Role != "viewer" {
		t.Errorf("%+v, %v", user, err)
	}
}

// TestCodesAndPasskeys sets up one-time codes and a passkey in the console, with a virtual
// authenticator, and signs in with each.
func TestCodesAndPasskeys(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.addUser("surveyor", "operator")
	b := openBrowser(t)
	site := "http://" + strings.Replace(h.listen, "127.0.0.1", "localhost", 1)
	b.open(site + "/signin")
	b.field("Name", "surveyor")
	b.field("Password", "not the password")
	b.click("Sign in")
	b.shows("is not right")
	b.field("Password", testPassword)
	b.click("Sign in")
	b.shows("Overview")
	b.open(site + "/settings/signin")
	b.click("Set up one-time codes")
	b.shows("Enter this key")
	key := js[string](b, "document.querySelector('main code').textContent")
	codeNow := func() string {
		code, err := totp.GenerateCode(key, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	used := codeNow()
	b.field("The code that it shows now", used)
	b.click("Use these codes")
	b.shows("recovery codes")
	b.look("people-codes")
	b.accessible("your sign-in")
	recovery := js[string](b, "document.querySelector('[role=status] li').textContent")
	signOut := func() {
		t.Helper()
		b.until("(window.left ??= fetch('/api/v1/session', {method: 'DELETE'}).then(() => { window.gone = true })) && window.gone")
		b.open(site + "/signin")
	}
	signIn := func(code, want string) {
		t.Helper()
		b.field("Name", "surveyor")
		b.field("Password", testPassword)
		b.click("Sign in")
		b.shows("One-time code")
		b.field("One-time code", code)
		b.click("Sign in")
		b.shows(want)
	}
	signOut()
	signIn(used, "is not right") // the code that set them up is used up
	b.open(site + "/signin")
	signIn(recovery, "Overview")
	signOut()
	signIn(recovery, "is not right") // a recovery code is good once

	b.open(site + "/signin")
	link, err := h.client().UserLink(t.Context(), "surveyor")
	if err != nil {
		t.Fatal(err)
	}
	b.open(site + "/signin#" + strings.SplitN(link.URL, "#", 2)[1])
	b.shows("Overview")
	b.withAuthenticator()
	b.open(site + "/settings/signin")
	b.field("Name of the device", "field laptop")
	b.click("Add a passkey")
	b.shows("field laptop added")
	b.look("people-passkey")
	signOut()
	b.click("Use a passkey")
	b.shows("Overview")
	b.until("[...document.querySelectorAll('header button')].some((e) => e.textContent === 'surveyor')")
	b.open("http://" + h.listen + "/signin") // an address of numbers
	b.shows("Browsers offer no passkeys for the address 127.0.0.1")
	user, err := h.client().User(t.Context(), "surveyor")
	if err != nil || !user.Codes || user.Recovery != 9 || user.Passkeys != 1 {
		t.Errorf("%+v, %v", user, err)
	}
}

// TestAuditLog has the log tell who did what, never a secret, and show when it was altered.
func TestAuditLog(t *testing.T) {
	t.Parallel()
	h := start(t)
	root := t.TempDir()
	writeFile(t, "levels", root, "levels.csv")
	h.linkFolder("desk", root)
	h.addUser("surveyor", "operator", contract.Grant{Address: "/desk", Role: "operator"})
	who := h.signIn("surveyor")
	h.as(who, "POST", "/api/v1/folders", `{"address":"/desk/New"}`)
	for range 3 {
		h.as(who, "GET", "/api/v1/content?address=/desk/levels.csv", "")
	}
	h.as(who, "GET", "/api/v1/users", "")
	h.as(someone{}, "POST", "/api/v1/session", `{"name":"surveyor","password":"wrong password"}`)
	for range 20 { // who is not signed in writes nothing by asking
		h.as(someone{}, "POST", "/api/v1/session/passkey/challenge", "")
		h.as(someone{}, "POST", "/api/v1/session/passkey", `{"id":"x","answer":{}}`)
	}
	h.as(who, "DELETE", "/api/v1/sessions/a%20%20b", "")
	out := h.must("audit", "list")
	if strings.Contains(out, "passkey") || !strings.Contains(out, "a  b") {
		t.Errorf("the log:\n%s", out)
	}
	for _, want := range []string{"make-folder", "read-content", "list-users", "403", "sign-in", "failed", "link-account"} {
		if !strings.Contains(out, want) {
			t.Errorf("the log does not tell of %s:\n%s", want, out)
		}
	}
	exported := h.must("audit", "export")
	for _, secret := range []string{testPassword, "wrong password", h.token(), who.cookie.Value} {
		if strings.Contains(out+exported, secret) || strings.Contains(h.log.String(), secret) {
			t.Errorf("a secret is in the log")
		}
	}
	if out := h.must("audit", "verify"); !strings.Contains(out, "unaltered") {
		t.Error(out)
	}
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Overview")
	b.open("http://" + h.listen + "/settings/audit")
	b.shows("make-folder")
	b.click("Verify")
	b.shows("Unaltered")
	b.look("people-audit")
	b.accessible("the audit log")
	for page, want := range map[string]string{"users": "as operator", "tokens": "No program has a token yet", "sessions": "surveyor"} {
		b.open("http://" + h.listen + "/settings/" + page)
		b.shows(want)
		b.look("people-" + page)
		b.accessible(page)
	}
	for what, statement := range map[string]string{
		"changed":          "UPDATE audit SET subject = 'nothing' WHERE action = 'make-folder'",
		"removed":          "DELETE FROM audit WHERE action = 'make-folder'",
		"cut off":          "DELETE FROM audit WHERE seq > (SELECT max(seq) - 2 FROM audit)",
		"without its head": "DELETE FROM meta WHERE name = 'audit-head'",
		"inserted":         "INSERT INTO audit SELECT max(seq) + 1, at, user, kind, \"from\", client, 'x', '', 'done', 1, mac FROM audit",
	} {
		h.end(terminate)
		altered := h.altered(what, statement)
		if r := altered.run("", "audit", "verify"); r.code != 1 || !strings.Contains(r.err, "was altered") {
			t.Errorf("a log with an entry that was %s: %d %s%s", what, r.code, r.out, r.err)
		}
		altered.end(terminate)
		h.serve()
	}
	if out := h.must("audit", "verify"); !strings.Contains(out, "unaltered") {
		t.Error(out)
	}
}

// altered is a service on a copy of the data folder, in whose records a statement was carried out.
func (h *heron) altered(name, statement string) *heron {
	h.t.Helper()
	folder := filepath.Join(h.t.TempDir(), name)
	if err := os.CopyFS(folder, os.DirFS(h.data)); err != nil {
		h.t.Fatal(err)
	}
	for _, private := range []string{"heron.key", "owner.token"} {
		if err := os.Chmod(filepath.Join(folder, private), 0o600); err != nil {
			h.t.Fatal(err)
		}
	}
	db, err := sql.Open("sqlite3", filepath.Join(folder, "heron.db"))
	if err != nil {
		h.t.Fatal(err)
	}
	if _, err := db.Exec(statement); err != nil {
		h.t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		h.t.Fatal(err)
	}
	other := &heron{t: h.t, data: folder, listen: h.listen}
	other.serve()
	return other
}

const terminate = syscall.SIGTERM

// withAuthenticator gives a page a device that holds passkeys, and whose user always agrees.
func (b *window) withAuthenticator() {
	b.t.Helper()
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		if _, err := cdp.Call(ctx, target, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return chromedp.Void{}, err
		}
		_, err := cdp.Call(ctx, target, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
			Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
				AutomaticPresenceSimulation: true}})
		return chromedp.Void{}, err
	})
}
