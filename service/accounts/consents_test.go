package accounts_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/records"
)

// porch is a provider that people agree to. Its secret is the code, and whoever
// it is of is the code's first letter.
type porch struct {
	mu     sync.Mutex
	asked  store.ConsentAsking
	agreed bool // by device
	asks   int
}

func (*porch) Name() string  { return "porch" }
func (*porch) Title() string { return "Porch" }
func (*porch) Options() []store.Option {
	return []store.Option{{Name: "client-id"}, {Name: "secret", Secret: true}}
}

func (*porch) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	secret, err := opening.Secrets.Load(ctx)
	if err != nil {
		return nil, err
	}
	return owned{storetest.NewMemory(), string(secret[:1])}, nil
}

type owned struct {
	*storetest.Memory
	owner string
}

func (o owned) Capabilities() store.Capabilities {
	c := o.Memory.Capabilities()
	c.Owner = o.Owner
	return c
}

func (o owned) Owner(context.Context) (string, error) { return o.owner, nil }

func (*porch) ConsentWays(map[string]string) []store.ConsentWay {
	return []store.ConsentWay{store.ConsentByPage, store.ConsentByDevice, store.ConsentByPaste}
}

func (p *porch) BeginConsent(_ context.Context, opening store.Opening, asking store.ConsentAsking) (store.Consent, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked = asking
	return store.Consent{Way: asking.Way, URL: "https://porch.example/?state=" + asking.State, UserCode: "ABCD", Every: time.Second,
		Expires: opening.Now().Add(time.Minute), Kept: []byte("{}")}, nil
}

func (p *porch) EndConsent(_ context.Context, _ store.Opening, consent store.Consent, answer store.ConsentAnswer) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asks++
	switch {
	case answer.Refused != "":
		return nil, store.Errorf(store.ErrRefused, "consent was refused at Porch")
	case consent.Way == store.ConsentByDevice && !p.agreed:
		return nil, store.SlowDown(time.Second, errors.New("not yet"))
	case consent.Way == store.ConsentByDevice:
		return []byte("device"), nil
	case answer.Code == "used":
		return nil, store.Errorf(store.ErrRefused, "the code is not good")
	}
	return []byte(answer.Code), nil
}

func newPorch(t *testing.T) (*porch, *accounts.Accounts, *records.DB) {
	t.Helper()
	dir := t.TempDir()
	db, err := records.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	sealer, err := access.OpenKey(t.Context(), db, dir, "", false)
	if err != nil {
		t.Fatal(err)
	}
	p := &porch{}
	return p, accounts.New(db, sealer, []store.Provider{p, &vault{}}, slog.New(slog.NewTextHandler(io.Discard, nil))), db
}

func asking(name string, way store.ConsentWay) accounts.Consenting {
	return accounts.Consenting{Link: accounts.Link{Provider: "porch", Name: name}, Way: way, Callback: "http://127.0.0.1/consent/callback"}
}

func TestConsentByPage(t *testing.T) {
	_, a, db := newPorch(t)
	ctx := t.Context()
	begin := func(name string) (accounts.Consent, string) {
		t.Helper()
		consent, err := a.BeginConsent(ctx, ctx, asking(name, ""))
		if err != nil || consent.State != accounts.ConsentWaiting || consent.Way != store.ConsentByPage {
			t.Fatalf("%+v, %v", consent, err)
		}
		_, state, _ := strings.Cut(consent.URL, "state=")
		return consent, state
	}
	_, state := begin("drive")
	for _, wrong := range []string{"", "x", state + "x"} {
		if _, err := a.AnswerByState(ctx, wrong, "", store.ConsentAnswer{Code: "anna"}); !errors.Is(err, accounts.ErrState) {
			t.Errorf("the state %q: %v", wrong, err)
		}
	}
	if answered, err := a.AnswerByState(ctx, state, "", store.ConsentAnswer{Code: "anna"}); err != nil ||
		answered.State != accounts.ConsentLinked || answered.Account.Name != "drive" || answered.Found.Owner != "a" {
		t.Fatalf("%+v, %v", answered, err)
	}
	if _, err := a.AnswerByState(ctx, state, "", store.ConsentAnswer{Code: "anna"}); !errors.Is(err, accounts.ErrState) {
		t.Errorf("a state that was used: %v", err)
	}
	row, err := db.Account(ctx, "drive")
	if err != nil || row.Owner != "a" || strings.Contains(string(row.Secret), "anna") {
		t.Errorf("kept as %+v, %v", row, err)
	}
	if _, err := a.BeginConsent(ctx, ctx, asking("drive", "")); err == nil {
		t.Error("a name that is taken is found out only after consent")
	}
	refused, state := begin("other")
	if answered, err := a.AnswerByState(ctx, state, "", store.ConsentAnswer{Refused: "access_denied"}); err != nil ||
		answered.State != accounts.ConsentFailed || answered.Err == nil {
		t.Errorf("%+v, %v", answered, err)
	}
	if shown, err := a.Consent(refused.ID); err != nil || shown.State != accounts.ConsentFailed {
		t.Errorf("%+v, %v", shown, err)
	}
	if _, err := a.Consent("none"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if _, err := a.BeginConsent(ctx, ctx, accounts.Consenting{Link: accounts.Link{Provider: "vault", Name: "v",
		Options: map[string]string{"host": "h"}, Secret: "x"}}); err == nil || !strings.Contains(err.Error(), "not linked by consent") {
		t.Errorf("a provider of secrets: %v", err)
	}
	if _, _, err := a.Add(ctx, accounts.Link{Provider: "porch", Name: "x", Secret: "anna"}); err == nil ||
		!strings.Contains(err.Error(), "by consent") {
		t.Errorf("linked without consent: %v", err)
	}
	// Reauthorized by the same owner alone; what waits for it is told.
	mended := ""
	a.Reauthorized = func(name string) { mended = name }
	for code, want := range map[string]accounts.ConsentState{"bert": accounts.ConsentFailed, "used": accounts.ConsentFailed} {
		again, err := a.BeginConsent(ctx, ctx,
			accounts.Consenting{Link: accounts.Link{Name: "drive"}, Reauthorize: true, Way: store.ConsentByPaste})
		if err != nil {
			t.Fatal(err)
		}
		if answered, err := a.AnswerByPaste(ctx, again.ID, code); err != nil || answered.State != want || mended != "" {
			t.Errorf("mended with %s: %+v, %v", code, answered, err)
		}
	}
	again, err := a.BeginConsent(ctx, ctx, accounts.Consenting{Link: accounts.Link{Name: "drive"}, Reauthorize: true,
		Way: store.ConsentByPaste})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.AnswerByPaste(ctx, again.ID, "https://porch.example/?code=amy&state=of-another"); err == nil ||
		!strings.Contains(err.Error(), "another link") {
		t.Errorf("%v", err)
	}
	if answered, err := a.AnswerByPaste(ctx, again.ID, "amy"); err != nil || answered.State != accounts.ConsentLinked || mended != "drive" {
		t.Errorf("%+v, %v, %q", answered, err, mended)
	}
	if _, err := a.AnswerByPaste(ctx, again.ID, "amy"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("pasted twice: %v", err)
	}
	if _, _, err := a.Reauthorize(ctx, "drive", "secret", nil); err == nil || !strings.Contains(err.Error(), "linked by consent") {
		t.Error(err)
	}
}

func TestRegistration(t *testing.T) {
	p, a, _ := newPorch(t)
	ctx := t.Context()
	if err := a.Register(ctx, "vault", "id", ""); err == nil {
		t.Error("a provider of secrets has an app registration")
	}
	if err := a.Register(ctx, "porch", "mine", "kept"); err != nil || a.RegisteredAs(ctx, "porch") != "mine" {
		t.Fatal(err)
	}
	if _, err := a.BeginConsent(ctx, ctx, asking("one", "")); err != nil || p.asked.ClientID != "mine" || p.asked.ClientSecret != "kept" {
		t.Errorf("%+v, %v", p.asked, err)
	}
	own := asking("two", "")
	own.Options, own.ClientSecret = map[string]string{"client-id": "its own"}, "s"
	if _, err := a.BeginConsent(ctx, ctx, own); err != nil || p.asked.ClientID != "its own" || p.asked.ClientSecret != "s" {
		t.Errorf("%+v, %v", p.asked, err)
	}
	if err := a.Register(ctx, "porch", "", ""); err != nil || a.RegisteredAs(ctx, "porch") != "" {
		t.Error(err)
	}
}

// TestRegistrationEnds is of an app registration at a provider that is removed:
// another of the name does not get its secret.
func TestRegistrationEnds(t *testing.T) {
	_, a, _ := newPorch(t)
	ctx := t.Context()
	const yard = `
definition: 1
name: yard
title: Yard
base: https://yard.example.org
addressed: path
entry: {name: .name, kind: '"file"', revision: .rev}
list: {request: GET /list, items: ".items[]"}
download: {request: "GET /file{+escaped_path}"}
`
	add := func() {
		if _, err := a.AddDefinition(ctx, "yard.yaml", yard); err != nil {
			t.Fatal(err)
		}
	}
	add()
	if err := a.Register(ctx, "yard", "mine", "kept"); err != nil || a.RegisteredAs(ctx, "yard") != "mine" {
		t.Fatal(err, a.RegisteredAs(ctx, "yard"))
	}
	add() // a newer version keeps it
	if a.RegisteredAs(ctx, "yard") != "mine" {
		t.Error("a newer version of the definition lost the registration")
	}
	if err := a.RemoveDefinition(ctx, "yard"); err != nil {
		t.Fatal(err)
	}
	add()
	if id := a.RegisteredAs(ctx, "yard"); id != "" {
		t.Errorf("the registration %q outlived its provider", id)
	}
}

// TestConsentByDevice waits for somebody elsewhere, in no more requests than were
// asked for, and gives up when it is too late.
func TestConsentByDevice(t *testing.T) {
	p, a, _ := newPorch(t)
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer a.Wait()
		defer cancel()
		trial := asking("trial", store.ConsentByDevice)
		trial.Trial = p
		consent, err := a.BeginConsent(ctx, ctx, trial)
		if err != nil || consent.UserCode != "ABCD" {
			t.Fatal(consent, err)
		}
		if _, err := a.AnswerByPaste(ctx, consent.ID, "x"); err == nil {
			t.Error("something was pasted where a code is typed")
		}
		time.Sleep(10*time.Second + time.Millisecond)
		synctest.Wait()
		p.mu.Lock()
		if p.asks != 10 {
			t.Errorf("asked %d times in ten seconds", p.asks)
		}
		p.agreed = true
		p.mu.Unlock()
		time.Sleep(time.Second)
		synctest.Wait()
		if shown, err := a.Consent(consent.ID); err != nil || shown.State != accounts.ConsentGranted {
			t.Errorf("%+v, %v", shown, err)
		}
		if secret, err := a.Granted(consent.ID); err != nil || string(secret) != "device" {
			t.Errorf("%s, %v", secret, err)
		}
		if _, err := a.Granted(consent.ID); err == nil {
			t.Error("a trial's consent is good twice")
		}
		p.agreed = false
		late, err := a.BeginConsent(ctx, ctx, trial)
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		if shown, err := a.Consent(late.ID); err != nil || shown.State != accounts.ConsentFailed ||
			!strings.Contains(shown.Err.Error(), "expired") {
			t.Errorf("%+v, %v", shown, err)
		}
		given, err := a.BeginConsent(ctx, ctx, trial)
		if err != nil {
			t.Fatal(err)
		}
		before := p.asks
		a.GiveUpConsent(given.ID)
		time.Sleep(5 * time.Second)
		synctest.Wait()
		if p.asks != before {
			t.Errorf("asked %d times for what was given up", p.asks-before)
		}
	})
}

func TestProxyThrough(t *testing.T) {
	for _, wrong := range []string{"proxy", "socks5://h:1", "http://", "://"} {
		if _, err := accounts.ProxyThrough(wrong); err == nil {
			t.Errorf("%q is a proxy", wrong)
		}
	}
	t.Setenv("NO_PROXY", "inside.example")
	proxy, err := accounts.ProxyThrough("http://proxy.example:3128")
	if err != nil {
		t.Fatal(err)
	}
	for host, through := range map[string]bool{"outside.example": true, "inside.example": false, "127.0.0.1": false} {
		chosen, err := proxy(&http.Request{URL: &url.URL{Scheme: "https", Host: host}})
		if err != nil || (chosen != nil) != through {
			t.Errorf("%s: %v, %v", host, chosen, err)
		}
	}
}
