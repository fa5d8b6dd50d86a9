package sealed_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"

	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// written is a place with some files, and what is at its provider then.
func written(t *testing.T) (*storetest.Memory, sealed.Keys, *heads) {
	t.Helper()
	base := storetest.NewMemory()
	keys, _ := newKeys(t)
	if err := sealed.Create(t.Context(), base, vault, keys, nil); err != nil {
		t.Fatal(err)
	}
	seen := &heads{}
	place := reopen(t, base, keys, seen)
	for i, size := range []int{10, 70_000, 70_000, 200_000} {
		write(t, place, fmt.Sprintf("file %d", i), strings.Repeat(fmt.Sprint(i), size), store.Absent)
	}
	if err := store.Close(place); err != nil {
		t.Fatal(err)
	}
	return base, keys, seen
}

func reopen(t *testing.T, base store.Store, keys sealed.Keys, seen sealed.Heads) *sealed.Place {
	t.Helper()
	place, err := sealed.Open(t.Context(), sealed.Options{Base: base, Folder: vault, Keys: keys, Heads: seen})
	if err != nil {
		t.Fatal(err)
	}
	return place
}

func write(t *testing.T, place *sealed.Place, name, data string, condition store.Condition) {
	t.Helper()
	writing := store.Writing{Place: store.At(name), Size: int64(len(data)), If: condition, Run: "r", Content: storetest.Text(data)}
	if _, err := place.Write(t.Context(), writing); err != nil {
		t.Fatal(err)
	}
	if err := store.Sync(t.Context(), place); err != nil {
		t.Fatal(err)
	}
}

// refOfBase is a file of the base by its path.
func refOfBase(path string) store.Ref {
	return store.At(strings.Split(path[1:], "/")...).As(store.KindFile)
}

func replace(t *testing.T, base *storetest.Memory, path, data string) {
	t.Helper()
	names := strings.Split(path[1:], "/")
	base.Put(data, names...)
}

func remove(t *testing.T, base *storetest.Memory, path string) {
	t.Helper()
	if _, err := base.Remove(t.Context(), refOfBase(path), ""); err != nil {
		t.Fatal(err)
	}
}

// paths returns the paths of files of the base that contain a text, sorted.
func paths(base *storetest.Memory, part string) (found []string) {
	for path := range base.Files() {
		if strings.Contains(path, part) && strings.HasSuffix(path, ".age") {
			found = append(found, path)
		}
	}
	slices.Sort(found)
	return found
}

// TestDamage changes what is at the provider in every way that it could, and reads. Nothing
// that is read is ever other than what was written, and what is wrong is named.
func TestDamage(t *testing.T) {
	for name, damage := range map[string]func(t *testing.T, base *storetest.Memory){
		"a bit of a content": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/contents/") {
				data := []byte(base.Files()[path])
				data[len(data)-5] ^= 1
				replace(t, base, path, string(data))
			}
		},
		"contents cut off": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/contents/") {
				data := base.Files()[path]
				replace(t, base, path, data[:len(data)-min(len(data)/2, 65552)])
			}
		},
		"contents made longer": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/contents/") {
				replace(t, base, path, base.Files()[path]+"more")
			}
		},
		"contents exchanged": func(t *testing.T, base *storetest.Memory) {
			all := base.Files()
			found := paths(base, "/contents/")
			for i, path := range found {
				replace(t, base, path, all[found[(i+1)%len(found)]])
			}
		},
		"contents gone": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/contents/") {
				remove(t, base, path)
			}
		},
		"a bit of a segment": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/folders/") {
				data := []byte(base.Files()[path])
				data[len(data)-5] ^= 1
				replace(t, base, path, string(data))
			}
		},
		"the newest segment gone": func(t *testing.T, base *storetest.Memory) {
			found := paths(base, "/folders/")
			remove(t, base, found[len(found)-1])
		},
		"a segment in the middle gone": func(t *testing.T, base *storetest.Memory) {
			found := paths(base, "/folders/")
			remove(t, base, found[len(found)/2])
		},
		"segments exchanged": func(t *testing.T, base *storetest.Memory) {
			all, found := base.Files(), paths(base, "/folders/")
			replace(t, base, found[1], all[found[2]])
			replace(t, base, found[2], all[found[1]])
		},
		"segments cut off": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/folders/") {
				data := base.Files()[path]
				replace(t, base, path, data[:len(data)-1])
			}
		},
		"all segments gone": func(t *testing.T, base *storetest.Memory) {
			for _, path := range paths(base, "/folders/") {
				remove(t, base, path)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			base, keys, seen := written(t)
			damage(t, base)
			place := reopen(t, base, keys, seen)
			found := 0
			for i := range 4 {
				_, err := readAll(t, place, store.At(fmt.Sprintf("file %d", i)), 0, 0)
				switch {
				case err == nil:
					t.Errorf("file %d was read", i)
				case store.KindOf(err) != store.ErrRefused:
					t.Errorf("file %d: %v, want %v", i, err, store.ErrRefused)
				case strings.Contains(err.Error(), "/archive/vault/"):
					found++
				}
			}
			if found == 0 {
				t.Error("no error names what is wrong")
			}
		})
	}
}

// TestReplayed shows an older state that is whole in itself, to a service that has seen a
// newer one.
func TestReplayed(t *testing.T) {
	base, keys, seen := written(t)
	before := base.Files()
	place := reopen(t, base, keys, seen)
	write(t, place, "file 0", "newer", store.Any)
	if err := store.Close(place); err != nil {
		t.Fatal(err)
	}
	for path := range base.Files() {
		if data, was := before[path]; was {
			replace(t, base, path, data)
		} else {
			remove(t, base, path)
		}
	}
	for path, data := range before {
		replace(t, base, path, data)
	}
	_, err := readAll(t, reopen(t, base, keys, seen), store.At("file 0"), 0, 0)
	if store.KindOf(err) != store.ErrRefused || !strings.Contains(err.Error(), "older state") {
		t.Errorf("got %v, want that an older state is shown", err)
	}
}

// TestTwoServices has two services write to one place: what does not meet goes on, and what
// does is noticed.
func TestTwoServices(t *testing.T) {
	base, keys, _ := written(t)
	one, other := reopen(t, base, keys, &heads{}), reopen(t, base, keys, &heads{})
	for _, place := range []*sealed.Place{one, other} { // both know the folder
		if _, err := place.Stat(t.Context(), store.At("file 0")); err != nil {
			t.Fatal(err)
		}
	}
	write(t, one, "of one", "1", store.Absent)
	write(t, other, "of the other", "2", store.Absent)
	write(t, one, "both", "1", store.Absent)
	writing := store.Writing{Place: store.At("both"), Size: 1, Run: "o", Content: storetest.Text("2")}
	if _, err := other.Write(t.Context(), writing); err != nil {
		t.Fatalf("what the other service does not see yet: %v", err)
	}
	if err := store.Sync(t.Context(), other); !errors.Is(err, store.ErrChanged) {
		t.Errorf("both wrote one name: got %v, want %v", err, store.ErrChanged)
	}
	write(t, other, "of the other, later", "3", store.Absent)
	if got, err := readAll(t, other, store.At("both"), 0, 0); err != nil || got != "1" {
		t.Errorf("the other service then sees %q, %v", got, err)
	}
	third := reopen(t, base, keys, &heads{})
	for name, want := range map[string]string{"of one": "1", "of the other": "2", "both": "1",
		"of the other, later": "3"} {
		if got, err := readAll(t, third, store.At(name), 0, 0); err != nil || got != want {
			t.Errorf("%s holds %q, %v; want %q", name, got, err, want)
		}
	}
}

// TestRanges reads ranges, each with one request for its bytes.
func TestRanges(t *testing.T) {
	base, keys, seen := written(t)
	counted := storetest.NewFaulty(base)
	place := reopen(t, counted, keys, seen)
	whole := strings.Repeat("3", 200_000)
	if _, err := readAll(t, place, store.At("file 3"), 0, 1); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]int64{{0, 0}, {0, 10}, {65535, 2}, {65536, 65536}, {131072, 0}, {199_999, 1}, {200_000, 0}, {100_000, 50_000}} {
		before := counted.Calls(storetest.OpOpen)
		got, err := readAll(t, place, store.At("file 3"), c[0], c[1])
		end := int64(len(whole))
		if c[1] > 0 {
			end = c[0] + c[1]
		}
		if err != nil || got != whole[c[0]:end] {
			t.Errorf("%v: got %d bytes, %v", c, len(got), err)
		}
		if n := counted.Calls(storetest.OpOpen) - before; n != 1 {
			t.Errorf("%v took %d requests, want 1", c, n)
		}
	}
}

// counting counts the bytes of manifests that are written.
type counting struct {
	store.Store
	manifests int64
}

func (c *counting) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if strings.Contains(string(writing.Place.Folder.Path), "/folders/") {
		c.manifests += writing.Size
	}
	return c.Store.Write(ctx, writing)
}

// appendTo is how many files the folder has that files are added to.
var appendTo = flag.Int("sealed-files", 2_000, "files in the folder that more are added to; 100,000 is what is promised for")

// TestAppendSize adds files, one at a time, to a large folder.
func TestAppendSize(t *testing.T) {
	base := &counting{Store: &storetest.Account{Memory: storetest.NewMemory(), Copies: true}}
	place, _ := create(t, base)
	const more = 100
	write(t, place, "first", "x", store.Absent)
	most := *appendTo
	if testing.Short() {
		most = min(most, 500)
	}
	for i := range most { // copies, which take no new key each
		if _, err := store.Copy(t.Context(), place, store.At("first"), "", store.At(fmt.Sprintf("file %06d", i)), "r"); err != nil {
			t.Fatal(err)
		}
		if i%500 == 499 {
			if err := store.Sync(t.Context(), place); err != nil {
				t.Fatal(err)
			}
		}
	}
	before := base.manifests
	for i := range more {
		write(t, place, fmt.Sprintf("more %d", i), "x", store.Absent)
	}
	each := (base.manifests - before) / more
	t.Logf("a file more writes %d bytes of manifest", each)
	if each > 8<<10 {
		t.Errorf("a file more writes %d bytes of manifest, want at most 8 KiB", each)
	}
}
