package sealed_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// recovering is somebody who has a copy of the folder at the provider, the key, the age
// command, and docs/sealed.md, and nothing of this program.
type recovering struct {
	t         *testing.T
	dir, keys string
}

// age decrypts a file with the age command.
func (r recovering) age(path string) []byte {
	r.t.Helper()
	var complaint bytes.Buffer
	command := exec.Command("age", "-d", "-i", r.keys, filepath.Join(r.dir, filepath.FromSlash(path)))
	command.Stderr = &complaint
	plain, err := command.Output()
	if err != nil {
		r.t.Fatalf("age -d %s: %v: %s", path, err, &complaint)
	}
	return plain
}

// line is what of a manifest's lines the document says that recovery needs.
type line struct {
	First    int
	Name     string
	Name64   []byte
	Folder   string
	Content  string
	Removed  string
	Modified time.Time
}

// folder writes what is in a folder, and below it, to a place on the disk.
func (r recovering) folder(id, to string) {
	r.t.Helper()
	if err := os.MkdirAll(to, 0o755); err != nil {
		r.t.Fatal(err)
	}
	names, err := filepath.Glob(filepath.Join(r.dir, "folders", id, "*.age"))
	if err != nil || len(names) == 0 {
		r.t.Fatalf("the folder %s has no manifest: %v", id, err)
	}
	slices.Sort(names)
	slices.Reverse(names) // from the newest; each says with first what it stands for
	there, next := map[string]line{}, 1<<30
	for _, name := range names {
		var number int
		if _, err := fmt.Sscanf(filepath.Base(name), "%d.age", &number); err != nil {
			r.t.Fatal(err)
		}
		if number > next {
			continue
		}
		lines := bytes.Split(r.age("folders/"+id+"/"+filepath.Base(name)), []byte("\n"))
		for i, text := range lines {
			var one line
			if len(text) == 0 || bytes.HasPrefix(text, []byte(`{"mac"`)) {
				continue
			}
			if err := json.Unmarshal(text, &one); err != nil {
				r.t.Fatal(err)
			}
			if i == 0 {
				next = one.First - 1
				continue
			}
			if one.Name == "" {
				one.Name = string(one.Name64)
			}
			key := one.Name
			if one.Folder != "" && one.Content == "" || one.Removed == "folder" {
				key += "/"
			}
			if _, newer := there[key]; !newer {
				there[key] = one
			}
		}
	}
	for _, one := range there {
		at := filepath.Join(to, strings.ReplaceAll(one.Name, "/", "_"))
		switch {
		case one.Removed != "":
		case one.Content != "":
			if err := os.WriteFile(at, r.age("contents/"+one.Content+".age"), 0o644); err != nil {
				r.t.Fatal(err)
			}
		default:
			r.folder(one.Folder, at)
		}
	}
}

// TestRecoverWithAge gets everything back with the age command, as docs/sealed.md says.
func TestRecoverWithAge(t *testing.T) {
	if _, err := exec.LookPath("age"); err != nil {
		t.Fatal("the age command is missing; make prerequisites installs it")
	}
	base := storetest.NewMemory()
	_, identity := newKeys(t)
	escrow, escrowIdentity := newKeys(t)
	keys, err := sealed.ParseKeys(identity, escrow.Recipients()...)
	if err != nil {
		t.Fatal(err)
	}
	if err := sealed.Create(t.Context(), base, vault, keys, nil); err != nil {
		t.Fatal(err)
	}
	place := open(t, base, keys)
	want := map[string]string{}
	put := func(data string, names ...string) {
		t.Helper()
		for i := range names[:len(names)-1] {
			if _, err := place.MakeFolder(t.Context(), store.At(names[:i+1]...)); err != nil {
				t.Fatal(err)
			}
		}
		writing := store.Writing{Place: store.At(names...), Size: int64(len(data)), If: store.Any, Run: "r", Content: storetest.Text(data)}
		if _, err := place.Write(t.Context(), writing); err != nil {
			t.Fatal(err)
		}
		if err := store.Sync(t.Context(), place); err != nil {
			t.Fatal(err)
		}
		want[filepath.Join(names...)] = data
	}
	for i := range 30 { // some segments stand for others by then
		put(strings.Repeat("level 1.42\n", i*700), "Surveys", "2026", fmt.Sprintf("gauge %02d.csv", i))
	}
	put("", "empty")
	put("before", "Reports", "flow.csv")
	put("after", "Reports", "flow.csv")
	put("gone", "Reports", "gone.csv")
	if _, err := place.Remove(t.Context(), store.At("Reports", "gone.csv"), ""); err != nil {
		t.Fatal(err)
	}
	delete(want, filepath.Join("Reports", "gone.csv"))
	if _, err := place.Capabilities().Move(t.Context(), store.At("Reports", "flow.csv"), "", store.At("Surveys", "flow.csv")); err != nil {
		t.Fatal(err)
	}
	want[filepath.Join("Surveys", "flow.csv")] = "after"
	delete(want, filepath.Join("Reports", "flow.csv"))
	if err := store.Close(place); err != nil {
		t.Fatal(err)
	}
	copyOf := t.TempDir()
	for path, data := range base.Files() {
		at := filepath.Join(copyOf, filepath.FromSlash(strings.TrimPrefix(path, "/archive/vault")))
		if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, []byte(data), 0o644)); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(data, "gauge") || strings.Contains(path, "gauge") {
			t.Errorf("%s tells a name", path)
		}
	}
	for name, key := range map[string]string{"the own key": identity, "the key in escrow": escrowIdentity} {
		file := filepath.Join(t.TempDir(), "key.txt")
		if err := os.WriteFile(file, []byte(key), 0o600); err != nil {
			t.Fatal(err)
		}
		r := recovering{t, copyOf, file}
		var start struct{ Root string }
		if err := json.Unmarshal(r.age("place.age"), &start); err != nil {
			t.Fatal(err)
		}
		to := t.TempDir()
		r.folder(start.Root, to)
		got := map[string]string{}
		err := filepath.WalkDir(to, func(path string, entry os.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			data, err := os.ReadFile(path)
			relative, _ := filepath.Rel(to, path)
			got[relative] = string(data)
			return err
		})
		if err != nil || len(got) != len(want) {
			t.Errorf("with %s: %d files came back of %d: %v", name, len(got), len(want), err)
		}
		for path, data := range want {
			if got[path] != data {
				t.Errorf("with %s: %s has %d bytes, want %d", name, path, len(got[path]), len(data))
			}
		}
	}
}

// TestPassphrase opens a place with a passphrase and the identity that the place keeps.
func TestPassphrase(t *testing.T) {
	defer sealed.SetWorkFactor(10)()
	base := storetest.NewMemory()
	keys, identity := newKeys(t)
	locked, err := sealed.LockIdentity(identity, "heron under the weir")
	if err != nil {
		t.Fatal(err)
	}
	if err := sealed.Create(t.Context(), base, vault, keys, locked); err != nil {
		t.Fatal(err)
	}
	kept, err := sealed.LockedIdentity(t.Context(), base, vault)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := sealed.UnlockIdentity(kept, "heron over the weir"); !errors.Is(err, sealed.ErrKey) {
		t.Errorf("another passphrase: %v", err)
	}
	opened, err := sealed.UnlockIdentity(kept, "heron under the weir")
	if err != nil || opened != identity {
		t.Errorf("got %q, %v", opened, err)
	}
}

// TestWrongKey touches nothing, and says so at once.
func TestWrongKey(t *testing.T) {
	base := storetest.NewMemory()
	create(t, base)
	before := base.Files()
	other, _ := newKeys(t)
	if _, err := sealed.Open(t.Context(), sealed.Options{Base: base, Folder: vault, Keys: other}); !errors.Is(err, sealed.ErrKey) {
		t.Errorf("another key: %v", err)
	}
	if err := sealed.Create(t.Context(), base, vault, other, nil); err == nil {
		t.Error("a place was made over another")
	}
	if now := base.Files(); len(now) != len(before) || now["/archive/vault/place.age"] != before["/archive/vault/place.age"] {
		t.Error("something was changed")
	}
	if exists, err := sealed.Exists(t.Context(), base, vault); !exists || err != nil {
		t.Errorf("exists: %v, %v", exists, err)
	}
	base.Put("somebody's", "docs", "file.txt")
	if _, err := sealed.Exists(t.Context(), base, store.MakePath("docs")); store.KindOf(err) != store.ErrExists {
		t.Errorf("a folder with files: %v", err)
	}
}

func readAll(t *testing.T, place *sealed.Place, ref store.Ref, offset, length int64) (string, error) {
	t.Helper()
	body, err := place.Open(t.Context(), store.Reading{Place: ref, Offset: offset, Length: length})
	if err != nil {
		return "", err
	}
	defer body.Close()
	data, err := io.ReadAll(body)
	return string(data), err
}
