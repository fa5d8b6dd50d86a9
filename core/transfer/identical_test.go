package transfer_test

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// TestIdenticalOnce merges two sources: what is identical is at the target once, on
// evidence that is told or, where nothing is told, read; and what is alike in size
// alone is all there.
func TestIdenticalOnce(t *testing.T) {
	for name, prepare := range map[string]func(b *bench, other *storetest.Memory){
		"told":          func(*bench, *storetest.Memory) {},
		"nothing told":  func(b *bench, other *storetest.Memory) { b.source.NoHashes, other.NoHashes = true, true },
		"no hash there": func(b *bench, other *storetest.Memory) { b.target.NoHashes, b.source.NoHashes = true, true },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			other := storetest.NewMemory()
			prepare(b, other)
			long := strings.Repeat("long ", 1000)
			for i := range 20 {
				b.source.Put(fmt.Sprint(long, i), "field", fmt.Sprint(i))
				other.Put(fmt.Sprint(long, i+10), "office", fmt.Sprint("picture ", i)) // ten are the same
			}
			b.source.Put(long, "twice", "a")
			b.source.Put(long, "twice", "b")
			b.source.Put("of five", "same", "name")
			other.Put("another", "same", "name")
			b.source.Put("", "empty 1")
			other.Put("", "empty 2")
			routes := func() []transfer.Route {
				one, two := b.route(), b.route()
				two.Source.Account, two.Source.Store, two.Source.Address = "office", other, store.MakeAddress("office", store.Ref{})
				two.Scope = "office to archive"
				one.Contents, two.Contents = "of the job", "of the job"
				return []transfer.Route{one, two}
			}
			run := func() (transfer.Snapshot, map[plan.Cause]int) {
				runs++
				b.records.restart()
				run := transfer.New(transfer.Options{ID: fmt.Sprint("run", runs), Routes: routes(), Rules: plan.Rules{IdenticalOnce: true},
					Records: b.records,
					Lanes:   8})
				if result := run.Execute(t.Context()); result.State != "done" {
					t.Fatalf("%+v", result)
				}
				causes := map[plan.Cause]int{}
				for _, item := range b.records.items {
					causes[item.Cause]++
					if item.Cause == plan.CauseDuplicate && !strings.HasPrefix(item.Why, "the same as /archive/copy/") {
						t.Errorf("it is not told what %q is the same as: %q", item.Key, item.Why)
					}
				}
				return run.Snapshot(), causes
			}
			s, causes := run()
			held := map[string]int{}
			for _, content := range b.target.Files() {
				held[content]++
			}
			for content, times := range held {
				if times > 1 && content != "" {
					t.Errorf("%.20q is there %d times", content, times)
				}
			}
			// 30 of the long ones, the one that is twice, two of one name, two empty ones.
			if n := len(withoutHistory(b.target.Files())); n != 35 || causes[plan.CauseDuplicate] != 11 || causes[plan.CauseKeptBoth] != 1 {
				t.Errorf("%d files; %v; %+v", n, causes, s)
			}
			again, causes := run()
			if again.Done != 0 || again.Moved != 0 || causes[plan.CauseDuplicate] != 11 {
				t.Errorf("the second run: %+v, %v", again, causes)
			}

			// The one that was kept goes, and another of its content takes its place.
			var gone string
			for name, content := range b.target.Files() {
				if content == fmt.Sprint(long, 15) {
					gone = name
				}
			}
			steps := strings.Split(strings.TrimPrefix(gone, "/"), "/")
			if _, err := b.target.Remove(t.Context(), store.At(steps...), ""); err != nil {
				t.Fatal(err)
			}
			run()
			found := false
			for _, content := range b.target.Files() {
				found = found || content == fmt.Sprint(long, 15)
			}
			if !found {
				t.Error("a content whose one copy was removed is nowhere")
			}
		})
	}
}

// TestFirstOfIdenticalStays has one content twenty times in two sources, and lanes of
// different speed: it is always the first of the first source that is there.
func TestFirstOfIdenticalStays(t *testing.T) {
	for round := range 20 {
		b := newBench(t)
		other := storetest.NewMemory()
		if round%2 == 1 { // nothing is told: they are read
			b.source.NoHashes, other.NoHashes = true, true
		}
		for i := range 10 {
			b.source.Put("one content", fmt.Sprint("field ", i))
			other.Put("one content", fmt.Sprint("office ", i))
		}
		slow := &uneven{Store: b.target}
		b.to = slow
		one, two := b.route(), b.route()
		two.Source.Account, two.Source.Store, two.Source.Address = "office", other, store.MakeAddress("office", store.Ref{})
		two.Scope = "office to archive"
		one.Contents, two.Contents = "of the job", "of the job"
		for i, gate := range []*gate.Gate{gate.New("archive", 2, 2), gate.New("desk", 1, 1)} {
			if i == 0 {
				one.Target.Gate, two.Target.Gate = gate, gate
			} else {
				one.Source.Gate = gate
			}
		}
		run := transfer.New(transfer.Options{ID: fmt.Sprint("once", round), Routes: []transfer.Route{one, two},
			Rules:   plan.Rules{IdenticalOnce: true},
			Records: b.records, Lanes: 8, Retry: retry.Policy{First: 1}})
		if result := run.Execute(t.Context()); result.State != "done" {
			t.Fatalf("%+v", result)
		}
		b.want(map[string]string{"/copy/field 0": "one content"})
		totals, err := transfer.Plan(t.Context(), []transfer.Route{one, two}, plan.Rules{IdenticalOnce: true}, newMemory(), nil,
			transfer.PlanListener{})
		if err != nil || totals.Create.Items != 19 || totals.Twice.Items+totals.Alike.Items != 18 {
			t.Errorf("a plan tells %+v, %v", totals, err)
		}
	}
}

// uneven is a store whose writes take longer the earlier they come.
type uneven struct {
	store.Store
	writes atomic.Int64
}

// Write implements store.Store.
func (s *uneven) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	time.Sleep(time.Duration(max(0, 5-s.writes.Add(1))) * time.Millisecond)
	return s.Store.Write(ctx, writing)
}
