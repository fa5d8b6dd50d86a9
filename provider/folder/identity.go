package folder

import (
	"context"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// clockStep is how far apart two changes of a file may be and yet bear one time: the
// kernel stamps files by a clock that goes on with its timer interrupt, every 10
// milliseconds at the slowest, and some more.
const clockStep = 40 * time.Millisecond

const wanted = unix.STATX_BASIC_STATS | unix.STATX_BTIME

// entryAt is entryAt of what an account may see.
func (a *account) entryAt(dir *os.File, name string) (store.Entry, error) {
	stat, err := statAt(int(dir.Fd()), name)
	if err != nil {
		return store.Entry{}, err
	}
	if a.guard.hides(&stat) {
		return store.Entry{}, unix.ENOENT
	}
	return entryOf(name, &stat), nil
}

// entryAt looks up the entry with a name in a folder, and does not follow links.
func entryAt(dir int, name string) (store.Entry, error) {
	stat, err := statAt(dir, name)
	if err != nil {
		return store.Entry{}, err
	}
	return entryOf(name, &stat), nil
}

func statAt(dir int, name string) (stat unix.Statx_t, err error) {
	err = unix.Statx(dir, name, unix.AT_SYMLINK_NOFOLLOW, wanted, &stat)
	return stat, err
}

// entryOf returns an entry. Its revision is made of the inode, the size, and the times of
// the last change of the content and of the inode; programs cannot set the latter. Its
// identity is made of the inode and its birth time, because inodes are reused
// immediately.
func entryOf(name string, stat *unix.Statx_t) store.Entry {
	entry := store.Entry{Name: name, Modified: timeOf(stat.Mtime)}
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		entry.Kind = store.KindFolder
		return entry
	case unix.S_IFREG:
		entry.Kind = store.KindFile
	default:
		entry.Kind = store.KindOther
	}
	entry.Size = int64(stat.Size)
	entry.Identity = strconv.FormatUint(stat.Ino, 36) + "." + nanoseconds(stat.Btime)
	revision := strconv.FormatUint(stat.Ino, 36) + "." + strconv.FormatInt(entry.Size, 36) + "." + nanoseconds(stat.Mtime) + "." +
		nanoseconds(stat.Ctime)
	entry.Revision = store.RevisionAt(revision, entry.Modified, time.Now(), clockStep)
	return entry
}

func timeOf(t unix.StatxTimestamp) time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }

func nanoseconds(t unix.StatxTimestamp) string { return strconv.FormatInt(t.Sec*1e9+int64(t.Nsec), 36) }

// sameContent reports whether two entries are the same file with unchanged content. It
// allows for a rename in between, which changes the time of the inode.
func sameContent(before, after store.Entry) bool {
	return before.Kind == after.Kind && before.Identity == after.Identity && before.Size == after.Size && before.Modified.Equal(after.Modified)
}

// identity is which folder a folder is.
type identity struct {
	major, minor uint32
	inode        uint64
	birth        unix.StatxTimestamp
}

func identityOf(dir *os.File) (identity, error) {
	var stat unix.Statx_t
	err := unix.Statx(int(dir.Fd()), "", unix.AT_EMPTY_PATH, wanted, &stat)
	return identityFrom(&stat), err
}

func identityFrom(stat *unix.Statx_t) identity {
	return identity{major: stat.Dev_major, minor: stat.Dev_minor, inode: stat.Ino, birth: stat.Btime}
}

// Check is store.Capabilities.Check: the folder that is open has to be the one at the
// path still. A disk that is mounted late, a restore, or a rename puts another there.
func (a *account) Check(context.Context) error {
	var stat unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, a.path, 0, wanted, &stat)
	if err != nil {
		return store.Errorf(store.ErrReplaced, "the folder %s was there when the account was opened, and cannot be looked at now: %w",
			a.path, err)
	}
	if identityFrom(&stat) != a.start {
		return store.Errorf(store.ErrReplaced, "another folder is at %s than when the account was opened", a.path)
	}
	return nil
}
