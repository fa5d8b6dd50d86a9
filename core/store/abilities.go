package store

import (
	"context"
	"io"
)

// Leftover is something of ours that a process left behind at a target.
type Leftover struct {
	// Run that left it.
	Run string
	// Place that it was meant for, or is at.
	Place Place
	// Upload is the id of an open upload; empty for a file.
	Upload string
}

// Cleaning says what is to be cleaned up after a run.
type Cleaning struct {
	// Run that was writing.
	Run string
	// Folder below which it was writing.
	Folder Folder
	// Uploads are the places for which it may have begun to write in parts.
	Uploads []Place
	// Keep are the ids of uploads that are to be gone on with.
	Keep map[string]bool
}

// Cleaner is the ability to find and remove what runs left behind: temporary
// names and open uploads.
type Cleaner interface {
	// Clean removes what the run left and returns what it removed. Nothing
	// of another run, or of anybody else, is touched.
	Clean(ctx context.Context, cleaning Cleaning) ([]Leftover, error)
}

// Clean removes what a run left behind, where the store leaves anything.
func Clean(ctx context.Context, s Store, cleaning Cleaning) ([]Leftover, error) {
	if cleaner, ok := s.(Cleaner); ok {
		return cleaner.Clean(ctx, cleaning)
	}
	return nil, nil
}

// Preparer is the need to find out, before the first write, what the place can
// do. It may write and remove a small file of ours.
type Preparer interface {
	// Prepare makes Traits final. A write calls it by itself.
	Prepare(ctx context.Context) error
}

// Prepare makes the store's traits final, before it is written to.
func Prepare(ctx context.Context, s Store) error {
	if preparer, ok := s.(Preparer); ok {
		return preparer.Prepare(ctx)
	}
	return nil
}

// Syncer is the ability, and the need, to be told when what was written has to
// outlive a power failure.
type Syncer interface {
	// Sync returns when everything that was written before it is safe.
	Sync(ctx context.Context) error
}

// Sync makes what was written safe, where that is not so already.
func Sync(ctx context.Context, s Store) error {
	if syncer, ok := s.(Syncer); ok {
		return syncer.Sync(ctx)
	}
	return nil
}

// Space is how much an account holds, in bytes; -1 is unknown.
type Space struct {
	Used  int64 `json:"used"`
	Free  int64 `json:"free"`
	Total int64 `json:"total"`
	// Volume is the same for accounts that share their space, such as two
	// folders of one disk; empty where the account has its own.
	Volume string `json:"volume,omitempty"`
}

// UnknownSpace is the space of an account that does not tell.
var UnknownSpace = Space{Used: -1, Free: -1, Total: -1}

// Spacer is the ability to tell the space of an account.
type Spacer interface {
	Space(ctx context.Context) (Space, error)
}

// SpaceOf returns the account's space, UnknownSpace where it does not tell.
func SpaceOf(ctx context.Context, s Store) (Space, error) {
	if spacer, ok := s.(Spacer); ok {
		return spacer.Space(ctx)
	}
	return UnknownSpace, nil
}

// Owner is the ability to tell whom an account belongs to.
type Owner interface {
	// Owner returns words for people, such as a user's or a key's name.
	Owner(ctx context.Context) (string, error)
}

// OwnerOf returns whom the account belongs to, empty where it does not tell.
func OwnerOf(ctx context.Context, s Store) (string, error) {
	if owner, ok := s.(Owner); ok {
		return owner.Owner(ctx)
	}
	return "", nil
}

// Locator is the ability to tell where in the world a folder is, so that two
// accounts on one place are recognised.
type Locator interface {
	// Locate returns a URL that is the same for the same folder through
	// whichever account, ending in "/"; a folder inside another has the
	// other's URL as its prefix.
	Locate(folder Folder) string
}

// Locate returns where the folder is; empty where the store does not tell.
func Locate(s Store, folder Folder) string {
	if locator, ok := s.(Locator); ok {
		return locator.Locate(folder)
	}
	return ""
}

// AreaLister is the ability to tell the areas of which an account is one, such
// as one's own and those of teams.
type AreaLister interface {
	// Areas returns their names for people, one's own first.
	Areas(ctx context.Context) ([]string, error)
}

// AreasOf returns the areas that there are behind an account's sign-in; none
// where it has no such thing.
func AreasOf(ctx context.Context, s Store) ([]string, error) {
	if lister, ok := s.(AreaLister); ok {
		return lister.Areas(ctx)
	}
	return nil, nil
}

// Close ends the connections that a store keeps, where it keeps any. What still
// uses it may fail, to be tried again.
func Close(s Store) error {
	if closer, ok := s.(io.Closer); ok {
		return closer.Close()
	}
	return nil
}

// Pinner is the ability to tell what was learned of a place when the account was
// opened, such as a server's key, so that it is held to it from then on.
type Pinner interface {
	// Pinned returns options, of those of the provider, that were not given.
	Pinned() map[string]string
}

// PinnedOf returns the options that were learned of a place; none where there
// are none to learn.
func PinnedOf(s Store) map[string]string {
	if pinner, ok := s.(Pinner); ok {
		return pinner.Pinned()
	}
	return nil
}
