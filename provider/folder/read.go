package folder

import (
	"context"
	"io"
	"io/fs"
	"iter"
	"path/filepath"
	"sync"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// List implements store.Store. All names are read first, because no file system returns
// them in order. Nothing else of the entries is held: each is read when its turn comes.
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
	var names sorted
	defer names.sorter.Close()
	if err := readNames(dir, names.add); err != nil {
		return wrap("list", "/"+local, err)
	}
	for name, err := range names.all() {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		entry, err := a.entryAt(dir, name)
		if err == unix.ENOENT {
			continue // removed since the names were read
		}
		if err != nil {
			return wrap("look at", "/"+local+"/"+name, err)
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
	reader, err := a.openFile(local, reading)
	if err != nil {
		return nil, wrap("read", reading.Place.String(), err)
	}
	return reader, nil
}

func (a *account) openFile(local string, reading store.Reading) (_ *reader, err error) {
	folder := filepath.Dir(local)
	dir, err := a.take(folder)
	if err != nil {
		return nil, err
	}
	defer func() { a.handles.put(folder, dir, err != nil) }()
	// Not blocking, since a pipe has to be recognised before it is waited on.
	file, err := openAt(dir.fd, filepath.Base(local), unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			file.close()
		}
	}()
	stat, err := file.stat()
	if err != nil {
		return nil, err
	}
	entry := entryOf(reading.Place.Name, &stat)
	switch {
	case a.guard.hides(&stat): // a hard link to it
		return nil, fs.ErrNotExist
	case entry.Kind == store.KindFolder:
		return nil, store.Errorf(store.ErrNotFound, "%s is a folder", reading.Place)
	case entry.Kind != store.KindFile:
		return nil, store.Errorf(store.ErrRefused, "%s is not a file", reading.Place)
	case reading.Revision != "" && !store.SameRevision(entry.Revision, reading.Revision):
		return nil, store.Errorf(store.ErrChanged, "%s changed in the meantime", reading.Place)
	}
	r := &reader{file: file, place: reading.Place, opened: stat, growing: reading.Growing, left: entry.Size - reading.Offset}
	if reading.Length > 0 {
		r.left = min(r.left, reading.Length)
	}
	if reading.Offset != 0 {
		_, err = file.seek(reading.Offset, io.SeekStart)
	}
	return r, err
}

type reader struct {
	file    *file
	place   store.Ref
	opened  unix.Statx_t
	growing bool
	left    int64
	closed  sync.Once
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
	now, err := r.file.stat()
	if err != nil {
		return wrap("look at", r.place.String(), err)
	}
	same := now.Ino == r.opened.Ino && now.Btime == r.opened.Btime
	switch {
	case r.growing && same && now.Size >= r.opened.Size:
	case !same || now.Size != r.opened.Size || now.Mtime != r.opened.Mtime || now.Ctime != r.opened.Ctime:
		return store.Errorf(store.ErrChanged, "%s changed while it was read", r.place)
	}
	return io.EOF
}

// Close implements io.Closer. It may be called more than once.
func (r *reader) Close() error {
	r.closed.Do(r.file.close)
	return nil
}

// SumKinds implements store.Checksummer: any, as the file is here.
func (a *account) SumKinds() []store.HashKind {
	return store.HashKinds()
}

// Sum implements store.Checksummer by reading the file.
func (a *account) Sum(ctx context.Context, place store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	sum, _, err := store.ReadBack(ctx, a, place, revision, kind)
	return sum, err
}
