package transfer_test

import (
	"maps"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// moving is a bench whose run clears its source.
func moving(t *testing.T) *bench {
	b := newBench(t)
	b.rules.Clear = true
	b.fromRoot = store.At("project")
	b.source.Put("one", "project", "a.txt")
	b.source.Put("two", "project", "below", "b.txt")
	b.source.Put("stays", "other.txt")
	b.source.Folder("project", "empty")
	return b
}

var moved = map[string]string{"/copy/a.txt": "one", "/copy/below/b.txt": "two"}

func (b *bench) left(want map[string]string) {
	b.t.Helper()
	if got := b.source.Files(); !maps.Equal(got, want) {
		b.t.Errorf("the source holds %v\nwant %v", got, want)
	}
}

func TestMove(t *testing.T) {
	for name, prepare := range map[string]func(*bench){
		"plain":     func(*bench) {},
		"no hashes": func(b *bench) { b.target.NoHashes, b.source.NoHashes = true, true },
		"unsorted":  func(b *bench) { b.source.Unsorted, b.target.Unsorted = true, true },
	} {
		t.Run(name, func(t *testing.T) {
			b := moving(t)
			prepare(b)
			b.run("done")
			b.want(moved)
			b.left(map[string]string{"/other.txt": "stays"})
			if _, err := b.source.Stat(t.Context(), store.At("project")); store.KindOf(err) != store.ErrNotFound {
				t.Errorf("the folder that was moved is still there: %v", err)
			}
		})
	}
}

func TestMoveOneFile(t *testing.T) {
	b := moving(t)
	b.fromRoot, b.toRoot = store.At("project", "a.txt"), store.At("renamed.txt")
	b.run("done")
	b.want(map[string]string{"/renamed.txt": "one"})
	b.left(map[string]string{"/other.txt": "stays", "/project/below/b.txt": "two"})
}

// TestMoveThatFailsInPart removes nothing at the source; tried again, all of it.
func TestMoveThatFailsInPart(t *testing.T) {
	b := moving(t)
	faulty := storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Err: store.Errorf(store.ErrRefused, "no")})
	b.to = faulty
	before := b.source.Files()
	b.run("partial")
	b.left(before)
	faulty.Clear()
	b.resumed = true
	for i := range b.records.items {
		if b.records.items[i].State == transfer.Failed {
			b.records.items[i].State = transfer.Waiting
		}
	}
	b.run("done")
	b.want(moved)
	b.left(map[string]string{"/other.txt": "stays"})
}

// TestMoveLeavesWhatChanged leaves at the source what is not verified to be at the
// target: changed there or here since, or come since.
func TestMoveLeavesWhatChanged(t *testing.T) {
	b := moving(t)
	faulty := storetest.NewFaulty(b.source)
	b.from = faulty
	// The listing of the source that begins the clearing is its third of this folder.
	listed := 0
	faulty.Add(storetest.Fault{Op: storetest.OpRemove, Name: "a.txt", Times: 1, Do: func() {
		listed++
		b.source.Put("one, changed", "project", "a.txt")
	}})
	b.target.Put("", "copy", "unrelated")
	result, _ := b.run("partial")
	if result.Cause != plan.CauseStays || listed != 1 {
		t.Errorf("%+v, %d", result, listed)
	}
	b.left(map[string]string{"/other.txt": "stays", "/project/a.txt": "one, changed"})
	// What is at the target is another by now: nothing verifies the source's.
	b = moving(t)
	b.rules.Clear = false
	b.run("done")
	b.target.Put("changed", "copy", "below", "b.txt")
	b.source.Put("three", "project", "late.txt")
	b.rules.Clear, b.rules.Conflict = true, plan.KeepTarget
	b.run("partial")
	if got := b.source.Files(); got["/project/below/b.txt"] != "two" {
		t.Errorf("what is not at the target was removed at the source: %v", got)
	}
}

// TestMoveIsInterrupted at every step of the clearing, and is gone on with.
func TestMoveIsInterrupted(t *testing.T) {
	for at := range 4 {
		b := moving(t)
		faulty := storetest.NewFaulty(b.source)
		b.from = faulty
		removals := 0
		faulty.Add(storetest.Fault{Op: storetest.OpRemoval, Times: at + 1, Do: func() { removals++ }})
		faulty.Add(storetest.Fault{Op: storetest.OpRemoval, Err: store.Errorf(store.ErrSignInExpired, "the process ended here"), Times: 1})
		run := b.new()
		result := run.Execute(t.Context())
		if result.State != "held" {
			t.Fatalf("step %d: %+v after %d removals", at, result, removals)
		}
		faulty.Clear()
		b.resumed = true
		b.run("done")
		b.want(moved)
		b.left(map[string]string{"/other.txt": "stays"})
	}
}
