package files_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"testing"

	"deftheron/core/compare"
	"deftheron/core/files"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

func filled() *storetest.Memory {
	m := storetest.NewMemory()
	m.Put("one", "project", "a.txt")
	m.Put("two!", "project", "below", "b.txt")
	m.Put("stays", "other.txt")
	m.Folder("project", "empty")
	return m
}

var project = files.Count{Files: 2, Folders: 3, Bytes: 7}

func TestRemove(t *testing.T) {
	m := filled()
	count, err := files.Survey(t.Context(), m, store.At("project"))
	if err != nil || count != project {
		t.Fatalf("counted %+v, %v", count, err)
	}
	removed, err := files.Remove(t.Context(), m, store.At("project"), count)
	if err != nil || removed.Count != project || removed.Kept != 0 {
		t.Errorf("removed %+v, %v", removed, err)
	}
	if got := m.Files(); !maps.Equal(got, map[string]string{"/other.txt": "stays"}) {
		t.Errorf("left are %v", got)
	}
	if _, err := files.Remove(t.Context(), m, store.At("project"), count); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removing it again: %v", err)
	}
	if _, err := files.Remove(t.Context(), m, store.At(), files.Count{Files: 9, Folders: 9, Bytes: 99}); !errors.Is(err, store.ErrRefused) {
		t.Errorf("removing the start: %v", err)
	}
}

// TestRemoveStopsAtMore removes nothing beyond what was agreed to.
func TestRemoveStopsAtMore(t *testing.T) {
	for what, more := range map[string]func(*storetest.Memory){
		"a file":   func(m *storetest.Memory) { m.Put("", "project", "below", "c.txt") },
		"a folder": func(m *storetest.Memory) { m.Folder("project", "below", "new") },
		"bytes":    func(m *storetest.Memory) { m.Put("two, longer", "project", "below", "b.txt") },
	} {
		m := filled()
		more(m)
		removed, err := files.Remove(t.Context(), m, store.At("project"), project)
		if !errors.Is(err, files.ErrMore) {
			t.Errorf("%s more: removed %+v, %v; want %q", what, removed, err, files.ErrMore)
		}
		if _, err := m.Stat(t.Context(), store.At("project")); err != nil {
			t.Errorf("%s more: the folder is gone: %v", what, err)
		}
	}
}

// TestRemoveTellsWhatStays goes on past what cannot be removed.
func TestRemoveTellsWhatStays(t *testing.T) {
	m := filled()
	faulty := storetest.NewFaulty(m, storetest.Fault{Op: storetest.OpRemove, Name: "b.txt",
		Err: store.Errorf(store.ErrRefused, "it is write-protected")})
	removed, err := files.Remove(t.Context(), faulty, store.At("project"), project)
	if err != nil || removed.Kept != 1 || len(removed.Failures) != 1 || removed.Failures[0].Cause != plan.CauseRefused || removed.Files != 1 {
		t.Errorf("%+v, %v", removed, err)
	}
	if got := m.Files(); !maps.Equal(got, map[string]string{"/other.txt": "stays", "/project/below/b.txt": "two!"}) {
		t.Errorf("left are %v", got)
	}
}

// TestRemoveFromAnIncompleteListing removes nothing whose listing broke off.
func TestRemoveFromAnIncompleteListing(t *testing.T) {
	m := filled()
	faulty := storetest.NewFaulty(m, storetest.Fault{Op: storetest.OpList, Err: store.Errorf(store.ErrTryAgain, "broken")})
	if _, err := files.Survey(t.Context(), faulty, store.At("project")); !errors.Is(err, store.ErrTryAgain) {
		t.Errorf("counting: %v", err)
	}
	if removed, err := files.Remove(t.Context(), faulty, store.At("project"), project); !errors.Is(err, store.ErrTryAgain) ||
		removed.Files != 0 {
		t.Errorf("removed %+v, %v", removed, err)
	}
}

func put(t *testing.T, s store.Store, content string, size int64, condition store.Condition) (files.Put, error) {
	t.Helper()
	return files.Write(t.Context(), s, files.Putting{
		Place: store.At("new", "deep", "file.txt"), Size: size, If: condition, Run: "run1", Scratch: t.TempDir(),
		Body: io.NopCloser(strings.NewReader(content)),
	})
}

func TestWrite(t *testing.T) {
	content := strings.Repeat("0123456789", 100)
	for name, prepare := range map[string]func(*storetest.Memory){
		"whole":           func(*storetest.Memory) {},
		"no verification": func(m *storetest.Memory) { m.SetTraits(func(traits *store.Traits) { traits.VerificationKind = "" }) },
		"md5": func(m *storetest.Memory) {
			m.SetTraits(func(traits *store.Traits) { traits.VerificationKind = store.MD5 })
		},
		"in parts": func(m *storetest.Memory) { m.PartsAbove, m.PartSize = 100, 64 },
	} {
		m := storetest.NewMemory()
		prepare(m)
		done, err := put(t, m, content, int64(len(content)), store.Absent)
		if err != nil || done.Size != 1000 || done.Verification == "" || done.Received.Kind != store.CRC64NVME {
			t.Errorf("%s: %+v, %v", name, done, err)
		}
		if got := m.Files()["/new/deep/file.txt"]; got != content {
			t.Errorf("%s: %d bytes are there", name, len(got))
		}
		if _, err := put(t, m, "other", 5, store.Absent); !errors.Is(err, store.ErrExists) {
			t.Errorf("%s: again: %v, want %q", name, err, store.ErrExists)
		}
		if _, err := put(t, m, "other", 5, store.AtRevision(done.Revision)); err != nil {
			t.Errorf("%s: replacing: %v", name, err)
		}
		if _, err := put(t, m, "third", 5, store.AtRevision(done.Revision)); !errors.Is(err, store.ErrChanged) ||
			m.Files()["/new/deep/file.txt"] != "other" {
			t.Errorf("%s: replacing what is gone: %v", name, err)
		}
		if m.OpenUploads() != 0 {
			t.Errorf("%s: %d uploads are left open", name, m.OpenUploads())
		}
	}
}

// sized is a store that has to be told the size.
type sized struct{ *storetest.Memory }

func (s sized) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if writing.Size < 0 {
		return store.Written{}, store.Errorf(store.ErrUnsupported, "not a size")
	}
	return s.Memory.Write(ctx, writing)
}

// TestWriteOfUnknownSize keeps the content meanwhile where the store needs the size.
func TestWriteOfUnknownSize(t *testing.T) {
	for name, s := range map[string]store.Store{"any": storetest.NewMemory(), "sized": sized{storetest.NewMemory()}} {
		done, err := put(t, s, "how long this is, nobody knows", -1, store.Absent)
		if err != nil || done.Size != 30 {
			t.Errorf("%s: %+v, %v", name, done, err)
		}
	}
}

// TestWriteThatFails leaves nothing: the sender ends early or goes on too long,
// or the bytes arrive damaged.
func TestWriteThatFails(t *testing.T) {
	for _, parts := range []bool{false, true} {
		for what, size := range map[string]int64{"too short": 2000, "too long": 500} {
			m := storetest.NewMemory()
			if parts {
				m.PartsAbove, m.PartSize = 100, 64
			}
			if done, err := put(t, m, strings.Repeat("x", 1000), size, store.Absent); err == nil || len(m.Files()) != 0 || m.OpenUploads() != 0 {
				t.Errorf("%s, in parts %v: %+v, %v; there are %v", what, parts, done, err, m.Files())
			}
		}
	}
	m := storetest.NewMemory()
	m.SetTraits(func(traits *store.Traits) { traits.VerificationKind = "" })
	faulty := storetest.NewFaulty(m, storetest.Fault{Op: storetest.OpWrite, Flip: true, At: 3})
	if _, err := put(t, faulty, "content", 7, store.Absent); !errors.Is(err, store.ErrVerification) || len(m.Files()) != 0 {
		t.Errorf("a flipped bit: %v, there are %v", err, m.Files())
	}
	m = storetest.NewMemory()
	m.Put("a file", "new")
	if _, err := put(t, m, "content", 7, store.Absent); !errors.Is(err, store.ErrExists) {
		t.Errorf("a file where a folder is needed: %v", err)
	}
}

func TestCompare(t *testing.T) {
	here, there := storetest.NewMemory(), storetest.NewMemory()
	for _, m := range []*storetest.Memory{here, there} {
		m.Put("same", "in", "equal.txt")
	}
	here.Put("x", "in", "only here.txt")
	there.Put("xyz", "in", "only there.txt")
	here.Put("mine!", "in", "differs.txt")
	there.Put("yours", "in", "differs.txt")
	here.Put("long", "in", "sizes.txt")
	there.Put("longer", "in", "sizes.txt")
	here.Put("1234", "in", "broken.txt")
	there.Put("1234", "in", "broken.txt")
	run := func(a, b store.Store, place store.Ref, read bool) string {
		var found []string
		for one, err := range files.Compare(t.Context(), files.Side{Store: a, Place: place}, files.Side{Store: b, Place: place}, compare.NoPairs,
			map[bool]compare.Reading{true: compare.Read}[read]) {
			if err != nil {
				return err.Error()
			}
			if one.Kind != store.KindFolder {
				found = append(found, fmt.Sprintf("%s %s %s", one.Key, one.Outcome, one.Evidence))
			}
		}
		return strings.Join(found, "; ")
	}
	byHash := "broken.txt equal hash; differs.txt differing hash; equal.txt equal hash; only here.txt only-here presence; " +
		"only there.txt only-there presence; sizes.txt differing hash"
	if got := run(here, there, store.At("in"), false); got != byHash {
		t.Errorf("by hash: %s", got)
	}
	for _, m := range []*storetest.Memory{here, there} {
		m.NoHashes = true
		m.SetTraits(func(traits *store.Traits) { traits.KeepsTimes = false })
	}
	untold := "broken.txt untold ; differs.txt untold ; equal.txt untold ; only here.txt only-here presence; " +
		"only there.txt only-there presence; sizes.txt differing size"
	if got := run(plain{here}, plain{there}, store.At("in"), false); got != untold {
		t.Errorf("where nothing is told: %s", got)
	}
	faulty := storetest.NewFaulty(plain{there},
		storetest.Fault{Op: storetest.OpOpen, Name: "broken.txt", Err: store.Errorf(store.ErrRefused, "no")})
	read := "broken.txt unreadable ; differs.txt differing reading; equal.txt equal reading; only here.txt only-here presence; " +
		"only there.txt only-there presence; sizes.txt differing size"
	if got := run(plain{here}, plain{faulty}, store.At("in"), true); got != read {
		t.Errorf("by reading: %s", got)
	}
	if got := run(plain{here}, plain{there}, store.At("in", "equal.txt"), true); got != " equal reading" {
		t.Errorf("two files: %s", got)
	}
	if got := run(here, there, store.At("nowhere"), true); !strings.Contains(got, "not") {
		t.Errorf("what is not there: %s", got)
	}
	listing := storetest.NewFaulty(there, storetest.Fault{Op: storetest.OpList, Err: store.Errorf(store.ErrTryAgain, "the listing broke off"),
		At: 2})
	if got := run(here, listing, store.At("in"), false); !strings.Contains(got, "broke off") {
		t.Errorf("a listing that breaks off: %s", got)
	}
}

// plain hides the abilities of a store, the telling of sums among them.
type plain struct{ store.Store }

// TestHistory counts and removes what runs have moved to history.
func TestHistory(t *testing.T) {
	m := storetest.NewMemory()
	m.Put("content", ".heron", "history", "2026-03-01T120000Z-run", "files", "f")
	m.Put("stays", "f")
	place := store.At(".heron", "history", "2026-03-01T120000Z-run")
	agreed, err := files.Survey(t.Context(), m, place)
	if err != nil || agreed.Files != 1 {
		t.Fatalf("%+v, %v; want the file counted", agreed, err)
	}
	if gone, err := files.Remove(t.Context(), m, place, agreed); err != nil || gone.Files != 1 || gone.Kept != 0 {
		t.Errorf("%+v, %v; want it removed", gone, err)
	}
}
