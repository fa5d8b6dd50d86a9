package smb

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/hirochachacha/go-smb2"

	"deftheron/core/publish"
	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// local is a path as the protocol has it: without the slash at its beginning.
func local(path string) string { return strings.Trim(path, "/") }

func entryOf(info fs.FileInfo) store.Entry {
	entry := store.Entry{Name: info.Name(), Size: info.Size(), Modified: info.ModTime(), Kind: store.KindFile}
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		entry.Kind = store.KindOther
	case info.IsDir():
		entry.Kind = store.KindFolder
	}
	return entry
}

// Stat implements fileserver.Server.
func (s *server) Stat(ctx context.Context, path string) (store.Entry, error) {
	var entry store.Entry
	err := s.do(ctx, func(share *smb2.Share) error {
		info, err := share.Lstat(local(path))
		if err == nil {
			entry = entryOf(info)
		}
		return err
	})
	return entry, err
}

// List implements fileserver.Server.
func (s *server) List(ctx context.Context, path string) ([]store.Entry, error) {
	var entries []store.Entry
	err := s.do(ctx, func(share *smb2.Share) error {
		infos, err := share.ReadDir(local(path))
		if err != nil {
			return err
		}
		entries = make([]store.Entry, len(infos))
		for i, info := range infos {
			entries[i] = entryOf(info)
		}
		return nil
	})
	return entries, err
}

// Open implements fileserver.Server.
func (s *server) Open(ctx context.Context, path string, offset, length int64) (io.ReadCloser, error) {
	m, err := s.mounted(ctx)
	if err != nil {
		return nil, err
	}
	stop := fileserver.Watch(ctx, m.cut)
	file, err := m.share.WithContext(context.WithoutCancel(ctx)).Open(local(path))
	if err != nil {
		stop()
		return nil, wrap(err)
	}
	return readAhead(file, offset, length, stop), nil
}

// Create implements fileserver.Server.
func (s *server) Create(ctx context.Context, path string, content io.Reader, _ int64, modified time.Time) error {
	return s.do(ctx, func(share *smb2.Share) error {
		file, err := share.OpenFile(local(path), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
		if err != nil {
			return err
		}
		err = writeAll(file, content)
		if err == nil {
			err = file.Sync()
		}
		if closing := file.Close(); err == nil {
			err = closing
		}
		if err == nil && !modified.IsZero() {
			err = share.Chtimes(local(path), time.Now(), modified)
		}
		return err
	})
}

// Replaces implements fileserver.Server.
func (s *server) Replaces() bool { return false }

// Rename implements fileserver.Server. The server itself refuses a name that is
// taken.
func (s *server) Rename(ctx context.Context, from, to string, _ bool) error {
	return s.do(ctx, func(share *smb2.Share) error { return share.Rename(local(from), local(to)) })
}

// MakeFolder implements fileserver.Server.
func (s *server) MakeFolder(ctx context.Context, path string) error {
	return s.do(ctx, func(share *smb2.Share) error { return share.Mkdir(local(path), 0o777) })
}

// Remove implements fileserver.Server.
func (s *server) Remove(ctx context.Context, path string) error {
	return s.do(ctx, func(share *smb2.Share) error { return share.Remove(local(path)) })
}

// RemoveFolder implements fileserver.Server. The library's removal takes whatever
// has the name, so the folder is given a name of ours first, under which nobody
// replaces it, and is looked at there. The server itself refuses to remove a folder
// that holds something.
func (s *server) RemoveFolder(ctx context.Context, path string) error {
	at := strings.LastIndexByte(path, '/') + 1
	var random [6]byte
	rand.Read(random[:])
	other := path[:at] + store.ArrivingName("removed", hex.EncodeToString(random[:]))
	aside := other
	if name, ok := publish.RemovalName(path[at:]); ok {
		aside = path[:at] + name
	}
	err := s.Rename(ctx, path, aside, false)
	switch store.KindOf(err) {
	case nil:
	case store.ErrExists: // left by an earlier removal that was broken off, and created again
		if left, look := s.Stat(ctx, aside); look == nil && left.Kind == store.KindFolder && s.Remove(ctx, aside) == nil {
			err = s.Rename(ctx, path, aside, false)
		} else { // it holds something
			aside = other
			err = s.Rename(ctx, path, aside, false)
		}
	case store.ErrNotFound: // or by one that is gone on with now
		if _, look := s.Stat(ctx, aside); look == nil {
			err = nil
		}
	}
	if err != nil {
		return err
	}
	lasting := context.WithoutCancel(ctx) // what was begun is ended
	entry, err := s.Stat(lasting, aside)
	if err == nil && entry.Kind != store.KindFolder {
		err = store.Errorf(store.ErrNotFound, "a file is at %s now", path)
	}
	if err == nil {
		err = s.Remove(lasting, aside)
	}
	if err != nil {
		if back := s.Rename(lasting, aside, path, false); back != nil {
			return store.Errorf(store.ErrOutcomeUnknown, "what was at %s is at %s and could not be put back (%w): %w", path, aside, back, err)
		}
	}
	return err
}

func (s *server) space(ctx context.Context) (store.Space, error) {
	space := store.UnknownSpace
	err := s.do(ctx, func(share *smb2.Share) error {
		told, err := share.Statfs("")
		if err != nil {
			return err
		}
		block := told.BlockSize() * told.FragmentSize() // sectors of a unit, and bytes of a sector
		space = store.Space{
			Total: int64(block * told.TotalBlockCount()), Free: int64(block * told.AvailableBlockCount()),
			Used:   int64(block * (told.TotalBlockCount() - told.FreeBlockCount())),
			Volume: fmt.Sprintf("smb %s %s", s.target.address, strings.ToLower(s.target.share)),
		}
		return nil
	})
	return space, err
}
