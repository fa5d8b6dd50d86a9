package folder

import (
	"context"
	"io"
	"iter"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// List implements store.Store. Names are read at once and sorted; each entry
// is looked at when its turn comes.
func (a *account) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		if err := a.listInto(ctx, folder, yield); err != nil {
			yield(store.Entry{}, err)
		}
	}
}

func (a *account) listInto(ctx context.Context, folder store.Folder, yield func(store.Entry, error) bool) error {
	local, err := localPath(folder.Path)
	if err != nil {
		return err
	}
	dir, err := a.openDir(local)
	if err != nil {
		return wrap("list", "/"+local, err)
	}
	defer dir.Close()
	children, err := dir.ReadDir(-1)
	if err != nil {
		return wrap("list", "/"+local, err)
	}
	entries := make([]store.Entry, len(children))
	for i, child := range children {
		entries[i].Name = child.Name()
		if child.IsDir() {
			entries[i].Kind = store.KindFolder
		}
	}
	children = nil
	store.SortByKey(entries)
	for i := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		entry, err := a.entryAt(dir, entries[i].Name)
		if err == unix.ENOENT {
			continue // removed since the names were read
		}
		if err != nil {
			return wrap("look at", "/"+local+"/"+entries[i].Name, err)
		}
		if !yield(entry, nil) {
			return nil
		}
	}
	return nil
}

// Open implements store.Store. At the end of the file it looks once more: a
// file that was written to while it was read gives ErrChanged.
func (a *account) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	local, err := a.local(reading.Place)
	if err != nil {
		return nil, store.Errorf(store.ErrNotFound, "%s: %w", reading.Place, err)
	}
	dir, err := a.openDir(filepath.Dir(local))
	if err != nil {
		return nil, wrap("read", reading.Place.String(), err)
	}
	// Not blocking, since a pipe has to be recognised before it is waited on.
	file, err := openAt(dir, filepath.Base(local), unix.O_RDONLY|unix.O_NONBLOCK, 0)
	dir.Close()
	if err != nil {
		return nil, wrap("read", reading.Place.String(), err)
	}
	if err := a.guard.checkFile(file); err != nil { // a hard link to it
		file.Close()
		return nil, wrap("read", reading.Place.String(), err)
	}
	reader := &reader{file: file, place: reading.Place}
	entry, err := reader.look()
	switch {
	case err != nil:
	case entry.Kind == store.KindFolder:
		err = store.Errorf(store.ErrNotFound, "%s is a folder", reading.Place)
	case entry.Kind != store.KindFile:
		err = store.Errorf(store.ErrRefused, "%s is not a file", reading.Place)
	case reading.Revision != "" && !store.SameRevision(entry.Revision, reading.Revision):
		err = store.Errorf(store.ErrChanged, "%s changed meanwhile", reading.Place)
	default:
		reader.opened, reader.growing = entry, reading.Growing
		reader.left = entry.Size - reading.Offset
		if reading.Length > 0 {
			reader.left = min(reader.left, reading.Length)
		}
		_, err = file.Seek(reading.Offset, io.SeekStart)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return reader, nil
}

// openAt opens a file in a folder, and does not follow a link.
func openAt(dir *os.File, name string, flags int, mode uint32) (*os.File, error) {
	for {
		fd, err := unix.Openat(int(dir.Fd()), name, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC, mode)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, err
		}
		return os.NewFile(uintptr(fd), name), nil
	}
}

type reader struct {
	file    *os.File
	place   store.Ref
	opened  store.Entry
	growing bool
	left    int64
}

func (r *reader) look() (store.Entry, error) {
	entry, err := entryOfFile(r.place.Name, r.file)
	return entry, wrap("look at", r.place.String(), err)
}

func (r *reader) Read(p []byte) (int, error) {
	if r.left <= 0 {
		return 0, r.end()
	}
	n, err := r.file.Read(p[:min(int64(len(p)), r.left)])
	r.left -= int64(n)
	if err == io.EOF {
		if err = r.end(); err == io.EOF {
			err = store.ShortBody(-r.left, 0)
		}
	} else if err != nil {
		err = wrap("read", r.place.String(), err)
	}
	return n, err
}

func (r *reader) end() error {
	entry, err := r.look()
	if err != nil {
		return err
	}
	if r.growing && entry.Identity == r.opened.Identity && entry.Size >= r.opened.Size {
		return io.EOF
	}
	if !store.SameRevision(entry.Revision, r.opened.Revision) {
		return store.Errorf(store.ErrChanged, "%s changed while it was read", r.place)
	}
	return io.EOF
}

func (r *reader) Close() error { return r.file.Close() }

// SumKinds implements store.Summer: any, as the file is here.
func (a *account) SumKinds() []store.HashKind {
	return store.HashKinds()
}

// Sum implements store.Summer by reading the file.
func (a *account) Sum(ctx context.Context, place store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	sum, _, err := store.ReadBack(ctx, a, place, revision, kind)
	return sum, err
}
