package drive

import (
	"context"
	"io"
	"os"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"

	"deftheron/client"
)

// staged is the content of a file that is being written, on the local disk until it is closed.
type staged struct {
	file *os.File
	// base is the entity tag of what it replaces, and isNew says that nothing was there.
	base  string
	isNew bool
	// dirty says that the drive does not have it yet.
	dirty bool
	// gone says that the file was deleted while it was open.
	gone     bool
	modified time.Time
	handles  int // that write
}

func (s *staged) size() int64 {
	info, err := s.file.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

// handle is an open file.
type handle struct {
	n      *node
	writes bool
	reader *reader // of a handle that only reads
	cancel context.CancelFunc
}

var (
	_ fs.FileReader   = (*handle)(nil)
	_ fs.FileWriter   = (*handle)(nil)
	_ fs.FileFlusher  = (*handle)(nil)
	_ fs.FileFsyncer  = (*handle)(nil)
	_ fs.FileReleaser = (*handle)(nil)
)

// isStaged reports whether the file is being written.
func (n *node) isStaged() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.staged != nil
}

// stage makes the local copy that is written to. empty leaves the content out.
func (n *node) stage(ctx context.Context, isNew, empty bool) syscall.Errno {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.staged != nil {
		return fs.OK
	}
	if n.entry.Size < 0 && !isNew {
		return syscall.EACCES // a document that only its service changes
	}
	file, err := os.CreateTemp(n.m.Unsaved, "content-*")
	if err != nil {
		n.m.Log.Error("the content of a file cannot be kept while it is written", "error", err)
		return syscall.EIO
	}
	one := &staged{file: file, base: n.entry.ETag, isNew: isNew, dirty: isNew || empty && n.entry.Size > 0, modified: n.entry.Modified}
	if isNew {
		one.modified = time.Now()
	}
	if !isNew && !empty && n.entry.Size > 0 {
		if err := n.fetch(ctx, file); err != nil {
			file.Close()
			os.Remove(file.Name())
			return n.m.errno("read", n.path(), err)
		}
	}
	n.staged = one
	return fs.OK
}

// fetch reads the whole content into a file.
func (n *node) fetch(ctx context.Context, into *os.File) error {
	body, err := n.m.drive.Read(ctx, n.path(), n.entry.ETag, 0, 0)
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.Copy(into, body)
	return err
}

// Create implements fs.NodeCreater. The file is on the drive once it is closed.
func (n *node) Create(ctx context.Context, name string, _, _ uint32, out *fuse.EntryOut) (*fs.Inode, fs.FileHandle, uint32, syscall.Errno) {
	defer n.forget()
	inode := n.child(ctx, name, client.DriveEntry{Name: name}, out)
	one := inode.Operations().(*node)
	if failed := one.stage(ctx, true, true); failed != fs.OK {
		return nil, nil, 0, failed
	}
	one.mu.Lock()
	defer one.mu.Unlock()
	one.staged.handles++
	one.fill(&out.Attr)
	return inode, &handle{n: one, writes: true}, 0, fs.OK
}

// Open implements fs.NodeOpener.
func (n *node) Open(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	if flags&syscall.O_ACCMODE != syscall.O_RDONLY {
		if failed := n.stage(ctx, false, flags&syscall.O_TRUNC != 0); failed != fs.OK {
			return nil, 0, failed
		}
		n.mu.Lock()
		n.staged.handles++
		n.mu.Unlock()
		return &handle{n: n, writes: true}, 0, fs.OK
	}
	lasting, cancel := context.WithCancel(context.Background())
	n.mu.Lock()
	entry, path := n.entry, n.path()
	n.mu.Unlock()
	h := &handle{n: n, cancel: cancel}
	h.reader = &reader{size: entry.Size, open: func(offset, length int64) (io.ReadCloser, error) {
		return n.m.drive.Read(lasting, path, entry.ETag, offset, length)
	}}
	if entry.Size < 0 { // known once it is read
		h.reader.size, h.reader.whole = 1<<62, true
		return h, fuse.FOPEN_DIRECT_IO, fs.OK
	}
	return h, 0, fs.OK
}

// Read implements fs.FileReader.
func (h *handle) Read(_ context.Context, p []byte, offset int64) (fuse.ReadResult, syscall.Errno) {
	h.n.mu.Lock()
	if one := h.n.staged; one != nil {
		defer h.n.mu.Unlock()
		n, err := one.file.ReadAt(p, offset)
		if err != nil && err != io.EOF {
			return nil, syscall.EIO
		}
		return fuse.ReadResultData(p[:n]), fs.OK
	}
	h.n.mu.Unlock()
	if h.reader == nil {
		return nil, syscall.EBADF
	}
	n, err := h.reader.readAt(p, offset)
	if err != nil {
		return nil, h.n.m.errno("read", h.n.path(), err)
	}
	return fuse.ReadResultData(p[:n]), fs.OK
}

// Write implements fs.FileWriter.
func (h *handle) Write(_ context.Context, data []byte, offset int64) (uint32, syscall.Errno) {
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	one := h.n.staged
	if one == nil {
		return 0, syscall.EBADF
	}
	n, err := one.file.WriteAt(data, offset)
	one.dirty, one.modified = true, time.Now()
	if err != nil {
		h.n.m.Log.Error("the content of a file cannot be kept while it is written", "error", err)
		return uint32(n), syscall.ENOSPC
	}
	return uint32(n), fs.OK
}

// Flush implements fs.FileFlusher: closing a file has the drive keep it.
func (h *handle) Flush(ctx context.Context) syscall.Errno { return h.save(ctx) }

// Fsync implements fs.FileFsyncer.
func (h *handle) Fsync(ctx context.Context, _ uint32) syscall.Errno { return h.save(ctx) }

func (h *handle) save(ctx context.Context) syscall.Errno {
	if !h.writes {
		return fs.OK
	}
	return h.n.save(ctx)
}

// save has the drive keep what was written.
func (n *node) save(ctx context.Context) syscall.Errno {
	n.mu.Lock()
	defer n.mu.Unlock()
	one := n.staged
	if one == nil || !one.dirty || one.gone {
		return fs.OK
	}
	size := one.size()
	base := one.base
	if !one.isNew && base == "" { // a provider without revisions: what is there is replaced
		base = "*"
	}
	path := n.path()
	tag, err := n.m.drive.Write(context.WithoutCancel(ctx), path, base, io.NewSectionReader(one.file, 0, size), size, one.modified)
	if err != nil {
		n.m.Log.Error("a file could not be saved, and its content is kept on this machine", "file", path, "kept", one.file.Name(), "error", err)
		return n.m.errno("save", path, err)
	}
	one.base, one.isNew, one.dirty = tag, false, false
	n.entry.ETag, n.entry.Size, n.entry.Modified = tag, size, one.modified
	if _, parent := n.Parent(); parent != nil {
		parent.Operations().(*node).forget()
		_ = parent.NotifyContent(-1, 0) // its time is another, which the kernel keeps
	}
	return fs.OK
}

// Release implements fs.FileReleaser.
func (h *handle) Release(context.Context) syscall.Errno {
	if h.cancel != nil {
		h.cancel()
		h.reader.mu.Lock()
		h.reader.close()
		h.reader.mu.Unlock()
	}
	if !h.writes {
		return fs.OK
	}
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	if one := h.n.staged; one != nil {
		if one.handles--; one.handles <= 0 {
			one.file.Close()
			if !one.dirty || one.gone {
				os.Remove(one.file.Name())
			}
			h.n.staged = nil
		}
	}
	return fs.OK
}

// dropNew has nothing more saved of a file that is deleted, and reports whether the drive does not have
// it yet.
func (n *node) dropNew() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.staged == nil {
		return false
	}
	n.staged.gone = true
	return n.staged.isNew
}

// moved notes what a file is like at its new name.
func (n *node) moved(entry client.DriveEntry) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.entry = entry
	if n.staged != nil {
		n.staged.base = entry.ETag
	}
}

// Setattr implements fs.NodeSetattrer: the size, and the time. Modes and owners are not kept.
func (n *node) Setattr(ctx context.Context, _ fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	size, sized := in.GetSize()
	modified, timed := in.GetMTime()
	alone := !n.isStaged() // nobody closes the file after this
	if sized {
		if failed := n.stage(ctx, false, size == 0); failed != fs.OK {
			return failed
		}
	}
	n.mu.Lock()
	if one := n.staged; one != nil {
		if sized {
			if err := one.file.Truncate(int64(size)); err != nil {
				n.mu.Unlock()
				return syscall.EIO
			}
			one.dirty, one.modified = true, time.Now()
		}
		if timed {
			one.modified = modified
		}
	}
	n.mu.Unlock()
	if sized && alone {
		failed := n.save(ctx)
		n.mu.Lock()
		if one := n.staged; one != nil && one.handles == 0 {
			one.file.Close()
			os.Remove(one.file.Name())
			n.staged = nil
		}
		n.mu.Unlock()
		if failed != fs.OK {
			return failed
		}
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.fill(&out.Attr)
	return fs.OK
}
