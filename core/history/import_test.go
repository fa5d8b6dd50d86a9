package history_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// TestManifests writes changes and reads them again, with names of every kind.
func TestManifests(t *testing.T) {
	at := time.Date(2026, 11, 20, 12, 0, 0, 5, time.UTC)
	kept := func(path string) store.Key { return store.Key(string(store.HistoryFolder) + "part/files/" + path) }
	changes := []history.Change{
		{Path: "a/b.txt", At: at, Since: at.Add(-time.Hour), How: history.Overwritten, Size: 5, Modified: at, Hash: "md5=00",
			Kept: kept("a/b.txt"),
			Run:  "r", Job: "j", Locked: at.Add(time.Hour)},
		{Path: "with\x00slash", At: at, How: history.Deleted, Kept: kept("with\x00slash")},
		{Path: "caf\xe9", At: at, How: history.Deleted, Kept: kept("caf\xe9")},
		{Path: "..", At: at, How: history.Moved, To: "line\nbreak"},
		{Path: "made/", At: at, How: history.Created},
		{Path: "%2F", At: at, How: history.Thinned},
		{Path: "v", At: at, How: history.Deleted, Kept: "v", Version: "3HL4kqtJvjVBH40Nrjfkd"},
		{Path: "out/a", At: at, How: history.Superseded, Size: 3, Modified: at, Kept: "out/2026-11-19/a", Revision: "r1"},
	}
	encoded, err := history.EncodeManifest(changes)
	if err != nil {
		t.Fatal(err)
	}
	var got []history.Change
	err = history.DecodeManifest(strings.NewReader(string(encoded)), func(c history.Change) error { got = append(got, c); return nil })
	if err != nil || !slices.Equal(got, changes) {
		t.Errorf("read are %+v\nwant %+v\n%v\n%s", got, changes, err, encoded)
	}
	for _, wrong := range []string{
		"{}", "nonsense", `{"path":"/a","change":"deleted","at":"2026-11-20T12:00:00Z"}`,
		`{"path":"/a","change":"eaten","at":"2026-11-20T12:00:00Z"}`,
		`{"path":"/a","change":"deleted","at":"2026-11-20T12:00:00Z","kept":"/elsewhere"}`,
		`{"path":"/a","change":"deleted","at":"2026-11-20T12:00:00Z","version":"3HL4"}`,
		`{"path":"/a","change":"superseded","at":"2026-11-20T12:00:00Z","kept":"/2026/a"}`,
		`{"path":"/a","change":"moved","at":"2026-11-20T12:00:00Z"}`,
		`{"path":"a","change":"created","at":"2026-11-20T12:00:00Z"}`, `{"path":"/","change":"created","at":"2026-11-20T12:00:00Z"}`,
	} {
		if err := history.DecodeManifest(strings.NewReader(wrong), func(history.Change) error { return nil }); err == nil {
			t.Errorf("the line %s is read", wrong)
		}
	}
}

// TestReadPart reads parts whose manifest is damaged, and those of an earlier layout.
func TestReadPart(t *testing.T) {
	m := storetest.NewMemory()
	m.Put("is there", "a", "there")
	part, old := "2026-11-20T120000Z-run", "2026-01-20T120000Z"
	for _, name := range []string{"there", "listed", "cut off"} {
		m.Put(name, ".heron", "history", part, "files", "a", name)
	}
	m.Put(`{"path":"/a/listed","change":"deleted","at":"2026-11-20T12:00:01Z","kept":"/.heron/history/`+part+`/files/a/listed"}
{"path":"/a/cut`, ".heron", "history", part, "manifest-000000000007.jsonl")
	m.Put("old", ".heron", "history", old, "b", "f")
	m.Put("x", ".heron", "history", "somebody's", "f")
	parts, err := history.Parts(t.Context(), m)
	if err != nil || len(parts) != 2 {
		t.Fatalf("the parts are %+v, %v", parts, err)
	}
	got := map[string]string{}
	damaged := 0
	for _, one := range parts {
		wrong, err := history.ReadPart(t.Context(), m, one, func(manifest int64, c history.Change) error {
			if _, known := got[string(c.Path)]; !known || manifest > 0 {
				got[string(c.Path)] = string(c.How) + " " + string(c.Kept)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		damaged += len(wrong)
	}
	prefix := string(store.HistoryFolder)
	for path, want := range map[string]string{
		"a/listed": "deleted " + prefix + part + "/files/a/listed", "a/there": "overwritten " + prefix + part + "/files/a/there",
		"a/cut off": "deleted " + prefix + part + "/files/a/cut off", "b/f": "deleted " + prefix + old + "/b/f",
	} {
		if got[path] != want {
			t.Errorf("%s was %q, want %q", path, got[path], want)
		}
	}
	if len(got) != 4 || damaged != 1 {
		t.Errorf("read are %v, with %d damaged manifests", got, damaged)
	}
}
