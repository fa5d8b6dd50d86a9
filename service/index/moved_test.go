package index_test

import (
	"context"
	"io"
	"iter"
	"sync/atomic"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/service/index"
)

// renaming is an account whose one folder has an id, and whatever name it has now.
type renaming struct {
	*storetest.Memory
	name  atomic.Value
	reads atomic.Int32
}

// real is a folder of the account as the memory beneath has it.
func (r *renaming) real(folder store.Folder) store.Folder {
	if folder.Path == store.MakePath(r.name.Load().(string)) {
		return store.Folder{Path: store.MakePath("real")}
	}
	return folder
}

func (r *renaming) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		for entry, err := range r.Memory.List(ctx, r.real(folder)) {
			if entry.Name == "real" {
				entry.Name, entry.ID = r.name.Load().(string), "folder-1"
			}
			if !yield(entry, err) {
				return
			}
		}
	}
}

func (r *renaming) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	r.reads.Add(1)
	reading.Place.Folder = r.real(reading.Place.Folder)
	return r.Memory.Open(ctx, reading)
}

func (r *renaming) Capabilities() store.Capabilities { return store.Capabilities{} }

// TestRenamedFolder renames a folder that its provider tells by an id: everything in it is
// found at its new place, and nothing is read again.
func TestRenamedFolder(t *testing.T) {
	b := newBench(t)
	r := &renaming{Memory: storetest.NewMemory()}
	r.name.Store("before")
	b.write(r.Memory, "real/plan.txt", "fish")
	b.linked.mu.Lock()
	b.linked.stores["drive"] = r
	b.linked.index = append(b.linked.index, index.Account{Link: "3", Name: "drive", Contents: true})
	b.linked.mu.Unlock()
	b.index.AccountsChanged()
	b.finds("plan", "/drive/before/plan.txt")
	b.finds("fish", "/drive/before/plan.txt")
	reads := r.reads.Load()
	r.name.Store("after")
	b.index.Touched(address(t, "/drive"))
	b.finds("plan", "/drive/after/plan.txt")
	b.finds("fish", "/drive/after/plan.txt")
	b.finds("before")
	b.finds("after", "/drive/after")
	r.name.Store("zebra") // after its old name, in the order of a listing
	b.index.Touched(address(t, "/drive"))
	b.finds("fish", "/drive/zebra/plan.txt")
	b.finds("after")
	if n := r.reads.Load(); n != reads {
		t.Errorf("%d files were read again", n-reads)
	}
}

// TestNamesPassOn gives a file's name to another file, in one listing: both are found.
func TestNamesPassOn(t *testing.T) {
	b := newBench(t)
	b.write(b.desk, "b.txt", "fish")
	b.index.TouchedAll("desk")
	b.finds("fish", "/desk/b.txt")
	moving := &storetest.Account{Memory: b.desk, Moves: true}
	if _, err := store.Move(t.Context(), moving, store.At("b.txt").As(store.KindFile), "", store.At("a.txt").As(store.KindFile)); err != nil {
		t.Fatal(err)
	}
	b.write(b.desk, "b.txt", "eel")
	b.index.Touched(address(t, "/desk"))
	b.finds("eel", "/desk/b.txt")
	b.finds("fish", "/desk/a.txt")
	b.finds("txt", "/desk/a.txt", "/desk/b.txt")
}

// linkedTwice is an account whose files are all one file, under several names.
type linkedTwice struct{ *storetest.Memory }

func (l linkedTwice) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		for entry, err := range l.Memory.List(ctx, folder) {
			entry.Identity, entry.Revision = "one", "r"
			if !yield(entry, err) {
				return
			}
		}
	}
}

func (l linkedTwice) Capabilities() store.Capabilities { return store.Capabilities{} }

// TestHardLinks finds a file under each of its names, also after it was listed again.
func TestHardLinks(t *testing.T) {
	b := newBench(t)
	l := linkedTwice{storetest.NewMemory()}
	b.write(l.Memory, "a.txt", "fish")
	b.write(l.Memory, "b.txt", "fish")
	b.linked.mu.Lock()
	b.linked.stores["drive"] = l
	b.linked.index = append(b.linked.index, index.Account{Link: "3", Name: "drive", Contents: true})
	b.linked.mu.Unlock()
	b.index.AccountsChanged()
	b.finds("fish", "/drive/a.txt", "/drive/b.txt")
	b.write(l.Memory, "c.txt", "fish")
	b.index.Touched(address(t, "/drive"))
	b.finds("fish", "/drive/a.txt", "/drive/b.txt", "/drive/c.txt")
}
