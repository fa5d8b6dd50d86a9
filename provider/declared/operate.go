package declared

import (
	"context"
	"slices"
	"sync"

	"deftheron/core/store"
)

// making lets one folder be made by one at a time: two lanes that need the same
// one would else make two, where a service lets two have one name.
type making struct {
	mu    sync.Mutex
	turns map[store.Path]chan struct{}
}

// turn waits until no other goroutine creates the folder.
func (m *making) turn(ctx context.Context, path store.Path) (func(), error) {
	for {
		m.mu.Lock()
		busy := m.turns[path]
		if busy == nil {
			if m.turns == nil {
				m.turns = map[store.Path]chan struct{}{}
			}
			mine := make(chan struct{})
			m.turns[path] = mine
			m.mu.Unlock()
			return func() {
				m.mu.Lock()
				delete(m.turns, path)
				m.mu.Unlock()
				close(mine)
			}, nil
		}
		m.mu.Unlock()
		select {
		case <-busy:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// MakeFolder implements store.Store.
func (a *account) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	if place.IsStart() {
		return a.Stat(ctx, place)
	}
	if a.definition.Folder == nil {
		return store.Entry{}, store.Errorf(store.ErrUnsupported, "the provider %s has no way to make folders", a.definition.Name)
	}
	if err := a.check(place); err != nil {
		return store.Entry{}, err
	}
	done, err := a.making.turn(ctx, place.AsFolder().Path)
	if err != nil {
		return store.Entry{}, err
	}
	defer done()
	var one found
	err = a.again(place.Folder, func() (err error) {
		one, err = a.makeFolder(ctx, place)
		return err
	})
	return one.Entry, err
}

// folderThere is the folder of a name, if there is one. ErrExists where
// something else has the name.
func (a *account) folderThere(ctx context.Context, place store.Ref) (found, error) {
	all, err := a.candidates(ctx, place)
	if err != nil {
		return found{}, err
	}
	for _, one := range all {
		if one.Kind == store.KindFolder {
			return one, nil
		}
	}
	if len(all) > 0 && !a.definition.Names.Beside {
		return found{}, store.Errorf(store.ErrExists, "%s is a file", place)
	}
	return found{}, store.Errorf(store.ErrNotFound, "there is no %s", place)
}

// candidates are all entries of a place's name.
func (a *account) candidates(ctx context.Context, place store.Ref) ([]found, error) {
	if a.definition.Addressed == "id" || a.definition.Look == nil {
		return a.named(ctx, place.Folder, place.Name)
	}
	one, err := a.look(ctx, place.As(""))
	if store.KindOf(err) == store.ErrNotFound {
		return nil, nil
	}
	return []found{one}, err
}

func (a *account) makeFolder(ctx context.Context, place store.Ref) (found, error) {
	if a.definition.Names.Twins {
		one, err := a.folderThere(ctx, place)
		if store.KindOf(err) != store.ErrNotFound {
			return one, err
		}
	}
	parentID, err := a.folderID(ctx, place.Folder)
	if err != nil {
		return found{}, err
	}
	in := a.placed(a.fixed(), place.Folder, parentID, place.Name)
	got, err := a.do(ctx, "making a folder", a.definition.Folder, in, doing{changes: true})
	switch kind := store.KindOf(err); {
	case kind == store.ErrExists || kind == store.ErrOutcomeUnknown:
		one, there := a.folderThere(ctx, place)
		if store.KindOf(there) == store.ErrNotFound {
			return found{}, err
		}
		return one, there
	case err != nil:
		return found{}, err
	}
	var one found
	if got.body != nil {
		if one, err = a.entryOf(ctx, "making a folder", got, in); err != nil {
			return found{}, err
		}
	} else if one, err = a.folderThere(ctx, place); err != nil {
		return found{}, err
	}
	if err := a.sameAsAsked(&one, place.Name, "making a folder"); err != nil {
		return found{}, err
	}
	if err := a.withdraw(ctx, place, one, nil); err != nil {
		if store.KindOf(err) == store.ErrExists {
			return a.folderThere(ctx, place)
		}
		return found{}, err
	}
	return one, nil
}

// Move is store.Capabilities.Move.
func (a *account) Move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	one, err := a.relocate(ctx, "moving", a.definition.Move, from, revision, to)
	if err == nil {
		a.ids.forget(to.AsFolder().Path) // from is forgotten already
	}
	return one.Entry, err
}

// Copy is store.Capabilities.Copy.
func (a *account) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, _ string) (store.Entry, error) {
	one, err := a.relocate(ctx, "copying", a.definition.Copy, from, revision, to)
	return one.Entry, err
}

// relocate moves or copies an entry to where nothing is.
func (a *account) relocate(ctx context.Context, operation string, op *Operation, from store.Ref, revision string,
	to store.Ref) (found, error) {
	if op == nil {
		return found{}, store.Errorf(store.ErrUnsupported, "the provider %s has no way of %s", a.definition.Name, operation)
	}
	if err := a.check(to); err != nil {
		return found{}, err
	}
	if from.Kind == "" {
		from = from.As(store.KindFile)
	}
	one, err := a.look(ctx, from)
	if err != nil {
		return found{}, err
	}
	if revision != "" && one.Revision != revision {
		return found{}, store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", from, one.Revision, revision)
	}
	there, err := a.candidates(ctx, to)
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return found{}, err
	}
	// An entry may take another form of its own name, where letter case does
	// not count.
	there = slices.DeleteFunc(there, func(other found) bool {
		return other.ID != "" && other.ID == one.ID || a.definition.Names.Beside &&
			(other.Kind == store.KindFolder) != (one.Kind == store.KindFolder)
	})
	if len(there) > 0 {
		return found{}, store.Errorf(store.ErrExists, "%s already exists", to)
	}
	return a.relocateTo(ctx, operation, op, from, one, to)
}

// move moves an entry that was looked at.
func (a *account) move(ctx context.Context, from store.Ref, one found, to store.Ref) (found, error) {
	if a.definition.Move == nil {
		return found{}, store.Errorf(store.ErrUnsupported, "the provider %s has no way of moving", a.definition.Name)
	}
	return a.relocateTo(ctx, "moving", a.definition.Move, from, one, to)
}

func (a *account) relocateTo(ctx context.Context, operation string, op *Operation, from store.Ref, one found, to store.Ref) (found, error) {
	in, err := a.subject(ctx, from, one)
	if err != nil {
		return found{}, err
	}
	toID, err := a.folderID(ctx, to.Folder)
	if err != nil {
		return found{}, err
	}
	if toID == "" || a.definition.Addressed == "path" {
		if err := a.folderExists(ctx, to.Folder); err != nil {
			return found{}, err
		}
	}
	target := a.placed(scope{}, to.Folder, toID, to.Name)
	in["to"] = map[string]any(target)
	in["renames"], in["moves"] = from.Name != to.Name, from.Folder.Path != to.Folder.Path
	in["kept"] = map[string]any{}
	got, err := a.do(ctx, operation, op, in, doing{changes: true})
	if err != nil {
		return found{}, err
	}
	if operation == "moving" {
		a.ids.forget(from.AsFolder().Path)
	}
	if got.body == nil {
		return a.look(ctx, to.As(one.Kind))
	}
	moved, err := a.entryOf(ctx, operation, got, in)
	if err != nil {
		return found{}, store.Errorf(store.ErrOutcomeUnknown, "%s was accepted, and its answer cannot be read: %w", operation, err)
	}
	return moved, a.sameAsAsked(&moved, to.Name, operation)
}

// folderExists is ErrNotFound where a folder is not there.
func (a *account) folderExists(ctx context.Context, folder store.Folder) error {
	if folder.Path == "" {
		return nil
	}
	_, err := a.look(ctx, folder.Path.Ref())
	return err
}

// Remove implements store.Store.
func (a *account) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	if a.definition.Remove == nil {
		return "", store.Errorf(store.ErrUnsupported, "the provider %s has no way to remove anything", a.definition.Name)
	}
	one, err := a.look(ctx, place.As(store.KindFile))
	if err != nil {
		return "", err
	}
	if revision != "" && one.Revision != revision {
		return "", store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", place, one.Revision, revision)
	}
	return a.removal(), a.removeFound(ctx, place, one)
}

// RemoveFolder implements store.Store. If the service removes a folder with everything
// in it, RemoveFolder checks just before that it is empty.
func (a *account) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	d := a.definition.Remove
	if d == nil {
		return "", store.Errorf(store.ErrUnsupported, "the provider %s has no way to remove anything", a.definition.Name)
	}
	if place.IsStart() {
		return "", store.Errorf(store.ErrRefused, "the start of an account cannot be removed")
	}
	one, err := a.look(ctx, place.As(store.KindFolder))
	if err != nil {
		return "", err
	}
	if !d.EmptyOnly {
		folder := place.AsFolder()
		folder.ID = one.ID
		for child, err := range a.children(ctx, folder) {
			if err != nil {
				return "", err
			}
			return "", store.Errorf(store.ErrRefused, "the folder %s is not empty: it holds %q", place, child.Name)
		}
	}
	if err := a.removeFound(ctx, place, one); err != nil {
		return "", err
	}
	a.ids.forget(place.AsFolder().Path)
	return a.removal(), nil
}

// removal returns what becomes of removed entries.
func (a *account) removal() store.Removal {
	if a.definition.Remove.Trash {
		return store.RemovedToTrash
	}
	return store.RemovedFinally
}

// removeFound removes an entry that was looked at.
func (a *account) removeFound(ctx context.Context, place store.Ref, one found) error {
	d := a.definition.Remove
	if d == nil {
		return store.Errorf(store.ErrUnsupported, "the provider %s has no way to remove anything", a.definition.Name)
	}
	in, err := a.subject(ctx, place, one)
	if err != nil {
		return err
	}
	if d.Batch != nil {
		return a.batches.remove(ctx, a, in)
	}
	_, err = a.do(ctx, "removing", &d.Operation, in, doing{changes: true})
	if store.KindOf(err) == store.ErrOutcomeUnknown {
		if _, gone := a.look(ctx, place); store.KindOf(gone) == store.ErrNotFound {
			return nil
		}
	}
	return err
}
