package listing_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/listing"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// flat lists whole subtrees, a thousand entries at a time.
type flat struct {
	*storetest.Memory
	all   map[store.Path][]store.Listed
	delay time.Duration
	fails map[store.Path]error
	pages atomic.Int64
}

func newFlat(t *testing.T, memory *storetest.Memory) *flat {
	f := &flat{Memory: memory, all: map[store.Path][]store.Listed{}, fails: map[store.Path]error{}}
	for listed, err := range listing.Flat(t.Context(), memory, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		f.all[""] = append(f.all[""], listed)
	}
	return f
}

func (f *flat) Capabilities() store.Capabilities {
	c := f.Memory.Capabilities()
	c.ListFlat = f.ListFlat
	return c
}

func (f *flat) ListFlat(ctx context.Context, folder store.Folder) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		n := 0
		for _, listed := range f.all[""] {
			if !strings.HasPrefix(string(listed.Below), string(folder.Path)) {
				continue
			}
			if n++; n%1000 == 1 {
				f.pages.Add(1)
				if retry.Sleep(ctx, f.delay) != nil {
					yield(store.Listed{}, ctx.Err())
					return
				}
			}
			if err := f.fails[folder.Path]; err != nil && n > 500 {
				yield(store.Listed{}, err)
				return
			}
			listed.Below = listed.Below[len(folder.Path):]
			if !yield(listed, nil) {
				return
			}
		}
	}
}

func TestLargeFlatListingsAreSharded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		memory := storetest.NewMemory()
		for i := range 20 {
			memory.Put("x", fmt.Sprintf("%02d.txt", i))
			for j := range 1_998 {
				memory.Put("", fmt.Sprintf("%02d", i), "deeper", fmt.Sprintf("%04d", j))
			}
		}
		s := newFlat(t, memory)
		s.delay = 80 * time.Millisecond
		var got []store.Listed
		begun := time.Now()
		for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, listed)
		}
		inTurn := s.delay * time.Duration(len(got)/1000)
		if took := time.Since(begun); took > inTurn/2 {
			t.Errorf("it took %v; in turn it takes %v", took, inTurn)
		}
		same := func(a, b store.Listed) bool { return a.Below == b.Below && a.Name == b.Name && a.Kind == b.Kind }
		if !slices.EqualFunc(got, s.all[""], same) {
			t.Errorf("%d entries are not those of %d, in their order", len(got), len(s.all[""]))
		}

		// Who stops early waits for nothing.
		n := 0
		for range listing.Flat(t.Context(), s, store.Folder{}) {
			if n++; n == 9_000 {
				break
			}
		}

		for why, want := range map[error]error{
			errSlow: errSlow,
			store.Errorf(store.ErrNotFound, "the folder is not there"): store.ErrTryAgain, // it says nothing about what was in it
		} {
			s.fails[store.Path("").Child("11")] = why
			var ended error
			n = 0
			for _, err := range listing.Flat(t.Context(), s, store.Folder{}) {
				n++
				ended = err
			}
			if !errors.Is(ended, want) || n < 20_000 || n > 30_000 {
				t.Errorf("after %d entries it ended with %v, want %v", n, ended, want)
			}
		}
	})
}

func TestAFileBesideAFolderOfItsNameIsShardedOnce(t *testing.T) {
	memory := storetest.NewMemory()
	for i := range 3_999 {
		memory.Put("", fmt.Sprintf("%04d", i))
	}
	s := newFlat(t, memory)
	file := store.Listed{Entry: store.Entry{Name: "a", Kind: store.KindFile}}
	folder := store.Listed{Entry: store.Entry{Name: "a", Kind: store.KindFolder}}
	s.all[""] = append(s.all[""], file, folder, store.Listed{Below: "a/", Entry: file.Entry})
	n := 0
	for _, err := range listing.Flat(t.Context(), s, store.Folder{}) {
		if n++; err != nil {
			t.Fatal(err)
		}
	}
	if n != 4_002 {
		t.Errorf("%d entries, want 4002", n)
	}
}
