package folder

import (
	"errors"
	"path/filepath"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// CheckWritable implements store.WriteChecker.
func (p Provider) CheckWritable(options map[string]string, start store.Path) error {
	path := filepath.Join(options["path"], start.Local())
	err := unix.Access(path, unix.W_OK|unix.X_OK)
	var disk unix.Statfs_t
	readOnly := unix.Statfs(path, &disk) == nil && disk.Flags&unix.ST_RDONLY != 0
	if !readOnly && !errors.Is(err, unix.EACCES) {
		return nil // what else is wrong shows when it is opened
	}
	if !errors.Is(err, unix.EACCES) {
		err = unix.EROFS
	}
	return &store.UnwritableError{Path: path, ReadOnlySystem: readOnly, Err: err}
}
