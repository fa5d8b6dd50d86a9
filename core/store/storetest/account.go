package storetest

import (
	"context"
	"io"
	"iter"
	"strings"
	"unicode"

	"deftheron/core/store"
)

// Account is a Memory with habits that real services have. The fields are set
// before its first use.
type Account struct {
	*Memory
	// Fold keeps letter case without counting it, and refuses some names.
	Fold bool
	// Moves and Copies within itself.
	Moves, Copies bool
}

// foldRules are the names that an Account holds which folds letter case.
var foldRules = store.NameRules{Keeper: "the account", Without: ":?*", NoLast: ". "}

// Traits implements store.Store.
func (a *Account) Traits() store.Traits {
	traits := a.Memory.Traits()
	if a.Fold {
		traits.CaseIgnored, traits.Order = true, store.OrderNone
		traits.Names = &foldRules
	}
	return traits
}

func fold(name string) string { return strings.Map(unicode.ToLower, name) }

// real is a place by the names that things have already.
func (a *Account) real(place store.Ref) store.Ref {
	if !a.Fold || place.IsStart() {
		return place
	}
	path := a.realPath(place.Folder.Path)
	return store.Folder{Path: path}.Ref(a.realName(path, place.Name))
}

func (a *Account) realPath(path store.Path) store.Path {
	if !a.Fold {
		return path
	}
	found := store.Path("")
	for _, name := range path.Names() {
		found = found.Child(a.realName(found, name))
	}
	return found
}

func (a *Account) realName(folder store.Path, name string) string {
	entries, err := a.children(folder)
	if err != nil {
		return name
	}
	for _, entry := range entries {
		if fold(entry.Name) == fold(name) {
			return entry.Name
		}
	}
	return name
}

// Stat implements store.Store.
func (a *Account) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	return a.Memory.Stat(ctx, a.real(place))
}

// List implements store.Store.
func (a *Account) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	folder.Path = a.realPath(folder.Path)
	return a.Memory.List(ctx, folder)
}

// Open implements store.Store.
func (a *Account) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	reading.Place = a.real(reading.Place)
	return a.Memory.Open(ctx, reading)
}

// Write implements store.Store.
func (a *Account) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	traits := a.Traits()
	if err := traits.NameError(writing.Place.Folder.Path, writing.Place.Name); err != nil {
		return store.Written{}, err
	}
	writing.Place, writing.Keep = a.real(writing.Place), a.real(writing.Keep)
	return a.Memory.Write(ctx, writing)
}

// MakeFolder implements store.Store.
func (a *Account) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	traits := a.Traits()
	if err := traits.NameError(place.Folder.Path, place.Name); err != nil {
		return store.Entry{}, err
	}
	return a.Memory.MakeFolder(ctx, a.real(place))
}

// Remove implements store.Store.
func (a *Account) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	return a.Memory.Remove(ctx, a.real(place), revision)
}

// RemoveFolder implements store.Store.
func (a *Account) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	return a.Memory.RemoveFolder(ctx, a.real(place))
}

// Capabilities implements store.Store.
func (a *Account) Capabilities() store.Capabilities {
	c := a.Memory.Capabilities()
	if a.Moves {
		c.Move = a.Move
	}
	if a.Copies {
		c.Copy = a.Copy
	}
	return c
}

// Move is store.Capabilities.Move.
func (a *Account) Move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	from, free, err := a.within(ctx, from, revision, to)
	if err != nil {
		return store.Entry{}, err
	}
	if from.Kind == store.KindFolder {
		a.renameFolder(from.AsFolder().Path, free.AsFolder().Path)
		return a.Memory.Stat(ctx, free.As(store.KindFolder))
	}
	a.mu.Lock()
	file, err := a.stillThere(from, revision, free)
	if err != nil {
		a.mu.Unlock()
		return store.Entry{}, err
	}
	delete(a.files[from.Folder.Path], from.Name)
	if a.files[free.Folder.Path] == nil {
		a.files[free.Folder.Path] = map[string]*memoryFile{}
	}
	a.files[free.Folder.Path][free.Name] = file
	a.mu.Unlock()
	return a.Memory.Stat(ctx, free.As(store.KindFile))
}

// stillThere returns a file that is to be moved or copied, as within found it: others may have come
// in between. a.mu is held.
func (a *Account) stillThere(from store.Ref, revision string, free store.Ref) (*memoryFile, error) {
	file := a.files[from.Folder.Path][from.Name]
	switch {
	case file == nil:
		return nil, store.Errorf(store.ErrNotFound, "%s is not there", from)
	case revision != "" && file.revision != revision:
		return nil, store.Errorf(store.ErrChanged, "%s changed", from)
	case a.files[free.Folder.Path][free.Name] != nil:
		return nil, store.Errorf(store.ErrExists, "%s already exists", free)
	}
	return file, nil
}

// Copy is store.Capabilities.Copy.
func (a *Account) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, _ string) (store.Entry, error) {
	from, free, err := a.within(ctx, from, revision, to)
	if err != nil {
		return store.Entry{}, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	file, err := a.stillThere(from, revision, free)
	if err != nil {
		return store.Entry{}, err
	}
	return a.put(free, file.data, file.modified), nil
}

// within holds a move or a copy against what is there.
func (a *Account) within(ctx context.Context, from store.Ref, revision string, to store.Ref) (_, _ store.Ref, err error) {
	traits := a.Traits()
	if err := traits.NameError(to.Folder.Path, to.Name); err != nil {
		return from, to, err
	}
	from, to = a.real(from), a.real(to)
	if from.Kind == "" {
		from = from.As(store.KindFile)
	}
	entry, err := a.Memory.Stat(ctx, from)
	if err != nil {
		return from, to, err
	}
	if revision != "" && entry.Revision != revision {
		return from, to, store.Errorf(store.ErrChanged, "%s changed", from)
	}
	if _, err := store.Occupant(ctx, a.Memory, to.As(entry.Kind)); err == nil {
		return from, to, store.Errorf(store.ErrExists, "%s already exists", to)
	}
	if !a.folderIsThere(to.Folder.Path) {
		return from, to, store.Errorf(store.ErrNotFound, "the folder of %s is not there", to)
	}
	return from, to, nil
}

func (a *Account) folderIsThere(path store.Path) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.folders[path]
}
