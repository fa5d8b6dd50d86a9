package folder

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// CheckWritable implements store.WriteChecker.
func (p Provider) CheckWritable(options map[string]string, start store.Path) error {
	path := filepath.Join(options["path"], start.Local())
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return nil // what is wrong shows when it is opened
	}
	err := unix.Access(path, unix.W_OK|unix.X_OK)
	var disk unix.Statfs_t
	readOnly := unix.Statfs(path, &disk) == nil && disk.Flags&unix.ST_RDONLY != 0
	if !readOnly && !errors.Is(err, unix.EACCES) {
		return nil
	}
	if !errors.Is(err, unix.EACCES) {
		err = unix.EROFS
	}
	return &store.UnwritableError{Path: path, ReadOnlySystem: readOnly, Err: err}
}
