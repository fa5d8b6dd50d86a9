package transfer_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"deftheron/core/history"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// TestVersionOfWhatIsGone overwrites a file whose old content is in history already when the write
// fails and nothing has the name: the run has copied it there, or a write of which no answer came has
// moved it. The version is recorded as it is, and nothing of it is lost.
func TestVersionOfWhatIsGone(t *testing.T) {
	const old = "the content that was there"
	for name, fail := range map[string]func(b *bench) error{
		"copied": func(b *bench) error {
			_, err := b.target.Remove(t.Context(), store.At("copy", "a.txt"), "")
			return err
		},
		"moved": func(b *bench) error {
			notes, err := b.records.Noted(t.Context(), "")
			if err != nil || len(notes) != 1 {
				t.Errorf("%d notes, %v", len(notes), err)
				return err
			}
			b.target.Put(old, strings.Split(string(notes[0].Kept), "/")...)
			_, err = b.target.Remove(t.Context(), store.At("copy", "a.txt"), "")
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.target.Keeping = name == "moved"
			keep := func(rules *plan.Rules) { rules.Deletions = plan.KeepVersion }
			b.source.Put(old, "a.txt")
			b.mirror("done", keep)
			b.source.Put("new", "a.txt")
			fault := storetest.Fault{Op: storetest.OpWrite, Name: "a.txt", Times: 1, Err: store.Errorf(store.ErrOutcomeUnknown, "no answer"),
				Do: func() {
					if err := fail(b); err != nil {
						t.Error(err)
					}
				}}
			faulty := storetest.NewFaulty(b.target)
			if b.to = faulty; name == "copied" {
				faulty = storetest.NewFaulty(b.source)
				fault.Op, fault.Err = storetest.OpRead, store.Errorf(store.ErrTryAgain, "reset")
				b.from = faulty
			}
			faulty.Add(fault)
			b.mirror("done", keep)
			if got := b.target.Files()["/copy/a.txt"]; got != "new" {
				t.Errorf("the target holds %q", got)
			}
			var found int
			for _, change := range b.records.history {
				if change.How != history.Overwritten {
					continue
				}
				found++
				if got := b.target.Files()["/"+string(change.Kept)]; change.Size != int64(len(old)) || got != old {
					t.Errorf("the version has %d bytes by its record, and %q is kept", change.Size, got)
				}
			}
			if found != 1 {
				t.Errorf("%d versions are recorded, want one: %+v", found, b.records.history)
			}
		})
	}
}

// TestFailedAndThereAllTheSame has a write carried out of which no answer comes, until the item has
// failed: history knows that the file has come.
func TestFailedAndThereAllTheSame(t *testing.T) {
	b := newBench(t)
	keep := func(rules *plan.Rules) { rules.Deletions, rules.Tries = plan.KeepVersion, 1 }
	b.source.Put("first", "a.txt")
	b.mirror("done", keep)
	b.source.Put("second", "b.txt")
	faulty := storetest.NewFaulty(b.target)
	faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", After: true, Err: store.Errorf(store.ErrOutcomeUnknown, "no answer")})
	faulty.Add(storetest.Fault{Op: storetest.OpStat, Name: "b.txt", Times: 1, Err: store.Errorf(store.ErrTryAgain, "reset")})
	b.to = faulty
	b.mirror("partial", keep)
	found := 0
	for _, change := range b.records.history {
		if change.Path == "copy/b.txt" && change.How == history.Created {
			found++
		}
	}
	if found != 1 {
		t.Errorf("history has %+v", b.records.history)
	}
}

// TestGrowingFileHasHistory copies a file that keeps growing while it is read: what was at the target
// before is a version, and one that is new is known to have come.
func TestGrowingFileHasHistory(t *testing.T) {
	for name, keeping := range map[string]bool{"kept by the write": true, "copied before": false} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.target.Keeping = keeping
			keep := func(rules *plan.Rules) { rules.Deletions = plan.KeepVersion }
			b.source.Put("what was there", "old.log")
			b.mirror("done", keep)
			b.source.Put("what was there, and more", "old.log")
			b.source.Put("begun", "new.log")
			faulty := storetest.NewFaulty(b.source)
			for _, name := range []string{"old.log", "new.log"} {
				faulty.Add(storetest.Fault{Op: storetest.OpOpen, Name: name, Times: 2, Err: store.Errorf(store.ErrChanged, "it grows")})
			}
			b.from = faulty
			b.mirror("done", keep)
			b.records.history = slices.DeleteFunc(b.records.history, func(c history.Numbered) bool { return c.Path == "copy/" })
			var got []string
			for _, change := range b.records.history {
				content := ""
				if change.HasContent() {
					content = b.target.Files()["/"+string(change.Kept)]
				}
				got = append(got, fmt.Sprint(change.Path, " ", change.How, " ", content))
			}
			slices.Sort(got)
			if want := []string{"copy/new.log created ", "copy/old.log overwritten what was there"}; !slices.Equal(got, want) {
				t.Errorf("history has %q, want %q", got, want)
			}
			if files := b.target.Files(); files["/copy/old.log"] != "what was there, and more" || files["/copy/new.log"] != "begun" {
				t.Errorf("the target holds %q", files)
			}
		})
	}
}
