package storetest

import (
	"fmt"
	"strings"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// Broken breaks the connection of a store in the middle of writes, replacements and
// reads, after ever more bytes, and wants of each the old content or the new, the
// whole of it, an error by which the engine tries again, and nothing of ours left
// behind. breakAfter breaks all connections once so many bytes have passed; those
// that are made later last.
func Broken(t T, s store.Store, breakAfter func(bytes int64)) {
	t.Helper()
	content := strings.Repeat("0123456789abcdef", 20_000)
	var want []string
	broke := 0
	for i, after := range []int64{0, 200, 600, 1_500, 4_000, 20_000, 150_000, 320_100, 321_000, 322_000, 500_000, 640_100, 643_000} {
		for _, replacing := range []bool{false, true} {
			place := at(s, fmt.Sprintf("broken-%02d-%v.bin", i, replacing))
			condition := store.Absent
			if replacing {
				condition = store.AtRevision(mustWrite(t, s, place, "old").Revision)
			}
			breakAfter(after)
			written, err := write(t, s, place, content, condition)
			breakAfter(-1)
			held, there := contentNow(t, s, place)
			switch {
			case err == nil && held != content:
				t.Errorf("after %d bytes, replacing %v: written, and it holds %d bytes", after, replacing, len(held))
			case err == nil:
				_ = written
			case store.KindOf(err) != store.ErrTryAgain && store.KindOf(err) != store.ErrOutcomeUnknown:
				t.Errorf("after %d bytes, replacing %v: %v, want it to be tried again", after, replacing, err)
			case replacing && held != "old" && held != content, !replacing && there && held != content:
				t.Errorf("after %d bytes, replacing %v: it holds %d bytes, %v", after, replacing, len(held), there)
			default:
				broke++
			}
			if there {
				want = append(want, place.Name)
			}
		}
	}
	if broke < 8 {
		t.Errorf("only %d writes broke", broke)
	}
	brokenReads(t, s, content, breakAfter)
	want = append(want, "read.bin")
	cleaning := store.Cleaning{Run: "conformance"}
	if _, err := store.Clean(t.Context(), s, cleaning); err != nil {
		t.Errorf("cleaning: %v", err)
	}
	var got []string
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			t.Fatalf("list: %v", err)
		}
		if entry.Kind != store.KindFolder {
			got = append(got, entry.Name)
		}
	}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("there are %q, want %q", got, want)
	}
}

// contentNow is what a place holds, asked for over a connection that may have to be
// made again.
func contentNow(t T, s store.Store, place store.Ref) (string, bool) {
	t.Helper()
	entry, err := retry.Read(t.Context(), func() (store.Entry, error) { return s.Stat(t.Context(), place) })
	if store.KindOf(err) == store.ErrNotFound {
		return "", false
	}
	if err != nil {
		t.Fatalf("stat of %s: %v", place, err)
	}
	return read(t, s, store.Reading{Place: place, Revision: entry.Revision}), true
}

func brokenReads(t T, s store.Store, content string, breakAfter func(int64)) {
	t.Helper()
	place := at(s, "read.bin")
	written := mustWrite(t, s, place, content)
	for _, after := range []int64{0, 300, 2_000, 50_000, 200_000, 300_000} {
		breakAfter(after)
		sum, n, err := store.ReadBack(t.Context(), s, place, written.Revision, store.MD5)
		breakAfter(-1)
		if err == nil && (n != int64(len(content)) || sum.IsZero()) {
			t.Errorf("after %d bytes: a clean end after %d", after, n)
		}
		if err != nil && store.KindOf(err) != store.ErrTryAgain {
			t.Errorf("after %d bytes: %v, want it to be tried again", after, err)
		}
		if err == nil && after > 300 && after < int64(len(content)) {
			t.Errorf("after %d bytes: it did not break", after)
		}
	}
}
