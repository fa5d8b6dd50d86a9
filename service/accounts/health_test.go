package accounts_test

import (
	"context"
	"crypto/x509"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/network"
	"deftheron/service/accounts"
	"deftheron/service/records"
)

// filling is a provider whose server shows a certificate and tells how full it is.
type filling struct {
	space  store.Space
	ends   time.Time
	broken error
}

func (*filling) Name() string            { return "filling" }
func (*filling) Title() string           { return "Filling" }
func (*filling) Options() []store.Option { return nil }

func (f *filling) Open(_ context.Context, opening store.Opening) (store.Store, error) {
	if f.broken != nil {
		return nil, f.broken
	}
	opening.OnCertificate(&x509.Certificate{NotAfter: f.ends})
	return &filled{storetest.NewMemory(), f}, nil
}

type filled struct {
	store.Store
	provider *filling
}

func (f *filled) Capabilities() store.Capabilities {
	c := f.Store.Capabilities()
	c.Space = f.Space
	return c
}

func (f *filled) Space(context.Context) (store.Space, error) {
	return f.provider.space, f.provider.broken
}

// TestHealth has accounts checked quietly, and said what is going to stand in the
// way before anything meets it.
func TestHealth(t *testing.T) {
	ctx := t.Context()
	db, sealer := newRecords(t)
	const total = 1000 << 30
	provider := &filling{space: store.UnknownSpace, ends: time.Now().Add(400 * 24 * time.Hour)}
	a := accounts.New(db, sealer, []store.Provider{provider}, slog.New(slog.DiscardHandler))
	row, _, err := a.Add(accounts.By(ctx, "the owner"), accounts.Link{Provider: "filling", Name: "share"})
	if err != nil {
		t.Fatal(err)
	}
	warned := func() string {
		t.Helper()
		a.CheckAll(ctx)
		var what []string
		for _, warning := range a.Warnings(ctx, row) {
			if warning.Why == "" || warning.Remedy == "" {
				t.Errorf("%+v has no words", warning)
			}
			what = append(what, warning.What)
		}
		return strings.Join(what, " ")
	}
	if got := warned(); got != "" {
		t.Errorf("of an account that is well: %s", got)
	}
	provider.ends = time.Now().Add(5 * 24 * time.Hour)
	again := accounts.New(db, sealer, []store.Provider{provider}, slog.New(slog.DiscardHandler)) // as after a restart
	a = again
	if got := warned(); got != "certificate-ends" {
		t.Errorf("of a certificate that ends in five days: %s", got)
	}
	provider.ends = time.Now().Add(400 * 24 * time.Hour)
	a = accounts.New(db, sealer, []store.Provider{provider}, slog.New(slog.DiscardHandler))
	for day := range 5 { // it has filled by 90 GiB a day
		sample := records.SpaceSample{Account: row.ID, At: time.Now().Add(time.Duration(day-5) * 24 * time.Hour), Used: int64(day+1) * 90 << 30,
			Free: total - int64(day+1)*90<<30, Total: total}
		if err := db.AddSpaceSample(ctx, sample, time.Now().Add(-40*24*time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	provider.space = store.Space{Used: 540 << 30, Free: 460 << 30, Total: total}
	if got := warned(); got != "space-full-soon" {
		t.Errorf("of an account that fills: %q", got)
	}
	if err := db.AddSpaceSample(ctx, records.SpaceSample{Account: row.ID, At: time.Now().Add(time.Hour), Used: 970 << 30, Free: 30 << 30,
		Total: total}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if got := warned(); got != "space-nearly-full" {
		t.Errorf("of an account that is nearly full: %q", got)
	}
	// A sign-in that lapses is said, and kept in the history once.
	provider.broken = store.Errorf(store.ErrSignInExpired, "the password changed")
	a.CheckAll(ctx)
	a.CheckAll(ctx)
	if state := a.StateOf(row); state.Name != accounts.SignInExpired {
		t.Errorf("its state is %s", state.Name)
	}
	provider.broken = nil
	a.CheckAll(ctx)
	events, err := a.History(ctx, "share")
	if err != nil || len(events) != 3 || events[0].By != "the owner" || events[1].What != records.SignInExpired ||
		events[1].Why != "the password changed" || events[2].What != records.Reauthorized || events[2].By != "the service" {
		t.Errorf("%+v, %v", events, err)
	}
	if err := a.Suspend(ctx, "share"); err != nil {
		t.Fatal(err)
	}
	provider.broken = store.Errorf(store.ErrSignInExpired, "not to be asked")
	a.CheckAll(ctx)
	if row, err = db.Account(ctx, "share"); err != nil || a.StateOf(row).Name != accounts.Suspended || warned() != "" {
		t.Errorf("a suspended account is %s, %v", a.StateOf(row).Name, err)
	}
}

func TestForecast(t *testing.T) {
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	samples := func(hours int, used ...int64) (all []records.SpaceSample) {
		for i, n := range used {
			all = append(all, records.SpaceSample{At: begin.Add(time.Duration(i*hours) * time.Hour), Used: n, Free: 1000 - n, Total: 1000})
		}
		return all
	}
	when, ok := accounts.Forecast(samples(24, 100, 200, 300))
	if want := begin.Add(9 * 24 * time.Hour); !ok || when.Sub(want).Abs() > time.Minute {
		t.Errorf("full on %v, %v; want %v", when, ok, want)
	}
	for name, all := range map[string][]records.SpaceSample{
		"too few": samples(48, 100, 900), "too short": samples(1, 100, 500, 900), "emptying": samples(24, 500, 400, 300),
		"still": samples(24, 500, 500, 500),
	} {
		if when, ok := accounts.Forecast(all); ok {
			t.Errorf("%s: full on %v", name, when)
		}
	}
}

// TestDialThroughAProxy makes tunnels for protocols other than HTTP.
func TestDialThroughAProxy(t *testing.T) {
	greeting, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer greeting.Close()
	go func() {
		for {
			connection, err := greeting.Accept()
			if err != nil {
				return
			}
			connection.Write([]byte("220 it speaks first\r\n"))
			connection.Close()
		}
	}()
	asked := ""
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = r.Method + " " + r.Host
		if r.Header.Get("Proxy-Authorization") != "Basic b3V0OndhcmQ=" {
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
		out, err := net.Dial("tcp", greeting.Addr().String())
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer out.Close()
		in, buffered, _ := w.(http.Hijacker).Hijack()
		defer in.Close()
		buffered.WriteString("HTTP/1.1 200 OK\r\n\r\n")
		buffered.Flush()
		buffer := make([]byte, 100)
		n, _ := out.Read(buffer)
		in.Write(buffer[:n])
	}))
	defer proxy.Close()
	address, _ := url.Parse(proxy.URL)
	for _, user := range []*url.Userinfo{url.UserPassword("out", "ward"), nil} {
		address.User = user
		connection, err := network.DialThrough(t.Context(), func(*http.Request) (*url.URL, error) { return address, nil },
			"files.example.org:22")
		if user == nil {
			if err == nil || !strings.Contains(err.Error(), "407") {
				t.Errorf("without a sign-in: %v", err)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		buffer := make([]byte, 100)
		n, _ := connection.Read(buffer)
		if got := string(buffer[:n]); got != "220 it speaks first\r\n" || asked != "CONNECT files.example.org:22" {
			t.Errorf("through the proxy came %q, which was asked for %q", got, asked)
		}
		connection.Close()
	}
	wrong := errors.New("no address of a proxy")
	if _, err := network.DialThrough(t.Context(), func(*http.Request) (*url.URL, error) { return nil, wrong },
		greeting.Addr().String()); !errors.Is(err, wrong) {
		t.Errorf("past a proxy that cannot be told: %v", err)
	}
}
