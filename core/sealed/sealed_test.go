package sealed_test

import (
	"context"
	"sync"
	"testing"

	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// newKeys returns new keys and the identity file that they are made of.
func newKeys(t testing.TB) (keys sealed.Keys, identity string) {
	t.Helper()
	identity, _, err := sealed.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	if keys, err = sealed.ParseKeys(identity); err != nil {
		t.Fatal(err)
	}
	return keys, identity
}

var vault = store.MakePath("archive", "vault")

// create makes a sealed place in a base and opens it.
func create(t testing.TB, base store.Store) (*sealed.Place, sealed.Keys) {
	t.Helper()
	keys, _ := newKeys(t)
	if err := sealed.Create(t.Context(), base, vault, keys, nil); err != nil {
		t.Fatal(err)
	}
	return open(t, base, keys), keys
}

// open opens a sealed place, as another process would.
func open(t testing.TB, base store.Store, keys sealed.Keys) *sealed.Place {
	t.Helper()
	place, err := sealed.Open(t.Context(), sealed.Options{Base: base, Folder: vault, Keys: keys, Heads: &heads{}})
	if err != nil {
		t.Fatal(err)
	}
	return place
}

// heads remembers what a service keeps in its records.
type heads struct {
	mu    sync.Mutex
	known map[string]sealed.Head
}

func (h *heads) Head(_ context.Context, folder string) (sealed.Head, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.known[folder], nil
}

func (h *heads) SaveHead(_ context.Context, folder string, head sealed.Head) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.known == nil {
		h.known = map[string]sealed.Head{}
	}
	if h.known[folder] = head; head.Number == 0 {
		delete(h.known, folder)
	}
	return nil
}

// TestConforms has a sealed place keep what package store promises, on bases of several
// habits.
func TestConforms(t *testing.T) {
	for name, base := range map[string]func() store.Store{
		"memory": func() store.Store { return storetest.NewMemory() },
		"parts": func() store.Store {
			m := storetest.NewMemory()
			m.PartsAbove, m.PartSize = 1<<20, 1<<20
			return m
		},
		"copies": func() store.Store {
			return &storetest.Account{Memory: storetest.NewMemory(), Copies: true, Moves: true}
		},
		"unsorted without hashes": func() store.Store {
			m := storetest.NewMemory()
			m.Unsorted, m.NoHashes = true, true
			return m
		},
		"names folded and refused": func() store.Store { return &storetest.Account{Memory: storetest.NewMemory(), Fold: true} },
	} {
		t.Run(name, func(t *testing.T) {
			storetest.Run(t, func(t *testing.T) store.Store {
				place, _ := create(t, base())
				return place
			})
		})
	}
}
