package declared

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"deftheron/core/store"
)

// The ids of folders are remembered for a while, and so many of them.
const (
	idTime   = 30 * time.Second
	idsAtAll = 20_000
)

// ids remembers the ids of folders by their path below the account's start.
type ids struct {
	mu     sync.Mutex
	byPath map[store.Path]knownID
}

type knownID struct {
	id    string
	until time.Time
	at    time.Time // when it was found
}

// freshTime is how long a way is believed though something is not at its end: longer ago,
// a folder may have been moved, and another taken its place.
const freshTime = 10 * time.Second

// errAbsent says of an ErrNotFound that the folder is there, and the entry is not in it.
var errAbsent = errors.New("")

// isFresh reports whether a folder was found a moment ago.
func (i *ids) isFresh(path store.Path, now time.Time) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	known, ok := i.byPath[path]
	return ok && now.Sub(known.at) < freshTime
}

func (i *ids) get(path store.Path, now time.Time) (string, bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	known, ok := i.byPath[path]
	return known.id, ok && now.Before(known.until)
}

func (i *ids) set(path store.Path, id string, now time.Time) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.byPath == nil || len(i.byPath) >= idsAtAll {
		i.byPath = map[store.Path]knownID{}
	}
	i.byPath[path] = knownID{id, now.Add(idTime), now}
}

// forget forgets a folder and all below it, and reports whether anything of
// that was known.
func (i *ids) forget(path store.Path) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	found := false
	for known := range i.byPath {
		if strings.HasPrefix(string(known), string(path)) || strings.HasPrefix(string(path), string(known)) {
			delete(i.byPath, known)
			found = true
		}
	}
	return found
}

// folderID is the id of a folder; empty where entries are addressed by path and
// it is not known. ErrNotFound where there is no such folder.
func (a *account) folderID(ctx context.Context, folder store.Folder) (string, error) {
	if folder.ID != "" {
		return folder.ID, nil
	}
	if a.definition.Addressed != "id" {
		return "", nil
	}
	return a.idOfPath(ctx, folder.Path)
}

// idOfPath walks to a folder by its names.
func (a *account) idOfPath(ctx context.Context, path store.Path) (string, error) {
	if id, ok := a.ids.get(path, a.opening.Now()); ok {
		return id, nil
	}
	if path == "" {
		return a.startID(ctx)
	}
	parent, name := path.Split()
	parentID, err := a.idOfPath(ctx, parent)
	if err != nil {
		return "", err
	}
	found, err := a.named(ctx, store.Folder{Path: parent, ID: parentID}, name)
	if err != nil {
		return "", err
	}
	for _, one := range found {
		if one.Kind == store.KindFolder {
			a.ids.set(path, one.ID, a.opening.Now())
			return one.ID, nil
		}
	}
	return "", store.Errorf(store.ErrNotFound, "there is no folder /%s", strings.TrimSuffix(string(path), "/"))
}

// startID walks from the area's root to the account's start.
func (a *account) startID(ctx context.Context) (string, error) {
	id := a.root
	above := *a
	above.start, above.ids = "", &ids{}
	path := store.Path("")
	for _, name := range a.start.Names() {
		found, err := above.named(ctx, store.Folder{Path: path, ID: id}, name)
		if err != nil {
			return "", err
		}
		id = ""
		for _, one := range found {
			if one.Kind == store.KindFolder {
				id = one.ID
				break
			}
		}
		if id == "" {
			return "", store.Errorf(store.ErrNotFound, "there is no folder %q", name)
		}
		path = path.Child(name)
	}
	a.ids.set("", id, a.opening.Now())
	return id, nil
}

// again calls do, and once more if it found nothing by remembered ids of folders.
func (a *account) again(folder store.Folder, do func() error) error {
	err := do()
	if errors.Is(err, errAbsent) && a.ids.isFresh(folder.Path, a.opening.Now()) {
		return err
	}
	if store.KindOf(err) == store.ErrNotFound && folder.ID == "" && a.definition.Addressed == "id" && a.ids.forget(folder.Path) {
		err = do()
	}
	return err
}
