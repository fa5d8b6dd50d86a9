package folder

import (
	"errors"
	"io"

	"golang.org/x/sys/unix"
)

// file is an open file of a disk: without what [os.File] adds for files that are waited
// for, which costs as much as a small file itself.
type file struct{ fd int }

// openAt opens a file in a folder, and does not follow a link.
func openAt(dir int, name string, flags int, mode uint32) (*file, error) {
	for {
		fd, err := unix.Openat(dir, name, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC, mode)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, err
		}
		return &file{fd}, nil
	}
}

// Read implements io.Reader.
func (f *file) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for {
		n, err := unix.Read(f.fd, p)
		switch {
		case err == unix.EINTR:
		case err != nil:
			return 0, err
		case n == 0:
			return 0, io.EOF
		default:
			return n, nil
		}
	}
}

// Write implements io.Writer.
func (f *file) Write(p []byte) (written int, err error) {
	for written < len(p) {
		n, err := unix.Write(f.fd, p[written:])
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return written, err
		}
		written += n
	}
	return written, nil
}

func (f *file) seek(offset int64, whence int) (int64, error) { return unix.Seek(f.fd, offset, whence) }

func (f *file) sync() error { return again(func() error { return unix.Fsync(f.fd) }) }

// written returns the error that the content could not be written with, after all of its
// file system was synced: that alone does not tell it of each file, and before Linux 5.8
// of none. It waits for no disk.
func (f *file) written() error {
	err := again(func() error { return unix.SyncFileRange(f.fd, 0, 0, unix.SYNC_FILE_RANGE_WAIT_BEFORE) })
	if unsupported(err) || errors.Is(err, unix.ESPIPE) {
		return f.sync()
	}
	return err
}

func (f *file) truncate(size int64) error {
	return again(func() error { return unix.Ftruncate(f.fd, size) })
}

func (f *file) close() { _ = unix.Close(f.fd) }

// stat looks at the file.
func (f *file) stat() (stat unix.Statx_t, err error) {
	err = unix.Statx(f.fd, "", unix.AT_EMPTY_PATH, wanted, &stat)
	return stat, err
}

// again repeats a system call that a signal has interrupted.
func again(do func() error) error {
	for {
		if err := do(); !errors.Is(err, unix.EINTR) {
			return err
		}
	}
}

// copyRange copies up to n bytes from the positions of both files: within the kernel, which
// shares blocks if the file system can, otherwise through memory. io.EOF means that there
// are no more.
func copyRange(to, from *file, n int64) (int64, error) {
	for {
		copied, err := unix.CopyFileRange(from.fd, nil, to.fd, nil, int(n), 0)
		switch {
		case err == unix.EINTR:
		case unsupported(err), errors.Is(err, unix.EXDEV), errors.Is(err, unix.EPERM):
			return io.CopyN(to, from, n)
		case err != nil:
			return 0, err
		case copied == 0:
			return 0, io.EOF
		default:
			return int64(copied), nil
		}
	}
}
