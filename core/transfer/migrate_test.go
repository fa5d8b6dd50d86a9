package transfer_test

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// certify certifies what is at the target, by the keys of the source.
func (b *bench) certify() (all map[string]transfer.Certified, excluded plan.Count) {
	b.t.Helper()
	all = map[string]transfer.Certified{}
	excluded, _, err := transfer.Certify(b.t.Context(), []transfer.Route{b.route()}, b.rules, b.began, b.records,
		func(one transfer.Certified) error {
			all[string(one.Item.Key)] = one
			return nil
		})
	if err != nil {
		b.t.Fatal(err)
	}
	return all, excluded
}

// TestMigration copies, catches up, verifies all of it, and clears exactly that.
func TestMigration(t *testing.T) {
	for name, prepare := range map[string]func(*bench){
		"plain":            func(*bench) {},
		"no hashes":        func(b *bench) { b.target.NoHashes, b.source.NoHashes = true, true },
		"other names":      func(b *bench) { b.target.SetTraits(func(traits *store.Traits) { traits.CaseIgnored = true }) },
		"to an account":    func(b *bench) { b.toRoot = store.Ref{} },
		"unsorted listing": func(b *bench) { b.source.Unsorted, b.target.Unsorted = true, true },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.fromRoot = store.At("project")
			b.source.Put("stays", "other.txt")
			b.source.Put("one", "project", "a.txt")
			b.source.Put("two", "project", "below", "b.txt")
			b.source.Put("three", "project", "below", "c.txt")
			b.source.Put("", "project", "zero")
			b.source.Put("skipped", "project", "x.tmp")
			b.source.Folder("project", "empty")
			b.rules.Filter.Exclude = []string{"*.tmp"}
			prepare(b)
			prefix := b.toRoot.AsFolder().Path.Names()
			there := func(name ...string) []string { return append(append([]string{}, prefix...), name...) }
			b.target.Put("three", there("below", "c.txt")...) // found there, by nobody verified
			b.run("done")
			b.source.Put("changed", "project", "a.txt")
			b.run("done")

			b.rules.VerifyAll = true
			b.run("done")
			all, excluded := b.certify()
			if len(all) != 4 || excluded.Items != 1 {
				t.Errorf("certified: %v; %d left out", all, excluded.Items)
			}
			for key, one := range all {
				if _, ok := store.ParseHash(one.Verification); !ok || one.Cause != plan.CauseNone {
					t.Errorf("%s is verified by %q (%s)", key, one.Verification, one.Cause)
				}
			}
			if _, s := b.run("done"); s.Items != 0 {
				t.Errorf("all was verified, and a further pass has %d items", s.Items)
			}

			// After that somebody changes one at the source, and one at the target.
			b.source.Put("changed again", "project", "a.txt")
			b.target.Put("changed there", there("below", "b.txt")...)
			b.source.Put("new", "project", "new.txt")
			all, _ = b.certify()
			for key, want := range map[string]plan.Cause{"a.txt": plan.CauseLater, "below/b.txt": plan.CauseDiffers, "new.txt": plan.CauseNotThere} {
				if one := all[key]; one.Verification != "" || one.Cause != want {
					t.Errorf("%s is certified: %+v, want %s", key, one, want)
				}
			}
			target := withoutHistory(b.target.Files())
			b.rules = plan.Rules{Type: plan.Clearing, Filter: b.rules.Filter}
			b.run("done")
			b.left(map[string]string{"/other.txt": "stays", "/project/a.txt": "changed again", "/project/below/b.txt": "two",
				"/project/new.txt": "new", "/project/x.tmp": "skipped"})
			if _, err := b.source.Stat(t.Context(), store.At("project", "empty")); store.KindOf(err) != store.ErrNotFound {
				t.Errorf("the empty folder is still there: %v", err)
			}
			b.ended("below/c.txt", transfer.Done, plan.CauseCleared)
			b.ended("below/b.txt", transfer.Skipped, plan.CauseDiffers)
			b.want(target)
			b.rules = plan.Rules{VerifyAll: true, Conflict: plan.Source}
			b.run("done")
			b.rules = plan.Rules{Type: plan.Clearing}
			b.run("done")
			b.left(map[string]string{"/other.txt": "stays"})
			if _, err := b.source.Stat(t.Context(), store.At("project")); store.KindOf(err) != store.ErrNotFound {
				t.Errorf("the folder itself is still there: %v", err)
			}
		})
	}
}

// TestClearingLooksAgain changes things between the plan of a clearing and its
// removals.
func TestClearingLooksAgain(t *testing.T) {
	b := newBench(t)
	for i := range 40 {
		b.source.Put(fmt.Sprint("content ", i), "project", fmt.Sprint(i))
	}
	b.fromRoot = store.At("project")
	b.run("done")
	b.rules.Type = plan.Clearing
	b.from = storetest.NewFaulty(b.source, storetest.Fault{Op: storetest.OpRemove, Name: "7", Times: 1, Do: func() {
		b.source.Put("changed at the last moment", "project", "7")
	}})
	b.to = storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpStat, Name: "9", Times: 1, Do: func() {
		b.target.Put("changed there", "copy", "9")
	}}, storetest.Fault{Op: storetest.OpStat, Name: "11", Times: 1, Do: func() {
		b.target.Remove(t.Context(), store.At("copy", "11"), "")
	}})
	b.run("done")
	b.left(map[string]string{"/project/7": "changed at the last moment", "/project/9": "content 9", "/project/11": "content 11"})
	b.ended("7", transfer.Skipped, plan.CauseLater)
	b.ended("9", transfer.Skipped, plan.CauseDiffers)
	b.ended("11", transfer.Skipped, plan.CauseNotThere)

	// A target that is gone verifies nothing any more.
	b.from, b.target = b.source, storetest.NewMemory()
	b.to = b.target
	b.run("failed")
	if left := b.source.Files(); len(left) != 3 {
		t.Errorf("what is nowhere else was cleared: %v", left)
	}
}

// TestClearingGoesOn interrupts a clearing after each of its removals.
func TestClearingGoesOn(t *testing.T) {
	for removals := range 9 {
		b := newBench(t)
		for i := range 6 {
			b.source.Put(fmt.Sprint("content ", i), "project", fmt.Sprint(i%2), fmt.Sprint(i))
		}
		b.fromRoot = store.At("project")
		b.run("done")
		b.rules.Type = plan.Clearing
		ctx, cancel := context.WithCancel(t.Context())
		var count atomic.Int64
		faulty := storetest.NewFaulty(b.source, storetest.Fault{Op: storetest.OpRemoval, Do: func() {
			if count.Add(1) > int64(removals) {
				cancel()
			}
		}})
		b.from = faulty
		b.records.restart()
		if result := b.new().Execute(ctx); result.State != "" {
			t.Fatalf("it was not interrupted: %+v", result)
		}
		faulty.Clear()
		b.resumed = true
		b.run("done")
		b.left(map[string]string{})
		cancel()
	}
}
