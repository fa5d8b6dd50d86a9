package storetest

import (
	"context"
	"io"
	"iter"
	"reflect"
	"time"

	"deftheron/core/listing"
	"deftheron/core/store"
)

// Able is a Memory that claims every capability there is.
type Able struct{ *Memory }

// NewAble returns one.
func NewAble() Able {
	m := NewMemory()
	m.PartsAbove, m.PartSize = 1<<40, 1<<20
	return Able{m}
}

// Capabilities implements store.Store.
func (a Able) Capabilities() store.Capabilities {
	none := func() error { return store.Errorf(store.ErrUnsupported, "it only claims to") }
	move := func(context.Context, store.Ref, string, store.Ref) (store.Entry, error) { return store.Entry{}, none() }
	changes := func(context.Context, store.Folder, string) (store.ChangePage, error) {
		return store.ChangePage{}, none()
	}
	return store.Capabilities{
		ListFlat: func(ctx context.Context, folder store.Folder) iter.Seq2[store.Listed, error] {
			return listing.Flat(ctx, a.Memory, folder)
		},
		Move: move,
		Copy: func(ctx context.Context, from store.Ref, revision string, to store.Ref, _ string) (store.Entry, error) {
			return move(ctx, from, revision, to)
		},
		Keeps: func(store.Writing) bool { return false },
		Origin: func(_ context.Context, ref store.Ref, revision string) (store.Origin, error) {
			return store.Origin{File: ref, Revision: revision}, nil
		},
		Kept:  func(store.Ref, store.Ref, string) {},
		Parts: a.Memory, Checksums: claims{}, Exports: claims{}, Changes: changes,
		AwaitChanges: func(ctx context.Context, folder store.Folder, cursor string, _ time.Duration) (store.ChangePage, error) {
			return changes(ctx, folder, cursor)
		},
		Clean: a.Clean, Prepare: func(context.Context) error { return nil }, Sync: func(context.Context) error { return nil },
		Check: func(context.Context) error { return nil }, Space: func(context.Context) (store.Space, error) { return store.UnknownSpace, nil },
		Owner: func(context.Context) (string, error) { return "", nil }, Locate: func(store.Folder) string { return "" },
		Areas: func(context.Context) ([]string, error) { return nil, nil }, Pinned: func() map[string]string { return nil },
		Close: func() error { return nil }, Sealing: claims{}, Sharing: claims{}, Locker: claims{},
		Versions: memoryVersions{a.Memory},
		Lock:     func(context.Context, store.Ref, time.Time) (bool, error) { return false, nil },
	}
}

type claims struct{}

func (claims) SumKinds() []store.HashKind { return []store.HashKind{store.MD5} }

func (claims) Sum(context.Context, store.Ref, string, store.HashKind) (store.Hash, error) {
	return store.Hash{}, store.Errorf(store.ErrUnsupported, "it only claims to")
}

func (claims) DocumentKinds() []store.DocumentKind { return []store.DocumentKind{{Kind: "letter"}} }

func (claims) Export(context.Context, store.Ref, string, string) (io.ReadCloser, error) {
	return nil, store.Errorf(store.ErrUnsupported, "it only claims to")
}

func (claims) Recipients() []string                           { return nil }
func (claims) SetRecipients(context.Context, []string) error  { return nil }
func (claims) NeedsReseal() bool                              { return false }
func (claims) Rebuild(context.Context) (store.Rebuilt, error) { return store.Rebuilt{}, nil }
func (claims) Reseal(context.Context, bool, func(store.Resealed)) (store.Resealed, error) {
	return store.Resealed{}, nil
}

func (claims) ShareList(context.Context, store.Ref) (store.ShareList, error) {
	return store.ShareList{}, store.Errorf(store.ErrUnsupported, "it only claims to")
}
func (claims) Share(context.Context, store.Ref, store.SharedWith) error { return nil }
func (claims) SetOwner(context.Context, store.Ref, string) error        { return nil }
func (claims) KnowsPerson(context.Context, string) (bool, error)        { return false, nil }
func (claims) ShareLevels() []store.ShareLevel                          { return nil }

func (claims) LockEntry(context.Context, store.Ref, string, time.Duration, string) (store.HeldLock, error) {
	return store.HeldLock{}, nil
}
func (claims) UnlockEntry(context.Context, store.Ref, string) error { return nil }

// Wrapped holds a decorator to what it is to withhold: each capability of the store
// beneath that is not named has to be there, those named must not. A capability that is
// new is one that the decorator has not decided about, and fails.
func Wrapped(t T, wrap func(store.Store) store.Store, withheld ...string) {
	t.Helper()
	beneath := NewAble()
	all, got := reflect.ValueOf(beneath.Capabilities()), reflect.ValueOf(wrap(beneath).Capabilities())
	withholds := map[string]bool{}
	for _, name := range withheld {
		withholds[name] = true
		if !all.FieldByName(name).IsValid() {
			t.Errorf("there is no capability called %s", name)
		}
	}
	for i := range all.NumField() {
		name := all.Type().Field(i).Name
		switch {
		case all.Field(i).IsZero():
			t.Errorf("the store of the test does not claim %s", name)
		case got.Field(i).IsZero() != withholds[name]:
			t.Errorf("%s: withheld is %v, want %v", name, got.Field(i).IsZero(), withholds[name])
		}
	}
	none := reflect.ValueOf(wrap(bare{NewMemory()}).Capabilities())
	for i := range none.NumField() {
		if !none.Field(i).IsZero() {
			t.Errorf("%s is there, and the store beneath has none", none.Type().Field(i).Name)
		}
	}
}

// bare is a Memory without any capability.
type bare struct{ *Memory }

// Capabilities implements store.Store.
func (bare) Capabilities() store.Capabilities { return store.Capabilities{} }

// Traits implements store.Store. With twins, a view of files is one.
func (b bare) Traits() store.Traits {
	traits := b.Memory.Traits()
	traits.Twins = true
	return traits
}

// Traits implements store.Store.
func (a Able) Traits() store.Traits {
	traits := a.Memory.Traits()
	traits.Twins = true
	return traits
}
