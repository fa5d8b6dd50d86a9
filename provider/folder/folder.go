// Package folder makes a folder of this machine an account.
//
// Everything goes through an os.Root, so that neither a name nor a symbolic link
// leads out of it. A file is written under a temporary name beside its place, synced
// to disk, and renamed. A rename that creates never replaces (RENAME_NOREPLACE); one
// that replaces swaps the two names (RENAME_EXCHANGE), checks the replaced file, and
// swaps back if it does not have the expected revision. If the file system supports
// neither, a hard link replaces the first, and a check just before the rename the
// second.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// Provider is the provider "folder".
type Provider struct {
	allowed []string
	guard   *guard // nil: nothing is private
}

// Name implements store.Provider.
func (Provider) Name() string { return "folder" }

// Title implements store.Provider.
func (Provider) Title() string { return "Folder on the service's machine" }

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{{
		Name: "path", Title: "Path", Required: true,
		Help: "the folder's full path on the machine that runs the service, such as /srv/reports",
	}}
}

// Open implements store.Provider.
func (p Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	path := opening.Options["path"]
	if !filepath.IsAbs(path) {
		return nil, &store.OptionError{Option: "path", Reason: fmt.Sprintf("%q is not a full path; begin it with /", path)}
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, store.Concerns(store.Errorf(kindOf(err, store.ErrNotFound),
			"the folder %s cannot be opened (%v); make it, or give another path", path,
			bare(err)), "path")
	}
	if !info.IsDir() {
		return nil, store.Errorf(store.ErrRefused, "%s is a file; give the path of a folder", path)
	}
	real, err := filepath.EvalSymlinks(filepath.Join(path, opening.Start.Local()))
	if err != nil {
		real = path
	}
	if err := p.checkLinked(real); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, store.Errorf(kindOf(err, store.ErrRefused), "the folder %s cannot be opened (%v); let the service's user read it", path,
			bare(err))
	}
	if opening.Start != "" {
		local, err := localPath(opening.Start)
		if err == nil {
			var start *os.Root
			start, err = root.OpenRoot(local)
			root.Close()
			root = start
		}
		if err != nil {
			return nil, store.Concerns(store.Errorf(store.ErrNotFound,
				"the starting folder %s is not in %s; make it, or give another starting folder", local, path), "start")
		}
	}
	a := &account{root: root, guard: p.guard, real: real, path: filepath.Join(path, opening.Start.Local()), dirty: map[string]bool{}}
	start, err := root.Open(".")
	if err == nil {
		a.start, err = identityOf(start)
	}
	if err != nil {
		root.Close()
		return nil, wrap("look at", path, err)
	}
	// It stays open as long as the account is held by anyone, as the root does.
	a.base = int(start.Fd())
	runtime.AddCleanup(a, func(start *os.File) { start.Close() }, start)
	return a, nil
}

// Capabilities implements store.Store.
func (a *account) Capabilities() store.Capabilities {
	return store.Capabilities{
		Move: a.Move, Copy: a.Copy, Keeps: keeps, Checksums: a, Changes: a.Changes, AwaitChanges: a.AwaitChanges, Clean: a.Clean,
		Sync: a.Sync, Check: a.Check, Space: a.Space, Owner: a.Owner, Locate: a.Locate, Close: a.Close,
	}
}

// account implements store.Store.
type account struct {
	root  *os.Root
	guard *guard
	real  string
	// path is the account's start as it was given, and start the folder that was
	// there when the account was opened; see Check.
	path  string
	start identity

	handles handles
	// base is the open start folder. It is used to check that a folder is still at its
	// path.
	base int

	mu    sync.Mutex
	dirty map[string]bool // folders whose names have changed since the last Sync
	// watcher tells changes, once they were asked for.
	watcher *watcher
}

// Traits implements store.Store.
func (a *account) Traits() store.Traits {
	return store.Traits{
		Order: store.OrderByKey, Folders: store.FoldersReal, Names: &nameRules, Revisions: store.RevisionsOfClock,
		TimePrecision: time.Nanosecond, KeepsTimes: true, VerificationKind: store.CRC64NVME,
		Conditional: true, Whole: true, Streams: 4,
		Windows: []string{"The file is checked just before it is deleted. A change in between is lost.",
			"On a file system that cannot swap two names, the target is checked just before it is replaced."},
	}
}

// nameRules are the rules of a POSIX file system.
var nameRules = store.NameRules{Keeper: "a folder on disk", NoEmpty: true, NoSteps: true, NoSlashes: true, MostBytes: 255}

// localPath is the path below the root, "." for the root itself. An error is
// of a name that cannot be there.
func localPath(path store.Path) (string, error) {
	for _, name := range path.Names() {
		if err := nameRules.Check("", name); err != nil {
			return path.Local(), store.Errorf(store.ErrNotFound, "%w", err)
		}
	}
	return path.Local(), nil
}

func (a *account) local(place store.Ref) (string, error) {
	if place.IsStart() {
		return ".", nil
	}
	folder, err := localPath(place.Folder.Path)
	if err != nil {
		return "", err
	}
	if err := nameRules.Check(place.Folder.Path, place.Name); err != nil {
		return "", err
	}
	return filepath.Join(folder, place.Name), nil
}

// Stat implements store.Store.
func (a *account) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	local, err := a.local(place)
	if err != nil {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s: %w", place, err)
	}
	dir, err := a.openDir(filepath.Dir(local))
	if err != nil {
		return store.Entry{}, wrap("look at", place.String(), err)
	}
	defer dir.Close()
	entry, err := a.entryAt(dir, filepath.Base(local))
	if err == nil && !place.Means(entry.Kind) {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is a %s", place, entry.Kind)
	}
	entry.Name = place.Name
	return entry, wrap("look at", place.String(), err)
}

// MakeFolder implements store.Store.
func (a *account) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	local, err := a.local(place)
	if err != nil {
		return store.Entry{}, err
	}
	dir, err := a.openDir(filepath.Dir(local))
	if err != nil {
		return store.Entry{}, wrap("make the folder", place.String(), err)
	}
	defer dir.Close()
	if err := unix.Mkdirat(int(dir.Fd()), filepath.Base(local), 0o777); err != nil && !errors.Is(err, fs.ErrExist) && local != "." {
		return store.Entry{}, wrap("make the folder", place.String(), err)
	}
	a.touched(filepath.Dir(local))
	entry, err := a.Stat(ctx, place.As(""))
	if err == nil && entry.Kind != store.KindFolder {
		return store.Entry{}, store.Errorf(store.ErrExists, "a file is at %s, where a folder is needed", place)
	}
	return entry, err
}

// Remove implements store.Store by unlink, which does not remove a folder.
func (a *account) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	entry, err := a.Stat(ctx, place.As(store.KindFile))
	if err != nil {
		return "", err
	}
	if revision != "" && entry.Kind == store.KindFile && !store.SameRevision(entry.Revision, revision) {
		return "", store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	return a.unlink(place, 0)
}

// RemoveFolder implements store.Store by rmdir, which removes an empty folder alone.
func (a *account) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	if place.IsStart() {
		return "", store.Errorf(store.ErrRefused, "the start of an account cannot be removed")
	}
	return a.unlink(place, unix.AT_REMOVEDIR)
}

func (a *account) unlink(place store.Ref, flags int) (store.Removal, error) {
	local, err := a.local(place)
	if err != nil {
		return "", store.Errorf(store.ErrNotFound, "%s: %w", place, err)
	}
	dir, err := a.openDir(filepath.Dir(local))
	if err != nil {
		return "", wrap("remove", place.String(), err)
	}
	defer dir.Close()
	if flags == unix.AT_REMOVEDIR {
		a.handles.dropAll()
	}
	err = unix.Unlinkat(int(dir.Fd()), filepath.Base(local), flags)
	if errors.Is(err, unix.EISDIR) || errors.Is(err, unix.EPERM) && a.isFolder(dir, local) {
		return "", store.Errorf(store.ErrNotFound, "%s is a folder now", place)
	}
	if err != nil {
		return "", wrap("remove", place.String(), err)
	}
	a.touched(filepath.Dir(local))
	return store.RemovedFinally, nil
}

// isFolder reports whether the entry with a name is a folder: some file systems refuse to
// unlink a folder with "not permitted".
func (a *account) isFolder(dir *os.File, local string) bool {
	entry, err := entryAt(int(dir.Fd()), filepath.Base(local))
	return err == nil && entry.Kind == store.KindFolder
}

// Clean is store.Capabilities.Clean.
func (a *account) Clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	local, err := localPath(cleaning.Folder.Path)
	if err != nil {
		return nil, nil
	}
	var cleaned []store.Leftover
	err = fs.WalkDir(a.root.FS(), filepath.ToSlash(local), func(path string, entry fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return nil // a folder that cannot be read holds nothing of ours
		case !store.LeftBy(cleaning.Run, entry.Name()):
			return nil
		}
		if err := a.root.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return wrap("remove the leftover", path, err)
		}
		cleaned = append(cleaned, store.Leftover{Run: cleaning.Run, Place: store.At(strings.Split(path, "/")...)})
		return nil
	})
	return cleaned, err
}

// Space is store.Capabilities.Space.
func (a *account) Space(ctx context.Context) (store.Space, error) {
	var stat unix.Statfs_t
	if err := unix.Statfs(a.real, &stat); err != nil {
		return store.UnknownSpace, wrap("look at the space of", a.real, err)
	}
	block := int64(stat.Bsize)
	return store.Space{
		Volume: fmt.Sprintf("file system %x", stat.Fsid.Val),
		Used:   int64(stat.Blocks-stat.Bfree) * block, Free: int64(stat.Bavail) * block, Total: int64(stat.Blocks) * block,
	}, nil
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(ctx context.Context) (string, error) {
	info, err := a.root.Stat(".")
	if err != nil {
		return "", wrap("look at", a.real, err)
	}
	id := strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Uid))
	if owner, err := user.LookupId(id); err == nil {
		return "local user " + owner.Username, nil
	}
	return "local user number " + id, nil
}

// Locate is store.Capabilities.Locate.
func (a *account) Locate(folder store.Folder) string {
	real := filepath.Join(a.real, folder.Path.Local())
	return "file://" + strings.TrimSuffix(real, "/") + "/"
}

// wrap adds the kind of a system error, and what was being done.
func wrap(doing, what string, err error) error {
	if err == nil || store.KindOf(err) != nil {
		return err
	}
	return store.Errorf(kindOf(err, store.ErrRefused), "could not %s %s: %w", doing, what, bare(err))
}

// bare takes the path that the system adds off an error.
func bare(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	var link *os.LinkError
	if errors.As(err, &link) {
		return link.Err
	}
	return err
}

func kindOf(err, otherwise error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, unix.ENOTDIR):
		return store.ErrNotFound
	case errors.Is(err, unix.ENOTEMPTY):
		return store.ErrRefused
	case errors.Is(err, fs.ErrExist), errors.Is(err, unix.EISDIR):
		return store.ErrExists
	case errors.Is(err, unix.ENOSPC), errors.Is(err, unix.EDQUOT):
		return store.ErrNoSpace
	case errors.Is(err, unix.ENAMETOOLONG), errors.Is(err, unix.EILSEQ):
		return store.ErrNameRefused
	case errors.Is(err, unix.EFBIG):
		return store.ErrTooLarge
	case errors.Is(err, unix.EIO), errors.Is(err, unix.ESTALE), errors.Is(err, unix.EBUSY), errors.Is(err, unix.EMFILE),
		errors.Is(err, unix.ETIMEDOUT):
		return store.ErrTryAgain
	}
	return otherwise
}
