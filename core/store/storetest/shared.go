package storetest

import (
	"context"
	"iter"
	"slices"
	"strings"
	"sync"

	"deftheron/core/store"
)

// Shared is a Memory with share lists.
type Shared struct {
	*Memory
	// Owner is whom the account, and everything without an owner of its own, belongs to.
	Owner string
	// People are those whom the provider knows; MayOwn those of them who may own entries.
	People, MayOwn []string
	Levels         []store.ShareLevel
	// Fail, where it is not nil, is called before each request, and fails it.
	Fail func() error

	mu       sync.Mutex
	lists    map[string]store.ShareList
	Changing int // how many requests have changed a share list
}

// SetList sets the share list of an entry, by its path as in "/a/b".
func (s *Shared) SetList(path string, list store.ShareList) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lists == nil {
		s.lists = map[string]store.ShareList{}
	}
	s.lists[path] = list
}

// Listed returns a copy of the share list of an entry, by its path.
func (s *Shared) Listed(path string) store.ShareList {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := s.lists[path]
	list.People = slices.Clone(list.People)
	return list
}

func (s *Shared) marked(entry store.Entry, path string) store.Entry {
	list := s.Listed(path)
	entry.HasShares = list.Owner != "" || len(list.People)+list.Links > 0
	return entry
}

// Stat implements store.Store.
func (s *Shared) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	entry, err := s.Memory.Stat(ctx, ref)
	return s.marked(entry, ref.String()), err
}

// List implements store.Store.
func (s *Shared) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		for entry, err := range s.Memory.List(ctx, folder) {
			if !yield(s.marked(entry, folder.Ref(entry.Name).String()), err) {
				return
			}
		}
	}
}

// Capabilities implements store.Store.
func (s *Shared) Capabilities() store.Capabilities {
	c := s.Memory.Capabilities()
	c.ListFlat = nil // it does not say what is shared
	c.Sharing = s
	c.Owner = func(context.Context) (string, error) { return s.Owner, nil }
	return c
}

func (s *Shared) failed() error {
	if s.Fail == nil {
		return nil
	}
	return s.Fail()
}

// ShareList implements store.Sharing.
func (s *Shared) ShareList(ctx context.Context, ref store.Ref) (store.ShareList, error) {
	if err := s.failed(); err != nil {
		return store.ShareList{}, err
	}
	if _, err := s.Memory.Stat(ctx, ref); err != nil {
		return store.ShareList{}, err
	}
	list := s.Listed(ref.String())
	if list.Owner == "" {
		list.Owner = s.Owner
	}
	return list, nil
}

// Share implements store.Sharing.
func (s *Shared) Share(ctx context.Context, ref store.Ref, with store.SharedWith) error {
	if err := s.failed(); err != nil {
		return err
	}
	if _, err := s.Memory.Stat(ctx, ref); err != nil {
		return err
	}
	if !slices.Contains(s.People, with.Person) || !slices.Contains(s.Levels, with.Level) {
		return store.Errorf(store.ErrRefused, "nobody, or no level")
	}
	list := s.Listed(ref.String())
	rank := func(level store.ShareLevel) int { return slices.Index(store.ShareLevels, level) }
	i := slices.IndexFunc(list.People, func(one store.SharedWith) bool { return one.Person == with.Person })
	switch {
	case i < 0:
		list.People = append(list.People, with)
	case rank(list.People[i].Level) < rank(with.Level):
		list.People[i].Level = with.Level
	}
	s.SetList(ref.String(), list)
	s.Changing++
	return nil
}

// SetOwner implements store.Sharing.
func (s *Shared) SetOwner(_ context.Context, ref store.Ref, person string) error {
	if err := s.failed(); err != nil {
		return err
	}
	if !slices.Contains(s.MayOwn, person) {
		return store.Errorf(store.ErrRefused, "%s cannot own anything", person)
	}
	list := s.Listed(ref.String())
	list.Owner = person
	s.SetList(ref.String(), list)
	s.Changing++
	return nil
}

// KnowsPerson implements store.Sharing.
func (s *Shared) KnowsPerson(_ context.Context, person string) (bool, error) {
	return slices.Contains(s.People, strings.ToLower(person)), s.failed()
}

// ShareLevels implements store.Sharing.
func (s *Shared) ShareLevels() []store.ShareLevel { return s.Levels }
