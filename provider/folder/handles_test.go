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
				_, err := s.Write(t.Context(), store.Writing{Place: store.At(folder, fmt.Sprint(i)), Size: 4, If: store.Absent, Run: "r", Content: storetest.Text("text")})
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

// TestFolderReplacedMeanwhile removes a folder that was just written to, and makes it
// anew: what is written next fails, or is in the new one.
func TestFolderReplacedMeanwhile(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	path := filepath.Join(dir, "reports")
	write := func(name string) error {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At("reports", name), Size: 4, If: store.Absent, Run: "r", Content: storetest.Text("text")})
		return err
	}
	if _, err := s.MakeFolder(t.Context(), store.At("reports")); err != nil {
		t.Fatal(err)
	}
	if err := write("one"); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(path); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(path, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := write("two"); err != nil && store.KindOf(err) != store.ErrNotFound {
		t.Fatal(err)
	} else if err != nil { // the folder that was open is gone, and is not used again
		if err := write("two"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := os.Stat(filepath.Join(path, "two")); err != nil {
		t.Error(err)
	}
	if _, err := s.RemoveFolder(t.Context(), store.At("reports")); store.KindOf(err) == nil {
		t.Error("a folder with a file was removed")
	}
}
