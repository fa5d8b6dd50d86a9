package folder

import (
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// handleFor is how long a folder stays open for the files in it. After that it does
	// not prevent an unmount any more.
	handleFor = 250 * time.Millisecond
	// mostHandles is how many folders of an account are kept open.
	mostHandles = 64
)

// handle is a folder that is kept open for the files in it.
type handle struct {
	dir    *os.File
	fd     int
	inode  uint64
	device uint64
	volume *volume // nil: in memory alone
	users  int
	gone   bool // from those kept open; closed by its last user
}

// handles are the folders of an account that are kept open, by their path.
type handles struct {
	mu   sync.Mutex
	open map[string]*handle
}

// take returns an open folder, which the caller gives back by put: one that is kept open,
// if it is still the one at its path.
func (a *account) take(local string) (*handle, error) {
	if h := a.handles.get(local); h != nil {
		var now unix.Stat_t
		if err := unix.Fstatat(a.base, local, &now, unix.AT_SYMLINK_NOFOLLOW); err == nil && now.Ino == h.inode && now.Dev == h.device {
			return h, nil
		}
		a.handles.put(local, h, true)
	}
	dir, err := a.openDir(local)
	if err != nil {
		return nil, err
	}
	h := &handle{dir: dir, fd: int(dir.Fd()), users: 1}
	var stat unix.Stat_t
	if err := unix.Fstat(h.fd, &stat); err != nil {
		dir.Close()
		return nil, err
	}
	h.inode, h.device = stat.Ino, stat.Dev
	if h.volume, err = volumeOf(h.fd); err != nil {
		dir.Close()
		return nil, err
	}
	a.handles.keep(local, h)
	return h, nil
}

func (s *handles) get(local string) *handle {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.open[local]
	if h != nil {
		h.users++
	}
	return h
}

func (s *handles) keep(local string, h *handle) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open == nil {
		s.open = map[string]*handle{}
	}
	for other := range s.open {
		if other == local || len(s.open) >= mostHandles {
			s.drop(other)
		}
	}
	s.open[local] = h
	time.AfterFunc(handleFor, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.open[local] == h {
			s.drop(local)
		}
	})
}

// put returns an open folder; failed is set if an operation in it failed, perhaps because
// the folder is gone.
func (s *handles) put(local string, h *handle, failed bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if failed && s.open[local] == h {
		s.drop(local)
	}
	if h.users--; h.users == 0 && h.gone {
		h.dir.Close()
	}
}

// dropAll keeps no folder open any longer than it is used.
func (s *handles) dropAll() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for local := range s.open {
		s.drop(local)
	}
}

// drop keeps a folder open no longer. s.mu is held.
func (s *handles) drop(local string) {
	h := s.open[local]
	delete(s.open, local)
	if h.gone = true; h.users == 0 {
		h.dir.Close()
	}
}
