package transfer_test

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"deftheron/core/store"
	"deftheron/core/transfer"
)

// together is a store of whose writes none ends before so many wait at once.
type together struct {
	store.Store
	least int

	mu      sync.Mutex
	waiting int
	enough  chan struct{}
}

// Write implements store.Store.
func (s *together) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	written, err := s.Store.Write(ctx, writing)
	s.mu.Lock()
	if s.waiting++; s.waiting == s.least {
		close(s.enough)
	}
	s.mu.Unlock()
	store.Idle(ctx)
	select {
	case <-s.enough:
	case <-ctx.Done():
	}
	return written, err
}

// TestIdleItemsLeaveTheirLane has 40 items wait for each other in two lanes and an
// account of two requests at once: what only waits keeps nobody from working.
func TestIdleItemsLeaveTheirLane(t *testing.T) {
	b := newBench(t)
	for i := range 40 {
		b.source.Put("content", fmt.Sprint("file ", i))
	}
	b.to = &together{Store: b.target, least: 40, enough: make(chan struct{})}
	route := b.route()
	route.Source.Gate, route.Target.Gate = store.NewGate("desk", 2, 2), store.NewGate("archive", 2, 2)
	run := transfer.New(transfer.Options{ID: "idle", Routes: []transfer.Route{route}, Records: b.records, Lanes: 2})
	if result := run.Execute(t.Context()); result.State != "done" {
		t.Fatalf("the run ended %+v", result)
	}
	snapshot := run.Snapshot()
	if snapshot.Done != 40 || snapshot.Moved != snapshot.Bytes || len(snapshot.Flying) > 0 {
		t.Errorf("at the end: %+v", snapshot)
	}
	if files := b.target.Files(); len(files) != 40 {
		t.Errorf("%d files arrived", len(files))
	}
}

// TestGivenBackReservation asks a gate under a reservation that was given back: each
// request takes a slot of its own then.
func TestGivenBackReservation(t *testing.T) {
	gate := store.NewGate("desk", 1, 1)
	held, release, err := gate.Reserve(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	within, err := gate.Pass(held)
	if err != nil {
		t.Fatal(err)
	}
	within(nil)
	release()
	done, err := gate.Pass(held)
	if err != nil {
		t.Fatal(err)
	}
	defer done(nil)
	ended, cancel := context.WithCancel(held)
	cancel()
	if _, err := gate.Pass(ended); err == nil {
		t.Error("two requests went at once through a gate for one")
	}
}
