package transfer_test

import (
	"fmt"
	"strings"
	"testing"

	"deftheron/core/plan"
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
				run := transfer.New(transfer.Options{ID: fmt.Sprint("run", runs), Routes: routes(), Rules: plan.Rules{Once: true}, Records: b.records, Lanes: 8})
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
			if n := len(b.target.Files()); n != 35 || causes[plan.CauseDuplicate] != 11 || causes[plan.CauseKeptBoth] != 1 {
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
