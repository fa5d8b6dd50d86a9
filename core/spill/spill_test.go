package spill_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"

	"deftheron/core/spill"
)

func TestSorter(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{0, 1, 99, 100, 101, 1000, 2500} {
		sorter := spill.Sorter[int]{Hold: 100}
		type one struct {
			key, tie string
			value    int
		}
		var want []one
		for i := range n {
			o := one{fmt.Sprintf("%03d\x00\xff", random.IntN(200)), fmt.Sprint(random.IntN(3)), i}
			want = append(want, o)
			if err := sorter.Add(o.key, o.tie, o.value); err != nil {
				t.Fatal(err)
			}
		}
		slices.SortStableFunc(want, func(a, b one) int {
			if a.key == b.key {
				return slices.Compare([]byte(a.tie), []byte(b.tie))
			}
			return slices.Compare([]byte(a.key), []byte(b.key))
		})
		var got []int
		for sorted, err := range sorter.All() {
			if err != nil {
				t.Fatal(err)
			}
			if sorted.Key != want[len(got)].key {
				t.Fatalf("of %d, number %d has the key %q, want %q", n, len(got), sorted.Key, want[len(got)].key)
			}
			got = append(got, sorted.Value)
		}
		if len(got) != n {
			t.Errorf("%d of %d came back", len(got), n)
		}
		for i := range got {
			if got[i] != want[i].value {
				t.Fatalf("of %d, number %d is %d, want %d", n, i, got[i], want[i].value)
			}
		}
		for range sorter.All() {
			break // leaving early
		}
		sorter.Close()
	}
}

// TestSorterHoldsLittle sorts many: memory does not grow with them.
func TestSorterHoldsLittle(t *testing.T) {
	var sorter spill.Sorter[[4]int64]
	defer sorter.Close()
	for i := range 300_000 {
		if err := sorter.Add(fmt.Sprintf("%032d", 300_000-i), "", [4]int64{int64(i)}); err != nil {
			t.Fatal(err)
		}
	}
	n, most := 0, uint64(0)
	for _, err := range sorter.All() {
		if err != nil {
			t.Fatal(err)
		}
		if n++; n%100_000 == 1 {
			runtime.GC()
			var stats runtime.MemStats
			runtime.ReadMemStats(&stats)
			most = max(most, stats.HeapAlloc)
		}
	}
	if n != 300_000 || most > 16<<20 {
		t.Errorf("%d came back, and %d MiB were held", n, most>>20)
	}
}
