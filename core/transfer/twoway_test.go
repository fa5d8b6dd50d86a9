package transfer_test

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// happens is what becomes of the file "x" at one side, in the words of docs/two-way.md.
var happens = map[string]func(s *side){
	"unchanged": func(*side) {},
	"changed":   func(s *side) { s.Put("changed at "+s.name, "in", "x") },
	"removed":   func(s *side) { s.Remove(s.context(), place("x"), "") },
	"renamed":   func(s *side) { s.Rename(place("x"), place("y at "+s.name)) },
	"replaced by a folder": func(s *side) {
		s.Remove(s.context(), place("x"), "")
		s.Put("inside at "+s.name, "in", "x", "f")
	},
	"absent":           func(*side) {},
	"created":          func(s *side) { s.Put("created at "+s.name, "in", "x") },
	"created the same": func(s *side) { s.Put("the same", "in", "x") },
	"a folder":         func(s *side) { s.Put("inside at "+s.name, "in", "x", "f") },
}

// outcomes reads the tables of docs/two-way.md: what happened at A, at B, and what
// both hold then.
func outcomes(t *testing.T) (rows [][3]string) {
	text, err := os.ReadFile("../../docs/two-way.md")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.TrimSpace(line), "|")
		if len(cells) < 6 || happens[strings.TrimSpace(cells[1])] == nil {
			continue
		}
		rows = append(rows, [3]string{strings.TrimSpace(cells[1]), strings.TrimSpace(cells[2]), strings.TrimSpace(cells[4])})
	}
	return rows
}

// TestTwoWayOutcomes does to one file, at both sides, all that its document names,
// and holds what becomes of it against what the document says.
func TestTwoWayOutcomes(t *testing.T) {
	rows := outcomes(t)
	if len(rows) < 34 {
		t.Fatalf("docs/two-way.md tells %d outcomes; want all 25 of what was known and 9 of what was not", len(rows))
	}
	for _, row := range rows {
		for _, moves := range []bool{true, false} {
			t.Run(fmt.Sprintf("%s, %s, moves %v", row[0], row[1], moves), func(t *testing.T) {
				m := newModel(t, 1)
				for i, s := range m.sides {
					s.Moves, s.Copies, s.NoHashes, s.Fold = moves, false, false, false
					s.name = []string{"A", "B"}[i]
				}
				if _, isNew := map[string]bool{"absent": true, "created": true, "created the same": true, "a folder": true}[row[0]]; !isNew {
					m.sides[0].Put("as it was", "in", "x")
				}
				m.run()
				happens[row[0]](m.sides[0])
				happens[row[1]](m.sides[1])
				for n := 0; ; n++ {
					if result := m.run(); result.State != "done" {
						m.fail("%+v", result)
					}
					if len(m.records.items) == 0 {
						break
					}
					if n == 3 {
						m.fail("it does not settle")
					}
				}
				a, _ := m.sides[0].everything()
				b, _ := m.sides[1].everything()
				if !maps.Equal(a, b) {
					m.fail("A holds %q, B %q", a, b)
				}
				var got []string
				for _, path := range slices.Sorted(maps.Keys(a)) {
					name := path
					if at := strings.Index(name, " (from "); at > 0 {
						name = name[:at] + " (from " + strings.Fields(name[at+7:])[0] + " …)"
					}
					got = append(got, "`"+name+"`: "+a[path])
				}
				slices.Sort(got)
				want := row[2]
				if now := strings.Join(got, "; "); now != want && !(want == "nothing" && now == "") {
					m.fail("both hold %s\nwant %s", now, want)
				}
			})
		}
	}
}

// mirror carries out a mirror of b's source.
func (b *bench) mirror(want run.State, change func(*plan.Rules)) (transfer.Result, transfer.Snapshot) {
	b.t.Helper()
	b.rules = plan.Rules{Type: plan.Mirror, Conflict: plan.Source}
	if change != nil {
		change(&b.rules)
	}
	return b.run(want)
}

func (b *bench) retired() (files []string) {
	for address, content := range b.target.Files() {
		if strings.HasPrefix(address, "/.heron/history/") && strings.Contains(address, "/files/") {
			files = append(files, content)
		}
	}
	slices.Sort(files)
	return files
}

func (b *bench) wantMirrored() {
	b.t.Helper()
	want, got := map[string]string{}, b.target.Files()
	for address, content := range b.source.Files() {
		want["/copy"+address] = content
	}
	maps.DeleteFunc(got, func(address, _ string) bool { return strings.HasPrefix(address, "/.heron/") })
	if !maps.Equal(got, want) {
		b.t.Errorf("the target holds %q\nwant %q", got, want)
	}
}

func TestMirror(t *testing.T) {
	b := newBench(t)
	for i := range 20 {
		b.source.Put(fmt.Sprint("content ", i), "folder", fmt.Sprint(i))
	}
	b.source.Put("x", "other", "deep", "x")
	b.target.Put("of somebody else", "copy", "folder", "theirs")
	b.mirror("done", nil)
	b.wantMirrored()
	if got := b.retired(); !slices.Equal(got, []string{"of somebody else"}) {
		t.Errorf("retired are %q", got)
	}

	// Removed, renamed, changed at both sides, and a file in place of a folder.
	b.source.Remove(t.Context(), store.At("folder", "0"), "")
	b.source.Rename(store.At("folder", "1"), store.At("folder", "one"))
	b.target.Put("changed by somebody", "copy", "folder", "2")
	b.source.Remove(t.Context(), store.At("other", "deep", "x"), "")
	b.source.RemoveFolder(t.Context(), store.At("other", "deep"))
	b.source.Put("a file now", "other", "deep")
	b.mirror("done", nil)
	b.wantMirrored()
	if got := b.retired(); !slices.Contains(got, "content 0") || !slices.Contains(got, "changed by somebody") || !slices.Contains(got, "x") {
		t.Errorf("retired are %q", got)
	}
	if _, again := b.mirror("done", nil); again.Items != 0 {
		t.Errorf("a third time: %+v", again)
	}

	// What is left out at the source is left alone at the target.
	b.target.Put("theirs", "copy", "folder", "notes.tmp")
	b.source.Remove(t.Context(), store.At("folder", "3"), "")
	b.mirror("done", func(rules *plan.Rules) { rules.Filter.Exclude = []string{"*.tmp", "4"} })
	files := b.target.Files()
	if files["/copy/folder/notes.tmp"] != "theirs" || files["/copy/folder/4"] != "content 4" || files["/copy/folder/3"] != "" {
		t.Errorf("with something left out: %q", files)
	}

	before := len(b.retired())
	b.target.Remove(t.Context(), store.At("copy", "folder", "notes.tmp"), "")
	b.source.Remove(t.Context(), store.At("folder", "5"), "")
	b.mirror("done", func(rules *plan.Rules) { rules.Deletions = plan.DeleteToo })
	b.wantMirrored()
	b.source.Remove(t.Context(), store.At("folder", "6"), "")
	b.mirror("done", func(rules *plan.Rules) { rules.Deletions = plan.IgnoreDeletions })
	if b.target.Files()["/copy/folder/6"] == "" || len(b.retired()) != before {
		t.Errorf("deletions followed, then ignored: %q", b.target.Files())
	}
}

// TestSafety holds a run that would lose much, and lets it go when a person says so.
func TestSafety(t *testing.T) {
	fill := func(b *bench) {
		for i := range 40 {
			b.source.Put(fmt.Sprint("content ", i), fmt.Sprint(i))
		}
	}
	safety := func(rules *plan.Rules) { rules.Safety = plan.DefaultSafety() }
	for name, c := range map[string]struct {
		happens func(b *bench)
		cause   plan.Cause // empty: it is not held
	}{
		"a tenth is removed": {func(b *bench) {
			for i := range 4 {
				b.source.Remove(t.Context(), store.At(fmt.Sprint(i)), "")
			}
		}, ""},
		"more than a tenth is removed": {func(b *bench) {
			for i := range 5 {
				b.source.Remove(t.Context(), store.At(fmt.Sprint(i)), "")
			}
		}, plan.CauseSafety},
		"all is removed": {func(b *bench) {
			for i := range 40 {
				b.source.Remove(t.Context(), store.At(fmt.Sprint(i)), "")
			}
		}, plan.CauseEmptied},
		"all is renamed": {func(b *bench) {
			for i := range 40 {
				b.source.Rename(store.At(fmt.Sprint(i)), store.At("sub", fmt.Sprint(i)))
			}
		}, ""},
		"much is changed": {func(b *bench) {
			for i := range 15 {
				b.source.Put("changed", fmt.Sprint(i))
			}
		}, plan.CauseSafety},
		"one is rolled back": {func(b *bench) { b.source.PutAt("older", b.source.Start(), "7") }, plan.CauseRolledBack},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.to = &storetest.Account{Memory: b.target, Moves: true}
			fill(b)
			b.mirror("done", safety)
			before := b.target.Files()
			c.happens(b)
			if c.cause == "" {
				b.mirror("done", safety)
				b.wantMirrored()
				return
			}
			b.rules.Safety = plan.DefaultSafety()
			b.records.restart()
			run := b.new()
			if result := run.Execute(t.Context()); result.State != "held" || result.Cause != c.cause {
				t.Fatalf("%+v, want it held with %s", result, c.cause)
			}
			if !maps.Equal(before, b.target.Files()) {
				t.Error("something was touched")
			}
			// Asked again, it is held again; let go, it goes on.
			b.resumed = true
			if result := b.new().Execute(t.Context()); result.State != "held" {
				t.Fatalf("%+v, want it held still", result)
			}
			b.released = true
			if result := b.new().Execute(t.Context()); result.State != "done" {
				t.Fatalf("%+v, want it done", result)
			}
			b.wantMirrored()
		})
	}
}

// TestNothingIsRemovedAfterAnError removes nothing where a listing broke off, or the
// source is not there any more.
func TestNothingIsRemovedAfterAnError(t *testing.T) {
	b := newBench(t)
	b.source.Folder("in")
	b.fromRoot = store.At("in")
	for i := range 10 {
		b.source.Put(fmt.Sprint("content ", i), "in", fmt.Sprint(i))
	}
	b.mirror("done", nil)
	before := b.target.Files()
	for i := range 10 {
		b.source.Remove(t.Context(), store.At("in", fmt.Sprint(i)), "")
	}
	b.source.RemoveFolder(t.Context(), store.At("in"))
	b.records.restart()
	if result := b.new().Execute(t.Context()); result.State != "failed" || !maps.Equal(before, b.target.Files()) {
		t.Errorf("%+v; the target holds %q", result, b.target.Files())
	}
}

// TestSameSizeInOneSecond has both sides write as much to one name in the same second,
// where times are all that both tell.
func TestSameSizeInOneSecond(t *testing.T) {
	b := newBench(t)
	b.rules.Type = plan.TwoWay
	at := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	b.source.NoHashes, b.target.NoHashes = true, true
	for _, side := range []*storetest.Memory{b.source, b.target} {
		side.SetTraits(func(traits *store.Traits) { traits.KeepsTimes, traits.TimePrecision = true, time.Second })
	}
	b.source.PutAt("reading 1", at, "conflict")
	b.target.PutAt("reading 2", at, "copy", "conflict")
	b.source.PutAt("a copy of it", at, "same")
	b.target.PutAt("a copy of it", at, "copy", "same")
	b.run("done")
	for _, files := range []map[string]string{b.source.Files(), b.target.Files()} {
		held, files := map[string]int{}, withoutHistory(files)
		for _, content := range files {
			held[content]++
		}
		if len(files) != 3 || held["reading 1"] != 1 || held["reading 2"] != 1 || held["a copy of it"] != 1 {
			t.Errorf("a side holds %v", files)
		}
	}
	b.ended("same", transfer.Skipped, plan.CauseSame)
}
