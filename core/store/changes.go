package store

import (
	"context"
	"time"
)

// Change is one entry that is new, is other than it was, or is gone.
type Change struct {
	// Place of the entry. Of one that is gone, a store that addresses by id
	// may know no more than Place.ID.
	Place Place
	// Entry as it is now; of one that is gone, nothing is known.
	Entry Entry
	Gone  bool
}

// ChangePage is a page of changes.
type ChangePage struct {
	Changes []Change
	// Cursor from which to go on: the next page, or the changes yet to come.
	Cursor string
	// More says that the next page is there already.
	More bool
}

// ChangeLister is the ability to tell what has changed since a moment, without
// listing everything.
type ChangeLister interface {
	// Changes returns a page of what has changed below a folder since the
	// cursor was given out. An empty cursor returns no changes, and one that
	// counts from now on. ErrChanged where the provider no longer knows the
	// cursor, and everything has to be listed; ErrUnsupported where this
	// folder has no such feed.
	Changes(ctx context.Context, folder Folder, cursor string) (ChangePage, error)
}

// Changes returns a page of changes, ErrUnsupported where the store tells none.
func Changes(ctx context.Context, s Store, folder Folder, cursor string) (ChangePage, error) {
	if lister, ok := s.(ChangeLister); ok {
		return lister.Changes(ctx, folder, cursor)
	}
	return ChangePage{}, Errorf(ErrUnsupported, "this account tells no changes")
}

// ChangeWaiter is the ability to answer when something changes, rather than to
// be asked again and again.
type ChangeWaiter interface {
	// AwaitChanges is Changes, but for that it waits for a change where there
	// is none, up to a time, and then returns an empty page.
	AwaitChanges(ctx context.Context, folder Folder, cursor string, wait time.Duration) (ChangePage, error)
}

// AwaitChanges waits for a change, where the store can wait; else it asks once.
func AwaitChanges(ctx context.Context, s Store, folder Folder, cursor string, wait time.Duration) (ChangePage, error) {
	if waiter, ok := s.(ChangeWaiter); ok {
		return waiter.AwaitChanges(ctx, folder, cursor, wait)
	}
	return Changes(ctx, s, folder, cursor)
}
