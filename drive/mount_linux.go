package drive

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"

	"deftheron/client"
	"deftheron/core/remedy"
)

const (
	// believed is how long the system believes what it was told of an entry, and listedFor how long a
	// listing answers for its entries.
	believed, listedFor = time.Second, 5 * time.Second
	// mostListed is how many entries of listings are remembered.
	mostListed = 50_000
)

// mounted is a mounted tree.
type mounted struct {
	Options
	drive   *client.Drive
	started time.Time

	mu     sync.Mutex
	listed int // entries that folders remember
	epoch  int // counts up when all that is remembered is forgotten
}

func mount(ctx context.Context, folder string, options Options, ready func()) error {
	if _, err := os.Stat("/dev/fuse"); err != nil {
		return remedy.Errorf("this machine has no FUSE (/dev/fuse: %v); load the kernel module fuse, or use the network drive at %s",
			errors.Unwrap(err), options.Client.Drive().URL())
	}
	if os.Geteuid() != 0 {
		if _, err := exec.LookPath("fusermount3"); err != nil {
			return remedy.Errorf("fusermount3 is missing, which mounts for users other than root; install the package fuse3")
		}
	}
	info, err := os.Stat(folder)
	if err != nil || !info.IsDir() {
		return remedy.Errorf("%s is not a folder; make it first", folder)
	}
	if err := os.MkdirAll(options.Unsaved, 0o700); err != nil {
		return fmt.Errorf("could not make the folder for unsaved contents: %w", err)
	}
	m := &mounted{Options: options, drive: options.Client.Drive(), started: time.Now()}
	entry, err := m.drive.Stat(ctx, m.path(""))
	if err != nil {
		return err
	}
	if !entry.Folder {
		return remedy.Errorf("%s is a file; name a folder to mount", options.Start)
	}
	second := believed
	kernel := fuse.MountOptions{FsName: "deft-heron", Name: "heron", AllowOther: options.Others, MaxWrite: 1 << 20,
		MaxReadAhead: 256 << 10, DirectMount: os.Geteuid() == 0, Options: []string{"default_permissions"}}
	if options.ReadOnly {
		kernel.Options = append(kernel.Options, "ro")
	}
	server, err := fs.Mount(folder, &node{m: m, entry: entry}, &fs.Options{
		MountOptions: kernel, EntryTimeout: &second, AttrTimeout: &second, UID: uint32(os.Getuid()), GID: uint32(os.Getgid()),
	})
	if err != nil {
		return remedy.Errorf("%s cannot be mounted (%v); look whether something is mounted there, and whether this user may mount", folder, err)
	}
	ended := make(chan struct{})
	go func() {
		server.Wait()
		close(ended)
	}()
	ready()
	select {
	case <-ended: // it was unmounted by somebody else
		return nil
	case <-ctx.Done():
	}
	unmount(server, folder, info, ended, options.Log)
	return nil
}

// freeEvery is how often it is checked whether the folder is free while the mount does not end.
const freeEvery = 2 * time.Second

// unmount unmounts the folder, and returns when the mount has ended. before describes the folder as it was
// before.
//
// A mount that the system refers to elsewhere, for example from another namespace, does not end when its
// folder is unmounted. No file is open there then, and all closed files are saved: unmount returns when the
// folder is free.
func unmount(server *fuse.Server, folder string, before os.FileInfo, ended <-chan struct{}, log *slog.Logger) {
	failed := make(chan error, 1)
	go func() { failed <- server.Unmount() }()
	for {
		select {
		case <-ended:
			return
		case err := <-failed:
			if err != nil { // a file is open there
				log.Warn("the folder is in use and is unmounted once it is not", "folder", folder)
				_ = exec.Command("umount", "-l", folder).Run()
			}
			<-ended
			return
		case <-time.After(freeEvery):
			if now, err := os.Stat(folder); errors.Is(err, os.ErrNotExist) || err == nil && os.SameFile(now, before) {
				return
			}
		}
	}
}

// path is that of an entry of the drive, by its path in the mount.
func (m *mounted) path(at string) string {
	start := strings.TrimSuffix(m.Start, "/")
	if at == "" {
		if start == "" {
			return "/"
		}
		return start
	}
	return start + "/" + at
}

// remember counts entries that a folder remembers; false says that all forget theirs first.
func (m *mounted) remember(n int) (epoch int, ok bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if n > mostListed {
		return m.epoch, false
	}
	if m.listed += n; m.listed > mostListed {
		m.epoch, m.listed = m.epoch+1, n
	}
	return m.epoch, true
}

func (m *mounted) now() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.epoch
}

// errno is an error of the drive as the system has them.
func (m *mounted) errno(what, path string, err error) syscall.Errno {
	if err == nil {
		return fs.OK
	}
	number := syscall.EIO
	var answer *client.DriveError
	switch {
	case errors.Is(err, context.Canceled):
		return syscall.EINTR
	case errors.As(err, &answer):
		switch answer.Status {
		case http.StatusNotFound, http.StatusConflict:
			return syscall.ENOENT
		case http.StatusUnauthorized, http.StatusForbidden:
			number = syscall.EACCES
		case http.StatusMethodNotAllowed:
			number = syscall.EEXIST
		case http.StatusPreconditionFailed:
			number = syscall.ESTALE
		case http.StatusLocked:
			number = syscall.EBUSY
		case http.StatusRequestEntityTooLarge:
			number = syscall.EFBIG
		case http.StatusInsufficientStorage:
			number = syscall.ENOSPC
		case http.StatusNotImplemented:
			number = syscall.ENOTSUP
		}
	}
	m.Log.Warn("the drive answered with an error", "request", what, "path", path, "error", err)
	return number
}
