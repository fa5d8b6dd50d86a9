package store

import (
	"context"
	"iter"
	"sort"
	"strings"

	"deftheron/core/spill"
)

// Listed is an entry of a subtree, with the folder that it is in.
type Listed struct {
	// Below is the folder of the entry, relative to the one listed.
	Below Path
	Entry
}

// Key of the entry, relative to the folder listed.
func (l Listed) Key() Key { return KeyOf(l.Below, l.Name, l.Kind) }

// ListFlat yields everything below a folder in the order of keys. Where the
// store has no such ability, folders are listed side by side, ahead of what is
// yielded, and those that come in no order are sorted. What is ours is left out,
// unless the folder lies within our own.
func ListFlat(ctx context.Context, s Store, folder Folder) iter.Seq2[Listed, error] {
	return ListFlatWithout(ctx, s, folder, Walk{})
}

// Walk says how a subtree is listed. Its functions may be nil.
type Walk struct {
	// Leave says of a folder whether it is not looked into, which spares its
	// listing where folders are listed one by one. A store that lists a whole
	// subtree at once may yield what is in it. It is called by one goroutine at
	// a time.
	Leave func(Listed) bool
	// Ours is told of what is left out of the listing because it is ours; see
	// the function [Ours]. It may be called by several goroutines at once.
	Ours func(Listed)
}

// ListFlatWithout is ListFlat as a Walk says.
func ListFlatWithout(ctx context.Context, s Store, folder Folder, how Walk) iter.Seq2[Listed, error] {
	if how.Ours == nil {
		how.Ours = func(Listed) {}
	}
	flat := walk(ctx, s, folder, how)
	if list := s.Capabilities().ListFlat; list != nil {
		flat = sharded(ctx, s, list, folder)
	}
	return func(yield func(Listed, error) bool) {
		for listed, err := range flat {
			if err == nil && oursBelow(folder.Path, listed) {
				how.Ours(listed)
				continue
			}
			if !yield(listed, err) || err != nil {
				return
			}
		}
	}
}

// oursBelow reports whether an entry below a folder is ours, or lies within our own
// folder.
func oursBelow(folder Path, listed Listed) bool {
	at := folder + listed.Below
	return Ours(at, listed.Name) || isOwn(at) && !isOwn(folder)
}

// isOwn reports whether a folder is our own at the start of an account, or lies in it.
func isOwn(folder Path) bool { return strings.HasPrefix(string(folder), OwnFolder+"/") }

// Sorted yields the children of one folder in the order of keys. Of a folder that
// is listed in no order, what memory should not hold is kept in a scratch file.
func Sorted(ctx context.Context, s Store, folder Folder) iter.Seq2[Entry, error] {
	if s.Traits().Order == OrderByKey {
		return s.List(ctx, folder)
	}
	return func(yield func(Entry, error) bool) {
		sorter, err := RetryRead(ctx, func() (*spill.Sorter[Entry], error) { return sorted(s.List(ctx, folder)) })
		if err != nil {
			yield(Entry{}, err)
			return
		}
		defer sorter.Close()
		for one, err := range sorter.All() {
			if !yield(one.Value, err) || err != nil {
				return
			}
		}
	}
}

// sorted adds a listing to a sorter, in the order of SortByKey.
func sorted(listing iter.Seq2[Entry, error]) (*spill.Sorter[Entry], error) {
	sorter := &spill.Sorter[Entry]{}
	for entry, err := range listing {
		if err == nil {
			key, tie := string(KeyOf("", entry.Name, entry.Kind)), "b"
			if entry.Kind == KindFolder {
				tie = "a"
			}
			err = sorter.Add(key, tie, entry)
		}
		if err != nil {
			sorter.Close()
			return nil, err
		}
	}
	return sorter, nil
}

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
