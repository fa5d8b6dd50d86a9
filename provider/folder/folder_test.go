package folder_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/core/listing"
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
	if _, err := s.Write(t.Context(), store.Writing{Place: store.At("file-link"), Size: 1, If: store.Any,
		Content: storetest.Text("x")}); err != nil {
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
	mine, others := filepath.Join(deep, store.ArrivingName("run1", "0123456789ab")),
		filepath.Join(deep, store.ArrivingName("run2", "0123456789ab"))
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
	for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
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
		{"/does/not/exist", "", "make it, or give another path"},
		{file, "", "give the path of a folder"},
		{filepath.Dir(file), "nowhere/", "give another starting folder"},
		{filepath.Dir(file), "../", "give another starting folder"},
	} {
		_, err := folder.Provider{}.Open(t.Context(), store.Opening{Options: map[string]string{"path": c.path}, Start: c.start})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("opening %q at %q: %v; want it to say %q", c.path, c.start, err, c.want)
		}
	}
}

// TestPrivateIsNotThere links what leads to a private folder, and folders that hold it:
// by its path, a link, from within a larger folder, and by hard links to its files.
func TestPrivateIsNotThere(t *testing.T) {
	top := t.TempDir()
	data := filepath.Join(top, "data")
	for _, dir := range []string{filepath.Join(data, "scratch"), filepath.Join(top, "files")} {
		if err := os.MkdirAll(dir, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	key := filepath.Join(top, "keys", "heron.key")
	for path, content := range map[string]string{filepath.Join(data, "heron.db"): "records", filepath.Join(data, "scratch", "x"): "content",
		key: "key", filepath.Join(top, "files", "mine"): "mine"} {
		if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	for link, to := range map[string]string{"files/by link": data, "files/key link": key} {
		if err := os.Symlink(to, filepath.Join(top, link)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("../data", filepath.Join(top, "files", "relative")); err != nil {
		t.Fatal(err)
	}
	for _, to := range []string{key, filepath.Join(data, "heron.db")} {
		if err := os.Link(to, filepath.Join(top, "files", "hard "+filepath.Base(to))); err != nil {
			t.Fatal(err)
		}
	}
	provider := folder.Provider{}.Restrict(nil, []string{data, key})
	link := func(path, start string) (store.Store, error) {
		address, _ := store.ParseAddress("/a/" + start)
		place, _ := address.Place()
		return provider.Open(t.Context(), store.Opening{Options: map[string]string{"path": path}, Start: place.AsFolder().Path})
	}
	for _, test := range [][2]string{
		{data, ""}, {data + "/scratch", ""}, {top, "data"}, {top, "data/scratch"}, {filepath.Join(top, "files", "by link"), ""},
		{top, "files/relative"},
		{"/", ""}, {"/etc", ""}, {"/proc/self", ""}, {"/dev", ""}, {"/sys/kernel", ""}, {"/run", ""}, {"/boot", ""}, {"/../etc", ""},
	} {
		if s, err := link(test[0], test[1]); err == nil {
			t.Errorf("%s, from %q on, was linked", test[0], test[1])
			store.Close(s)
		}
	}
	s, err := link(top, "")
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close(s)
	var seen []string
	for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		if listed.Kind != store.KindOther {
			seen = append(seen, string(listed.Key()))
		}
	}
	if want := "[files/ files/mine keys/]"; fmt.Sprint(seen) != want {
		t.Errorf("listed are %q, want %s", seen, want)
	}
	for _, names := range [][]string{
		{"data"}, {"data", "heron.db"}, {"data", "scratch", "x"}, {"keys", "heron.key"}, {"files", "hard heron.key"}, {"files", "hard heron.db"},
		{"files", "relative", "heron.db"}, {"files", "by link", "heron.db"},
	} {
		place := store.At(names...)
		if _, err := s.Stat(t.Context(), place); err == nil {
			t.Errorf("%v is there", names)
		}
		if body, err := s.Open(t.Context(), store.Reading{Place: place.As(store.KindFile)}); err == nil {
			t.Errorf("%v was read", names)
			body.Close()
		}
		if _, err := s.Remove(t.Context(), place, ""); err == nil {
			t.Errorf("%v was removed", names)
		}
		if _, err := store.Move(t.Context(), s, place, "", store.At("files", "moved")); err == nil {
			t.Errorf("%v was moved", names)
		}
		if len(names) < 2 || names[0] == "keys" || strings.HasPrefix(names[1], "hard") {
			continue
		}
		if _, err := s.MakeFolder(t.Context(), place.Folder.Ref("made")); err == nil {
			t.Errorf("a folder was made beside %v", names)
		}
		if _, err := s.Write(t.Context(), store.Writing{Place: place.Folder.Ref("written"), Size: 1, If: store.Absent, Run: "r",
			Content: storetest.Text("x")}); err == nil {
			t.Errorf("a file was written beside %v", names)
		}
	}
	if content, err := os.ReadFile(filepath.Join(data, "heron.db")); err != nil || string(content) != "records" {
		t.Errorf("the records hold %q, %v", content, err)
	}

	allowed := folder.Provider{}.Restrict([]string{filepath.Join(top, "files")}, []string{data})
	for path, want := range map[string]bool{filepath.Join(top, "files"): true, top: false, filepath.Join(top, "keys"): false,
		filepath.Join(top, "files", "by link"): false} {
		s, err := allowed.Open(t.Context(), store.Opening{Options: map[string]string{"path": path}})
		if (err == nil) != want {
			t.Errorf("with --folders %s: %v; want it linked: %v", path, err, want)
		}
		if err == nil {
			store.Close(s)
		}
	}
}

// TestHolesStay copies a sparse file from one folder to another, and within one: it takes
// no more room there, and has the same content.
func TestHolesStay(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	path := filepath.Join(from, "sparse")
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	const size = 64 << 20
	for _, at := range []int64{0, 10<<20 + 123, 40 << 20} {
		if _, err := file.WriteAt([]byte(strings.Repeat("data ", 5000)), at); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(file.Truncate(size), file.Close()); err != nil {
		t.Fatal(err)
	}
	source, target := open(t, from), open(t, to)
	sum := func(s store.Store, name string) store.Hash {
		sum, n, err := store.ReadBack(t.Context(), s, store.At(name), "", store.CRC64NVME)
		if err != nil || n != size {
			t.Fatalf("%s has %d bytes, %v", name, n, err)
		}
		return sum
	}
	want := sum(source, "sparse")
	if _, err := target.Write(t.Context(), store.Writing{Place: store.At("copied"), Size: size, If: store.Absent, Run: "r",
		Content: contentOf{source, "sparse"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Copy(t.Context(), source, store.At("sparse"), "", store.At("within"), "r"); err != nil {
		t.Fatal(err)
	}
	for path, got := range map[string]store.Hash{filepath.Join(to, "copied"): sum(target, "copied"),
		filepath.Join(from, "within"): sum(source, "within")} {
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		if taken := info.Sys().(*syscall.Stat_t).Blocks * 512; got != want || taken > 2<<20 {
			t.Errorf("%s has %s, want %s, and takes %d KiB", path, got, want, taken>>10)
		}
	}
}

// contentOf is a file of a store.
type contentOf struct {
	store store.Store
	name  string
}

// Open implements store.Content.
func (c contentOf) Open(ctx context.Context) (*store.Stream, error) {
	body, err := c.store.Open(ctx, store.Reading{Place: store.At(c.name)})
	if err != nil {
		return nil, err
	}
	return store.NewStream(body, store.CRC64NVME, nil), nil
}

// TestLargeFolder lists a folder of many names in order, and has its first page soon.
func TestLargeFolder(t *testing.T) {
	dir := t.TempDir()
	const most = 20_000
	for i := range most {
		path := filepath.Join(dir, fmt.Sprintf("%05d", (i*7919)%most))
		if i%1000 == 0 {
			if err := os.Mkdir(path, 0o777); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if err := os.WriteFile(path, nil, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	s := open(t, dir)
	var last store.Entry
	n, begun := 0, time.Now()
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		if n > 0 && store.CompareKeys(store.KeyOf("", last.Name, last.Kind), last.Kind, store.KeyOf("", entry.Name, entry.Kind),
			entry.Kind) >= 0 {
			t.Fatalf("%q comes after %q", entry.Name, last.Name)
		}
		last = entry
		if n++; n == 1000 && time.Since(begun) > time.Second {
			t.Errorf("the first page took %v", time.Since(begun))
		}
	}
	if n != most {
		t.Errorf("%d of %d entries were listed", n, most)
	}
}
