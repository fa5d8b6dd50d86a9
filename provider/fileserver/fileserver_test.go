package fileserver_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"path"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/fileserver"
)

// memory implements fileserver.Server, and fileserver.Hasher, in a map of paths.
type memory struct {
	replaces bool
	hashes   []store.HashKind
	lose     bool // every second byte of what is written is lost

	mu      sync.Mutex
	entries map[string]store.Entry
	content map[string]string
	clock   int64
}

func newMemory() *memory {
	return &memory{entries: map[string]store.Entry{"/home": {Kind: store.KindFolder}}, content: map[string]string{}}
}

func (m *memory) parent(name string) error {
	if m.entries[path.Dir(name)].Kind != store.KindFolder {
		return store.Errorf(store.ErrNotFound, "there is no folder")
	}
	return nil
}

func (m *memory) Stat(_ context.Context, name string) (store.Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	entry, ok := m.entries[name]
	if !ok {
		return entry, store.Errorf(store.ErrNotFound, "there is none")
	}
	return entry, nil
}

func (m *memory) List(ctx context.Context, name string) ([]store.Entry, error) {
	if entry, err := m.Stat(ctx, name); err != nil || entry.Kind != store.KindFolder {
		return nil, store.Errorf(store.ErrNotFound, "there is no folder")
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	found := []store.Entry{{Name: ".", Kind: store.KindFolder}, {Name: "..", Kind: store.KindFolder}}
	for other, entry := range m.entries {
		if path.Dir(other) == name {
			entry.Name = path.Base(other)
			found = append(found, entry)
		}
	}
	return found, nil
}

func (m *memory) Open(_ context.Context, name string, offset, _ int64) (io.ReadCloser, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return io.NopCloser(strings.NewReader(m.content[name][offset:])), nil
}

func (m *memory) Create(_ context.Context, name string, content io.Reader, _ int64, modified time.Time) error {
	data, err := io.ReadAll(content)
	if err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.parent(name); err != nil {
		return err
	}
	if m.lose {
		data = bytes.ReplaceAll(data, []byte("1"), []byte("0"))
	}
	if m.clock++; modified.IsZero() {
		modified = time.Unix(m.clock, 0)
	}
	m.entries[name] = store.Entry{Kind: store.KindFile, Size: int64(len(data)), Modified: modified}
	m.content[name] = string(data)
	return nil
}

func (m *memory) Rename(_ context.Context, from, to string, replace bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.entries[from]; !ok {
		return store.Errorf(store.ErrNotFound, "there is none")
	}
	if _, taken := m.entries[to]; taken && !(replace && m.replaces) {
		return store.Errorf(store.ErrExists, "there is one")
	}
	if err := m.parent(to); err != nil {
		return err
	}
	for name, entry := range m.entries {
		if rest, below := strings.CutPrefix(name, from); below && (rest == "" || rest[0] == '/') {
			m.entries[to+rest], m.content[to+rest] = entry, m.content[name]
			delete(m.entries, name)
			delete(m.content, name)
		}
	}
	return nil
}

func (m *memory) Replaces() bool { return m.replaces }

func (m *memory) MakeFolder(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.parent(name); err != nil {
		return err
	}
	if _, taken := m.entries[name]; taken {
		return store.Errorf(store.ErrExists, "there is one")
	}
	m.entries[name] = store.Entry{Kind: store.KindFolder}
	return nil
}

// Remove takes with it what a folder holds, as some servers do.
func (m *memory) Remove(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.entries[name]; !ok {
		return store.Errorf(store.ErrNotFound, "there is none")
	}
	for other := range m.entries {
		if other == name || strings.HasPrefix(other, name+"/") {
			delete(m.entries, other)
		}
	}
	return nil
}

func (m *memory) RemoveFolder(ctx context.Context, name string) error { return m.Remove(ctx, name) }

func (m *memory) HashKinds() []store.HashKind { return m.hashes }

func (m *memory) Hash(_ context.Context, name string, kind store.HashKind) (store.Hash, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	sum := kind.New()
	io.WriteString(sum, m.content[name])
	return store.HashOf(kind, sum.Sum(nil)), nil
}

func open(m *memory) store.Store {
	rules := store.NameRules{Keeper: "the server", NoEmpty: true, NoSteps: true, NoSlashes: true, MostBytes: 255}
	traits := store.Traits{Names: &rules, TimePrecision: time.Second, KeepsTimes: true}
	if len(m.hashes) > 0 {
		traits.VerificationKind = m.hashes[0]
	}
	return fileserver.New(m, "/home", gate.New("memory", 4, 16), func() store.Traits { return traits })
}

// TestConforms holds what is made of a server to what every store promises, of those
// that replace in one step and those that do not, with hashes and without.
func TestConforms(t *testing.T) {
	for _, c := range []struct {
		name     string
		replaces bool
		hashes   []store.HashKind
	}{{"plain", false, nil}, {"replacing", true, nil}, {"hashing", true, []store.HashKind{store.SHA1, store.MD5}}} {
		t.Run(c.name, func(t *testing.T) {
			storetest.Run(t, func(t *testing.T) store.Store {
				m := newMemory()
				m.replaces, m.hashes = c.replaces, c.hashes
				return open(m)
			})
		})
	}
}

// TestDamageGetsNoName wants of bytes that did not arrive as they were sent an error,
// the old content where it was, and nothing left.
func TestDamageGetsNoName(t *testing.T) {
	for _, hashes := range [][]store.HashKind{nil, {store.MD5}} {
		m := newMemory()
		m.hashes = hashes
		s := open(m)
		write := func(content string) error {
			_, err := s.Write(t.Context(), store.Writing{Place: store.At("a"), Size: int64(len(content)), If: store.Any, Run: "r",
				Content: storetest.Text(content)})
			return err
		}
		if err := write("old"); err != nil {
			t.Fatal(err)
		}
		m.lose = true
		if err := write("01010101"); !errors.Is(err, store.ErrTryAgain) {
			t.Errorf("damaged on the way: %v", err)
		}
		if m.content["/home/a"] != "old" || len(m.entries) != 2 {
			t.Errorf("it holds %q, and there are %d entries", m.content["/home/a"], len(m.entries))
		}
	}
}

// TestChangedWhileRead gives no content that is of two versions.
func TestChangedWhileRead(t *testing.T) {
	m := newMemory()
	s := open(m)
	if _, err := s.Write(t.Context(), store.Writing{Place: store.At("a"), Size: 4, Run: "r", Content: storetest.Text("1234")}); err != nil {
		t.Fatal(err)
	}
	body, err := s.Open(t.Context(), store.Reading{Place: store.At("a")})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	m.mu.Lock()
	m.entries["/home/a"] = store.Entry{Kind: store.KindFile, Size: 9, Modified: time.Unix(99, 0)}
	m.mu.Unlock()
	if data, err := io.ReadAll(body); !errors.Is(err, store.ErrChanged) {
		t.Errorf("read %q, %v", data, err)
	}
}
