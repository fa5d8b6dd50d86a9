package declared_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/declared"
	"deftheron/standin"
)

// shipped is the provider of a definition that is part of the program.
func shipped(t *testing.T, name string) *declared.Provider {
	t.Helper()
	all, err := declared.Shipped()
	if err != nil {
		t.Fatal(err)
	}
	for _, provider := range all {
		if provider.Name() == name {
			return provider
		}
	}
	t.Fatalf("no definition %s is shipped", name)
	return nil
}

// vault keeps one secret, and counts how often it was replaced.
type vault struct {
	mu     sync.Mutex
	now    []byte
	saves  int
	broken error // of saving
}

func (v *vault) Load(context.Context) ([]byte, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.now, nil
}

func (v *vault) Save(_ context.Context, old, fresh []byte) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.broken != nil {
		return v.broken
	}
	if string(old) != string(v.now) {
		return store.ErrChanged
	}
	v.now = fresh
	v.saves++
	return nil
}

// opening is what an account at a stand-in is opened with.
func opening(t *testing.T, address string, secrets store.Secrets, options map[string]string) store.Opening {
	t.Helper()
	transport := http.DefaultTransport.(*http.Transport).Clone()
	t.Cleanup(transport.CloseIdleConnections)
	all := map[string]string{"url": address}
	for name, value := range options {
		all[name] = value
	}
	return store.Opening{
		Account: "drive", Options: all, Secrets: secrets, Gate: gate.New("drive", 16, 64), Transport: transport, Now: time.Now,
		Log: slog.New(slog.DiscardHandler),
	}
}

// granted is the secret that consent would have come to.
func granted(t *testing.T, way string, consents *standin.Consents, client, secret, user string, scopes ...string) *vault {
	t.Helper()
	access, refresh, lasts := consents.Grant(client, user, scopes...)
	raw, err := json.Marshal(map[string]any{
		"way": way, "client_id": client, "client_secret": secret, "access": access, "refresh": refresh, "issued": time.Now(),
		"expires": time.Now().Add(lasts),
	})
	if err != nil {
		t.Fatal(err)
	}
	return &vault{now: raw}
}

// sedge starts a Sedge and returns its address. An app registration of one's
// own, "own", is as fast as can be.
func sedge(t *testing.T) (*standin.Sedge, string) {
	t.Helper()
	s, err := standin.OpenSedge(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	s.Consents.Register(standin.Client{ID: "own", Secret: "own-secret", Redirects: []string{standin.Callback}})
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	return s, server.URL
}

func alder(t *testing.T) (*standin.Alder, string) {
	t.Helper()
	a, err := standin.OpenAlder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(a)
	t.Cleanup(server.Close)
	return a, server.URL
}

func openSedge(t *testing.T) (*standin.Sedge, store.Store) {
	t.Helper()
	s, address := sedge(t)
	secrets := granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read", "items.write")
	opened, err := shipped(t, "sedge").Open(t.Context(), opening(t, address, secrets, nil))
	if err != nil {
		t.Fatal(err)
	}
	return s, opened
}

func openAlder(t *testing.T) (*standin.Alder, store.Store) {
	t.Helper()
	a, address := alder(t)
	secrets := granted(t, "code", a.Consents, standin.AlderClient, "alder-app", "office@tolland.example", "folders:view", "folders:edit")
	opened, err := shipped(t, "alder").Open(t.Context(), opening(t, address, secrets, nil))
	if err != nil {
		t.Fatal(err)
	}
	return a, opened
}

func TestSedgeConformance(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { _, s := openSedge(t); return s })
}

func TestAlderConformance(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { _, s := openAlder(t); return s })
}
