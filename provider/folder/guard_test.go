package folder_test

import (
	"os"
	"path/filepath"
	"testing"

	"deftheron/core/store"
	"deftheron/provider/folder"
)

// TestNumberOfAPrivateFileIsFreed gives a file of the account the inode that a private one
// had a moment before, as a file system does with the number of a deleted file.
func TestNumberOfAPrivateFileIsFreed(t *testing.T) {
	data, files := t.TempDir(), t.TempDir()
	scratch := filepath.Join(data, "scratch")
	if err := os.WriteFile(scratch, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	s, err := folder.Provider{}.Restrict(nil, []string{data}).Open(t.Context(), store.Opening{
		Options: map[string]string{"path": files},
	})
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close(s)
	mine := filepath.Join(files, "mine")
	if err := os.Link(scratch, mine); err != nil {
		t.Fatal(err)
	}
	place := store.At("mine")
	if entry, err := s.Stat(t.Context(), place); err == nil && entry.Kind != store.KindOther {
		t.Errorf("a private file was seen: %v", entry)
	}
	if err := os.Remove(scratch); err != nil {
		t.Fatal(err)
	}
	entry, err := s.Stat(t.Context(), place)
	if err != nil || entry.Kind != store.KindFile {
		t.Errorf("a file with the number of a private one that is gone: %v, %v", entry, err)
	}
}
