package sealed_test

import (
	"fmt"
	"testing"

	"deftheron/core/listing"
	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// TestFoldersArePutAway walks a place with more folders than are to be held: memory does not
// grow with their number, though nothing is written.
func TestFoldersArePutAway(t *testing.T) {
	defer sealed.SetMostIndexed(1000)()
	base := storetest.NewMemory()
	place, keys := create(t, base)
	const folders = 300
	for i := range folders {
		if _, err := place.MakeFolder(t.Context(), store.At(fmt.Sprintf("folder %03d", i))); err != nil {
			t.Fatal(err)
		}
	}
	if err := store.Close(place); err != nil {
		t.Fatal(err)
	}
	place = open(t, base, keys)
	listed := 0
	for _, err := range listing.Flat(t.Context(), place, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		listed++
	}
	if listed != folders {
		t.Errorf("%d folders were listed, want %d", listed, folders)
	}
	if held := sealed.FoldersHeld(place); held > 50 {
		t.Errorf("%d folders are held after a walk over %d", held, folders)
	}
}
