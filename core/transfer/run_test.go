package transfer_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// bench is two stores and what is remembered of them.
type bench struct {
	t                *testing.T
	source, target   *storetest.Memory
	from, to         store.Store // what the run sees: the two above, or a wrapper
	records          *memory
	rules            plan.Rules
	resumed          bool
	released         bool
	witnessed        bool
	began            time.Time // zero: now
	fromRoot, toRoot store.Ref
	crew             *testCrew // nil for none
	carriers         transfer.Crew
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, source: storetest.NewMemory(), target: storetest.NewMemory(), records: newMemory(), toRoot: store.At("copy")}
	b.from, b.to = b.source, b.target
	return b
}

func (b *bench) route() transfer.Route {
	return transfer.Route{
		Source: transfer.Side{Account: "desk", Address: store.MakeAddress("desk", b.fromRoot), Store: b.from, Root: b.fromRoot},
		Target: transfer.Side{Account: "archive", Address: store.MakeAddress("archive", b.toRoot), Store: b.to, Root: b.toRoot},
		Scope:  "desk to archive",
	}
}

var runs int

func (b *bench) new() *transfer.Run {
	if !b.resumed {
		runs++
	}
	options := transfer.Options{
		ID: fmt.Sprint("run", runs), Resumed: b.resumed, Approved: b.released, Witnessed: b.witnessed, Routes: []transfer.Route{b.route()},
		Rules: b.rules, Records: b.records,
		Lanes: 4, Retry: retry.Policy{First: 1}, HeadStart: time.Hour, Began: b.began,
	}
	if b.crew != nil {
		options.Crew = b.crew
	}
	if b.carriers != nil {
		options.Crew = b.carriers
	}
	return transfer.New(options)
}

// run carries out a new run, with items of its own in the records.
func (b *bench) run(want run.State) (transfer.Result, transfer.Snapshot) {
	b.t.Helper()
	if !b.resumed {
		b.records.restart()
	}
	run := b.new()
	result := run.Execute(b.t.Context())
	if result.State != want {
		b.t.Fatalf("the run ended %q (%s: %s), want %q", result.State, result.Cause, result.Why, want)
	}
	snapshot := run.Snapshot()
	if snapshot.Waiting() != 0 {
		b.t.Errorf("%d items have no end: %+v", snapshot.Waiting(), snapshot)
	}
	for _, item := range b.records.items {
		if item.State == transfer.Waiting {
			b.t.Errorf("%q is still waiting in the records", item.Key)
		}
		if item.State == transfer.Failed && !slices.Contains(plan.Causes(), item.Cause) {
			b.t.Errorf("%q failed with the cause %q, which has no remedy", item.Key, item.Cause)
		}
	}
	return result, snapshot
}

func (b *bench) want(files map[string]string) {
	b.t.Helper()
	if got := withoutHistory(b.target.Files()); !maps.Equal(got, files) {
		b.t.Errorf("the target holds %v\nwant %v", got, files)
	}
}

// withoutHistory are the files of an account that are not below its history.
func withoutHistory(files map[string]string) map[string]string {
	maps.DeleteFunc(files, func(address, _ string) bool { return strings.HasPrefix(address, "/.heron/history/") })
	return files
}

func (b *bench) ended(key string, state transfer.State, cause plan.Cause) transfer.Ending {
	b.t.Helper()
	item, ending := b.records.item(key)
	if item.State != state || item.Cause != cause {
		b.t.Errorf("%q is %q with cause %q (%s), want %q with %q", key, item.State, item.Cause, item.Why, state, cause)
	}
	return ending
}

func TestCopyTwice(t *testing.T) {
	for name, prepare := range map[string]func(*bench){
		"times kept":     func(*bench) {},
		"no times kept":  func(b *bench) { b.target.SetTraits(func(traits *store.Traits) { traits.KeepsTimes = false }) },
		"no hashes":      func(b *bench) { b.target.NoHashes, b.source.NoHashes = true, true },
		"unsorted":       func(b *bench) { b.source.Unsorted, b.target.Unsorted = true, true },
		"implied target": func(b *bench) { b.target.SetTraits(func(traits *store.Traits) { traits.Streams = 1 }) },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			prepare(b)
			want := map[string]string{}
			for i, name := range storetest.Names {
				b.source.Put(name, "folder é", name)
				want["/copy"+strings.TrimPrefix(store.At("folder é", name).String(), "")] = name
				b.source.Put("", "zero", fmt.Sprint(i))
				want[fmt.Sprintf("/copy/zero/%d", i)] = ""
			}
			b.source.Folder("empty", "deep")
			_, snapshot := b.run("done")
			b.want(want)
			if snapshot.Done != int64(len(want))+1 || snapshot.Moved == 0 || snapshot.Moved != snapshot.Bytes {
				t.Errorf("%+v; want %d items done, as many bytes moved as planned", snapshot, len(want)+1)
			}
			if entry, err := b.target.Stat(t.Context(), store.At("copy", "empty", "deep")); err != nil || entry.Kind != store.KindFolder {
				t.Errorf("the empty folder: %+v, %v", entry, err)
			}
			_, again := b.run("done")
			if again.Items != 0 || again.Unchanged != int64(len(want)) || again.Moved != 0 {
				t.Errorf("copying again: %+v; want nothing but %d unchanged", again, len(want))
			}
			b.source.Put("changed", "zero", "7")
			want["/copy/zero/7"] = "changed"
			_, third := b.run("done")
			if third.Items != 1 || third.Done != 1 || third.Moved != 7 {
				t.Errorf("after one change: %+v; want that file alone", third)
			}
			b.want(want)
		})
	}
}

func TestCopyOneFile(t *testing.T) {
	b := newBench(t)
	b.source.Put("report", "in", "report.txt")
	b.fromRoot, b.toRoot = store.At("in", "report.txt"), store.At("new", "other.txt")
	b.run("done")
	b.want(map[string]string{"/new/other.txt": "report"})
	if _, again := b.run("done"); again.Items != 0 || again.Unchanged != 1 {
		t.Errorf("copying again: %+v", again)
	}
}

func TestEmptySourceMakesTheTarget(t *testing.T) {
	b := newBench(t)
	b.source.Folder("nothing")
	b.fromRoot = store.At("nothing")
	b.run("done")
	if _, err := b.target.Stat(t.Context(), store.At("copy")); err != nil {
		t.Error(err)
	}
}

func TestConflicts(t *testing.T) {
	for _, c := range []struct {
		rule  plan.ConflictRule
		state transfer.State
		cause plan.Cause
		files []string
	}{
		{plan.KeepBoth, transfer.Done, plan.CauseKeptBoth, []string{"theirs", "ours again"}},
		{plan.KeepTarget, transfer.Skipped, plan.CauseLeft, []string{"theirs"}},
		{plan.Source, transfer.Done, "", []string{"ours again"}},
	} {
		t.Run(string(c.rule), func(t *testing.T) {
			b := newBench(t)
			b.rules.Conflict = c.rule
			b.source.Put("ours", "a.tar.gz")
			b.run("done")
			b.target.Put("theirs", "copy", "a.tar.gz")
			changed := b.source.Put("ours again", "a.tar.gz")
			b.run("done")
			b.ended("a.tar.gz", c.state, c.cause)
			beside := fmt.Sprintf("/copy/a.tar (from desk %s).gz", changed.Modified.Format("2006-01-02 15.04.05"))
			want := map[string]string{"/copy/a.tar.gz": c.files[0]}
			if len(c.files) > 1 {
				want[beside] = c.files[1]
			}
			b.want(want)
			_, again := b.run("done")
			if again.Moved != 0 || again.Done != 0 {
				t.Errorf("copying again moved something: %+v", again)
			}
			b.want(want)
			if c.rule == plan.KeepBoth {
				// What the target holds is still not ours: a later change is a conflict.
				later := b.source.Put("ours once more", "a.tar.gz")
				b.run("done")
				want[fmt.Sprintf("/copy/a.tar (from desk %s).gz", later.Modified.Format("2006-01-02 15.04.05"))] = "ours once more"
				b.want(want)
			}
		})
	}
}

// TestBesideNameTaken has something else under the very name that keeps both.
func TestBesideNameTaken(t *testing.T) {
	b := newBench(t)
	entry := b.source.Put("ours", "a.txt")
	stamp := entry.Modified.Format("2006-01-02 15.04.05")
	b.target.Put("theirs", "copy", "a.txt")
	b.target.Put("another", "copy", "a (from desk "+stamp+").txt")
	b.run("done")
	b.want(map[string]string{
		"/copy/a.txt": "theirs", "/copy/a (from desk " + stamp + ").txt": "another", "/copy/a (from desk " + stamp + ") 2.txt": "ours",
	})
}

func TestSameContentIsNoConflict(t *testing.T) {
	for _, hashes := range []bool{true, false} {
		b := newBench(t)
		b.source.NoHashes, b.target.NoHashes = !hashes, !hashes
		b.source.Put("same", "x")
		b.target.Put("same", "copy", "x")
		_, snapshot := b.run("done")
		if snapshot.Moved != 0 || snapshot.Done != 0 {
			t.Errorf("hashes %v: %+v; want nothing moved", hashes, snapshot)
		}
		b.want(map[string]string{"/copy/x": "same"})
		if _, again := b.run("done"); again.Unchanged != 1 || again.Items != 0 {
			t.Errorf("hashes %v: again %+v; want it remembered", hashes, again)
		}
	}
}

func TestFaultsPass(t *testing.T) {
	hiccup := store.Errorf(store.ErrTryAgain, "reset")
	lost := store.Errorf(store.ErrOutcomeUnknown, "lost")
	for _, c := range []struct {
		name   string
		source []storetest.Fault
		target []storetest.Fault
	}{
		{"reset on opening", []storetest.Fault{{Op: storetest.OpOpen, Name: "b", Times: 2, Err: hiccup}}, nil},
		{"truncated body", []storetest.Fault{{Op: storetest.OpRead, Name: "b", Times: 1, At: 3, Err: io.ErrUnexpectedEOF}}, nil},
		{"body that ends early", []storetest.Fault{{Op: storetest.OpRead, Name: "b", Times: 1, At: 3, Err: io.EOF}}, nil},
		{"reset on writing", nil, []storetest.Fault{{Op: storetest.OpWrite, Times: 4, Err: hiccup}}},
		{"slow down", nil, []storetest.Fault{{Op: storetest.OpWrite, Times: 4, Err: store.SlowDown(time.Millisecond, nil)}}},
		{"lost answer, carried out", nil, []storetest.Fault{{Op: storetest.OpWrite, Name: "b", Times: 1, Err: lost, After: true}}},
		{"lost answer, not carried out", nil, []storetest.Fault{{Op: storetest.OpWrite, Name: "b", Times: 1, Err: lost}}},
		{"a bit flips on the way in", nil, []storetest.Fault{{Op: storetest.OpWrite, Name: "b", Times: 1, Flip: true, At: 2}}},
		{"folder fails once", nil, []storetest.Fault{{Op: storetest.OpMakeFolder, Times: 1, Err: hiccup}}},
		{"an error of no kind", nil, []storetest.Fault{{Op: storetest.OpWrite, Times: 1, Err: errors.New("odd")}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBench(t)
			from, to := storetest.NewFaulty(b.source, c.source...), storetest.NewFaulty(b.target, c.target...)
			b.from, b.to = from, to
			want := map[string]string{}
			for _, name := range []string{"a", "b", "c"} {
				b.source.Put("content of "+name, "f", name)
				want["/copy/f/"+name] = "content of " + name
			}
			b.run("done")
			b.want(want)
			for _, fault := range append(c.source, c.target...) {
				if from.Hits(fault.Op)+to.Hits(fault.Op) == 0 {
					t.Errorf("the fault at %s never happened", fault.Op)
				}
			}
		})
	}
}

// TestHeld has the sign-in lapse in the middle: the run waits with all that has
// not moved, and goes on when the account was mended.
func TestHeld(t *testing.T) {
	for _, op := range []storetest.Op{storetest.OpWrite, storetest.OpList, storetest.OpOpen} {
		b := newBench(t)
		expired := storetest.Fault{Op: op, Err: store.Errorf(store.ErrSignInExpired, "lapsed")}
		from, to := storetest.NewFaulty(b.source), storetest.NewFaulty(b.target)
		b.from, b.to = from, to
		if op == storetest.OpWrite {
			to.Add(expired)
		} else {
			from.Add(expired)
		}
		want := map[string]string{}
		for i := range 40 {
			name := fmt.Sprint("file ", i)
			b.source.Put(name, "f", name)
			want["/copy/f/"+name] = name
		}
		if result := b.new().Execute(t.Context()); result.State != "held" || result.Cause != plan.CauseSignInExpired {
			t.Fatalf("%s: %+v, want held", op, result)
		}
		from.Clear()
		to.Clear()
		b.resumed = true
		b.run("done")
		b.want(want)
	}
}

func TestFaultsThatLast(t *testing.T) {
	for _, c := range []struct {
		err   error
		cause plan.Cause
		state string
	}{
		{store.Errorf(store.ErrTryAgain, "down"), plan.CauseFault, "partial"},
		{store.Errorf(store.ErrRefused, "no"), plan.CauseRefused, "partial"},
		{store.Errorf(store.ErrNameRefused, "name"), plan.CauseName, "partial"},
		{store.Errorf(store.ErrTooLarge, "large"), plan.CauseTooLarge, "partial"},
		{store.SlowDown(0, nil), plan.CauseSlow, "partial"},
		{store.Errorf(store.ErrOutcomeUnknown, "lost"), plan.CauseFault, "partial"},
	} {
		t.Run(string(c.cause), func(t *testing.T) {
			b := newBench(t)
			b.to = storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpWrite, Name: "bad", Err: c.err})
			b.source.Put("x", "bad")
			b.source.Put("y", "good")
			b.run(run.State(c.state))
			b.ended("bad", transfer.Failed, c.cause)
			if _, there := b.target.Files()["/copy/bad"]; there {
				t.Error("it is at the target")
			}
		})
	}
}

// TestFlippedBits has every byte arrive wrong: nothing wrong may stay.
func TestFlippedBits(t *testing.T) {
	b := newBench(t)
	b.to = storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpWrite, Flip: true})
	b.source.Put("content", "x")
	b.run("failed")
	b.ended("x", transfer.Failed, plan.CauseVerification)
	b.want(map[string]string{})
}

func TestBitFlippedAtTheSource(t *testing.T) {
	b := newBench(t)
	b.target.NoHashes = true
	b.from = storetest.NewFaulty(b.source, storetest.Fault{Op: storetest.OpRead, Name: "x", Times: 1, Flip: true, At: 2})
	b.source.Put("content", "x")
	b.run("done")
	ending := b.ended("x", transfer.Done, "")
	if !strings.Contains(ending.Verification, "read back") {
		t.Errorf("verification %q; want it read back, as the target tells no hash", ending.Verification)
	}
}

// TestBitFlippedWhenLookedAt loses the answer of a write, and a bit of what is then read back: what is
// there is no conflict.
func TestBitFlippedWhenLookedAt(t *testing.T) {
	b := newBench(t)
	b.target.NoHashes = true
	b.to = storetest.NewFaulty(b.target,
		storetest.Fault{Op: storetest.OpWrite, Times: 1, After: true, Err: store.Errorf(store.ErrOutcomeUnknown, "lost")},
		storetest.Fault{Op: storetest.OpRead, Name: "x", Times: 1, Flip: true, At: 2})
	b.source.Put("content", "x")
	b.run("done")
	b.want(map[string]string{"/copy/x": "content"})
}

func TestSourceChangesMeanwhile(t *testing.T) {
	b := newBench(t)
	b.source.Put("old", "x")
	b.source.Put("keeps", "y")
	from := storetest.NewFaulty(b.source)
	from.Add(storetest.Fault{Op: storetest.OpOpen, Name: "x", Times: 1, Do: func() { b.source.Put("newer", "x") }})
	b.from = from
	b.run("done")
	b.want(map[string]string{"/copy/x": "newer", "/copy/y": "keeps"})

	b.source.Put("x", "gone")
	from.Add(storetest.Fault{Op: storetest.OpOpen, Name: "gone", Times: 1, Do: func() { b.source.Remove(t.Context(), store.At("gone"), "") }})
	b.run("done")
	b.ended("gone", transfer.Skipped, plan.CauseGone)
}

// TestTargetChangesMeanwhile has somebody write at the target between the
// listing and the write: what they wrote must stay.
func TestTargetChangesMeanwhile(t *testing.T) {
	b := newBench(t)
	b.source.Put("ours", "x")
	b.target.Folder("copy")
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{Op: storetest.OpWrite, Name: "x", Times: 1, Do: func() { b.target.Put("theirs", "copy", "x") }})
	b.to = to
	b.run("done")
	b.ended("x", transfer.Done, plan.CauseKeptBoth)
	files := b.target.Files()
	if files["/copy/x"] != "theirs" || len(files) != 2 {
		t.Errorf("the target holds %v; want theirs kept and ours beside it", files)
	}
}

func TestIncompleteListing(t *testing.T) {
	b := newBench(t)
	b.source.Put("new content", "a")
	b.source.Put("x", "sub", "b")
	b.target.Put("old", "copy", "a")
	b.rules.Conflict = plan.Source
	b.from = storetest.NewFaulty(b.source, storetest.Fault{Op: storetest.OpList, Name: "sub",
		Err: store.Errorf(store.ErrTryAgain, "page 2 failed")})
	result, _ := b.run("failed")
	if result.Cause != plan.CauseListing {
		t.Errorf("cause %q, want %q", result.Cause, plan.CauseListing)
	}
	b.want(map[string]string{"/copy/a": "old"}) // nothing is overwritten on an incomplete listing
}

func TestFileInTheWayOfAFolder(t *testing.T) {
	b := newBench(t)
	b.source.Put("x", "name", "x")
	b.source.Put("y", "y")
	b.target.Put("a file", "copy", "name")
	b.run("partial")
	b.ended("name/x", transfer.Failed, plan.CauseInTheWay)
	b.want(map[string]string{"/copy/name": "a file", "/copy/y": "y"})
}

func TestFolderInTheWayOfAFile(t *testing.T) {
	b := newBench(t)
	b.source.Put("x", "name")
	b.target.Put("y", "copy", "name", "y")
	b.run("done")
	b.ended("name", transfer.Done, plan.CauseKeptBoth)
}

func refuseColons(traits *store.Traits) {
	traits.Names = &store.NameRules{Keeper: "a share", Without: ":"}
}

// TestNamesTranslated copies names that the target refuses, there and home again.
func TestNamesTranslated(t *testing.T) {
	b := newBench(t)
	b.target.SetTraits(refuseColons)
	b.source.Put("x", "a:b", "inside", "x:")
	b.source.Put("y", "c%3Ad.txt")
	b.source.Put("z", "fine.txt")
	b.source.MakeFolder(t.Context(), store.At("empty:"))
	b.run("done")
	b.want(map[string]string{"/copy/a%3Ab/inside/x%3A": "x", "/copy/c%25253Ad.txt": "y", "/copy/fine.txt": "z"})
	b.ended("a:b/inside/x:", transfer.Done, plan.CauseTranslated)
	b.ended("fine.txt", transfer.Done, plan.CauseNone)
	if _, err := b.target.Stat(t.Context(), store.At("copy", "empty%3A")); err != nil {
		t.Errorf("the empty folder: %v", err)
	}
	if _, s := b.run("done"); s.Items != 0 || s.Unchanged != 3 {
		t.Errorf("the second run had %d items, and found %d in sync", s.Items, s.Unchanged)
	}
	b.source.Put("changed", "a:b", "inside", "x:")
	b.run("done")
	b.want(map[string]string{"/copy/a%3Ab/inside/x%3A": "changed", "/copy/c%25253Ad.txt": "y", "/copy/fine.txt": "z"})

	home := newBench(t)
	home.from, home.to, home.fromRoot, home.toRoot = b.target, home.target, store.At("copy"), store.At("back")
	home.run("done")
	home.want(map[string]string{"/back/a:b/inside/x:": "changed", "/back/c%3Ad.txt": "y", "/back/fine.txt": "z"})
}

// TestLetterCaseTwins copies twins to where letter case does not tell them apart.
func TestLetterCaseTwins(t *testing.T) {
	b := newBench(t)
	b.target.SetTraits(func(traits *store.Traits) { traits.CaseIgnored = true })
	for _, name := range []string{"a.txt", "A.txt", "data/x", "Data/x", "Data/X", "zz"} {
		b.source.Put(name, strings.Split(name, "/")...)
	}
	b.target.Put("theirs, in other letters", "copy", "ZZ")
	want := map[string]string{
		"/copy/A.txt": "A.txt", "/copy/%61.txt": "a.txt", "/copy/Data/X": "Data/X", "/copy/Data/%78": "Data/x", "/copy/%64ata/x": "data/x",
		"/copy/ZZ": "theirs, in other letters", "/copy/zz (from desk 2026-01-01 00.00.00)": "zz",
	}
	b.run("done")
	got := b.target.Files()
	for name, content := range got {
		if strings.HasPrefix(name, "/copy/zz (from") || strings.HasPrefix(name, "/copy/ZZ (from") {
			delete(got, name)
			got["/copy/zz (from desk 2026-01-01 00.00.00)"] = content
		}
	}
	if !maps.Equal(got, want) {
		t.Errorf("the target holds %v\nwant %v", got, want)
	}
	if _, s := b.run("done"); s.Items != 0 || s.Unchanged != 6 {
		t.Errorf("the second run had %d items, and found %d in sync", s.Items, s.Unchanged)
	}
}

func TestNamesRefused(t *testing.T) {
	b := newBench(t)
	b.rules.Names = plan.RefuseNames
	b.target.SetTraits(refuseColons)
	b.source.Put("x", "a:b", "inside", "x")
	b.source.Put("y", "c:d.txt")
	b.source.Put("z", "fine.txt")
	b.run("partial")
	b.ended("a:b/inside/x", transfer.Failed, plan.CauseName)
	b.ended("c:d.txt", transfer.Failed, plan.CauseName)
	b.want(map[string]string{"/copy/fine.txt": "z"})
}

func TestCancel(t *testing.T) {
	b := newBench(t)
	for i := range 50 {
		b.source.Put("content", fmt.Sprint(i))
	}
	ctx, cancel := context.WithCancelCause(t.Context())
	from := storetest.NewFaulty(b.source)
	from.Add(storetest.Fault{Op: storetest.OpOpen, Name: "20", Do: func() { cancel(transfer.ErrCancelled) }})
	b.from = from
	run := b.new()
	result := run.Execute(ctx)
	if result.State != "cancelled" {
		t.Fatalf("ended %+v, want it cancelled", result)
	}
	tally, _ := b.records.Tally(t.Context(), "")
	if tally.Skipped == 0 || tally.Done+tally.Skipped != 50 || run.Snapshot().Waiting() != 0 {
		t.Errorf("%+v; want every item done or skipped", tally)
	}
}

// TestInterrupted stops a run in the middle, loses what it had not written
// down, and goes on in a new one.
func TestInterrupted(t *testing.T) {
	for _, lose := range []bool{false, true} {
		for _, planned := range []bool{true, false} {
			t.Run(fmt.Sprintf("lose %v planned %v", lose, planned), func(t *testing.T) {
				b := newBench(t)
				want := map[string]string{}
				for i := range 40 {
					name := fmt.Sprintf("%02d", i)
					b.source.Put("content "+name, name)
					want["/copy/"+name] = "content " + name
				}
				ctx, cancel := context.WithCancel(t.Context())
				from := storetest.NewFaulty(b.source)
				from.Add(storetest.Fault{Op: storetest.OpOpen, Name: "25", Times: 1, Do: cancel, Err: context.Canceled})
				b.from = from
				b.records.dropFinish = lose
				if result := b.new().Execute(ctx); result.State != "" {
					t.Fatalf("ended %+v, want it interrupted", result)
				}
				arrived := len(b.target.Files())
				if arrived == 0 || arrived == len(want) {
					t.Fatalf("%d of %d files had arrived; the test needs some", arrived, len(want))
				}
				b.records.dropFinish, b.records.planned, b.resumed = false, planned, true
				_, snapshot := b.run("done")
				b.want(want)
				if snapshot.Done != 40 || snapshot.Items != 40 {
					t.Errorf("%+v; want all 40 done, as without the interruption", snapshot)
				}
			})
		}
	}
}

// TestInterruptedCounts interrupts a run over files of which some were in sync,
// at first without a trace of that in the records: each counts once in the end.
func TestInterruptedCounts(t *testing.T) {
	b := newBench(t)
	b.source.NoHashes, b.target.NoHashes = true, true
	for i := range 30 {
		name := fmt.Sprintf("%02d", i)
		entry := b.source.Put("content "+name, name)
		if i%3 == 0 { // the same time at the target: found to be the same
			b.target.Folder("copy")
			if _, err := b.target.Write(t.Context(), store.Writing{Place: store.At("copy", name), Size: entry.Size, Modified: entry.Modified,
				Content: storetest.Text("content " + name)}); err != nil {
				t.Fatal(err)
			}
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	from := storetest.NewFaulty(b.source)
	from.Add(storetest.Fault{Op: storetest.OpOpen, Name: "20", Times: 1, Do: cancel, Err: context.Canceled})
	b.from = from
	if result := b.new().Execute(ctx); result.State != "" {
		t.Fatalf("ended %+v, want it interrupted", result)
	}
	b.resumed, b.records.planned = true, false
	_, snapshot := b.run("done")
	if snapshot.Done != 20 || snapshot.Unchanged != 10 || b.records.totals.Unchanged.Items != 10 {
		t.Errorf("%+v, totals %+v; want 20 done and 10 unchanged", snapshot, b.records.totals)
	}
}

func TestParts(t *testing.T) {
	b := newBench(t)
	b.target.PartsAbove, b.target.PartSize = 100, 30
	content := strings.Repeat("0123456789", 25)
	b.source.Put(content, "large")
	to := storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpPart, Times: 2, Err: store.Errorf(store.ErrTryAgain, "reset")})
	b.to = to
	b.run("done")
	b.want(map[string]string{"/copy/large": content})
	ending := b.ended("large", transfer.Done, "")
	if !strings.HasPrefix(ending.Verification, "crc64nvme=") {
		t.Errorf("verification %q; want that of the whole", ending.Verification)
	}
	if calls := to.Calls(storetest.OpPart); calls != 9+2 {
		t.Errorf("%d parts were sent for 9 with 2 failures; what had arrived was sent again", calls)
	}
	if b.target.OpenUploads() != 0 || len(b.records.uploads) != 0 {
		t.Error("an upload is left open")
	}
}

// TestPartsInterrupted kills a run in the middle of a large file. What had
// arrived is not sent again, and an upload nobody knows of is given up.
func TestPartsInterrupted(t *testing.T) {
	b := newBench(t)
	b.target.PartsAbove, b.target.PartSize = 100, 10
	content := strings.Repeat("0123456789", 25)
	b.source.Put(content, "large")
	ctx, cancel := context.WithCancel(t.Context())
	parts := 0
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{Op: storetest.OpPart, Err: nil, Do: func() {
		if parts++; parts == 12 {
			cancel()
		}
	}})
	b.to = to
	if result := b.new().Execute(ctx); result.State != "" {
		t.Fatalf("ended %+v, want it interrupted", result)
	}
	if b.target.OpenUploads() != 1 {
		t.Fatalf("%d uploads are open, want the one to go on with", b.target.OpenUploads())
	}
	_, err := b.target.BeginParts(t.Context(), store.Writing{Place: store.At("copy", "large"), Run: fmt.Sprint("run", runs)})
	if err != nil {
		t.Fatal(err)
	}
	before := to.Calls(storetest.OpPart)
	b.resumed = true
	b.run("done")
	b.want(map[string]string{"/copy/large": content})
	if again := to.Calls(storetest.OpPart) - before; again > 25-before+2 {
		t.Errorf("%d parts were sent after %d of 25 had been", again, before)
	}
	if b.target.OpenUploads() != 0 {
		t.Error("an upload is left open")
	}
}

// TestPartsBegunTwice has an upload begun whose answer is lost, and one that a server
// begins with only after the run that asked for it was killed and taken up again.
func TestPartsBegunTwice(t *testing.T) {
	for _, late := range []bool{false, true} {
		b := newBench(t)
		b.target.PartsAbove, b.target.PartSize = 100, 50
		content := strings.Repeat("0123456789", 25)
		b.source.Put(content, "large")
		to := storetest.NewFaulty(b.target)
		if late {
			b.resumed = true
			to.Add(storetest.Fault{Op: storetest.OpPart, Times: 1, Do: func() {
				if _, err := b.target.BeginParts(t.Context(), store.Writing{Place: store.At("copy", "large")}); err != nil {
					t.Error(err)
				}
			}})
		} else {
			to.Add(storetest.Fault{Op: storetest.OpBegin, Times: 1, After: true, Err: store.Errorf(store.ErrTryAgain, "no answer")})
		}
		b.to = to
		b.run("done")
		b.want(map[string]string{"/copy/large": content})
		if open := b.target.OpenUploads(); open != 0 {
			t.Errorf("late %v: %d uploads are left open", late, open)
		}
	}
}

// TestPartsWhoseCommitIsLost loses the answer to a commit, and finds somebody
// else's file there: both are kept, and no upload is left open.
func TestPartsWhoseCommitIsLost(t *testing.T) {
	b := newBench(t)
	b.target.PartsAbove, b.target.PartSize = 100, 50
	content := strings.Repeat("0123456789", 25)
	b.source.Put(content, "large")
	b.target.Folder("copy")
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{
		Op: storetest.OpCommit, Times: 1, Err: store.Errorf(store.ErrOutcomeUnknown, "lost"),
		Do: func() { b.target.Put("theirs", "copy", "large") },
	})
	b.to = to
	b.run("done")
	b.ended("large", transfer.Done, plan.CauseKeptBoth)
	if files := b.target.Files(); files["/copy/large"] != "theirs" || len(files) != 2 {
		t.Errorf("the target holds %v", files)
	}
	if b.target.OpenUploads() != 0 || len(b.records.uploads) != 0 {
		t.Errorf("%d uploads are left open, %d in the records", b.target.OpenUploads(), len(b.records.uploads))
	}
}

func TestCancelledPartsLeaveNothing(t *testing.T) {
	b := newBench(t)
	b.target.PartsAbove, b.target.PartSize = 100, 10
	b.source.Put(strings.Repeat("0123456789", 25), "large")
	ctx, cancel := context.WithCancelCause(t.Context())
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{Op: storetest.OpPart, Times: 1, Do: func() { cancel(transfer.ErrCancelled) }})
	b.to = to
	if result := b.new().Execute(ctx); result.State != "cancelled" {
		t.Fatalf("ended %+v", result)
	}
	if b.target.OpenUploads() != 0 || len(b.target.Files()) != 0 {
		t.Errorf("%d uploads and %v are left", b.target.OpenUploads(), b.target.Files())
	}
}

func TestNoSpaceStopsBeforeAnythingIsChanged(t *testing.T) {
	b := newBench(t)
	b.to = small{b.target}
	b.source.Put("too much", "x")
	result := b.new().Execute(t.Context())
	if result.State != "held" || result.Cause != plan.CauseNoSpace || len(b.target.Files()) != 0 {
		t.Errorf("%+v, %v; want it stopped for want of space", result, b.target.Files())
	}
}

type small struct{ *storetest.Memory }

func (s small) Capabilities() store.Capabilities {
	c := s.Memory.Capabilities()
	c.Space = s.Space
	return c
}

func (small) Space(context.Context) (store.Space, error) {
	return store.Space{Used: 10, Free: 3, Total: 13}, nil
}

func TestCheck(t *testing.T) {
	b := newBench(t)
	b.source.Put("x", "a", "x")
	b.source.Put("y", "y")
	b.target.Put("a file", "file")
	b.target.SetTraits(refuseColons)
	for _, c := range []struct {
		name     string
		from, to store.Ref
		same     bool
		want     string
	}{
		{"missing source", store.At("nobody"), store.At("copy"), false, "is not there; look at what is in /desk"},
		{"inside its own source", store.At("a"), store.At("a", "b"), true, "choose a target outside it"},
		{"onto itself", store.At("y"), store.At("y"), true, "choose a target outside it"},
		{"a file on the way", store.At("a"), store.At("file", "a"), false, "move the file away"},
		{"a name that cannot be", store.At("a"), store.At("a:b", "a"), false, "choose another name"},
		{"all is well", store.At("a"), store.At("b", "a"), false, ""},
	} {
		b.fromRoot, b.toRoot = c.from, c.to
		route := b.route()
		if c.same {
			route.Target.Store, route.Target.Account = b.source, "desk"
			route.Target.Address = store.MakeAddress("desk", c.to)
		}
		err := transfer.Check(t.Context(), route)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v; want it to say %q", c.name, err, c.want)
		}
	}
}

func TestPlanWritesNothing(t *testing.T) {
	b := newBench(t)
	b.source.Put("12345", "new")
	b.source.Put("conflict", "conflict")
	b.target.Put("other", "copy", "conflict")
	totals, err := transfer.Plan(t.Context(), []transfer.Route{b.route()}, b.rules, b.records, nil, transfer.PlanListener{})
	if err != nil || totals.Create != (plan.Count{Items: 1, Bytes: 5}) || totals.Conflicts() != 1 {
		t.Errorf("%+v, %v", totals, err)
	}
	b.want(map[string]string{"/copy/conflict": "other"})
}

// TestBackoff lets time run automatically: five tries take seconds, not minutes.
func TestBackoff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.to = storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpWrite, Err: store.Errorf(store.ErrTryAgain, "down")})
		b.source.Put("x", "x")
		begun := time.Now()
		run := transfer.New(transfer.Options{ID: "backoff", Routes: []transfer.Route{b.route()}, Records: b.records})
		if result := run.Execute(t.Context()); result.State != "failed" {
			t.Fatalf("%+v", result)
		}
		if took := time.Since(begun); took < 3*time.Second || took > 15*time.Second {
			t.Errorf("five tries took %v", took)
		}
		if _, ending := b.records.item("x"); ending.Attempts != 5 {
			t.Errorf("%d tries, want 5", ending.Attempts)
		}
	})
}
