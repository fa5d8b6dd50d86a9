package transfer_test

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// several is a source and several targets of one run.
type several struct {
	t       *testing.T
	source  *storetest.Memory
	faulty  *storetest.Faulty
	targets []*storetest.Memory
	stores  []store.Store
	records *memory
	want    map[string]string
}

func newSeveral(t *testing.T, targets int) *several {
	s := &several{t: t, source: storetest.NewMemory(), records: newMemory(), want: map[string]string{}}
	s.faulty = storetest.NewFaulty(s.source)
	for i := range 120 {
		data := strings.Repeat(fmt.Sprint(i, " "), 1+i*i*10)
		s.source.Put(data, "Reports", fmt.Sprint("part ", i%5), fmt.Sprintf("%03d", i))
		s.want[fmt.Sprintf("/copy/part %d/%03d", i%5, i)] = data
	}
	for range targets {
		target := storetest.NewMemory()
		s.targets, s.stores = append(s.targets, target), append(s.stores, target)
	}
	return s
}

func (s *several) new() *transfer.Run {
	runs++
	s.records.restart()
	var routes []transfer.Route
	for i, target := range s.stores {
		name, root := fmt.Sprint("archive-", i), store.At("copy")
		routes = append(routes, transfer.Route{
			Source: transfer.Side{Account: "desk", Address: store.MakeAddress("desk", store.At("Reports")), Store: s.faulty,
				Root: store.At("Reports")},
			Target: transfer.Side{Account: name, Address: store.MakeAddress(name, root), Store: target, Root: root},
			Scope:  "desk to " + name,
		})
	}
	return transfer.New(transfer.Options{ID: fmt.Sprint("run", runs), Routes: routes, Records: s.records, Lanes: 4,
		Retry: retry.Policy{First: 1}})
}

func (s *several) run(want run.State) transfer.Result {
	s.t.Helper()
	result := s.new().Execute(s.t.Context())
	if result.State != want {
		s.t.Fatalf("the run ended %q (%s: %s), want %q", result.State, result.Cause, result.Why, want)
	}
	return result
}

func (s *several) holds(target int) {
	s.t.Helper()
	if got := withoutHistory(s.targets[target].Files()); !maps.Equal(got, s.want) {
		s.t.Errorf("target %d holds %d files, want %d", target, len(got), len(s.want))
	}
}

// TestSeveralTargets copies one source to several targets and reads each file once.
func TestSeveralTargets(t *testing.T) {
	s := newSeveral(t, 3)
	s.targets[2].PartsAbove, s.targets[2].PartSize = 100_000, 50_000
	s.run(run.Done)
	for i := range s.targets {
		s.holds(i)
	}
	if n := s.faulty.Calls(storetest.OpOpen); n != len(s.want) {
		t.Errorf("%d files were read %d times, want once each", len(s.want), n)
	}
	before := s.faulty.Calls(storetest.OpOpen)
	s.source.Put("changed", "Reports", "part 1", "001")
	s.want["/copy/part 1/001"] = "changed"
	s.run(run.Done)
	for i := range s.targets {
		if got := s.targets[i].Files()["/copy/part 1/001"]; strings.HasPrefix(got, "changed") && got != "changed" {
			t.Errorf("target %d holds %q", i, got)
		}
	}
	if n := s.faulty.Calls(storetest.OpOpen) - before; n > 1+len(s.targets) {
		t.Errorf("one changed file was read %d times", n)
	}
}

// stuck is a store whose writes wait.
type stuck struct {
	store.Store
	until  chan struct{}
	writes atomic.Int64
}

func (s *stuck) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	s.writes.Add(1)
	select {
	case <-s.until:
	case <-ctx.Done():
		return store.Written{}, ctx.Err()
	}
	return s.Store.Write(ctx, writing)
}

// TestSlowTarget has one target wait with everything: the others are not held.
func TestSlowTarget(t *testing.T) {
	s := newSeveral(t, 3)
	slow := &stuck{Store: s.targets[0], until: make(chan struct{})}
	s.stores[0] = slow
	ended := make(chan transfer.Result)
	running := s.new()
	go func() { ended <- running.Execute(t.Context()) }()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if len(s.targets[1].Files()) == len(s.want) && len(s.targets[2].Files()) == len(s.want) {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the others hold %d and %d files of %d", len(s.targets[1].Files()), len(s.targets[2].Files()), len(s.want))
		}
	}
	if n := len(s.targets[0].Files()); n > 0 {
		t.Errorf("the slow target holds %d files already", n)
	}
	close(slow.until)
	if result := <-ended; result.State != run.Done {
		t.Fatalf("the run ended %q: %s", result.State, result.Why)
	}
	for i := range s.targets {
		s.holds(i)
	}
	if n := s.faulty.Calls(storetest.OpOpen); n != len(s.want) {
		t.Errorf("%d files were read %d times, want once each", len(s.want), n)
	}
}

// TestFullTarget has one target without space: the others get everything, and the run is
// held for the one.
func TestFullTarget(t *testing.T) {
	s := newSeveral(t, 2)
	s.targets[0].MaxBytes = 1000
	result := s.run(run.Held)
	if result.Cause != plan.CauseNoSpace {
		t.Errorf("held for %q: %s", result.Cause, result.Why)
	}
	s.holds(1)
}

// TestSharedReadingBreaks has the source break off in the middle of contents: each target
// tries again on its own.
func TestSharedReadingBreaks(t *testing.T) {
	s := newSeveral(t, 3)
	for _, at := range []int64{0, 100, 200_000} {
		s.faulty.Add(storetest.Fault{Op: storetest.OpRead, Times: 1, At: at, Err: store.Errorf(store.ErrTryAgain, "the connection was lost")})
	}
	s.run(run.Done)
	for i := range s.targets {
		s.holds(i)
	}
}
