package folder

import (
	"bytes"
	"encoding/binary"
	"os"

	"golang.org/x/sys/unix"
)

// readNames calls take with each name in a folder, in whichever order the disk has them,
// and whether it is a folder. Unlike [os.File.ReadDir] it looks at no entry: a file that
// was opened below an os.Root is looked at for each name there (getdents64(2)).
func readNames(dir *os.File, take func(name string, folder bool)) error {
	buffer := make([]byte, 64<<10)
	for {
		n, err := unix.Getdents(int(dir.Fd()), buffer)
		if err == unix.EINTR {
			continue
		}
		if err != nil || n <= 0 {
			return err
		}
		for rest := buffer[:n]; len(rest) > nameAt; {
			length := int(binary.NativeEndian.Uint16(rest[16:]))
			entry := rest[:length]
			rest = rest[length:]
			name, _, _ := bytes.Cut(entry[nameAt:], []byte{0})
			if binary.NativeEndian.Uint64(entry) == 0 || string(name) == "." || string(name) == ".." {
				continue
			}
			kind := entry[18]
			if kind == unix.DT_UNKNOWN { // the file system does not tell
				var stat unix.Stat_t
				if unix.Fstatat(int(dir.Fd()), string(name), &stat, unix.AT_SYMLINK_NOFOLLOW) == nil && stat.Mode&unix.S_IFMT == unix.S_IFDIR {
					kind = unix.DT_DIR
				}
			}
			take(string(name), kind == unix.DT_DIR)
		}
	}
}

// nameAt is where the name begins in an entry: after its inode, its offset, its length
// and its kind.
const nameAt = 19
