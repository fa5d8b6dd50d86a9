package folder

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// Restrict implements store.Restrictable: only folders below the allowed ones can be
// linked, or, if there are none, any but the system's own. Private paths and everything
// in them do not exist for accounts: they can be neither linked nor listed, read or
// written, by any path.
func (p Provider) Restrict(allowed, private []string) store.Provider {
	return Provider{allowed: allowed, guard: &guard{paths: private}}
}

// ofSystem are folders that hold the system and not people's files, with all that is in
// them, but for those in notOfSystem.
var (
	ofSystem    = []string{"/proc", "/sys", "/dev", "/etc", "/boot", "/run"}
	notOfSystem = []string{"/dev/shm", "/run/media"}
)

// checkLinked refuses what may not become an account. real is a path without links.
func (p Provider) checkLinked(real string) error {
	if p.guard == nil {
		return nil
	}
	within := func(folders []string) bool {
		for _, one := range folders {
			if resolved, err := filepath.EvalSymlinks(one); err == nil {
				one = resolved
			}
			if one = filepath.Clean(one); real == one || strings.HasPrefix(real, strings.TrimSuffix(one, "/")+"/") {
				return true
			}
		}
		return false
	}
	reason := ""
	switch {
	case len(p.allowed) > 0 && !within(p.allowed):
		reason = fmt.Sprintf("%s is not below a folder that may be used on this machine: %s; choose one there, or have the program "+
			"there started with other folders", real, strings.Join(p.allowed, ", "))
	case len(p.allowed) == 0 && real == "/":
		reason = "/ is the whole disk, with all that belongs to the system; give the folder that holds the files"
	case len(p.allowed) == 0 && within(ofSystem) && !within(notOfSystem):
		reason = real + " belongs to the system; give a folder of files"
	}
	for dir := real; reason == ""; dir = filepath.Dir(dir) {
		var stat unix.Statx_t
		if err := unix.Statx(unix.AT_FDCWD, dir, 0, unix.STATX_INO, &stat); err == nil && p.guard.hides(&stat) {
			reason = real + " is the service's own data, or lies in it; give another folder"
		}
		if dir == "/" || dir == "." {
			break
		}
	}
	if reason == "" {
		return nil
	}
	return &store.OptionError{Option: "path", Reason: reason}
}

// guard knows by their inodes what no account may see: a path can be led around by a
// link or a bind mount.
type guard struct {
	paths []string

	mu sync.Mutex
	// known says where each private inode was found.
	known map[inode]string
	at    time.Time
}

type inode struct {
	major, minor uint32
	number       uint64
}

// knownFor is for how long the inodes are believed: new ones come with new scratch
// files and journals.
const knownFor = time.Second

// hides reports whether a file or folder is private.
func (g *guard) hides(stat *unix.Statx_t) bool {
	if g == nil {
		return false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.known == nil || time.Since(g.at) > knownFor {
		g.look()
	}
	found := inode{stat.Dev_major, stat.Dev_minor, stat.Ino}
	path, known := g.known[found]
	if known && !found.isAt(path) {
		// What was private is gone, and a file of the account can have been given its
		// number since: a scratch file frees one every few moments.
		g.look()
		_, known = g.known[found]
	}
	return known
}

// isAt reports whether a path leads to the inode now.
func (i inode) isAt(path string) bool {
	var stat unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_INO, &stat)
	return err == nil && i == inode{stat.Dev_major, stat.Dev_minor, stat.Ino}
}

// look finds the inodes of all that is private. g.mu is held.
func (g *guard) look() {
	g.known, g.at = map[inode]string{}, time.Now()
	for _, path := range g.paths {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
		}
		_ = filepath.WalkDir(path, func(path string, _ fs.DirEntry, err error) error {
			var stat unix.Statx_t
			if err == nil && unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_INO, &stat) == nil {
				g.known[inode{stat.Dev_major, stat.Dev_minor, stat.Ino}] = path
			}
			return nil
		})
	}
}

// checkFile returns fs.ErrNotExist where an open file or folder is private.
func (g *guard) checkFile(file *os.File) error {
	if g == nil {
		return nil
	}
	var stat unix.Statx_t
	if err := unix.Statx(int(file.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_INO, &stat); err != nil {
		return err
	}
	if g.hides(&stat) {
		return fs.ErrNotExist
	}
	return nil
}

// openDir opens a folder below the account's start.
func (a *account) openDir(local string) (*os.File, error) {
	dir, err := a.root.Open(local)
	if err != nil {
		return nil, err
	}
	if err := a.guard.checkFile(dir); err != nil {
		dir.Close()
		return nil, err
	}
	return dir, nil
}
