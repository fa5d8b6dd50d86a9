package storetest

import (
	"io"

	"deftheron/core/store"
)

// testVersions overwrites and removes a file in a store that keeps its versions.
func testVersions(t T, s store.Store) {
	place := at(s, "data", "a é.txt").As(store.KindFile)
	first := mustWrite(t, s, place, "first")
	versions := s.Capabilities().Versions
	if versions == nil {
		t.Skip("the store keeps no versions of its own")
	}
	_, err := versions.VersionOf(t.Context(), place, first.Revision+"x")
	want(t, "the version of another revision", err, store.ErrChanged)
	_, err = versions.VersionOf(t.Context(), at(s, "data", "none.txt").As(store.KindFile), "")
	if err != nil {
		want(t, "the version of what is not there", err, store.ErrNotFound)
	}
	id, err := versions.VersionOf(t.Context(), place, first.Revision)
	if err != nil {
		t.Fatalf("the version of a file: %v", err)
	}
	if id == "" {
		t.Skip("the store keeps no versions for good")
	}
	if err := versions.RemoveVersion(t.Context(), place, id); err != nil {
		t.Errorf("removing what the file is now, which does nothing: %v", err)
	}
	second, err := write(t, s, place, "second time", store.AtRevision(first.Revision))
	if err != nil {
		t.Fatalf("replacing: %v", err)
	}
	next, err := versions.VersionOf(t.Context(), place, second.Revision)
	if err != nil || next == "" || next == id {
		t.Fatalf("after replacing, the version is %q, %v; it was %q", next, err, id)
	}
	if _, err := s.Remove(t.Context(), place, second.Revision); err != nil {
		t.Fatalf("removing: %v", err)
	}
	readVersions(t, versions, place, map[string]string{id: "first", next: "second time"})
	copyAndRemoveVersions(t, s, versions, place, id, next)
}

// readVersions reads versions, whole and in part.
func readVersions(t T, versions store.Versions, place store.Ref, contents map[string]string) {
	for version, content := range contents {
		entry, err := versions.StatVersion(t.Context(), place, version)
		if err != nil || entry.Size != int64(len(content)) || entry.Name != place.Name {
			t.Errorf("the version with %q is %+v, %v", content, entry, err)
		}
		for _, reading := range []store.Reading{{}, {Offset: 2}, {Offset: 1, Length: 3}, {Length: 1}} {
			reading.Place = place
			body, err := versions.OpenVersion(t.Context(), reading, version)
			if err != nil {
				t.Errorf("reading a version: %v", err)
				continue
			}
			got, err := io.ReadAll(body)
			body.Close()
			if wanted := part([]byte(content), reading); err != nil || string(got) != string(wanted) {
				t.Errorf("from %d on, %d bytes, the version holds %q, %v; want %q", reading.Offset, reading.Length, got, err, wanted)
			}
		}
	}
}

// copyAndRemoveVersions copies the first of two versions back, and removes it.
func copyAndRemoveVersions(t T, s store.Store, versions store.Versions, place store.Ref, id, next string) {
	back := at(s, "data", "back.txt").As(store.KindFile)
	if copied, err := versions.CopyVersion(t.Context(), place, id, back); err != nil || copied.Size != 5 || copied.Name != back.Name {
		t.Errorf("copied is %+v, %v", copied, err)
	}
	if got := read(t, s, store.Reading{Place: back}); got != "first" {
		t.Errorf("the copy holds %q", got)
	}
	_, err := versions.CopyVersion(t.Context(), place, next, back)
	want(t, "copying a version onto something", err, store.ErrExists)
	for range 2 {
		if err := versions.RemoveVersion(t.Context(), place, id); err != nil {
			t.Errorf("removing a version: %v", err)
		}
	}
	_, err = versions.StatVersion(t.Context(), place, id)
	want(t, "a version that was removed", err, store.ErrNotFound)
	if _, err := versions.StatVersion(t.Context(), place, next); err != nil {
		t.Errorf("another version after one was removed: %v", err)
	}
}

// part is what a reading reads of a content.
func part(content []byte, reading store.Reading) []byte {
	content = content[min(reading.Offset, int64(len(content))):]
	if reading.Length > 0 {
		content = content[:min(reading.Length, int64(len(content)))]
	}
	return content
}
