package folder

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// worthAll is from how many files on that a whole file system is synced rather than each
// file: the disk is waited for once then.
const worthAll = 16

// volume is a file system, and syncs the files written to it. Files that come during a
// sync are synced together next.
type volume struct {
	mu      sync.Mutex
	waiting []syncing
	working bool
}

type syncing struct {
	file *file
	done chan error
}

// volumes are the file systems of all accounts, by their device numbers.
var volumes struct {
	sync.Mutex
	known map[uint64]*volume
}

// volumeOf is the file system that an open file or folder is on; nil where nothing on it
// outlives the machine.
func volumeOf(fd int) (*volume, error) {
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil {
		return nil, err
	}
	// Asked each time: the number of a device that is gone is given to another.
	var system unix.Statfs_t
	if unix.Fstatfs(fd, &system) == nil && system.Type == unix.TMPFS_MAGIC {
		return nil, nil
	}
	volumes.Lock()
	defer volumes.Unlock()
	if volumes.known == nil {
		volumes.known = map[uint64]*volume{}
	}
	v := volumes.known[stat.Dev]
	if v == nil {
		v = &volume{}
		volumes.known[stat.Dev] = v
	}
	return v, nil
}

// sync returns when a file is safe on the disk.
func (v *volume) sync(ctx context.Context, f *file) error {
	if v == nil {
		return nil
	}
	mine := syncing{f, make(chan error, 1)}
	v.mu.Lock()
	v.waiting = append(v.waiting, mine)
	if !v.working {
		v.working = true
		go v.work()
	}
	v.mu.Unlock()
	store.Idle(ctx)
	return <-mine.done
}

// Where several files came at once before, others are waited for: until there are together, or
// none has come for gather, or the first has waited for mostGather. One that comes alone, as of
// a program that writes file after file, is synced at once. together is half of the writes that
// may wait for the disk at once, so that one half is written while the other is synced.
const (
	several    = 4
	together   = 250
	gather     = 2 * time.Millisecond
	mostGather = 60 * time.Millisecond
)

func (v *volume) work() {
	many := false
	for {
		if many {
			v.gather()
		}
		v.mu.Lock()
		group := v.waiting
		v.waiting = nil
		v.working = len(group) > 0
		v.mu.Unlock()
		if len(group) == 0 {
			return
		}
		many = len(group) >= several
		if len(group) >= worthAll && again(func() error { return unix.Syncfs(group[0].file.fd) }) == nil {
			for _, one := range group {
				one.done <- one.file.written()
			}
			continue
		}
		// A file system that could not be synced does not say which file it was.
		for _, one := range group {
			go func() { one.done <- one.file.sync() }()
		}
	}
}

// gather waits for files that are synced together.
func (v *volume) gather() {
	before := 0
	for begun := time.Now(); time.Since(begun) < mostGather; time.Sleep(gather) {
		v.mu.Lock()
		now := len(v.waiting)
		v.mu.Unlock()
		if now >= together || now == before && time.Since(begun) >= gather {
			return
		}
		before = now
	}
}

func (a *account) touched(local string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.dirty[local] = true
}

// Sync is store.Capabilities.Sync. Contents were synced before they got their names, so
// only the names are left.
func (a *account) Sync(ctx context.Context) error {
	a.mu.Lock()
	dirty := a.dirty
	a.dirty = map[string]bool{}
	a.mu.Unlock()
	err := a.syncFolders(dirty)
	if err != nil { // they are still to be done
		for local := range dirty {
			a.touched(local)
		}
	}
	return err
}

func (a *account) syncFolders(dirty map[string]bool) error {
	synced := map[*volume]bool{}
	for local := range dirty {
		dir, err := a.root.Open(local)
		if errors.Is(err, fs.ErrNotExist) {
			continue // removed since; its parent is dirty too
		}
		if err == nil {
			err = syncFolder(dir, len(dirty) >= worthAll, synced)
			dir.Close()
		}
		if err != nil {
			return wrap("sync", local, err)
		}
	}
	return nil
}

// syncFolder syncs the names in a folder; if many folders are synced, it syncs the whole
// file system.
func syncFolder(dir *os.File, many bool, synced map[*volume]bool) error {
	v, err := volumeOf(int(dir.Fd()))
	switch {
	case err != nil:
		return err
	case v == nil || synced[v]:
		return nil
	case many && again(func() error { return unix.Syncfs(int(dir.Fd())) }) == nil:
		synced[v] = true // this one folder says whether the journal could be written
	}
	return dir.Sync()
}
