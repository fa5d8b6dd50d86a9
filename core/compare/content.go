package compare

import (
	"context"
	"io"

	"deftheron/core/store"
)

// File is a file to be compared by its content.
type File struct {
	Store store.Store
	Place store.Ref
	Entry store.Entry
}

// SourceError marks an error of the first of two files.
type SourceError struct{ error }

// NewSourceError marks an error as the source's.
func NewSourceError(err error) error { return SourceError{err} }

// Unwrap returns the error itself.
func (e SourceError) Unwrap() error { return e.error }

// ErrUntold says that two contents could be told apart only by reading them.
var ErrUntold = store.Errorf(store.ErrUnsupported, "the two sides report no hash of the same kind")

// Reading says whether contents are read to compare them.
type Reading string

const (
	// Reported compares by hashes that both sides report, and reads nothing.
	Reported Reading = ""
	// ReadUnreported reads both where nothing that is reported decides.
	ReadUnreported Reading = "unreported"
	// Read reads both in any case. Nothing that is reported, remembered or
	// stamped is taken for the content.
	Read Reading = "always"
)

// Contents compares two files: by size, by a hash that both sides report, and by
// reading both, as reading says. verification is the hash that both have, in words. ErrUntold
// where nothing that is reported decides.
func Contents(ctx context.Context, source, target File, reading Reading) (same bool, evidence Evidence, verification string, err error) {
	if source.Entry.Size >= 0 && target.Entry.Size >= 0 && source.Entry.Size != target.Entry.Size {
		return false, BySize, "", nil
	}
	if reading == Read {
		return readBoth(ctx, source, target, store.BLAKE3)
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
	if reading == Reported {
		return false, "", "", ErrUntold
	}
	return readBoth(ctx, source, target, store.CRC64NVME)
}

func readBoth(ctx context.Context, source, target File,
	kind store.HashKind) (same bool, evidence Evidence, verification string, err error) {
	mine, _, err := store.ReadBack(ctx, source.Store, source.Place, source.Entry.Revision, kind)
	if err != nil {
		return false, "", "", SourceError{err}
	}
	theirs, _, err := store.ReadBack(ctx, target.Store, target.Place, target.Entry.Revision, kind)
	if err != nil {
		return false, "", "", err
	}
	return mine == theirs, ByReading, mine.String() + " (both read)", nil
}

// Digested compares two files of one size, and computes the BLAKE3 of the source: the
// source is read once, and the target where it reports no hash. verification is the hash that
// both have, in words, and digest the BLAKE3 as KIND=HEXADECIMAL.
func Digested(ctx context.Context, source, target File) (same bool, verification, digest string, err error) {
	var theirs store.Hash
	for _, kind := range store.HashKinds() {
		if theirs = target.Entry.Hashes.Get(kind); !theirs.IsZero() {
			break
		}
		if !store.CanSum(target.Store, kind) {
			continue
		}
		if theirs, err = store.Sum(ctx, target.Store, target.Place, target.Entry, kind); err == nil {
			break
		}
		if store.KindOf(err) != store.ErrUnsupported {
			return false, "", "", err
		}
	}
	how := " (told by the target, read at the source)"
	if theirs.IsZero() {
		how = " (both read)"
		if theirs, _, err = store.ReadBack(ctx, target.Store, target.Place, target.Entry.Revision, store.BLAKE3); err != nil {
			return false, "", "", err
		}
	}
	body, err := source.Store.Open(ctx, store.Reading{Place: source.Place, Revision: source.Entry.Revision})
	if err != nil {
		return false, "", "", SourceError{err}
	}
	stream := store.NewStream(body, theirs.Kind, nil)
	defer stream.Close()
	sum := store.BLAKE3.New()
	if _, err := io.Copy(sum, stream); err != nil {
		return false, "", "", SourceError{err}
	}
	return stream.Sum() == theirs, theirs.String() + how, store.HashOf(store.BLAKE3, sum.Sum(nil)).String(), nil
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
	return store.CanSum(f.Store, kind)
}
