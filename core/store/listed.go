package store

import (
	"sort"
)

// Listed is an entry of a subtree, with the folder that it is in.
type Listed struct {
	// Below is the folder of the entry, relative to the one listed.
	Below Path
	Entry
}

// Key of the entry, relative to the folder listed.
func (l Listed) Key() Key { return KeyOf(l.Below, l.Name, l.Kind) }

// SortByKey sorts the children of one folder into the order of keys.
func SortByKey(entries []Entry) {
	sort.Slice(entries, func(i, j int) bool {
		a, b := &entries[i], &entries[j]
		return LessInFolder(a.Name, a.Kind == KindFolder, b.Name, b.Kind == KindFolder)
	})
}

// LessInFolder reports whether one child of a folder comes before another in the order
// of keys, without building the keys: a folder's name counts as if "/" followed it.
// aFolder and bFolder say which are folders.
func LessInFolder(a string, aFolder bool, b string, bFolder bool) bool {
	n := min(len(a), len(b))
	for i := range n {
		x, y := keyByte(a[i]), keyByte(b[i])
		if x != y {
			return x < y
		}
	}
	x, y := byteAfter(a, n, aFolder), byteAfter(b, n, bFolder)
	if x != y {
		return x < y
	}
	return aFolder && !bFolder
}

// byteAfter is the byte of the key at n, -1 past its end.
func byteAfter(name string, n int, folder bool) int {
	switch {
	case n < len(name):
		return keyByte(name[n])
	case folder:
		return '/'
	}
	return -1
}

func keyByte(b byte) int {
	if b == '/' {
		return 0
	}
	return int(b)
}
