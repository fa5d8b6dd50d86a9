package folder_test

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// openFiles is how many files and folders below a folder the process has open.
func openFiles(t *testing.T, below string) (n int) {
	t.Helper()
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Skip(err)
	}
	for _, entry := range entries {
		if at, err := os.Readlink("/proc/self/fd/" + entry.Name()); err == nil && len(at) > len(below) && at[:len(below)] == below {
			n++
		}
	}
	return n
}

// TestManyWritesAtOnce writes into many folders from many goroutines: all arrive, are
// synced together, and nothing stays open.
func TestManyWritesAtOnce(t *testing.T) {
	dir := t.TempDir() // on a disk, or the folders in memory are not synced at all
	s := open(t, dir)
	const folders, files = 100, 5
	var group sync.WaitGroup
	for f := range folders {
		folder := fmt.Sprintf("folder %d", f)
		if _, err := s.MakeFolder(t.Context(), store.At(folder)); err != nil {
			t.Fatal(err)
		}
		for i := range files {
			group.Go(func() {
				_, err := s.Write(t.Context(), store.Writing{Place: store.At(folder, fmt.Sprint(i)), Size: 4, If: store.Absent, Run: "r",
					Content: storetest.Text("text")})
				if err != nil {
					t.Error(err)
				}
			})
		}
	}
	group.Wait()
	if err := store.Sync(t.Context(), s); err != nil {
		t.Error(err)
	}
	found, err := filepath.Glob(filepath.Join(dir, "*", "*"))
	if err != nil || len(found) != folders*files {
		t.Errorf("%d files arrived, %v", len(found), err)
	}
	for begun := time.Now(); openFiles(t, dir+"/") > 0; time.Sleep(20 * time.Millisecond) {
		if time.Since(begun) > 5*time.Second {
			t.Fatalf("%d files and folders are still open", openFiles(t, dir+"/"))
		}
	}
}

// TestFolderReplacedMeanwhile removes, or moves away, a folder that was just written to,
// and makes it again: what is written next is in the new one. Where there is none, it is
// said that the folder is not there.
func TestFolderReplacedMeanwhile(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	path := filepath.Join(dir, "reports")
	write := func(name string) error {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At("reports", name), Size: 4, If: store.Absent, Run: "r",
			Content: storetest.Text("text")})
		return err
	}
	if _, err := s.MakeFolder(t.Context(), store.At("reports")); err != nil {
		t.Fatal(err)
	}
	for i, away := range []func() error{
		func() error { return os.RemoveAll(path) },
		func() error { return os.Rename(path, filepath.Join(dir, "moved away")) },
	} {
		if err := write("before"); err != nil {
			t.Fatal(err)
		}
		if err := away(); err != nil {
			t.Fatal(err)
		}
		if err := write("none"); store.KindOf(err) != store.ErrNotFound {
			t.Errorf("%d: a write to a folder that is gone: %v", i, err)
		}
		if err := os.Mkdir(path, 0o777); err != nil {
			t.Fatal(err)
		}
		if err := write("after"); err != nil {
			t.Fatal(err)
		}
		if _, err := os.Stat(filepath.Join(path, "after")); err != nil {
			t.Error(err)
		}
	}
}

// TestFilesOfNewFolders makes folders with files in them faster than they can be watched:
// all files are told.
func TestFilesOfNewFolders(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	page, err := store.Changes(t.Context(), s, store.Folder{}, "")
	if err != nil {
		t.Fatal(err)
	}
	const folders = 200
	for i := range folders {
		path := filepath.Join(dir, fmt.Sprint("folder ", i))
		if err := os.Mkdir(path, 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(path, "file"), []byte("text"), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	told := map[store.Path]bool{}
	for begun := time.Now(); len(told) < folders; {
		if page, err = store.AwaitChanges(t.Context(), s, store.Folder{}, page.Cursor, time.Second); err != nil {
			t.Fatal(err)
		}
		for _, change := range page.Changes {
			if change.Place.Name == "file" {
				told[change.Place.Folder.Path] = true
			}
		}
		if time.Since(begun) > 20*time.Second {
			t.Fatalf("%d of %d files were told", len(told), folders)
		}
	}
}
