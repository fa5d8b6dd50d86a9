package folder

import (
	"bytes"
	"cmp"
	"container/heap"
	"encoding/binary"
	"iter"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"deftheron/core/spill"
	"deftheron/core/store"
)

// readNames calls take with each name in a folder, in whichever order the disk has them,
// and whether it is a folder. Unlike [os.File.ReadDir] it looks at no entry: a file that
// was opened below an os.Root is looked at for each name there (getdents64(2)).
func readNames(dir *os.File, take func(name string, folder bool) error) error {
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
			if err := take(string(name), kind == unix.DT_DIR); err != nil {
				return err
			}
		}
	}
}

// mostHeld is how many names of one folder are held in memory, about 20 MiB.
const mostHeld = 400_000

// sorted sorts the names of a folder. Up to mostHeld of them it holds as a heap: the first
// name is known without sorting the others, and memory shrinks with each name taken. More
// go to a scratch file. The zero value is ready to use.
type sorted struct {
	held   children
	sorter spill.Sorter[bool] // by key; the value says whether it is a folder
	spills bool
	most   int // held; 0 is mostHeld
}

func (s *sorted) add(name string, folder bool) error {
	most := cmp.Or(s.most, mostHeld)
	if !s.spills && len(s.held) < most {
		s.held = append(s.held, child{name, folder})
		return nil
	}
	if !s.spills {
		s.spills, s.sorter.Hold = true, most/2
		for _, one := range s.held {
			if err := s.sorter.Add(one.key(), "", one.folder); err != nil {
				return err
			}
		}
		s.held = nil
	}
	return s.sorter.Add(child{name, folder}.key(), "", folder)
}

// all yields the names in order. It is for one use.
func (s *sorted) all() iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		heap.Init(&s.held)
		for len(s.held) > 0 {
			if !yield(s.held.first(), nil) {
				return
			}
		}
		for one, err := range s.sorter.All() {
			name := one.Key
			if one.Value {
				name = strings.TrimSuffix(name, "/")
			}
			if !yield(name, err) || err != nil {
				return
			}
		}
	}
}

// child is a name in a folder.
type child struct {
	name   string
	folder bool
}

// key returns what [store.LessInFolder] compares.
func (c child) key() string {
	if c.folder {
		return c.name + "/"
	}
	return c.name
}

// children implements heap.Interface.
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

// nameAt is where the name begins in an entry: after its inode, its offset, its length
// and its kind.
const nameAt = 19
