package folder

import (
	"container/heap"
	"context"
	"io"
	"iter"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// List implements store.Store. The names are read at once, as no disk tells them in
// order, and nothing else of the entries is held; each is looked at when its turn comes.
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
	var names children
	if err := readNames(dir, func(name string, folder bool) { names = append(names, child{name, folder}) }); err != nil {
		return wrap("list", "/"+local, err)
	}
	heap.Init(&names)
	for len(names) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		name := names.first()
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

// child is a name in a folder.
type child struct {
	name   string
	folder bool
}

// children are those that were not delivered yet, as a heap: the first is known at once,
// however many there are, and they take less room the further it goes.
type children []child

func (c children) Len() int { return len(c) }
func (c children) Less(i, j int) bool {
	return store.LessInFolder(c[i].name, c[i].folder, c[j].name, c[j].folder)
}
func (c children) Swap(i, j int) { c[i], c[j] = c[j], c[i] }

// Push implements heap.Interface.
func (c *children) Push(any) {}

// Pop implements heap.Interface.
func (c *children) Pop() any {
	last := len(*c) - 1
	(*c)[last] = child{}
	*c = (*c)[:last]
	return nil
}

// first takes the first name out.
func (c *children) first() string {
	name := (*c)[0].name
	heap.Pop(c)
	return name
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
