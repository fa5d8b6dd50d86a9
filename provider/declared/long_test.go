package declared_test

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"deftheron/core/store"
)

// TestLongListing streams 100,000 entries from Sedge: page by page, with one
// request each, in memory that does not grow with them.
func TestLongListing(t *testing.T) {
	const count = 100_000
	s, opened := openSedge(t)
	s.Fill([]string{"Long"}, count, func(i int) string { return fmt.Sprintf("reading %06d.csv", i) })
	s.Control.Forget()
	folder := store.Folder{Path: store.MakePath("Long")}
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	begun := time.Now()
	var first time.Duration
	var highest uint64
	n := 0
	for entry, err := range opened.List(t.Context(), folder) {
		if err != nil {
			t.Fatal(err)
		}
		if n == 0 {
			first = time.Since(begun)
		}
		if entry.Hashes.Get(store.MD5).IsZero() || entry.Revision == "" {
			t.Fatalf("%+v", entry)
		}
		if n++; n%10_000 == 0 {
			runtime.GC()
			runtime.ReadMemStats(&now)
			highest = max(highest, now.HeapAlloc)
		}
	}
	took := time.Since(begun)
	requests := s.Control.Requests()["GET /v2/items"]
	t.Logf("%d entries in %v (%.0f a second), the first after %v, %d requests, heap +%d KiB", n, took, float64(n)/took.Seconds(), first,
		requests, (int64(highest)-int64(before.HeapAlloc))>>10)
	if n != count || requests != count/1000+1 {
		t.Errorf("%d entries by %d requests, want %d by %d", n, requests, count, count/1000+1)
	}
	if int64(highest)-int64(before.HeapAlloc) > 24<<20 {
		t.Errorf("the heap grew by %d MiB", (int64(highest)-int64(before.HeapAlloc))>>20)
	}
}
