package storetest_test

import (
	"context"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/view"
)

func TestMemoryConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store {
		m := storetest.NewMemory()
		m.PartsAbove, m.PartSize = 64<<20, 1<<20
		return m
	})
}

func TestFaultyWithoutFaultsConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { return storetest.NewFaulty(storetest.NewMemory()) })
}

func TestVersionedMemoryConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store {
		m := storetest.NewMemory()
		m.Versioned = true
		return m
	})
}

func TestUnsortedMemoryConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store {
		m := storetest.NewMemory()
		m.Unsorted, m.NoHashes = true, true
		return m
	})
}

// TestDecorators holds every decorator to the capabilities that it withholds.
func TestDecorators(t *testing.T) {
	for name, c := range map[string]struct {
		wrap     func(store.Store) store.Store
		withheld []string
	}{
		"read-only": {func(s store.Store) store.Store { return view.ReadOnly(s, "desk") },
			[]string{"Move", "Copy", "Keeps", "Parts", "Clean", "Prepare", "Sync", "Sealing", "Lock", "Locker"}},
		"watched":  {func(s store.Store) store.Store { return view.Watched(s, unwatched{}) }, nil},
		"as files": {func(s store.Store) store.Store { return view.Exports(s, nil) }, []string{"ListFlat", "Exports", "Versions"}},
		"faulty":   {func(s store.Store) store.Store { return storetest.NewFaulty(s) }, nil},
	} {
		t.Run(name, func(t *testing.T) { storetest.Wrapped(t, c.wrap, c.withheld...) })
	}
}

// TestConformsWithTraits has the suite pass on accounts with habits of their own, and
// through the decorators.
func TestConformsWithTraits(t *testing.T) {
	beside := func() *storetest.Memory {
		m := storetest.NewMemory()
		m.SetTraits(func(traits *store.Traits) { traits.FileBesideFolder = true })
		return m
	}
	for name, open := range map[string]func() store.Store{
		"keeping":  func() store.Store { m := beside(); m.Keeping = true; return &storetest.Account{Memory: m, Moves: true} },
		"one name": func() store.Store { return &storetest.Account{Memory: beside(), Moves: true, Copies: true} },
		"one name, faulty": func() store.Store {
			return storetest.NewFaulty(&storetest.Account{Memory: beside(), Moves: true, Copies: true})
		},
		"as files": func() store.Store { return view.Exports(twinned{beside()}, nil) },
		"watched": func() store.Store {
			return view.Watched(&storetest.Account{Memory: beside(), Moves: true, Copies: true}, unwatched{})
		},
		"faulty and in parts": func() store.Store { m := beside(); m.PartsAbove, m.PartSize = 100, 64; return storetest.NewFaulty(m) },
	} {
		t.Run(name, func(t *testing.T) { storetest.Run(t, func(*testing.T) store.Store { return open() }) })
	}
}

// twinned is an account that may hold two entries of one name.
type twinned struct{ *storetest.Memory }

func (t twinned) Traits() store.Traits {
	traits := t.Memory.Traits()
	traits.Twins = true
	return traits
}

// unwatched lets everything pass.
type unwatched struct{}

func (unwatched) May(ctx context.Context, _ store.Ref, _ bool) (context.Context, error) {
	return ctx, nil
}
func (unwatched) Wrote(context.Context, store.Ref, store.Entry)            {}
func (unwatched) Moved(context.Context, store.Ref, store.Ref, store.Entry) {}
func (unwatched) Removed(context.Context, store.Ref)                       {}
