package transfer_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
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
	route.Source.Gate, route.Target.Gate = gate.New("desk", 2, 2), gate.New("archive", 2, 2)
	run := transfer.New(transfer.Options{ID: "idle", Routes: []transfer.Route{route}, Records: b.records, Lanes: 2})
	if result := run.Execute(t.Context()); result.State != "done" {
		t.Fatalf("the run ended %+v", result)
	}
	snapshot := run.Snapshot()
	if snapshot.Done != 40 || snapshot.Moved != snapshot.Bytes || len(snapshot.Flying) > 0 {
		t.Errorf("at the end: %+v", snapshot)
	}
	if files := b.target.Files(); len(withoutHistory(files)) != 40 {
		t.Errorf("%d files arrived", len(withoutHistory(files)))
	}
}

// TestGivenBackReservation asks a gate under a reservation that was given back: each
// request takes a slot of its own then.
func TestGivenBackReservation(t *testing.T) {
	gate := gate.New("desk", 1, 1)
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

// jealous is a store that refuses to make a folder which is being made, as a WebDAV server
// does: it has been made by then, and not by the one that asked.
type jealous struct {
	store.Store
	mu     sync.Mutex
	making map[string]bool
}

// MakeFolder implements store.Store.
func (s *jealous) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	s.mu.Lock()
	twice := s.making[place.String()]
	s.making[place.String()] = true
	s.mu.Unlock()
	if twice {
		return store.Entry{}, store.Errorf(store.ErrRefused, "%s is being made", place)
	}
	time.Sleep(5 * time.Millisecond)
	entry, err := s.Store.MakeFolder(ctx, place)
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.making, place.String())
	return entry, err
}

// TestFoldersAreMadeOnce has folders and the files in them made at once.
func TestFoldersAreMadeOnce(t *testing.T) {
	for _, kind := range []plan.Type{plan.TwoWay, plan.Mirror} {
		t.Run(string(kind), func(t *testing.T) {
			b := newBench(t)
			b.rules.Type = kind
			for i := range 20 {
				folder := fmt.Sprint("folder ", i)
				b.source.Folder(folder)
				for file := range 3 {
					b.source.Put("content", folder, fmt.Sprint(file))
				}
			}
			b.to = &jealous{Store: b.target, making: map[string]bool{}}
			b.run("done")
			if files := b.target.Files(); len(withoutHistory(files)) != 60 {
				t.Errorf("%d files arrived", len(withoutHistory(files)))
			}
		})
	}
}

// TestFolderMadeAgain has a folder made, removed at both sides, and made once more, while a
// continuous run goes on.
func TestFolderMadeAgain(t *testing.T) {
	b := newBench(t)
	b.rules.Type, b.rules.Deletions = plan.TwoWay, plan.DeleteToo
	b.source.Folder("reports")
	passes := 0
	again := func(ctx context.Context, _ transfer.PassResult) (transfer.Touched, bool) {
		passes++
		_, err := b.target.Stat(ctx, store.At("copy", "reports").As(store.KindFolder))
		if there := err == nil; there == (passes == 2) {
			t.Errorf("after pass %d it is there: %v", passes, there)
		}
		switch passes {
		case 1:
			for place, side := range map[string]*storetest.Memory{"reports": b.source, "copy/reports": b.target} {
				if _, err := side.RemoveFolder(ctx, store.At(strings.Split(place, "/")...).As(store.KindFolder)); err != nil {
					t.Error(err)
				}
			}
		case 2:
			b.source.Folder("reports")
		}
		return transfer.Touched{All: true}, passes < 3
	}
	run := transfer.New(transfer.Options{ID: "again", Routes: []transfer.Route{b.route()}, Rules: b.rules, Records: b.records, Lanes: 4,
		Again: again})
	if result := run.Execute(t.Context()); result.State != "done" {
		t.Fatalf("the run ended %+v", result)
	}
}
