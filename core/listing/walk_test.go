package listing_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// slow lists each folder after a delay, and counts what it listed.
type slow struct {
	*storetest.Memory
	delay time.Duration
	fails store.Path

	mu             sync.Mutex
	begun, entries int
}

var errSlow = errors.New("the listing broke")

func (s *slow) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		time.Sleep(s.delay)
		s.mu.Lock()
		s.begun++
		s.mu.Unlock()
		if s.fails != "" && folder.Path == s.fails {
			yield(store.Entry{}, errSlow)
			return
		}
		for entry, err := range s.Memory.List(ctx, folder) {
			s.mu.Lock()
			s.entries++
			s.mu.Unlock()
			if !yield(entry, err) {
				return
			}
		}
	}
}

// inTurn is what ListFlat yields, worked out folder by folder.
func inTurn(t *testing.T, s store.Store, folder store.Folder, below store.Path) (keys []store.Key) {
	for entry, err := range listing.Sorted(t.Context(), s, folder) {
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, store.KeyOf(below, entry.Name, entry.Kind))
		if entry.Kind == store.KindFolder {
			keys = append(keys, inTurn(t, s, entry.Folder(folder), below.Child(entry.Name))...)
		}
	}
	return keys
}

func TestFoldersAreDeliveredInOrderWhoeverIsListedFirst(t *testing.T) {
	for seed := range uint64(8) {
		random := rand.New(rand.NewPCG(seed, 1))
		memory := storetest.NewMemory()
		memory.Unsorted = seed%2 == 1
		for range 400 {
			var names []string
			for range 1 + random.IntN(5) {
				names = append(names, []string{"a", "a!", "a.b", "a0", "b", "ü", "A"}[random.IntN(7)])
			}
			memory.Folder(names...)
			memory.Put("x", append(names, fmt.Sprint("f", random.IntN(100)))...)
		}
		for i := range 5_000 { // more than are held of one folder
			if memory.Put("", "large", fmt.Sprint(i)); i%50 == 0 {
				memory.Put("", "large", fmt.Sprint("in", i), "x")
			}
		}
		s := &slow{Memory: memory}
		want := inTurn(t, s, store.Folder{}, "")
		var got []store.Key
		for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, listed.Key())
		}
		if !slices.Equal(got, want) {
			t.Errorf("seed %d: %d entries are not in the order of %d", seed, len(got), len(want))
		}
	}
}

func TestFoldersAreListedAhead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		memory := storetest.NewMemory()
		for i := range 400 {
			memory.Put("x", fmt.Sprintf("%03d", i), "deeper", "x")
		}
		s := &slow{Memory: memory, delay: 20 * time.Millisecond}
		begun, n := time.Now(), 0
		for _, err := range listing.Flat(t.Context(), s, store.Folder{}) {
			if err != nil {
				t.Fatal(err)
			}
			n++
		}
		took, inTurn := time.Since(begun), 801*s.delay
		if n != 1200 || s.begun != 801 || took > inTurn/7 {
			t.Errorf("%d entries of %d folders took %v; one after the other takes %v", n, s.begun, took, inTurn)
		}
	})
}

func TestWhatIsHeldAheadIsBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		memory := storetest.NewMemory()
		for i := range 100 {
			for j := range 1_000 {
				memory.Put("", fmt.Sprintf("%03d", i), fmt.Sprintf("%04d", j))
			}
		}
		s := &slow{Memory: memory}
		delivered, most := 0, 0
		for range listing.Flat(t.Context(), s, store.Folder{}) {
			delivered++
			if delivered%500 == 1 {
				synctest.Wait() // the listers go as far as they may
			}
			s.mu.Lock()
			most = max(most, s.entries-delivered)
			s.mu.Unlock()
		}
		if delivered != 100_100 || most > 16_000+8*4_000 || most < 16_000 {
			t.Errorf("%d delivered; %d were held at most", delivered, most)
		}
	})
}

// Every goroutine has ended when the iteration has: synctest wants it.
func TestAnErrorComesInItsPlaceAndEndsTheListers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		memory := storetest.NewMemory()
		for i := range 100 {
			memory.Put("x", fmt.Sprintf("%03d", i), "x")
		}
		s := &slow{Memory: memory, delay: time.Millisecond, fails: store.Path("").Child("007")}
		var keys []store.Key
		var last error
		for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
			if last = err; err == nil {
				keys = append(keys, listed.Key())
			}
		}
		if !errors.Is(last, errSlow) || len(keys) != 15 || keys[14] != "007/" {
			t.Errorf("after %q: %v", keys, last)
		}
		s.fails, s.begun = "", 0
		for range listing.Flat(t.Context(), s, store.Folder{}) {
			break
		}
		if s.begun > 9 {
			t.Errorf("%d folders were listed for one entry", s.begun)
		}
	})
}
