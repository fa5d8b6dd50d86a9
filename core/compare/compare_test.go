package compare_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/compare"
	"deftheron/core/store"
)

var noon = time.Date(2026, 5, 1, 12, 0, 0, 500_000_000, time.UTC)

func file(size int64, modified time.Time, revision string, hashes ...string) *store.Entry {
	entry := &store.Entry{Kind: store.KindFile, Size: size, Modified: modified, Revision: revision}
	for _, hash := range hashes {
		kind, hex, _ := strings.Cut(hash, "=")
		entry.Hashes = append(entry.Hashes, store.Hash{Kind: store.HashKind(kind), Hex: hex})
	}
	return entry
}

func TestJudge(t *testing.T) {
	keeps := compare.Sides{Source: store.Traits{TimePrecision: time.Nanosecond},
		Target: store.Traits{KeepsTimes: true, TimePrecision: time.Second}}
	restores := keeps
	restores.ByContent = true
	loses := compare.Sides{Source: store.Traits{TimePrecision: time.Nanosecond}, Target: store.Traits{TimePrecision: time.Second}}
	pair := &compare.Pair{Source: compare.Remembered{Revision: "s1"}, Target: compare.Remembered{Revision: "t1"}}
	kept := &compare.Pair{Source: compare.Remembered{Revision: "s1"}, Target: compare.Remembered{Revision: "t1"}, Kept: true}
	for _, c := range []struct {
		name           string
		source, target *store.Entry
		pair           *compare.Pair
		sides          compare.Sides
		verdict        compare.Verdict
		evidence       compare.Evidence
	}{
		{"new", file(1, noon, "s1"), nil, nil, keeps, compare.OnlySource, compare.ByPresence},
		{"new, though a pair is left", file(1, noon, "s1"), nil, pair, keeps, compare.OnlySource, compare.ByPresence},
		{"only at the target", nil, file(1, noon, "t1"), nil, keeps, compare.OnlyTarget, compare.ByPresence},
		{"as remembered", file(1, noon, "s1"), file(1, noon, "t1"), pair, loses, compare.Same, compare.ByPair},
		{"source changed since", file(1, noon, "s2"), file(1, noon, "t1"), pair, loses, compare.SourceChanged, compare.ByPair},
		{"target changed since", file(1, noon, "s1"), file(2, noon, "t2"), pair, loses, compare.TargetChanged, compare.BySize},
		{"both changed since", file(3, noon, "s2"), file(2, noon, "t2"), pair, loses, compare.TargetChanged, compare.BySize},
		{"both changed, to the same", file(3, noon, "s2", "md5=aa"), file(3, noon, "t2", "md5=aa"), pair, loses, compare.Same, compare.ByHash},
		{"target changed, to the same size", file(2, noon, "s1"), file(2, noon, "t2"), pair, keeps, compare.Unclear, ""},
		{"a settled conflict", file(1, noon, "s1"), file(9, noon, "t1"), kept, loses, compare.Same, compare.ByPair},
		{"a settled conflict, and the source changed", file(1, noon, "s2"), file(9, noon, "t1"), kept, loses, compare.TargetChanged,
			compare.ByPair},
		{"the same hash", file(1, noon, "s1", "md5=aa"), file(1, noon.Add(time.Hour), "t1", "md5=aa", "sha256=bb"), nil, loses, compare.Same,
			compare.ByHash},
		{"another hash", file(1, noon, "s1", "md5=aa"), file(1, noon, "t1", "md5=ab"), nil, keeps, compare.Differ, compare.ByHash},
		{"the same size and time, of which that is not enough", file(1, noon, "s1"), file(1, noon, "t1"), nil, restores, compare.Unclear, ""},
		{"another size", file(1, noon, "s1"), file(2, noon, "t1"), nil, keeps, compare.Differ, compare.BySize},
		{"the same time at the coarser precision", file(1, noon, "s1"), file(1, noon.Truncate(time.Second), "t1"), nil, keeps, compare.Same,
			compare.ByTime},
		{"another time", file(1, noon, "s1"), file(1, noon.Add(2*time.Second), "t1"), nil, keeps, compare.Unclear, ""},
		{"times that are not kept are no evidence", file(1, noon, "s1"), file(1, noon, "t1"), nil, loses, compare.Unclear, ""},
		{"sizes unknown", file(-1, noon, "s1"), file(-1, noon, "t1"), nil, keeps, compare.Unclear, ""},
	} {
		verdict, evidence := compare.Judge(c.source, c.target, c.pair, c.sides)
		if verdict != c.verdict || evidence != c.evidence {
			t.Errorf("%s: %s by %q, want %s by %q", c.name, verdict, evidence, c.verdict, c.evidence)
		}
	}
}

// listing lists keys; one that ends in "/" is a folder.
func listing(err error, keys ...string) compare.Listing {
	return func(context.Context) iter.Seq2[store.Listed, error] {
		return func(yield func(store.Listed, error) bool) {
			for _, key := range keys {
				kind := store.KindFile
				if strings.HasSuffix(key, "/") {
					kind = store.KindFolder
				}
				below, name := store.Key(key).Split(kind)
				if !yield(store.Listed{Below: below, Entry: store.Entry{Name: name, Kind: kind, Revision: key}}, nil) {
					return
				}
			}
			if err != nil {
				yield(store.Listed{}, err)
			}
		}
	}
}

func merge(t *testing.T, source, target compare.Listing, pairs ...string) (found []string, err error) {
	t.Helper()
	remembered := func(yield func(compare.Pair, error) bool) {
		for _, key := range pairs {
			r := compare.Remembered{Revision: key}
			if !yield(compare.Pair{Key: store.Key(key), Source: r, Target: r}, nil) {
				return
			}
		}
	}
	for d, e := range compare.Merge(t.Context(), compare.Streams{Source: source, Target: target, Pairs: remembered}, compare.Sides{}) {
		if e != nil {
			return found, e
		}
		found = append(found, fmt.Sprintf("%s:%s", d.Key, d.Verdict))
	}
	return found, nil
}

func TestMerge(t *testing.T) {
	found, err := merge(t, listing(nil, "a", "a!", "a/", "a/b", "c"), listing(nil, "a", "a/", "a/b", "a/x", "d"), "a", "a/b", "b", "zz")
	want := []string{"a:same", "a!:only-source", "a/:same", "a/b:same", "a/x:only-target", "c:only-source", "d:only-target"}
	if err != nil || !slices.Equal(found, want) {
		t.Errorf("%q, %v\nwant %q", found, err, want)
	}
}

func TestMergeEndsWithTheErrorOfAListing(t *testing.T) {
	broken := errors.New("page 2 failed")
	for name, sides := range map[string][2]compare.Listing{
		"source": {listing(broken, "a"), listing(nil, "a", "b")},
		"target": {listing(nil, "a", "b"), listing(broken, "a")},
	} {
		if found, err := merge(t, sides[0], sides[1]); !errors.Is(err, broken) || len(found) > 1 {
			t.Errorf("%s: %q, %v; want it to end there", name, found, err)
		}
	}
	missing := store.Errorf(store.ErrNotFound, "no folder")
	if found, err := merge(t, listing(nil, "a"), compare.OrEmpty(listing(missing))); err != nil || len(found) != 1 {
		t.Errorf("a target that is not there yet: %q, %v", found, err)
	}
	if _, err := merge(t, listing(nil, "a"), compare.OrEmpty(listing(missing, "b"))); err == nil {
		t.Error("a target that vanished in the middle was taken for complete")
	}
}

func TestMergeRefusesDisorder(t *testing.T) {
	if _, err := merge(t, listing(nil, "b", "a"), listing(nil)); err == nil || !strings.Contains(err.Error(), "out of order") {
		t.Errorf("%v, want it to say that the order is wrong", err)
	}
}

func many(context.Context) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		for i := range 200_000 {
			if !yield(store.Listed{Entry: store.Entry{Name: fmt.Sprintf("%08d", i), Kind: store.KindFile, Revision: "r"}}, nil) {
				return
			}
		}
	}
}

// TestMergeHoldsLittle merges many entries: memory does not grow with them.
func TestMergeHoldsLittle(t *testing.T) {
	var most uint64
	n := 0
	for _, err := range compare.Merge(t.Context(), compare.Streams{Source: many, Target: many, Pairs: compare.NoPairs}, compare.Sides{}) {
		if err != nil {
			t.Fatal(err)
		}
		if n++; n%50_000 == 0 {
			runtime.GC()
			var stats runtime.MemStats
			runtime.ReadMemStats(&stats)
			most = max(most, stats.HeapAlloc)
		}
	}
	if n != 200_000 || most > 16<<20 {
		t.Errorf("%d entries, and %d MiB were held", n, most>>20)
	}
}

// TestMergeLeftEarly leaves in the middle. The bubble of synctest does not end
// while a goroutine that was begun in it is still there.
func TestMergeLeftEarly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for range compare.Merge(t.Context(), compare.Streams{Source: many, Target: many, Pairs: compare.NoPairs}, compare.Sides{}) {
			break
		}
	})
}
