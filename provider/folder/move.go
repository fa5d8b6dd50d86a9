package folder

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// Move is store.Capabilities.Move, by a rename that replaces nothing. A file that
// turns out not to be the revision expected is renamed back.
func (a *account) Move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	there, err := a.Stat(ctx, from)
	if err != nil {
		return store.Entry{}, err
	}
	if err := nameRules.Check(to.Folder.Path, to.Name); err != nil {
		return store.Entry{}, err
	}
	a.handles.dropAll() // a folder may be moved
	held := revision != "" && there.Kind == store.KindFile
	if held && !store.SameRevision(there.Revision, revision) {
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
	}
	source, err := a.openFolder(from)
	if err != nil {
		return store.Entry{}, err
	}
	defer source.Close()
	target, err := a.openFolder(to)
	if err != nil {
		return store.Entry{}, err
	}
	defer target.Close()
	if err := rename(source, from.Name, target, to.Name); err != nil {
		return store.Entry{}, wrap("move", from.String()+" to "+to.String(), err)
	}
	fromLocal, _ := a.local(from)
	toLocal, _ := a.local(to)
	a.touched(filepath.Dir(fromLocal))
	a.touched(filepath.Dir(toLocal))
	entry, err := a.Stat(ctx, to.As(""))
	if err == nil && (entry.Kind != there.Kind || held && !sameContent(there, entry)) {
		if back := rename(target, to.Name, source, from.Name); back != nil {
			return store.Entry{}, store.Errorf(store.ErrOutcomeUnknown, "%s changed in the meantime, is at %s now, and could not be moved back: %w",
				from, to, back)
		}
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
	}
	return entry, errors.Join(err, a.Sync(ctx))
}

// openFolder opens the folder that a place is in, for a rename.
func (a *account) openFolder(place store.Ref) (*os.File, error) {
	local, err := localPath(place.Folder.Path)
	if err != nil {
		return nil, err
	}
	dir, err := a.openDir(local)
	return dir, wrap("open the folder of", place.String(), err)
}

// rename gives an entry another name that nothing has.
func rename(source *os.File, from string, target *os.File, to string) error {
	err := unix.Renameat2(int(source.Fd()), from, int(target.Fd()), to, unix.RENAME_NOREPLACE)
	if !unsupported(err) {
		return err
	}
	var stat unix.Stat_t
	switch err := unix.Fstatat(int(target.Fd()), to, &stat, unix.AT_SYMLINK_NOFOLLOW); {
	case err == nil:
		return fs.ErrExist
	case !errors.Is(err, syscall.ENOENT):
		return err
	}
	return unix.Renameat(int(source.Fd()), from, int(target.Fd()), to)
}
