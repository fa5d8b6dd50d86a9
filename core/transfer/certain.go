package transfer

import (
	"context"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/store"
)

// Where metadata is not enough, the content is read. The revision of a file in a folder or
// on a file server is made of its time and size: it misses changes through a memory mapping,
// two changes within a second, and changes after which the time was set back. So before
// anything is finally removed or overwritten because of such a revision, the content is
// compared with the hash with which it was verified. Revisions that depend on the content
// are trusted.

// differs says that a content is not the one that was verified.
func differs(place store.Ref) error {
	return store.Errorf(store.ErrChanged, "%s is not any more what was verified, though its size and time are the same", place)
}

// certain returns nil where a file of a side holds the content of a hash, which is
// KIND=HEXADECIMAL. ErrChanged where it holds another, or none can be compared.
func (s Side) certain(ctx context.Context, ref store.Ref, revision, hash string) error {
	hash, _, _ = strings.Cut(hash, " ")
	wanted, ok := store.ParseHash(hash)
	if !ok {
		return store.Errorf(store.ErrChanged, "no hash of %s was kept to compare its content with", ref)
	}
	sum, _, err := store.ReadBack(ctx, s.Store, ref, revision, wanted.Kind)
	if err == nil && sum != wanted {
		err = differs(ref)
	}
	return err
}

// pairOfTarget returns the pair by which the target of the item counts as unchanged; nil
// if it has changed, or if its revision alone is proof enough.
func (a *attempt) pairOfTarget(ctx context.Context) (*compare.Pair, error) {
	if a.chosen || a.route.Target.Store.Traits().Revisions != store.RevisionsOfTimes {
		return nil, nil
	}
	pair, err := a.Records.Pair(ctx, a.route.Scope, a.pairKey())
	if err != nil || pair == nil || pair.Kept {
		return nil, err
	}
	remembered := pair.Target
	if a.route.Back {
		remembered = pair.Source
	}
	if !store.SameRevision(remembered.Revision, a.item.Target.Revision) {
		return nil, nil
	}
	return pair, nil
}

// untouched returns ErrChanged where the target of the item has another content than
// was left there, though its metadata is the same. Where no hash of it is kept, as a
// run verified by size alone, metadata is all that there is.
func (a *attempt) untouched(ctx context.Context) error {
	pair, err := a.pairOfTarget(ctx)
	if err != nil || pair == nil || pair.Verification == "" {
		return err
	}
	return a.route.Target.certain(ctx, a.target(), a.item.Target.Revision, pair.Verification)
}

// isKept reports whether a file is moved to history instead of being removed, because
// nothing proves that it is still the file that was synced.
func (a *attempt) isKept(ctx context.Context) (bool, error) {
	pair, err := a.pairOfTarget(ctx)
	return err == nil && pair != nil && pair.Verification == "", err
}

// removeSource removes a file of a source for good, after its content was read once
// more unless its revision is of the content. hash is the one that the target's
// content was verified with; where it is empty, both are compared.
func (r *Run) removeSource(ctx context.Context, route Route, file sourceFile) (store.Removal, error) {
	s := route.Source
	if s.Store.Traits().Revisions != store.RevisionsOfContent {
		var err error
		if _, known := store.ParseHash(file.hash); known {
			err = s.certain(ctx, file.source, file.revision, file.hash)
		} else {
			err = file.sameAtTarget(ctx, route)
		}
		if err != nil {
			return "", err
		}
	}
	return r.first(ctx, route, file.target, func() (store.Removal, error) { return s.Store.Remove(ctx, file.source, file.revision) })
}

// sourceFile is a file to remove at a source, and its copy at the target.
type sourceFile struct {
	source, target store.Ref
	revision       string // of the source
	hash           string // KIND=HEXADECIMAL, empty where none is known
}

func (k sourceFile) sameAtTarget(ctx context.Context, route Route) error {
	mine, err := route.Source.Store.Stat(ctx, k.source)
	if err != nil {
		return compare.NewSourceError(err)
	}
	theirs, err := route.Target.Store.Stat(ctx, k.target)
	if err != nil {
		return err
	}
	same, _, _, err := compare.Contents(ctx, compare.File{Store: route.Source.Store, Place: k.source, Entry: mine},
		compare.File{Store: route.Target.Store, Place: k.target, Entry: theirs}, compare.Read)
	if err == nil && !same {
		err = differs(k.source)
	}
	return err
}
