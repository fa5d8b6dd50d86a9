package folder

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"iter"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"deftheron/core/spill"
	"deftheron/core/store"
)

// readNames calls take with each name in a folder, in the order of the disk, and whether it
// is a folder. The bytes of a name are valid until take returns. It needs no stat of the
// entries (getdents64(2)), unlike [os.File.ReadDir] of a folder that was opened below an
// os.Root. For a large folder, names are read on one processor while others are taken on
// another.
func readNames(dir *os.File, take func(name []byte, folder bool) error) error {
	buffer := make([]byte, 64<<10)
	for range 2 {
		n, err := readSome(dir, buffer)
		if err != nil || n == 0 {
			return err
		}
		if err := takeNames(dir, buffer[:n], take); err != nil {
			return err
		}
	}
	filled, empty := make(chan []byte, 2), make(chan []byte, 2)
	empty <- buffer
	empty <- make([]byte, len(buffer))
	var failure error
	go func() {
		defer close(filled)
		for next := range empty {
			n, err := readSome(dir, next)
			if err != nil || n == 0 {
				failure = err
				return
			}
			filled <- next[:n]
		}
	}()
	for next := range filled {
		if err := takeNames(dir, next, take); err != nil {
			close(empty)
			for range filled { // until nobody reads
			}
			return err
		}
		empty <- next[:cap(next)]
	}
	return failure
}

// readSome reads entries of a folder; 0 bytes mean that there are no more.
func readSome(dir *os.File, buffer []byte) (int, error) {
	for {
		n, err := unix.Getdents(int(dir.Fd()), buffer)
		if err != unix.EINTR {
			return max(0, n), err
		}
	}
}

func takeNames(dir *os.File, entries []byte, take func(name []byte, folder bool) error) error {
	for len(entries) > nameAt {
		entry := entries[:binary.NativeEndian.Uint16(entries[16:])]
		entries = entries[len(entry):]
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
		if err := take(name, kind == unix.DT_DIR); err != nil {
			return err
		}
	}
	return nil
}

// nameAt is where the name begins in an entry: after its inode, its offset, its length
// and its kind.
const nameAt = 19

const (
	// mostHeld is how many bytes of memory the names of one folder may take: enough for
	// more than a million files.
	mostHeld = 40 << 20
	// blockSize is how many bytes of names are allocated at a time, but for the first few.
	blockSize = 256 << 10
	// fewNames are sorted at once; of more, the larger ones are put aside first.
	fewNames = 4096
)

// sorted sorts the names of a folder. Up to mostHeld bytes of them it holds, and sorts as
// far as they are asked for: the first thousands are known when all names are read. More
// go to a scratch file. The zero value is ready to use.
type sorted struct {
	blocks []*strings.Builder // the bytes of the names, one after the other
	first  []child            // the smallest so far
	limit  child              // what is not in first comes after limit, if held is not empty
	held   []child            // the others
	bytes  int
	most   int // bytes held; 0 is mostHeld

	spills bool
	sorter spill.Sorter[bool] // by key; the value says whether it is a folder
}

// child is a name in a folder: where its bytes are among those that a sorted holds, as if
// each block had blockSize.
type child struct {
	at     uint32
	length uint16
	folder bool
}

// childSize is how many bytes a child takes, with the spare capacity of a slice.
const childSize = 8 * 3 / 2

func (s *sorted) add(name []byte, folder bool) error {
	if s.spills {
		return s.spill(string(name), folder)
	}
	block := len(s.blocks) - 1
	if block < 0 || s.blocks[block].Len()+len(name) > s.blocks[block].Cap() {
		// The first is small, since most folders are.
		next := new(strings.Builder)
		next.Grow(max(len(name), blockSize>>max(0, 8-2*len(s.blocks))))
		s.blocks = append(s.blocks, next)
		s.bytes += next.Cap()
		block++
	}
	at := s.blocks[block].Len()
	s.blocks[block].Write(name)
	s.hold(child{uint32(block*blockSize + at), uint16(len(name)), folder})
	if s.bytes+(len(s.first)+len(s.held))*childSize <= cmp.Or(s.most, mostHeld) {
		return nil
	}
	s.held = append(s.held, s.first...)
	s.spills, s.sorter.Hold = true, len(s.held)/4 // a key by itself takes more than one in a block
	for _, one := range s.held {
		if err := s.spill(s.name(one), one.folder); err != nil {
			return err
		}
	}
	s.first, s.held, s.blocks = nil, nil, nil
	return nil
}

// hold takes a name. Of twice fewNames in first the larger ones leave it.
func (s *sorted) hold(one child) {
	if len(s.held) > 0 && s.compare(one, s.limit) > 0 {
		if len(s.held) == cap(s.held) {
			s.held = slices.Grow(s.held, len(s.held)/2+1) // append adds a quarter, and copies twice as much
		}
		s.held = append(s.held, one)
		return
	}
	s.first = append(s.first, one)
	if len(s.first) == 2*fewNames {
		smaller := s.split(s.first)
		s.held = append(s.held, s.first[smaller:]...)
		s.first = s.first[:smaller]
		s.limit = slices.MaxFunc(s.first, s.compare)
	}
}

func (s *sorted) spill(name string, folder bool) error {
	if folder {
		name += "/"
	}
	return s.sorter.Add(name, "", folder)
}

func (s *sorted) name(c child) string {
	return s.blocks[c.at/blockSize].String()[c.at%blockSize:][:c.length]
}

func (s *sorted) compare(a, b child) int {
	if store.LessInFolder(s.name(a), a.folder, s.name(b), b.folder) {
		return -1
	}
	return 1 // no name is there twice
}

// all yields the names in order. It is for one use.
func (s *sorted) all() iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		if !s.yieldSome(s.first, yield) {
			return
		}
		// ends are where parts of held end of which each name comes before those of the
		// next part; the first part is last.
		ends := []int{len(s.held)}
		for begin := 0; begin < len(s.held); {
			end := ends[len(ends)-1]
			if end-begin > fewNames {
				ends = append(ends, begin+s.split(s.held[begin:end]))
				continue
			}
			if !s.yieldSome(s.held[begin:end], yield) {
				return
			}
			begin, ends = end, ends[:len(ends)-1]
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

// yieldSome sorts few names and yields them. It reports whether to go on.
func (s *sorted) yieldSome(some []child, yield func(string, error) bool) bool {
	slices.SortFunc(some, s.compare)
	for _, one := range some {
		if !yield(strings.Clone(s.name(one)), nil) {
			return false
		}
	}
	return true
}

// split moves the smaller names to the front and returns how many these are: neither none
// nor all (Hoare's partition).
func (s *sorted) split(part []child) int {
	samples := []child{part[0], part[len(part)/4], part[len(part)/2], part[len(part)/4*3], part[len(part)-1]}
	slices.SortFunc(samples, s.compare)
	pivot := samples[2]
	name := s.name(pivot)
	i, j := -1, len(part)
	for {
		for i++; store.LessInFolder(s.name(part[i]), part[i].folder, name, pivot.folder); {
			i++
		}
		for j--; store.LessInFolder(name, pivot.folder, s.name(part[j]), part[j].folder); {
			j--
		}
		if i >= j {
			return i
		}
		part[i], part[j] = part[j], part[i]
	}
}
