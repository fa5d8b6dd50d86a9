package storetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"deftheron/core/store"
)

// Names are awkward ones that a store may hold or refuse, but not garble.
var Names = []string{
	"plain.txt", "two words.txt", "#%+&?=;.txt", "100%25.txt", "100%2F.txt", "%id=7.txt", "Müller é.txt", "Mu\u0308ller e\u0301.txt",
	"emoji 🐦🌊.txt", "trailing dot.", "trailing space ", " leading", "'quotes\".txt", "back\\slash.txt", "colon:star*.txt",
	"new\nline.txt", "<tag>&amp;.txt", "-dash", ".hidden", "UPPER.txt", "upper.txt", "~tilde", "a!", "a", "a.b", "日本語.txt",
	"本.txt", "g,.txt", "é.txt", "%E9.txt", "Ω≈ç.txt", "العربية.txt", "हिन्दी.txt", "ไทย.txt", "a+b.txt",
	"a b+c.txt", "a;b=c.txt", "a?b.txt",
	"a#b.txt", "50% of.txt", "%41.txt", "A.txt", "%",
	strings.Repeat("n", 236) + ".txt", "con", "$HOME", "`x`",
}

// T is what a part needs of *testing.T, so that the suite also runs outside of
// a test.
type T interface {
	Helper()
	Context() context.Context
	Error(args ...any)
	Errorf(format string, args ...any)
	Fatal(args ...any)
	Fatalf(format string, args ...any)
	Skip(args ...any)
	Skipf(format string, args ...any)
}

// Part is one part of the suite. It wants a fresh, empty, writable account.
type Part struct {
	Name string
	Run  func(T, store.Store)
}

// Parts returns the suite.
func Parts() []Part {
	return []Part{
		{"names survive", testNames},
		{"sizes survive", testSizes},
		{"missing is not empty", testMissing},
		{"listing is ordered as declared", testOrder},
		{"flat listing equals walking", testFlat},
		{"creating never replaces", testCreate},
		{"one of many creators wins", testCreateRace},
		{"replacing keeps to the revision", testReplace},
		{"nothing is partly there", testPartly},
		{"a failed write leaves nothing", testFailedWrite},
		{"ranges and revisions are read", testReading},
		{"removing", testRemove},
		{"folders", testFolders},
		{"a file is not a folder", testKinds},
		{"a file and a folder of one name", testSameName},
		{"numbered parts", testParts},
		{"times are kept if declared", testTimes},
		{"sums agree", testSums},
		{"moving within", testMove},
		{"copying within", testCopy},
		{"keeping what is replaced", testKeep},
		{"changes are reported", testChanges},
	}
}

// Run checks that a store does what package store promises. open returns a
// fresh, empty, writable account for each part of the suite.
func Run[X interface {
	T
	Run(name string, part func(X)) bool
}](t X, open func(t X) store.Store) {
	for _, part := range append(Parts(), Part{"versions of its own", testVersions}) { // which no definition describes
		t.Run(part.Name, func(t X) { part.Run(t, open(t)) })
	}
}

// at is the place of names, each of which the store can hold: one that it refuses
// gives way to a plain one, the same each time.
func at(s store.Store, names ...string) store.Ref {
	held := make([]string, len(names))
	for i, name := range names {
		held[i] = able(s, name)
	}
	return store.At(held...)
}

func able(s store.Store, name string) string {
	if s.Traits().NameError("", name) == nil {
		return name
	}
	return fmt.Sprintf("n%x", name)
}

func write(t T, s store.Store, place store.Ref, data string, condition store.Condition) (store.Written, error) {
	t.Helper()
	return s.Write(t.Context(), store.Writing{Place: place, Size: int64(len(data)), If: condition, Run: "conformance", Content: Text(data)})
}

func mustWrite(t T, s store.Store, place store.Ref, data string) store.Written {
	t.Helper()
	for p := place.Folder.Path; p != ""; p = "" {
		makeAll(t, s, p)
	}
	written, err := write(t, s, place, data, store.Absent)
	if err != nil {
		t.Fatalf("write %s: %v", place, err)
	}
	return written
}

func makeAll(t T, s store.Store, path store.Path) {
	t.Helper()
	if path == "" || s.Traits().Folders == store.FoldersImplied {
		return
	}
	parent, _ := path.Split()
	makeAll(t, s, parent)
	if _, err := s.MakeFolder(t.Context(), path.Ref()); err != nil {
		t.Fatalf("make folder %q: %v", path, err)
	}
}

func read(t T, s store.Store, reading store.Reading) string {
	t.Helper()
	body, err := s.Open(t.Context(), reading)
	if err != nil {
		t.Fatalf("open %s: %v", reading.Place, err)
	}
	defer body.Close()
	data, err := io.ReadAll(body)
	if err != nil {
		t.Fatalf("read %s: %v", reading.Place, err)
	}
	return string(data)
}

func list(t T, s store.Store, folder store.Folder) []store.Entry {
	t.Helper()
	var entries []store.Entry
	for entry, err := range s.List(t.Context(), folder) {
		if err != nil {
			t.Fatalf("list %q: %v", folder.Path, err)
		}
		if !store.Ours(folder.Path, entry.Name) { // as the engine and the tree leave it out
			entries = append(entries, entry)
		}
	}
	return entries
}

func want(t T, what string, err, kind error) {
	t.Helper()
	if !errors.Is(err, kind) {
		t.Errorf("%s: got %v, want an error that is %q", what, err, kind)
	}
}

func testCreate(t T, s store.Store) {
	place := at(s, "first.txt")
	mustWrite(t, s, place, "first")
	_, err := write(t, s, place, "second", store.Absent)
	want(t, "creating again", err, store.ErrExists)
	if got := read(t, s, store.Reading{Place: place}); got != "first" {
		t.Errorf("it holds %q now, want %q", got, "first")
	}
}

func testCreateRace(t T, s store.Store) {
	mustWrite(t, s, at(s, "before"), "so that what is probed at the first write has been")
	place := at(s, "race.txt")
	var mu sync.Mutex
	var won []string
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() {
			data := strings.Repeat(fmt.Sprint(i), 1000)
			if _, err := write(t, s, place, data, store.Absent); err == nil {
				mu.Lock()
				defer mu.Unlock()
				won = append(won, data)
			} else if !errors.Is(err, store.ErrExists) && !errors.Is(err, store.ErrTryAgain) {
				t.Errorf("a loser got %v, want %q", err, store.ErrExists)
			}
		})
	}
	group.Wait()
	if len(won) != 1 {
		if s.Traits().Conditional {
			t.Fatalf("%d creators were told that they had won, want 1", len(won))
		}
		t.Skipf("%d winners: the store declares that its writes are not conditional", len(won))
	}
	if got := read(t, s, store.Reading{Place: place}); got != won[0] {
		t.Error("the winner's bytes are not those that are there")
	}
}

func testReplace(t T, s store.Store) {
	place := at(s, "replaced.txt")
	first := mustWrite(t, s, place, "first")
	second, err := write(t, s, place, "second version", store.AtRevision(first.Revision))
	if err != nil {
		t.Fatalf("replacing the revision that is there: %v", err)
	}
	if second.Revision == first.Revision {
		t.Error("the revision stayed the same over a change of content")
	}
	_, err = write(t, s, place, "third", store.AtRevision(first.Revision))
	want(t, "replacing a revision that is gone", err, store.ErrChanged)
	if got := read(t, s, store.Reading{Place: place}); got != "second version" {
		t.Errorf("it holds %q, want %q", got, "second version")
	}
	_, err = write(t, s, at(s, "absent.txt"), "x", store.AtRevision(first.Revision))
	if !errors.Is(err, store.ErrChanged) && !errors.Is(err, store.ErrNotFound) {
		t.Errorf("replacing what is not there: got %v, want %q", err, store.ErrChanged)
	}
	if _, err := write(t, s, place, "any", store.Any); err != nil {
		t.Errorf("replacing whatever is there: %v", err)
	}
}

func testReading(t T, s store.Store) {
	data := make([]byte, 200_000)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range data {
		data[i] = byte(random.Uint32())
	}
	place := at(s, "ranges.bin")
	written := mustWrite(t, s, place, string(data))
	for _, r := range []struct{ offset, length int64 }{{0, 0}, {0, 1}, {1, 0}, {100_000, 50_000}, {199_999, 1}, {199_999, 0}} {
		expected := data[r.offset:]
		if r.length > 0 {
			expected = expected[:r.length]
		}
		reading := store.Reading{Place: place, Revision: written.Revision, Offset: r.offset, Length: r.length}
		if got := read(t, s, reading); got != string(expected) {
			t.Errorf("range %d+%d: %d other bytes came back", r.offset, r.length, len(got))
		}
	}
	if _, err := write(t, s, place, "something else now", store.Any); err != nil {
		t.Fatal(err)
	}
	_, err := s.Open(t.Context(), store.Reading{Place: place, Revision: written.Revision})
	want(t, "reading a revision that is gone", err, store.ErrChanged)
}

func testRemove(t T, s store.Store) {
	place := at(s, "gone.txt")
	written := mustWrite(t, s, place, "x")
	_, err := s.Remove(t.Context(), place, written.Revision+"x")
	want(t, "removing another revision", err, store.ErrChanged)
	if _, err := s.Remove(t.Context(), place, written.Revision); err != nil {
		t.Fatalf("remove: %v", err)
	}
	_, err = s.Stat(t.Context(), place)
	want(t, "stat of what was removed", err, store.ErrNotFound)
	_, err = s.Remove(t.Context(), place, "")
	want(t, "removing it again", err, store.ErrNotFound)
	mustWrite(t, s, at(s, "full", "x"), "x")
	_, err = s.RemoveFolder(t.Context(), at(s, "full"))
	want(t, "removing a folder that is not empty", err, store.ErrRefused)
}

func testFolders(t T, s store.Store) {
	for range 2 {
		if _, err := s.MakeFolder(t.Context(), at(s, "empty")); err != nil {
			t.Fatalf("make folder: %v", err)
		}
	}
	entry, err := s.Stat(t.Context(), at(s, "empty"))
	if err != nil || entry.Kind != store.KindFolder {
		t.Errorf("stat of a folder: %+v, %v", entry, err)
	}
	if entries := list(t, s, at(s, "empty").AsFolder()); len(entries) != 0 {
		t.Errorf("an empty folder lists %v", entries)
	}
	if entries := list(t, s, store.Folder{}); len(entries) != 1 || entries[0].Name != "empty" || entries[0].Kind != store.KindFolder {
		t.Errorf("its parent lists %v", entries)
	}
	if _, err := s.RemoveFolder(t.Context(), at(s, "empty")); err != nil {
		t.Errorf("removing it: %v", err)
	}
	_, err = s.Stat(t.Context(), at(s, "empty"))
	want(t, "stat of the removed folder", err, store.ErrNotFound)
	_, err = s.RemoveFolder(t.Context(), at(s, "empty"))
	want(t, "removing it again", err, store.ErrNotFound)
	mustWrite(t, s, at(s, "file"), "x")
	_, err = s.Stat(t.Context(), at(s, "file", "in it"))
	want(t, "stat of what would be in a file", err, store.ErrNotFound)
	_, err = s.Stat(t.Context(), at(s, "file", "in it", "deeper"))
	want(t, "stat of what would be deeper in a file", err, store.ErrNotFound)
	if !s.Traits().FileBesideFolder {
		_, err = s.MakeFolder(t.Context(), at(s, "file"))
		want(t, "making a folder where a file is", err, store.ErrExists)
	}
}

func testTimes(t T, s store.Store) {
	traits := s.Traits()
	if !traits.KeepsTimes {
		t.Skip("the store declares that it keeps no times")
	}
	modified := time.Date(2024, 2, 29, 23, 59, 58, 123_456_789, time.UTC)
	place := at(s, "dated.txt")
	_, err := s.Write(t.Context(), store.Writing{Place: place, Size: 1, Modified: modified, Run: "conformance", Content: Text("x")})
	if err != nil {
		t.Fatal(err)
	}
	entry, err := s.Stat(t.Context(), place)
	if err != nil || !entry.Modified.Truncate(traits.TimePrecision).Equal(modified.Truncate(traits.TimePrecision)) {
		t.Errorf("modified %v, %v; want %v", entry.Modified, err, modified)
	}
}

func testSums(t T, s store.Store) {
	summer := s.Capabilities().Checksums
	if summer == nil {
		t.Skip("the store tells no sums")
	}
	place := at(s, "summed.txt")
	written := mustWrite(t, s, place, "123456789")
	for _, kind := range summer.SumKinds() {
		sum := kind.New()
		sum.Write([]byte("123456789"))
		got, err := store.Sum(t.Context(), s, place, written.Entry, kind)
		if errors.Is(err, store.ErrUnsupported) {
			continue
		}
		if expected := store.HashOf(kind, sum.Sum(nil)); err != nil || got != expected {
			t.Errorf("%s: got %v, %v; want %v", kind, got, err, expected)
		}
	}
}

func testMove(t T, s store.Store) {
	if !store.CanMove(s) {
		_, err := store.Move(t.Context(), s, at(s, "a"), "", at(s, "b"))
		want(t, "moving where the store cannot", err, store.ErrUnsupported)
		return
	}
	first := mustWrite(t, s, at(s, "from", "a.txt"), "first")
	mustWrite(t, s, at(s, "from", "below", "b é #%.txt"), "second")
	mustWrite(t, s, at(s, "to", "there.txt"), "there before")
	move := func(from store.Ref, revision string, to store.Ref) (store.Entry, error) {
		return store.Move(t.Context(), s, from, revision, to)
	}
	_, err := move(at(s, "from", "a.txt"), first.Revision, at(s, "to", "there.txt"))
	want(t, "moving to where something is", err, store.ErrExists)
	_, err = move(at(s, "from", "a.txt"), first.Revision+"x", at(s, "to", "a.txt"))
	want(t, "moving another revision", err, store.ErrChanged)
	_, err = move(at(s, "nobody"), "", at(s, "to", "nobody"))
	want(t, "moving what is not there", err, store.ErrNotFound)
	_, err = move(at(s, "from", "a.txt"), "", at(s, "no such folder", "a.txt"))
	want(t, "moving to a folder that is not there", err, store.ErrNotFound)
	if got := read(t, s, store.Reading{Place: at(s, "from", "a.txt")}) +
		read(t, s, store.Reading{Place: at(s, "to", "there.txt")}); got != "firstthere before" {
		t.Errorf("after moves that were refused, the files hold %q", got)
	}
	entry, err := move(at(s, "from", "a.txt"), first.Revision, at(s, "to", "moved [1].txt"))
	if err != nil {
		t.Errorf("moving: %v", err)
	} else if entry.Name != able(s, "moved [1].txt") || entry.Size != 5 {
		t.Errorf("moved to %+v", entry)
	}
	if _, err := move(at(s, "from").As(store.KindFolder), "", at(s, "to", "whole folder")); err != nil {
		t.Errorf("moving a folder: %v", err)
	}
	whole := "to/" + able(s, "whole folder") + "/"
	expected := []string{"to/", "to/" + able(s, "moved [1].txt"), "to/there.txt", whole, whole + "below/",
		whole + "below/" + able(s, "b é #%.txt")}
	slices.Sort(expected)
	got := flatten(t, s, store.Folder{})
	slices.Sort(got)
	if !slices.Equal(got, expected) {
		t.Errorf("after the moves: %q, want %q", got, expected)
	}
}
