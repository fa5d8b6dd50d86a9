package sftp

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// server implements fileserver.Server.
type server struct {
	pool *pool

	mu        sync.Mutex
	abilities abilities
}

// abilities are what the server said that it can do beyond version 3.
type abilities struct {
	link, replace, sync, space bool
	hashes                     []store.HashKind
}

func (s *server) found() abilities {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.abilities
}

// start connects, finds out what the server can do, and returns where a path is.
func (s *server) start(ctx context.Context, given string) (string, error) {
	var base string
	err := s.pool.do(ctx, func(l *link) error {
		has := func(name string) bool { _, ok := l.files.HasExtension(name); return ok }
		found := abilities{
			link: has("hardlink@openssh.com"), replace: has("posix-rename@openssh.com"),
			sync: has("fsync@openssh.com"), space: has("statvfs@openssh.com"),
		}
		wanted := given
		if wanted == "" {
			wanted = "."
		}
		var err error
		if base, err = l.files.RealPath(wanted); err != nil {
			return wrap(err)
		}
		info, err := l.files.Stat(base)
		if err != nil {
			return wrap(err)
		}
		if !info.IsDir() {
			return &store.OptionError{Option: "path", Reason: fmt.Sprintf("%s is a file; give the path of a folder", base)}
		}
		if has("check-file") || checks(l.ssh, base) {
			found.hashes = []store.HashKind{store.MD5, store.SHA1, store.SHA512, store.SHA256} // the cheapest first
		}
		s.mu.Lock()
		s.abilities = found
		s.mu.Unlock()
		return nil
	})
	if store.KindOf(err) == store.ErrNotFound {
		return "", store.Concerns(store.Errorf(store.ErrNotFound, "there is no folder %s on %s; make it, or give another path", given,
			s.pool.target.address), "path")
	}
	return strings.TrimSuffix(base, "/"), err
}

// Stat implements fileserver.Server.
func (s *server) Stat(ctx context.Context, path string) (store.Entry, error) {
	var entry store.Entry
	err := s.pool.do(ctx, func(l *link) error {
		info, err := l.files.Lstat(path)
		if err = wrap(err); isFailure(err) && inFile(l.files, path) {
			return store.Errorf(store.ErrNotFound, "what would hold it is a file")
		}
		if err != nil {
			return err
		}
		entry = entryOf(info)
		return nil
	})
	return entry, err
}

// inFile reports whether one of the folders of a path is a file: servers answer to that with a
// failure that says nothing.
func inFile(files *sftp.Client, at string) bool {
	for up := path.Dir(at); up != "/" && up != "."; up = path.Dir(up) {
		info, err := files.Lstat(up)
		if err == nil {
			return !info.IsDir()
		}
		if !isFailure(wrap(err)) {
			return false
		}
	}
	return false
}

func entryOf(info fs.FileInfo) store.Entry {
	entry := store.Entry{Name: info.Name(), Modified: info.ModTime(), Size: info.Size(), Kind: store.KindOther}
	switch {
	case info.IsDir():
		entry.Kind = store.KindFolder
	case info.Mode().IsRegular():
		entry.Kind = store.KindFile
	}
	return entry
}

// List implements fileserver.Server.
func (s *server) List(ctx context.Context, path string) ([]store.Entry, error) {
	var entries []store.Entry
	err := s.pool.do(ctx, func(l *link) error {
		infos, err := l.files.ReadDirContext(ctx, path)
		if err != nil {
			return wrap(err)
		}
		entries = make([]store.Entry, len(infos))
		for i, info := range infos {
			entries[i] = entryOf(info)
		}
		return nil
	})
	return entries, err
}

// oneRead is how much one request reads: 32 KiB by the protocol's default.
const oneRead = 32 << 10

// Open implements fileserver.Server. What fits into one request is read at once;
// more is read ahead, with many requests in flight.
func (s *server) Open(ctx context.Context, path string, offset, length int64) (io.ReadCloser, error) {
	l, err := s.pool.take(ctx)
	if err != nil {
		return nil, err
	}
	stop := fileserver.Watch(ctx, l.cut)
	file, err := l.files.Open(path)
	if err == nil && length <= oneRead {
		var small []byte
		small, err = readSmall(file, offset, length)
		stop()
		s.pool.give(l, err)
		return io.NopCloser(bytes.NewReader(small)), wrap(err)
	}
	if err == nil {
		_, err = file.Seek(offset, io.SeekStart)
	}
	if err != nil {
		stop()
		s.pool.give(l, err)
		return nil, wrap(err)
	}
	reading, writing := io.Pipe()
	a := &ahead{PipeReader: reading, ended: make(chan struct{})}
	go func() {
		defer close(a.ended)
		_, err := file.WriteTo(writing)
		if closing := file.Close(); err == nil && closing != nil {
			err = closing
		}
		writing.CloseWithError(wrapRead(err))
		stop()
		s.pool.give(l, err)
	}()
	return a, nil
}

// wrapRead gives the clean end of a file no error.
func wrapRead(err error) error {
	if err == nil || err == io.ErrClosedPipe {
		return nil
	}
	return wrap(err)
}

func readSmall(file *sftp.File, offset, length int64) ([]byte, error) {
	small := make([]byte, length)
	n, err := file.ReadAt(small, offset)
	if err == io.EOF {
		err = nil
	}
	if closing := file.Close(); err == nil {
		err = closing
	}
	return small[:n], err
}

// ahead is a body that is read ahead of whoever reads it.
type ahead struct {
	*io.PipeReader
	ended chan struct{}
}

func (a *ahead) Close() error {
	err := a.PipeReader.Close()
	<-a.ended
	return err
}

// Create implements fileserver.Server.
func (s *server) Create(ctx context.Context, name string, content io.Reader, _ int64, modified time.Time) error {
	err := s.pool.do(ctx, func(l *link) error {
		file, err := l.files.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
		if err != nil {
			return wrap(err)
		}
		_, err = file.ReadFromWithConcurrency(content, requestsInFlight)
		if err == nil && s.found().sync {
			if err = wrap(file.Sync()); store.KindOf(err) == store.ErrUnsupported { // it said that it could
				s.mu.Lock()
				s.abilities.sync = false
				s.mu.Unlock()
				err = nil
			}
		}
		if closing := file.Close(); err == nil {
			err = closing
		}
		if err == nil && !modified.IsZero() {
			err = l.files.Chtimes(name, time.Now(), modified)
		}
		return wrap(err)
	})
	if isFailure(err) && s.full(ctx, path.Dir(name)) {
		return store.Errorf(store.ErrNoSpace, "the server's disk is full: %w", err)
	}
	return err
}

// full reports whether there is next to no space below a path: version 3 has no
// word for that.
func (s *server) full(ctx context.Context, path string) bool {
	const nearly = 1 << 20
	space, err := s.space(ctx, path, "")
	return err == nil && space.Free >= 0 && space.Free < nearly
}

func (s *server) space(ctx context.Context, path, address string) (store.Space, error) {
	if !s.found().space {
		return store.UnknownSpace, nil
	}
	space := store.UnknownSpace
	err := s.pool.do(ctx, func(l *link) error {
		told, err := l.files.StatVFS(path)
		if err := wrap(err); store.KindOf(err) == store.ErrUnsupported || store.KindOf(err) == store.ErrRefused {
			return nil // it said that it could
		} else if err != nil {
			return err
		}
		space = store.Space{
			Total: int64(told.Frsize * told.Blocks), Free: int64(told.Frsize * told.Bavail), Used: int64(told.Frsize * (told.Blocks - told.Bfree)),
			Volume: fmt.Sprintf("sftp %s %x", address, told.Fsid),
		}
		return nil
	})
	return space, err
}

// Replaces implements fileserver.Server.
func (s *server) Replaces() bool { return s.found().replace }

// Rename implements fileserver.Server. What has arrived gets its name by a link
// where the server makes links, as that never replaces; a rename of version 3 must
// not either, but not every server keeps to it.
func (s *server) Rename(ctx context.Context, from, to string, replace bool) error {
	return s.pool.do(ctx, func(l *link) error {
		if replace {
			return wrap(l.files.PosixRename(from, to))
		}
		if s.found().link && strings.HasPrefix(path.Base(from), store.ArrivingPrefix) {
			err := l.files.Link(from, to)
			if err == nil {
				return wrap(l.files.Remove(from))
			}
			if isLost(err) {
				return wrap(err)
			}
		}
		if _, err := l.files.Lstat(to); err == nil {
			return store.Errorf(store.ErrExists, "%s already exists", path.Base(to))
		}
		err := l.files.Rename(from, to)
		if err != nil && !isLost(err) {
			if _, look := l.files.Lstat(to); look == nil {
				return store.Errorf(store.ErrExists, "%s already exists", path.Base(to))
			}
		}
		return wrap(err)
	})
}

// MakeFolder implements fileserver.Server.
func (s *server) MakeFolder(ctx context.Context, path string) error {
	return s.pool.do(ctx, func(l *link) error { return wrap(l.files.Mkdir(path)) })
}

// Remove implements fileserver.Server.
func (s *server) Remove(ctx context.Context, path string) error {
	return s.pool.do(ctx, func(l *link) error {
		_, err := l.files.Lstat(path) // Remove falls back on removing a folder
		if err == nil {
			err = l.files.Remove(path)
		}
		return wrap(err)
	})
}

// RemoveFolder implements fileserver.Server.
func (s *server) RemoveFolder(ctx context.Context, path string) error {
	return s.pool.do(ctx, func(l *link) error { return wrap(l.files.RemoveDirectory(path)) })
}
