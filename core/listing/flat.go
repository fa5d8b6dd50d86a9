// Package listing lists whole subtrees of a store in the order of keys: by the store's own
// flat listing, in shards where that is large, or folder by folder ahead of the reader.
package listing

import (
	"context"
	"iter"
	"strings"

	"deftheron/core/retry"
	"deftheron/core/spill"
	"deftheron/core/store"
)

// Flat yields everything below a folder in the order of keys. Where the
// store has no such ability, folders are listed side by side, ahead of what is
// yielded, and those that come in no order are sorted. What is ours is left out,
// unless the folder lies within our own.
func Flat(ctx context.Context, s store.Store, folder store.Folder) iter.Seq2[store.Listed, error] {
	return FlatWithout(ctx, s, folder, Walk{})
}

// Walk says how a subtree is listed. Its functions may be nil.
type Walk struct {
	// Leave says of a folder whether it is not looked into, which spares its
	// listing where folders are listed one by one. A store that lists a whole
	// subtree at once may yield what is in it. It is called by one goroutine at
	// a time.
	Leave func(store.Listed) bool
	// Ours is called with each entry that the listing leaves out because it is ours; see
	// the function [Ours]. It may be called by several goroutines at once.
	Ours func(store.Listed)
}

// FlatWithout is Flat as a Walk says.
func FlatWithout(ctx context.Context, s store.Store, folder store.Folder, how Walk) iter.Seq2[store.Listed, error] {
	if how.Ours == nil {
		how.Ours = func(store.Listed) {}
	}
	flat := walk(ctx, s, folder, how)
	if list := s.Capabilities().ListFlat; list != nil {
		flat = sharded(ctx, s, list, folder)
	}
	return func(yield func(store.Listed, error) bool) {
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
func oursBelow(folder store.Path, listed store.Listed) bool {
	at := folder + listed.Below
	return store.Ours(at, listed.Name) || isOwn(at) && !isOwn(folder)
}

// isOwn reports whether a folder is our own at the start of an account, or lies in it.
func isOwn(folder store.Path) bool { return strings.HasPrefix(string(folder), store.OwnFolder+"/") }

// Sorted yields the children of one folder in the order of keys. Of a folder that
// is listed in no order, what memory should not hold is kept in a scratch file.
func Sorted(ctx context.Context, s store.Store, folder store.Folder) iter.Seq2[store.Entry, error] {
	if s.Traits().Order == store.OrderByKey {
		return s.List(ctx, folder)
	}
	return func(yield func(store.Entry, error) bool) {
		sorter, err := retry.Read(ctx, func() (*spill.Sorter[store.Entry], error) { return sorted(s.List(ctx, folder)) })
		if err != nil {
			yield(store.Entry{}, err)
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
func sorted(listing iter.Seq2[store.Entry, error]) (*spill.Sorter[store.Entry], error) {
	sorter := &spill.Sorter[store.Entry]{}
	for entry, err := range listing {
		if err == nil {
			key, tie := string(store.KeyOf("", entry.Name, entry.Kind)), "b"
			if entry.Kind == store.KindFolder {
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
