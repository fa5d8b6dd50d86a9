package compare

import (
	"context"
	"slices"

	"deftheron/core/store"
)

// File is a file to be compared by its content.
type File struct {
	Store store.Store
	Place store.Place
	Entry store.Entry
}

// SourceError marks an error of the first of two files.
type SourceError struct{ error }

// NewSourceError marks an error as the source's.
func NewSourceError(err error) error { return SourceError{err} }

// Unwrap returns the error itself.
func (e SourceError) Unwrap() error { return e.error }

// ErrUntold says that two contents could be told apart only by reading them.
var ErrUntold = store.Errorf(store.ErrUnsupported, "no hash is told by both sides")

// Contents compares two files: by size, by a hash that both sides tell, and
// else, where reading is allowed, by reading both. proof is the hash that both
// have, in words. ErrUntold where nothing that is told decides.
func Contents(ctx context.Context, source, target File, reading bool) (same bool, evidence Evidence, proof string, err error) {
	if source.Entry.Size >= 0 && target.Entry.Size >= 0 && source.Entry.Size != target.Entry.Size {
		return false, BySize, "", nil
	}
	for _, kind := range sharedKinds(source, target) {
		theirs, err := store.Sum(ctx, target.Store, target.Place, target.Entry, kind)
		if store.KindOf(err) == store.ErrUnsupported {
			continue
		} else if err != nil {
			return false, "", "", err
		}
		mine, err := store.Sum(ctx, source.Store, source.Place, source.Entry, kind)
		if store.KindOf(err) == store.ErrUnsupported {
			continue
		} else if err != nil {
			return false, "", "", SourceError{err}
		}
		return mine == theirs, ByHash, mine.String() + " (told by both)", nil
	}
	if !reading {
		return false, "", "", ErrUntold
	}
	mine, _, err := store.ReadBack(ctx, source.Store, source.Place, source.Entry.Revision, store.CRC64NVME)
	if err != nil {
		return false, "", "", SourceError{err}
	}
	theirs, _, err := store.ReadBack(ctx, target.Store, target.Place, target.Entry.Revision, store.CRC64NVME)
	if err != nil {
		return false, "", "", err
	}
	return mine == theirs, ByReading, mine.String() + " (both read)", nil
}

// sharedKinds are the hashes that both stores may tell: the one that is known of
// both already, or else the cheapest first.
func sharedKinds(a, b File) (kinds []store.HashKind) {
	if mine, _, ok := store.Shared(a.Entry.Hashes, b.Entry.Hashes); ok {
		return []store.HashKind{mine.Kind}
	}
	for _, kind := range store.HashKinds() {
		if a.tells(kind) && b.tells(kind) {
			kinds = append(kinds, kind)
		}
	}
	return kinds
}

func (f File) tells(kind store.HashKind) bool {
	if !f.Entry.Hashes.Get(kind).IsZero() {
		return true
	}
	summer, ok := f.Store.(store.Summer)
	return ok && slices.Contains(summer.SumKinds(), kind)
}
