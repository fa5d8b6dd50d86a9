package folder_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/folder"
)

func open(t *testing.T, dir string) store.Store {
	t.Helper()
	s, err := folder.Provider{}.Open(t.Context(), store.Opening{Options: map[string]string{"path": dir}})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { return open(t, t.TempDir()) })
}

func TestNoLinkLeadsOut(t *testing.T) {
	outside, inside := t.TempDir(), t.TempDir()
	secret := filepath.Join(outside, "secret.txt")
	if err := os.WriteFile(secret, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, target := range map[string]string{"file-link": secret, "folder-link": outside, "up-link": "../" + filepath.Base(outside)} {
		if err := os.Symlink(target, filepath.Join(inside, name)); err != nil {
			t.Fatal(err)
		}
	}
	s := open(t, inside)
	for _, place := range []store.Ref{
		store.At("file-link"), store.At("folder-link", "secret.txt"), store.At("up-link", "secret.txt"),
		store.At("..", filepath.Base(outside), "secret.txt"), store.At("../" + filepath.Base(outside) + "/secret.txt"),
	} {
		if body, err := s.Open(t.Context(), store.Reading{Place: place}); err == nil {
			body.Close()
			t.Errorf("%s could be read", place)
		}
		if place.Name == "file-link" {
			continue // a write replaces the link itself, as tested below
		}
		if _, err := s.Write(t.Context(), store.Writing{Place: place, Size: 1, If: store.Any, Content: storetest.Text("x")}); err == nil {
			t.Errorf("%s could be written", place)
		}
		if _, err := s.Remove(t.Context(), place, ""); err == nil {
			t.Errorf("%s could be removed", place)
		}
	}
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil || entry.Kind != store.KindOther {
			t.Errorf("listed %+v, %v; want links listed as what they are", entry, err)
		}
	}
	if _, err := s.Write(t.Context(), store.Writing{Place: store.At("file-link"), Size: 1, If: store.Any, Content: storetest.Text("x")}); err != nil {
		t.Errorf("replacing a link: %v", err)
	}
	if data, _ := os.ReadFile(secret); string(data) != "secret" {
		t.Errorf("what the link pointed to holds %q now", data)
	}
}

func TestSpecialFilesAreNotWaitedOn(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := open(t, dir)
	if _, err := s.Open(t.Context(), store.Reading{Place: store.At("pipe")}); !errors.Is(err, store.ErrRefused) {
		t.Errorf("opening a pipe: %v, want %q", err, store.ErrRefused)
	}
}

func TestChangedWhileRead(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "log.csv")
	if err := os.WriteFile(path, []byte(strings.Repeat("line\n", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	s := open(t, dir)
	body, err := s.Open(t.Context(), store.Reading{Place: store.At("log.csv")})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if _, err := body.Read(make([]byte, 100)); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(strings.Repeat("other", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	buffer := make([]byte, 64<<10)
	for err == nil {
		_, err = body.Read(buffer)
	}
	if !errors.Is(err, store.ErrChanged) {
		t.Errorf("reading to the end gives %v, want %q", err, store.ErrChanged)
	}
}

// TestLeftovers writes what a killed process leaves and cleans it up.
func TestLeftovers(t *testing.T) {
	dir := t.TempDir()
	deep := filepath.Join(dir, "a", "b")
	if err := os.MkdirAll(deep, 0o700); err != nil {
		t.Fatal(err)
	}
	mine, others := filepath.Join(deep, store.ArrivingName("run1", "0123456789ab")), filepath.Join(deep, store.ArrivingName("run2", "0123456789ab"))
	for _, path := range []string{mine, others, filepath.Join(deep, "kept.txt")} {
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s := open(t, dir)
	cleaned, err := store.Clean(context.Background(), s, store.Cleaning{Run: "run1"})
	if err != nil || len(cleaned) != 1 {
		t.Fatalf("cleaned %v, %v; want one leftover", cleaned, err)
	}
	if _, err := os.Stat(mine); !os.IsNotExist(err) {
		t.Error("the leftover is still there")
	}
	if _, err := os.Stat(others); err != nil {
		t.Error("another run's file was removed")
	}
	for listed, err := range store.ListFlat(t.Context(), s, store.Folder{}) {
		if err != nil || strings.HasPrefix(listed.Name, store.ArrivingPrefix) {
			t.Errorf("listed %+v, %v; files on their way are nobody's to see", listed, err)
		}
	}
}

func TestOpenRefuses(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path  string
		start store.Path
		want  string
	}{
		{"relative/path", "", "begin it with /"},
		{"/does/not/exist", "", "make it, or give another --path"},
		{file, "", "give the path of a folder"},
		{filepath.Dir(file), "nowhere/", "give another --start"},
		{filepath.Dir(file), "../", "give another --start"},
	} {
		_, err := folder.Provider{}.Open(t.Context(), store.Opening{Options: map[string]string{"path": c.path}, Start: c.start})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("opening %q at %q: %v; want it to say %q", c.path, c.start, err, c.want)
		}
	}
}
