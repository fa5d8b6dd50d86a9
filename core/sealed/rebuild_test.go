package sealed_test

import (
	"maps"
	"path"
	"slices"
	"strings"
	"testing"

	"deftheron/core/listing"
	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// tree is a place with folders in folders, and what is in them.
func tree(t *testing.T) (*storetest.Memory, sealed.Keys, map[string]string) {
	t.Helper()
	base := storetest.NewMemory()
	place, keys := create(t, base)
	want := map[string]string{}
	for _, file := range []string{"a.txt", "x/b.txt", "x/y/c.txt", "x/y/d.txt", "z/e.txt", "z/w/v/f.txt"} {
		names := strings.Split(file, "/")
		for i := range names[:len(names)-1] {
			if _, err := place.MakeFolder(t.Context(), store.At(names[:i+1]...)); err != nil {
				t.Fatal(err)
			}
		}
		data := strings.Repeat(file, 3000)
		writing := store.Writing{Place: store.At(names...), Size: int64(len(data)), Run: "r", Content: storetest.Text(data)}
		if _, err := place.Write(t.Context(), writing); err != nil {
			t.Fatal(err)
		}
		want[file] = data
	}
	if err := store.Close(place); err != nil {
		t.Fatal(err)
	}
	return base, keys, want
}

// TestRebuild loses manifests, and has them made again from the contents.
func TestRebuild(t *testing.T) {
	_, _, files := tree(t)
	for _, lost := range []string{"", "x/", "x/y/", "z/w/", "z/w/v/", "everything"} {
		t.Run("without "+lost, func(t *testing.T) {
			base, keys, want := tree(t)
			before := reopen(t, base, keys, &heads{})
			for file := range maps.Keys(base.Files()) {
				if !strings.Contains(file, "/folders/") {
					continue
				}
				if id := path.Base(path.Dir(file)); lost == "everything" || id == sealed.IDOf(t.Context(), before, store.Path(lost)) {
					remove(t, base, file)
				}
			}
			place := reopen(t, base, keys, &heads{})
			done, err := place.Rebuild(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if len(done.Folders) == 0 || done.Unknown != 0 {
				t.Errorf("got %+v", done)
			}
			if again, err := place.Rebuild(t.Context()); err != nil || len(again.Folders) != 0 || again.Files != 0 {
				t.Errorf("another rebuild: %+v, %v", again, err)
			}
			place = reopen(t, base, keys, &heads{})
			var got []string
			for one, err := range listing.Flat(t.Context(), place, store.Folder{}) {
				if err != nil {
					t.Fatal(err)
				}
				if one.Kind == store.KindFile {
					got = append(got, string(one.Key()))
				}
			}
			if !slices.Equal(got, slices.Sorted(maps.Keys(files))) {
				t.Errorf("got %q", got)
			}
			for file, data := range want {
				if read, err := readAll(t, place, store.At(strings.Split(file, "/")...), 0, 0); err != nil || read != data {
					t.Errorf("%s: %d bytes, %v", file, len(read), err)
				}
			}
		})
	}
}
