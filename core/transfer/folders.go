package transfer

import (
	"context"
	"sync"

	"deftheron/core/store"
)

// mostFolders bounds the cache of existing folders. When it is full it is emptied, and
// the folders are looked up again as they are needed.
const mostFolders = 20_000

// folderCache makes the folders of a target once each.
type folderCache struct {
	mu    sync.Mutex
	known map[folderID]*folderMade
}

type folderID struct {
	store store.Store
	path  store.Path
}

type folderMade struct {
	once sync.Once
	err  error
}

// ensure makes a folder and those that it is in, unless they are implied.
func (c *folderCache) ensure(ctx context.Context, target Side, path store.Path) error {
	if path == "" || target.Store.Traits().Folders == store.FoldersImplied {
		return nil
	}
	return c.once(target, path, func() error {
		parent, _ := path.Split()
		if err := c.ensure(ctx, target, parent); err != nil {
			return err
		}
		_, err := target.Store.MakeFolder(ctx, path.Ref())
		return err
	})
}

// makeOnce creates a folder whose parent exists, unless that was done before: if two
// requests create a folder at the same time, some servers refuse the second.
func (c *folderCache) makeOnce(ctx context.Context, target Side, place store.Ref) error {
	return c.once(target, place.AsFolder().Path, func() error {
		_, err := target.Store.MakeFolder(ctx, place)
		return err
	})
}

// once makes a folder by do, and what comes for it meanwhile waits; unless it is known to
// be there.
func (c *folderCache) once(target Side, path store.Path, do func() error) error {
	id := folderID{target.Store, path}
	c.mu.Lock()
	if c.known == nil || len(c.known) >= mostFolders {
		c.known = map[folderID]*folderMade{}
	}
	made := c.known[id]
	if made == nil {
		made = &folderMade{}
		c.known[id] = made
	}
	c.mu.Unlock()
	made.once.Do(func() { made.err = do() })
	if made.err != nil {
		c.drop(id, made)
	}
	return made.err
}

func (c *folderCache) drop(id folderID, made *folderMade) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known[id] == made {
		delete(c.known, id)
	}
}

// forget is called when a folder that was there is not.
func (c *folderCache) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known = nil
}
