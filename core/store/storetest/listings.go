package storetest

import (
	"fmt"
	"strings"

	"deftheron/core/listing"
	"deftheron/core/store"
)

func testNames(t T, s store.Store) {
	folder := at(s, "ordner mit é").AsFolder()
	makeAll(t, s, folder.Path)
	held := map[string]string{}
	for i, name := range Names {
		place := folder.Ref(name)
		if s.Traits().NameError(folder.Path, name) != nil {
			_, err := write(t, s, place, "x", store.Absent)
			want(t, fmt.Sprintf("write of the refused name %q", name), err, store.ErrNameRefused)
			continue
		}
		if s.Traits().CaseIgnored && holdsFold(held, name) {
			_, err := write(t, s, place, "x", store.Absent)
			want(t, fmt.Sprintf("creation of %q beside the same name in other letters", name), err, store.ErrExists)
			continue
		}
		held[name] = fmt.Sprintf("content %d", i)
		mustWrite(t, s, place, held[name])
	}
	if len(held) < 10 {
		t.Fatalf("the store refuses nearly every name; it holds only %d", len(held))
	}
	for _, entry := range list(t, s, folder) {
		if _, ok := held[entry.Name]; !ok {
			t.Errorf("listed %q, which nobody wrote", entry.Name)
			continue
		}
		if got := read(t, s, store.Reading{Place: entry.Ref(folder), Revision: entry.Revision}); got != held[entry.Name] {
			t.Errorf("%q holds %q, want %q", entry.Name, got, held[entry.Name])
		}
		if again, err := s.Stat(t.Context(), folder.Ref(entry.Name)); err != nil || !store.SameRevision(again.Revision, entry.Revision) {
			t.Errorf("stat of %q: %v, revision %q, listed with %q", entry.Name, err, again.Revision, entry.Revision)
		}
		delete(held, entry.Name)
	}
	for name := range held {
		t.Errorf("%q was written and is not listed", name)
	}
}

func holdsFold(held map[string]string, name string) bool {
	for other := range held {
		if strings.EqualFold(other, name) {
			return true
		}
	}
	return false
}

func testSizes(t T, s store.Store) {
	for _, size := range []int{0, 1, 4095, 65536, 300_001, 6 << 20} {
		data := strings.Repeat("0123456789abcdef", size/16+1)[:size]
		place := at(s, fmt.Sprint("size ", size))
		written := mustWrite(t, s, place, data)
		if written.Size != int64(size) {
			t.Errorf("written with size %d, want %d", written.Size, size)
		}
		if kind := s.Traits().VerificationKind; kind != "" {
			sum := kind.New()
			sum.Write([]byte(data))
			if expected := store.HashOf(kind, sum.Sum(nil)); written.Verification != expected {
				t.Errorf("size %d: verification %q, want %q", size, written.Verification, expected)
			}
		}
		entry, err := s.Stat(t.Context(), place)
		if err != nil || entry.Size != int64(size) || entry.Kind != store.KindFile {
			t.Errorf("stat: %+v, %v; want a file of %d bytes", entry, err, size)
		}
		if entry.Revision == "" || !store.SameRevision(entry.Revision, written.Revision) {
			t.Errorf("revision %q by stat, %q by write; want the same", entry.Revision, written.Revision)
		}
		if read(t, s, store.Reading{Place: place}) != data {
			t.Errorf("size %d: other bytes came back", size)
		}
	}
}

func testMissing(t T, s store.Store) {
	missing := at(s, "nobody", "here")
	_, err := s.Stat(t.Context(), missing)
	want(t, "stat", err, store.ErrNotFound)
	_, err = s.Open(t.Context(), store.Reading{Place: missing})
	want(t, "open", err, store.ErrNotFound)
	for _, err = range s.List(t.Context(), missing.AsFolder()) {
	}
	want(t, "list", err, store.ErrNotFound)
	if entries := list(t, s, store.Folder{}); len(entries) != 0 {
		t.Errorf("the start of an empty account lists %v", entries)
	}
	if start, err := s.Stat(t.Context(), store.At()); err != nil || start.Kind != store.KindFolder {
		t.Errorf("stat of the start: %+v, %v; want a folder", start, err)
	}
}

func fill(t T, s store.Store) {
	for _, names := range [][]string{
		{"a", "x"}, {"a!", "x"}, {"a.txt"}, {"b"}, {"a", "b", "c"}, {"a", "b.txt"}, {"ä", "z"}, {"a0"}, {"Z"},
		{"a", "b", "d"}, {"a b", "x"},
	} {
		place := at(s, names...)
		if _, err := s.Stat(t.Context(), place); err == nil {
			continue // a name that gave way is there already
		}
		mustWrite(t, s, place, strings.Join(names, "|"))
	}
}

func testOrder(t T, s store.Store) {
	fill(t, s)
	if s.Traits().Order != store.OrderByKey {
		return
	}
	var last store.Entry
	for i, entry := range list(t, s, store.Folder{}) {
		if i > 0 && store.CompareKeys(store.KeyOf("", last.Name, last.Kind), last.Kind, store.KeyOf("", entry.Name, entry.Kind),
			entry.Kind) >= 0 {
			t.Errorf("%q comes after %q", entry.Name, last.Name)
		}
		last = entry
	}
}

func testFlat(t T, s store.Store) {
	fill(t, s)
	walked := flatten(t, plain{s}, store.Folder{})
	flat := flatten(t, s, store.Folder{})
	if fmt.Sprint(walked) != fmt.Sprint(flat) {
		t.Errorf("flat listing\n%q\nwalking\n%q", flat, walked)
	}
	if len(walked) != 16 {
		t.Errorf("%d entries, want 16: %q", len(walked), walked)
	}
	below := flatten(t, s, store.Folder{Path: "a/"})
	if fmt.Sprintf("%q", below) != `["b.txt" "b/" "b/c" "b/d" "x"]` {
		t.Errorf("below a: %q", below)
	}
	// What is ours is left out, unless it is what is asked for.
	mustWrite(t, s, at(s, store.OwnFolder, "history", "one", "f"), "moved to history")
	for what, one := range map[string]store.Store{"flat listing": s, "walking": plain{s}} {
		if again := flatten(t, one, store.Folder{}); fmt.Sprint(again) != fmt.Sprint(walked) {
			t.Errorf("%s tells what is ours: %q", what, again)
		}
		own := flatten(t, one, store.Folder{Path: store.MakePath(store.OwnFolder, "history")})
		if fmt.Sprintf("%q", own) != `["one/" "one/f"]` {
			t.Errorf("%s of our own folder: %q", what, own)
		}
	}
}

// plain hides the abilities of a store.
type plain struct{ store.Store }

func flatten(t T, s store.Store, folder store.Folder) (keys []string) {
	t.Helper()
	for listed, err := range listing.Flat(t.Context(), s, folder) {
		if err != nil {
			t.Fatalf("list: %v", err)
		}
		keys = append(keys, string(listed.Key()))
	}
	return keys
}
