package ftp

import (
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// server implements fileserver.Server.
type server struct {
	pool *pool
	base string

	probing sync.Mutex
	mu      sync.Mutex
	known   findings
}

func (s *server) found() findings {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.known
}

func (s *server) learn(change func(*findings)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(&s.known)
}

// start connects and returns where a path is.
func (s *server) start(ctx context.Context, given string) (string, error) {
	var base string
	var machine bool
	err := s.pool.do(ctx, func(c *control) error {
		machine = c.ftp.IsTimePreciseInList()
		if given != "" {
			if err := c.ftp.ChangeDir(given); err != nil {
				if replyOf(err) == ftp.StatusFileUnavailable {
					return notFound(fmt.Sprintf("folder %s on %s to begin with; make it, or give another path", given, s.pool.target.address), err)
				}
				return err
			}
		}
		var err error
		base, err = c.ftp.CurrentDir()
		return err
	})
	s.learn(func(f *findings) { f.machine = machine })
	if err == nil && !machine {
		s.pool.listForPeople()
	}
	// A quotation mark in the path comes doubled (RFC 959, appendix II).
	return strings.TrimSuffix(strings.ReplaceAll(base, `""`, `"`), "/"), err
}

// Stat implements fileserver.Server: by MLST, else by what SIZE, MDTM and CWD say.
func (s *server) Stat(ctx context.Context, path string) (store.Entry, error) {
	if path == "/" {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	var entry store.Entry
	err := s.pool.do(ctx, func(c *control) error {
		if s.found().machine {
			told, err := c.ftp.GetEntry(path)
			if code := replyOf(err); code == ftp.StatusFileUnavailable || code == ftp.StatusBadArguments {
				return notFound("such file or folder", err)
			}
			if err == nil {
				entry = store.Entry{Kind: store.KindFile, Size: int64(told.Size), Modified: told.Time}
				if told.Type == ftp.EntryTypeFolder {
					entry.Kind = store.KindFolder
				}
			}
			return err
		}
		size, err := c.ftp.FileSize(path)
		if err == nil {
			entry = store.Entry{Kind: store.KindFile, Size: size}
			entry.Modified, err = timeOf(c, path)
			return err
		}
		if replyOf(err) == 0 {
			return err
		}
		if err = c.ftp.ChangeDir(path); replyOf(err) == ftp.StatusFileUnavailable {
			return notFound("such file or folder", err)
		}
		entry.Kind = store.KindFolder
		return err
	})
	return entry, err
}

// timeOf asks for the time of a file; zero where the server does not tell.
func timeOf(c *control, path string) (time.Time, error) {
	if !c.ftp.IsGetTimeSupported() {
		return time.Time{}, nil
	}
	modified, err := c.ftp.GetTime(path)
	if replyOf(err) == ftp.StatusFileUnavailable {
		return modified, notFound("such file", err)
	}
	return modified, err
}

// Open implements fileserver.Server. If the server allows only one connection, the
// content goes through a scratch file, so that the same connection can write.
func (s *server) Open(ctx context.Context, path string, offset, length int64) (io.ReadCloser, error) {
	if err := s.pool.beginReading(ctx); err != nil {
		return nil, err
	}
	ended := sync.OnceFunc(s.pool.endReading)
	body, err := s.open(ctx, path, offset, length, ended)
	if err != nil {
		ended()
	}
	return body, err
}

// open is Open; ended is called when the connection is given back.
func (s *server) open(ctx context.Context, path string, offset, length int64, ended func()) (io.ReadCloser, error) {
	c, err := s.pool.take(ctx)
	if err != nil {
		return nil, err
	}
	stop := fileserver.Watch(ctx, c.cut)
	response, err := c.ftp.RetrFrom(path, uint64(offset))
	if err != nil {
		stop()
		s.pool.settle(c, err)
		if replyOf(err) == ftp.StatusFileUnavailable {
			return nil, notFound("such file", err)
		}
		return nil, wrap(err)
	}
	b := &body{pool: s.pool, control: c, response: response, stop: stop, ended: ended, left: length}
	if s.pool.allowed() > 1 {
		return b, nil
	}
	return scratch(b, length)
}

// scratch reads a body into a file without a name, and gives its connection back.
func scratch(b *body, length int64) (io.ReadCloser, error) {
	file, err := os.CreateTemp("", "heron-scratch-")
	if err != nil {
		_ = b.Close()
		return nil, store.Errorf(store.ErrNoSpace, "no scratch file could be made: %w", err)
	}
	_ = os.Remove(file.Name())
	_, err = io.CopyN(file, b, length)
	if closing := b.Close(); err == nil {
		err = closing
	}
	if err == nil || err == io.EOF { // a short body is the reader's to notice
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		file.Close()
		return nil, wrap(err)
	}
	return fileserver.Fetched{ReadCloser: file}, nil
}

// body is a file on its way from the server.
type body struct {
	pool     *pool
	control  *control
	response *ftp.Response
	stop     func()
	ended    func()
	left     int64
	err      error
	closed   bool
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.response.Read(p)
	b.left -= int64(n)
	if err != nil {
		b.err = err
	}
	if err != nil && err != io.EOF {
		err = wrap(err)
	}
	return n, err
}

// Close gives the connection back if all was read to the end and the server said
// that it sent all of it; else the connection is cut.
func (b *body) Close() error {
	if b.closed {
		return nil
	}
	b.closed = true
	if b.err == nil && b.left <= 0 {
		var one [1]byte
		if n, err := b.response.Read(one[:]); n == 0 {
			b.err = err
		}
	}
	defer b.ended()
	defer b.stop()
	if b.err != io.EOF {
		b.control.cut()
		b.pool.lost()
		return nil
	}
	err := b.response.Close()
	b.pool.settle(b.control, err)
	return wrap(err)
}

// Create implements fileserver.Server. The library returns no error only after 226; the
// caller checks the size.
func (s *server) Create(ctx context.Context, path string, content io.Reader, _ int64, modified time.Time) error {
	return s.pool.do(ctx, func(c *control) error {
		failing := &failing{Reader: content}
		err := c.ftp.Stor(path, failing)
		if failing.err != nil { // the server may think that it has all of it
			return failing.err
		}
		if code := replyOf(err); code == ftp.StatusExceededStorage || code == ftp.Status452 || code == ftp.StatusActionAborted &&
			couldNotWrite.MatchString(err.Error()) {
			return store.Errorf(store.ErrNoSpace, "the server could not write all of it, as its disk or a quota is full: %w", err)
		}
		if err == nil && !modified.IsZero() && s.found().setsTimes {
			err = c.ftp.SetTime(path, modified)
		}
		return err
	})
}

// couldNotWrite are the words with which servers tell a full disk, which they do by
// the reply for any fault of theirs (451).
var couldNotWrite = regexp.MustCompile(`(?i)\b(writ(e|ing)|space|quota|full)\b`)

// failing remembers that its content failed.
type failing struct {
	io.Reader
	err error
}

func (f *failing) Read(p []byte) (int, error) {
	n, err := f.Reader.Read(p)
	if err != nil && err != io.EOF {
		f.err = err
	}
	return n, err
}

// Replaces implements fileserver.Server.
func (s *server) Replaces() bool { return s.found().replaces }

// Rename implements fileserver.Server.
func (s *server) Rename(ctx context.Context, from, to string, replace bool) error {
	if !replace {
		if err := s.free(ctx, to); err != nil {
			return err
		}
	}
	err := s.pool.do(ctx, func(c *control) error { return c.ftp.Rename(from, to) })
	if err == nil || replyOf(err) == 0 && store.KindOf(err) != store.ErrRefused && store.KindOf(err) != store.ErrNameRefused {
		return err
	}
	if taken := s.free(ctx, to); taken != nil && !replace {
		return taken
	}
	if _, look := s.Stat(ctx, from); store.KindOf(look) == store.ErrNotFound {
		return look
	}
	return err
}

// free returns ErrExists if the name is taken.
func (s *server) free(ctx context.Context, path string) error {
	_, err := s.Stat(ctx, path)
	switch {
	case err == nil:
		return store.Errorf(store.ErrExists, "%s already exists", path)
	case store.KindOf(err) == store.ErrNotFound:
		return nil
	}
	return err
}

// MakeFolder implements fileserver.Server.
func (s *server) MakeFolder(ctx context.Context, path string) error {
	return s.pool.do(ctx, func(c *control) error { return c.ftp.MakeDir(path) })
}

// Remove implements fileserver.Server.
func (s *server) Remove(ctx context.Context, path string) error {
	err := s.pool.do(ctx, func(c *control) error { return c.ftp.Delete(path) })
	return s.gone(ctx, path, err)
}

// RemoveFolder implements fileserver.Server.
func (s *server) RemoveFolder(ctx context.Context, path string) error {
	err := s.pool.do(ctx, func(c *control) error { return c.ftp.RemoveDir(path) })
	return s.gone(ctx, path, err)
}

// gone makes of a refusal ErrNotFound where that is why.
func (s *server) gone(ctx context.Context, path string, err error) error {
	if store.KindOf(err) == store.ErrRefused {
		if _, look := s.Stat(ctx, path); store.KindOf(look) == store.ErrNotFound {
			return look
		}
	}
	return err
}
