package storetest

import (
	"errors"

	"deftheron/core/store"
)

// testKinds asks for a file where a folder is, and the other way round: neither is
// found, and neither is touched.
func testKinds(t T, s store.Store) {
	file := mustWrite(t, s, at(s, "file"), "content")
	mustWrite(t, s, at(s, "folder", "inside"), "x")
	makeAll(t, s, at(s, "hollow").AsFolder().Path)
	asFolder, asFile := at(s, "file").As(store.KindFolder), at(s, "folder").As(store.KindFile)
	hollow := at(s, "hollow").As(store.KindFile)
	_, err := s.Stat(t.Context(), asFolder)
	want(t, "looking for a folder where a file is", err, store.ErrNotFound)
	_, err = s.Stat(t.Context(), asFile)
	want(t, "looking for a file where a folder is", err, store.ErrNotFound)
	for _, err := range s.List(t.Context(), asFolder.AsFolder()) {
		want(t, "listing a file", err, store.ErrNotFound)
	}
	if body, err := s.Open(t.Context(), store.Reading{Place: asFile}); err == nil {
		body.Close()
		t.Error("a folder was opened as a file")
	}
	_, err = s.RemoveFolder(t.Context(), asFolder)
	want(t, "removing a folder where a file is", err, store.ErrNotFound)
	_, err = s.Remove(t.Context(), asFile, "")
	want(t, "removing a file where a folder is", err, store.ErrNotFound)
	_, err = s.Remove(t.Context(), hollow, "")
	want(t, "removing a file where an empty folder is", err, store.ErrNotFound)
	if store.CanMove(s) {
		_, err = store.Move(t.Context(), s, asFolder, "", at(s, "elsewhere"))
		want(t, "moving a folder where a file is", err, store.ErrNotFound)
		_, err = store.Move(t.Context(), s, asFile, "", at(s, "elsewhere"))
		want(t, "moving a file where a folder is", err, store.ErrNotFound)
	}
	if store.CanCopy(s) {
		if _, err = store.Copy(t.Context(), s, asFile, "", at(s, "elsewhere"), "run"); err == nil {
			t.Error("a folder was copied as a file")
		}
	}
	if got := read(t, s, store.Reading{Place: at(s, "file"), Revision: file.Revision}); got != "content" {
		t.Errorf("the file holds %q", got)
	}
	if entry, err := s.Stat(t.Context(), at(s, "folder", "inside")); err != nil || entry.Size != 1 {
		t.Errorf("what is in the folder: %+v, %v", entry, err)
	}
	if s.Traits().Folders == store.FoldersReal {
		if _, err := s.Stat(t.Context(), at(s, "hollow").As(store.KindFolder)); err != nil {
			t.Errorf("the empty folder: %v", err)
		}
	}
}

// testSameName has a file and a folder called x, and does each operation to one of
// them: the other stays as it is.
func testSameName(t T, s store.Store) {
	if !s.Traits().FileBesideFolder {
		t.Skip("the store lets a file and a folder have one name in no case")
	}
	file, folder := at(s, "x").As(store.KindFile), at(s, "x").As(store.KindFolder)
	written := mustWrite(t, s, file, "the file")
	makeAll(t, s, folder.AsFolder().Path)
	inside, err := write(t, s, at(s, "x", "f"), "in the folder", store.Absent)
	if errors.Is(err, store.ErrExists) {
		t.Skip("the protocol lets a file and a folder have one name, and this server does not")
	}
	if err != nil {
		t.Fatalf("writing below the folder beside the file: %v", err)
	}
	both := func(what string) { // they are still there
		t.Helper()
		if got := read(t, s, store.Reading{Place: file}); got != "the file" {
			t.Errorf("%s: the file holds %q", what, got)
		}
		if entry, err := s.Stat(t.Context(), at(s, "x", "f")); err != nil || !store.SameRevision(entry.Revision, inside.Revision) {
			t.Errorf("%s: what is in the folder: %+v, %v", what, entry, err)
		}
	}
	both("written")
	if entry, err := s.Stat(t.Context(), at(s, "x")); err != nil || entry.Kind != store.KindFile {
		t.Errorf("whatever is called x: %+v, %v; a file comes first", entry, err)
	}
	if entry, err := s.Stat(t.Context(), folder); err != nil || entry.Kind != store.KindFolder {
		t.Errorf("the folder: %+v, %v", entry, err)
	}
	kinds := map[store.Kind]int{}
	for _, entry := range list(t, s, store.Folder{}) {
		if entry.Name == file.Name {
			kinds[entry.Kind]++
		}
	}
	if kinds[store.KindFile] != 1 || kinds[store.KindFolder] != 1 {
		t.Errorf("listed are %v", kinds)
	}
	if _, err := s.RemoveFolder(t.Context(), folder); !errors.Is(err, store.ErrRefused) {
		t.Errorf("removing the folder, which holds something: %v", err)
	}
	both("the folder was not removed")
	if store.CanMove(s) {
		moveThereAndBack(t, s, folder, at(s, "y").As(store.KindFolder))
		moveThereAndBack(t, s, file, at(s, "z").As(store.KindFile))
		now, err := s.Stat(t.Context(), at(s, "x", "f"))
		if inside.Entry = now; err != nil {
			t.Errorf("what is in the folder after the moves: %v", err)
		}
		if written.Entry, err = s.Stat(t.Context(), file); err != nil {
			t.Errorf("the file after the moves: %v", err)
		}
		both("moved and moved back")
	}
	if store.CanCopy(s) {
		if _, err := store.Copy(t.Context(), s, file, written.Revision, at(s, "copied"), "run"); err != nil {
			t.Errorf("copying the file: %v", err)
		}
		both("copied")
	}
	if _, err := write(t, s, file, "the file", store.AtRevision(written.Revision)); err != nil {
		t.Errorf("writing the file beside the folder: %v", err)
	}
	both("written again")
	removeEach(t, s, file, folder)
}

func moveThereAndBack(t T, s store.Store, from, to store.Ref) {
	t.Helper()
	if _, err := store.Move(t.Context(), s, from, "", to); err != nil {
		t.Errorf("moving the %s: %v", from.Kind, err)
	}
	if _, err := store.Move(t.Context(), s, to, "", from); err != nil {
		t.Errorf("moving the %s back beside the other: %v", from.Kind, err)
	}
}

// removeEach removes a file and a folder of one name, each beside the other.
func removeEach(t T, s store.Store, file, folder store.Ref) {
	t.Helper()
	if _, err := s.Remove(t.Context(), file, ""); err != nil {
		t.Errorf("removing the file: %v", err)
	}
	if _, err := s.Stat(t.Context(), file); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the removed file: %v", err)
	}
	if _, err := s.Remove(t.Context(), file, ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removing the file again, beside the folder: %v", err)
	}
	mustWrite(t, s, file, "the file")
	if _, err := s.Remove(t.Context(), at(s, "x", "f"), ""); err != nil {
		t.Fatalf("removing what is in the folder: %v", err)
	}
	if _, err := s.RemoveFolder(t.Context(), folder); err != nil && !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removing the empty folder: %v", err) // an implied one went with what was in it
	}
	if got := read(t, s, store.Reading{Place: file}); got != "the file" {
		t.Errorf("after the folder was removed the file holds %q", got)
	}
}
