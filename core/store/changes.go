package store

import (
	"context"
	"time"
)

// Change is one entry that is new, is other than it was, or is gone.
type Change struct {
	// Place of the entry. Of one that is gone, a store that addresses by id
	// may know no more than Place.ID.
	Place Ref
	// Entry as it is now; of one that is gone, nothing is known.
	Entry Entry
	Gone  bool
	// Since is when the change was first seen, if it was reported later;
	// else zero.
	Since time.Time
}

// ChangePage is a page of changes.
type ChangePage struct {
	Changes []Change
	// Cursor from which to go on: the next page, or the changes yet to come.
	Cursor string
	// More is set if the next page is available now.
	More bool
}

// Changes returns a page of changes, ErrUnsupported where the store tells none.
func Changes(ctx context.Context, s Store, folder Folder, cursor string) (ChangePage, error) {
	if changes := s.Capabilities().Changes; changes != nil {
		return changes(ctx, folder, cursor)
	}
	return ChangePage{}, Errorf(ErrUnsupported, "this account tells no changes")
}

// AwaitChanges waits for a change, where the store can wait; else it asks once.
func AwaitChanges(ctx context.Context, s Store, folder Folder, cursor string, wait time.Duration) (ChangePage, error) {
	if await := s.Capabilities().AwaitChanges; await != nil {
		return await(ctx, folder, cursor, wait)
	}
	return Changes(ctx, s, folder, cursor)
}
