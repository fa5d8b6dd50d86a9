package storetest

import (
	"errors"
	"time"

	"deftheron/core/store"
)

func testCopy(t T, s store.Store) {
	if !store.CanCopy(s) {
		_, err := store.Copy(t.Context(), s, at(s, "a"), "", at(s, "b"), "run")
		want(t, "copying where the store cannot", err, store.ErrUnsupported)
		t.Skip("the store cannot copy within itself")
	}
	first := mustWrite(t, s, at(s, "from", "a.txt"), "first")
	mustWrite(t, s, at(s, "to", "there.txt"), "there before")
	_, err := store.Copy(t.Context(), s, at(s, "from", "a.txt"), first.Revision, at(s, "to", "there.txt"), "run")
	want(t, "copying onto something", err, store.ErrExists)
	_, err = store.Copy(t.Context(), s, at(s, "from", "a.txt"), first.Revision+"x", at(s, "to", "b.txt"), "run")
	want(t, "copying another revision", err, store.ErrChanged)
	_, err = store.Copy(t.Context(), s, at(s, "from", "none.txt"), "", at(s, "to", "b.txt"), "run")
	want(t, "copying what is not there", err, store.ErrNotFound)
	copied, err := store.Copy(t.Context(), s, at(s, "from", "a.txt"), first.Revision, at(s, "to", "b é.txt"), "run")
	if err != nil {
		t.Fatalf("copying: %v", err)
	}
	if copied.Size != 5 && copied.Size != -1 || copied.Name != able(s, "b é.txt") { // -1: that of the revision
		t.Fatalf("copied to %+v", copied)
	}
	for _, place := range []store.Ref{at(s, "from", "a.txt"), at(s, "to", "b é.txt")} {
		if got := read(t, s, store.Reading{Place: place}); got != "first" {
			t.Errorf("%s holds %q", place, got)
		}
	}
}

// testKeep replaces a file whose old content is to be kept.
func testKeep(t T, s store.Store) {
	first := mustWrite(t, s, at(s, "data", "a.txt"), "first")
	keep := store.HistoryFolder.Child("part").Child("files")
	writing := store.Writing{Place: at(s, "data", "a.txt"), Size: 6, If: store.AtRevision(first.Revision), Run: "conformance",
		Content: Text("second"), Keep: store.Folder{Path: keep}.Ref("a.txt")}
	if !store.Keeps(s, writing) {
		t.Skip("the store does not keep what a write replaces")
	}
	makeAll(t, s, keep)
	wrong := writing
	wrong.If = store.AtRevision(first.Revision + "x")
	_, err := s.Write(t.Context(), wrong)
	want(t, "replacing another revision", err, store.ErrChanged)
	if _, err := s.Stat(t.Context(), writing.Keep); store.KindOf(err) != store.ErrNotFound {
		t.Errorf("what was not replaced was kept: %v", err)
	}
	written, err := s.Write(t.Context(), writing)
	if err != nil {
		t.Fatalf("replacing: %v", err)
	}
	for place, want := range map[store.Ref]string{writing.Place: "second", writing.Keep: "first"} {
		if got := read(t, s, store.Reading{Place: place}); got != want {
			t.Errorf("%s holds %q, want %q", place, got, want)
		}
	}
	again := writing
	again.If, again.Size, again.Content = store.AtRevision(written.Revision), 5, Text("third")
	_, err = s.Write(t.Context(), again)
	want(t, "keeping where something is kept already", err, store.ErrExists)
	for place, want := range map[store.Ref]string{writing.Place: "second", writing.Keep: "first"} {
		if got := read(t, s, store.Reading{Place: place}); got != want {
			t.Errorf("after a refusal %s holds %q, want %q", place, got, want)
		}
	}
	if cleaned, err := store.Clean(t.Context(), s, store.Cleaning{Run: "conformance"}); err != nil || len(cleaned) > 0 {
		t.Errorf("%d leftovers, %v", len(cleaned), err)
	}
}

// testChanges follows a feed over a creation, a change, a move and a removal.
func testChanges(t T, s store.Store) {
	page, err := store.Changes(t.Context(), s, store.Folder{}, "")
	if errors.Is(err, store.ErrUnsupported) {
		t.Skip("the store tells no changes")
	}
	if err != nil || page.Cursor == "" || len(page.Changes) > 0 {
		t.Fatalf("an empty cursor gave %d changes, the cursor %q, %v", len(page.Changes), page.Cursor, err)
	}
	cursor := page.Cursor
	// until asks for changes until one is as wanted.
	until := func(what string, wanted func(store.Change) bool) {
		t.Helper()
		var seen []store.Change
		for range 60 {
			page, err := store.AwaitChanges(t.Context(), s, store.Folder{}, cursor, time.Second)
			if err != nil {
				t.Fatalf("%s: %v", what, err)
			}
			cursor = page.Cursor
			for _, change := range page.Changes {
				if wanted(change) {
					return
				}
			}
			if seen = append(seen, page.Changes...); len(page.Changes) == 0 && !page.More {
				select {
				case <-t.Context().Done():
				case <-time.After(100 * time.Millisecond):
				}
			}
		}
		t.Errorf("%s was not told; told was %+v", what, seen)
	}
	made := mustWrite(t, s, at(s, "folder", "a.txt"), "first")
	is := func(change store.Change, names ...string) bool {
		place := at(s, names...)
		return !change.Gone && change.Place.Name == place.Name && change.Place.Folder.Path == place.Folder.Path
	}
	until("a file that was made", func(c store.Change) bool {
		return is(c, "folder", "a.txt") && c.Entry.Size == 5 && store.SameRevision(c.Entry.Revision, made.Revision)
	})
	changed, err := write(t, s, at(s, "folder", "a.txt"), "second time", store.AtRevision(made.Revision))
	if err != nil {
		t.Fatal(err)
	}
	until("a file that was changed", func(c store.Change) bool {
		return is(c, "folder", "a.txt") && store.SameRevision(c.Entry.Revision, changed.Revision)
	})
	if store.CanMove(s) {
		if _, err := store.Move(t.Context(), s, at(s, "folder", "a.txt"), "", at(s, "b.txt")); err != nil {
			t.Fatal(err)
		}
		until("a file that was moved", func(c store.Change) bool { return is(c, "b.txt") })
	} else {
		mustWrite(t, s, at(s, "b.txt"), "second time")
	}
	moved, err := s.Stat(t.Context(), at(s, "b.txt"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Remove(t.Context(), at(s, "b.txt"), moved.Revision); err != nil {
		t.Fatal(err)
	}
	until("a file that was removed", func(c store.Change) bool {
		return c.Gone && (c.Place.Name == "b.txt" || c.Place.ID != "" && c.Place.ID == moved.ID)
	})
	if _, err := store.Changes(t.Context(), s, store.Folder{}, "no cursor of ours"); err == nil {
		t.Error("a cursor that was never given out was taken")
	}
}
