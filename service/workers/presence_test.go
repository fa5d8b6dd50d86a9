package workers

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/provider/site"
	"deftheron/service/records"
)

// newWorkers returns workers of new records, of which one has joined, whose clock stands still.
func newWorkers(t *testing.T) (*Workers, records.Worker) {
	t.Helper()
	db, err := records.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(context.WithoutCancel(t.Context()))
	w := New(ctx, db, slog.New(slog.DiscardHandler))
	now := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	w.now = func() time.Time { return now }
	t.Cleanup(func() {
		end()
		w.Close()
		db.Close()
	})
	row := records.Worker{ID: "id", Name: "gauge-house", Site: "premises", Key: "key", JoinedAt: &now, CreatedAt: now}
	if err := db.AddWorker(t.Context(), &row); err != nil {
		t.Fatal(err)
	}
	if w.bus, err = startBus(w); err != nil { // without what watches over time
		t.Fatal(err)
	}
	return w, row
}

// connect has a worker say that it is there, on a connection.
func (w *Workers) connect(connection string, answering ...string) {
	w.mu.Lock()
	near, _ := net.Pipe()
	w.relays[connection] = &relay{near, "192.0.2.17"}
	w.mu.Unlock()
	w.alive("id", site.Alive{Protocol: site.Protocol, Connection: connection, Requests: answering})
}

// begin begins a call to the site and returns it.
func (w *Workers) begin(t *testing.T) *call {
	t.Helper()
	one, _, err := (&caller{workers: w, site: "premises"}).begin(t.Context(), site.Call{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(one.close)
	return one
}

func (c *call) failed() bool { return c.ctx.Err() != nil }

// TestLateSigns has a sign of life come late, on a connection that has ended: a call that was made
// because of it would be sent nowhere, and wait for ever.
func TestLateSigns(t *testing.T) {
	w, _ := newWorkers(t)
	w.connect("first")
	if all, err := w.List(t.Context()); err != nil || all[0].State != Connected || all[0].Address != "192.0.2.17" || all[0].SeenAt == nil {
		t.Errorf("the worker is shown as %+v (%v)", all, err)
	}
	one := w.begin(t)
	w.gone("first")
	if !one.failed() {
		t.Error("a call goes on whose worker is gone")
	}
	w.alive("id", site.Alive{Protocol: site.Protocol, Connection: "first"})
	if _, _, err := (&caller{workers: w, site: "premises"}).begin(t.Context(), site.Call{}); !errors.Is(err, site.ErrOffline) {
		t.Errorf("a call is made to a worker that is gone: %v", err)
	}
	w.connect("second")
	other := w.begin(t)
	w.connect("third") // before it is noticed that the second has ended
	if !other.failed() {
		t.Error("a call goes on that was sent on another connection")
	}
}

// TestLostRequests has a worker not name a request: it was lost on the way, and ends.
func TestLostRequests(t *testing.T) {
	w, _ := newWorkers(t)
	w.connect("first")
	lost, named, answered := w.begin(t), w.begin(t), w.begin(t)
	answered.give(io.NopCloser(nil))
	for i := range 3 {
		if lost.failed() {
			t.Errorf("a request was taken for lost after %d signs of life", i)
		}
		w.connect("first", named.token)
	}
	if !lost.failed() || named.failed() || answered.failed() {
		t.Errorf("lost %v, named %v, answered %v", lost.failed(), named.failed(), answered.failed())
	}
	if store.KindOf(context.Cause(lost.ctx)) != store.ErrTryAgain {
		t.Errorf("lost with %v", context.Cause(lost.ctx))
	}
}

// TestAwayWorkers has people told of a worker that is gone for five minutes, once.
func TestAwayWorkers(t *testing.T) {
	w, _ := newWorkers(t)
	told := 0
	w.Away = func(name, at string, _ []string) {
		if told++; name != "gauge-house" || at != "premises" {
			t.Errorf("told of %s at %s", name, at)
		}
	}
	away := map[string]time.Time{}
	pass := func(by time.Duration) {
		now := w.now().Add(by)
		w.now = func() time.Time { return now }
		w.lookForAway(away)
	}
	pass(0)
	pass(4 * time.Minute)
	if told != 0 {
		t.Error("told too early")
	}
	pass(time.Minute)
	pass(time.Hour)
	if told != 1 {
		t.Errorf("told %d times", told)
	}
	w.connect("first")
	pass(time.Minute)
	w.gone("first")
	pass(time.Minute)
	pass(6 * time.Minute)
	if told != 2 {
		t.Errorf("told %d times of two absences", told)
	}
}

// TestForgottenSecrets has a worker keep nothing for an account that is not linked.
func TestForgottenSecrets(t *testing.T) {
	w, row := newWorkers(t)
	w.connect("first")
	w.mu.Lock()
	for i := range mostKept + 2 {
		w.keep(Account{ID: "tried", Generation: string(rune('a' + i)), Secrets: secretNow{}}, row.Site)
	}
	w.mu.Unlock()
	if _, err := w.keptFor(row.ID, "tried", "f"); err != nil || len(w.secrets["tried"]) != mostKept {
		t.Errorf("of the account that is tried %d secrets are kept: %v", len(w.secrets["tried"]), err)
	}
	w.Forget("tried")
	if _, err := w.keptFor(row.ID, "tried", "f"); store.KindOf(err) != store.ErrRefused || len(w.secrets) > 0 {
		t.Errorf("after the link failed: %v, of %d accounts", err, len(w.secrets))
	}
}

type secretNow struct{}

// Load implements store.Secrets.
func (secretNow) Load(context.Context) ([]byte, error) { return []byte("secret"), nil }

// Save implements store.Secrets.
func (secretNow) Save(context.Context, []byte, []byte) error { return nil }
