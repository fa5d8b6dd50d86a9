package view_test

import (
	"errors"
	"testing"

	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/view"
)

// TestReadOnly reads as the store beneath does, and has no way to write.
func TestReadOnly(t *testing.T) {
	beneath := storetest.NewMemory()
	beneath.PartsAbove, beneath.PartSize = 1, 1
	entry := beneath.Put("content", "a", "b.txt")
	before := beneath.Files()
	s := view.ReadOnly(beneath, "archive")
	if sum, _, err := store.ReadBack(t.Context(), s, store.At("a", "b.txt"), entry.Revision, store.MD5); err != nil || sum.IsZero() {
		t.Errorf("reading: %v", err)
	}
	var keys []store.Key
	for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, listed.Key())
	}
	if len(keys) != 2 || !s.Traits().ReadOnly {
		t.Errorf("listed %q, read only: %v", keys, s.Traits().ReadOnly)
	}
	place := store.At("a", "b.txt")
	_, wrote := s.Write(t.Context(), store.Writing{Place: place, If: store.Any, Content: storetest.Text("other")})
	_, made := s.MakeFolder(t.Context(), store.At("c"))
	_, removed := s.Remove(t.Context(), place, "")
	for what, err := range map[string]error{"writing": wrote, "making a folder": made, "removing": removed} {
		if !errors.Is(err, store.ErrRefused) {
			t.Errorf("%s: %v, want %q", what, err, store.ErrRefused)
		}
	}
	if _, err := store.Move(t.Context(), s, place, "", store.At("c.txt")); !errors.Is(err, store.ErrUnsupported) {
		t.Errorf("moving: %v", err)
	}
	if _, _, ok := store.Parts(s, 100); ok {
		t.Error("it takes parts")
	}
	if err := store.Prepare(t.Context(), s); err != nil {
		t.Errorf("preparing: %v", err)
	}
	if cleaned, err := store.Clean(t.Context(), s, store.Cleaning{Run: "r"}); err != nil || len(cleaned) != 0 {
		t.Errorf("cleaning: %v, %v", cleaned, err)
	}
	if after := beneath.Files(); len(after) != len(before) || after["/a/b.txt"] != before["/a/b.txt"] {
		t.Errorf("beneath is %v now", after)
	}
}
