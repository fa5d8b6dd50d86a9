package view_test

import (
	"context"
	"errors"
	"io"
	"iter"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/history"
	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/view"
)

// changes are history.Records that are held, in the order of time.
type changes []history.Change

func (c changes) First(_ context.Context, path store.Key, after time.Time) (*history.Change, error) {
	for i := range c {
		if c[i].Path == path && c[i].At.After(after) {
			return &c[i], nil
		}
	}
	return nil, nil
}

func (c changes) FirstIn(_ context.Context, folder store.Path, after time.Time) iter.Seq2[history.Change, error] {
	first := map[store.Key]history.Change{}
	for _, change := range slices.Backward(c) {
		rest, below := strings.CutPrefix(string(change.Path), string(folder))
		if !below || !change.At.After(after) || strings.HasSuffix(rest, "/") {
			continue
		}
		if name, _, deeper := strings.Cut(rest, "/"); !deeper {
			first[change.Path] = change
		} else if change.How != history.Created {
			first[store.Key(string(folder)+name+"/")] = history.Change{Path: store.Key(string(folder) + name + "/")}
		}
	}
	return func(yield func(history.Change, error) bool) {
		for _, key := range slices.Sorted(maps.Keys(first)) {
			if !yield(first[key], nil) {
				return
			}
		}
	}
}

// at is a time so many hours into the tests.
func at(hours int) time.Time { return time.Date(2026, 11, 1, hours, 0, 0, 0, time.UTC) }

func kept(m *storetest.Memory, how history.How, hours int, path, content string) history.Change {
	place := ".heron/history/part/files/" + path
	m.Put(content, strings.Split(place, "/")...)
	hash := store.BLAKE3.New()
	hash.Write([]byte(content))
	return history.Change{Path: store.Key(path), At: at(hours), How: how, Size: int64(len(content)), Kept: store.Key(place),
		Hash: store.HashOf(store.BLAKE3, hash.Sum(nil)).String()}
}

// was lists all that a store shows, files with their contents.
func was(t *testing.T, s store.Store) map[string]string {
	t.Helper()
	got := map[string]string{}
	for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		content := ""
		if listed.Kind == store.KindFile {
			content = read(t, s, listed.Key())
		}
		got[string(listed.Key())] = content
	}
	return got
}

func read(t *testing.T, s store.Store, key store.Key) string {
	t.Helper()
	body, err := s.Open(t.Context(), store.Reading{Place: key.Ref("", store.KindFile)})
	if err != nil {
		t.Fatalf("%s: %v", key, err)
	}
	defer body.Close()
	content, err := io.ReadAll(body)
	if err != nil {
		t.Fatalf("%s: %v", key, err)
	}
	return string(content)
}

// TestAsOf looks at an account at several times.
func TestAsOf(t *testing.T) {
	m := storetest.NewMemory()
	m.Put("stays", "a", "stays")
	m.Put("new", "a", "overwritten")
	m.Put("moved", "a", "to")
	m.Put("made", "made", "f")
	records := changes{
		{Path: "made/", At: at(1), How: history.Created},
		{Path: "short/f", At: at(1), How: history.Created},
		kept(m, history.Deleted, 2, "short/f", "there for an hour"),
		kept(m, history.Overwritten, 3, "a/overwritten", "old"),
		kept(m, history.Deleted, 3, "gone/deep/f", "gone"),
		{Path: "a/from", At: at(3), How: history.Moved, To: "a/to"},
		{Path: "a/to", At: at(3), How: history.Created},
		{Path: "a/thinned", At: at(3), How: history.Thinned},
	}
	asOf := func(hours int) store.Store { return view.AsOf(m, history.NewPast(records, at(hours))) }
	for hours, want := range map[int]map[string]string{
		0: {"a/": "", "a/stays": "stays", "a/overwritten": "old", "a/from": "moved", "gone/": "", "gone/deep/": "", "gone/deep/f": "gone"},
		1: {"a/": "", "a/stays": "stays", "a/overwritten": "old", "a/from": "moved", "gone/": "", "gone/deep/": "", "gone/deep/f": "gone",
			"made/": "", "made/f": "made", "short/": "", "short/f": "there for an hour"},
		3: {"a/": "", "a/stays": "stays", "a/overwritten": "new", "a/to": "moved", "made/": "", "made/f": "made"},
	} {
		if got := was(t, asOf(hours)); !maps.Equal(got, want) {
			t.Errorf("after %d hours there were %v\nwant %v", hours, got, want)
		}
	}
	if _, err := asOf(0).Stat(t.Context(), store.At("a", "thinned")); !errors.Is(err, store.ErrRefused) {
		t.Errorf("what is not kept any more gives %v", err)
	}
	if _, err := asOf(0).Stat(t.Context(), store.At("made")); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a folder that was made later gives %v", err)
	}
	if _, err := asOf(0).Write(t.Context(), store.Writing{Place: store.At("x"), Content: storetest.Text("x"), Size: 1}); !errors.Is(err,
		store.ErrRefused) {
		t.Errorf("the past was written to: %v", err)
	}
}

// TestAsOfBehindOurBack finds versions that were removed and altered in the account.
func TestAsOfBehindOurBack(t *testing.T) {
	m := storetest.NewMemory()
	records := changes{kept(m, history.Deleted, 1, "a", "one"), kept(m, history.Deleted, 1, "b", "two")}
	m.Put("TWO", ".heron", "history", "part", "files", "b")
	if _, err := m.Remove(t.Context(), store.At(".heron", "history", "part", "files", "a").As(store.KindFile), ""); err != nil {
		t.Fatal(err)
	}
	past := view.AsOf(m, history.NewPast(records, at(0)))
	if _, err := past.Open(t.Context(), store.Reading{Place: store.At("a")}); !errors.Is(err, store.ErrRefused) ||
		!strings.Contains(err.Error(), "not there any more") {
		t.Errorf("a version that was removed gives %v", err)
	}
	body, err := past.Open(t.Context(), store.Reading{Place: store.At("b")})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if _, err := io.ReadAll(body); !errors.Is(err, store.ErrRefused) || !strings.Contains(err.Error(), "hash") {
		t.Errorf("a version that was altered gives %v", err)
	}
}
