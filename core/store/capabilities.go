package store

import (
	"context"

	"iter"
	"slices"
	"time"
)

// Capabilities are the abilities of an account beyond the methods of [Store]. A nil
// field means that the account does not have it. The engine calls the helper of the
// same name, which falls back on the methods of Store where that is possible.
//
// A decorator in package store builds its value with a literal without field names,
// so that the compiler finds a capability that the decorator does not handle; see
// [ReadOnly]. A decorator in another package starts from the value of the underlying
// store, and storetest.Wrapped checks every field.
type Capabilities struct {
	// ListFlat yields everything below a folder in the order of keys: each folder
	// before its content, implied folders included. Otherwise it is like List.
	ListFlat func(ctx context.Context, folder Folder) iter.Seq2[Listed, error]
	// Move moves a file at a revision (empty: any), or a folder with all that
	// is in it, within the account to where nothing is, and returns it as it is
	// there. It has the kind of from. ErrExists if something is there,
	// ErrChanged where the revision is another, ErrNotFound where the entry or
	// the folder that it is to go to is not there; nothing has changed then.
	// ErrOutcomeUnknown as with Write.
	Move func(ctx context.Context, from Ref, revision string, to Ref) (Entry, error)
	// Copy copies a file at a revision (empty: any) within the account to a free
	// place. run marks the leftovers, see Writing. Errors as with Move; below
	// [HistoryFolder] it need not check that the place is free. The entry's size is
	// -1 if only the size of that revision is known.
	Copy func(ctx context.Context, from Ref, revision string, to Ref, run string) (Entry, error)
	// Keeps is not nil where Write obeys [Writing.Keep], at no cost of content: it returns
	// false of a file that it cannot keep in this way.
	Keeps func(writing Writing) bool
	// Origin returns the place of a file's content in the underlying store of a view: the
	// place from which it can be copied within the account.
	Origin func(ctx context.Context, ref Ref, revision string) (Origin, error)
	// Kept is called before the content of a file of the account goes to another place of
	// it, or stays as a version of it, by whoever reads this store as what the account was.
	Kept func(ref, kept Ref, version string)
	// Parts takes files in parts.
	Parts PartWriter
	// Sums tells hashes of stored files.
	Checksums Checksummer
	// Exports reads documents that exist only inside the service.
	Exports Exporter
	// Changes returns a page of the changes below a folder since the cursor was
	// issued. For an empty cursor it returns no changes, and a cursor for the changes
	// from now on. ErrChanged if the provider no longer knows the cursor, and
	// everything must be listed; ErrUnsupported if this folder has no change feed.
	Changes func(ctx context.Context, folder Folder, cursor string) (ChangePage, error)
	// AwaitChanges is Changes, but waits for a change where there is none, up
	// to a time, and then returns an empty page.
	AwaitChanges func(ctx context.Context, folder Folder, cursor string, wait time.Duration) (ChangePage, error)
	// Clean removes the leftovers of a run and returns what it removed. It touches
	// nothing of other runs or other programs.
	Clean func(ctx context.Context, cleaning Cleaning) ([]Leftover, error)
	// Prepare makes Traits final, before the first write. It may write and
	// remove a small file of ours. Writes call it themselves.
	Prepare func(ctx context.Context) error
	// Sync returns when everything that was written before it would outlive a
	// power failure.
	Sync func(ctx context.Context) error
	// Check returns ErrRefused, with the reason, where the account's start is
	// not the folder any more that it was when the account was opened.
	Check func(ctx context.Context) error
	// Space returns how much the account holds.
	Space func(ctx context.Context) (Space, error)
	// Owner returns whom the account belongs to, in words for people.
	Owner func(ctx context.Context) (string, error)
	// Locate returns where in the world a folder is: a URL that is the same for
	// the same folder through whichever account, ending in "/"; a folder inside
	// another has the other's URL as its prefix.
	Locate func(folder Folder) string
	// Areas returns the names of the areas that the sign-in reaches, the account's
	// own area first.
	Areas func(ctx context.Context) ([]string, error)
	// Pinned returns options of the provider that were not given and were
	// learned when the account was opened, such as a server's key.
	Pinned func() map[string]string
	// Lock has the store itself keep a file until a time, whoever asks it to delete it. It
	// returns false where the store does not say afterwards that it does.
	Lock func(ctx context.Context, ref Ref, until time.Time) (bool, error)
	// Sealing looks after the keys of an account that is encrypted at its provider.
	Sealing Sealing
	// Sharing reads and extends share lists.
	Sharing Sharing
	// Locker has the server refuse changes that others make to an entry.
	Locker Locker
	// Versions are the earlier contents that the account itself keeps, for good.
	Versions Versions
	// Close ends the connections that the store keeps. What still uses it may
	// fail, to be tried again.
	Close func() error
}

// Origin is where a content is: a file at a revision, or a version of it, see [Versions].
type Origin struct {
	File     Ref
	Revision string
	Version  string
}

// Leftover is something of ours that a process left behind at a target.
type Leftover struct {
	// Run that left it.
	Run string
	// Place that it was meant for, or is at.
	Place Ref
	// Upload is the id of an open upload; empty for a file.
	Upload string
}

// Cleaning says what to clean up after a run.
type Cleaning struct {
	// Run that was writing.
	Run string
	// Folder below which it was writing.
	Folder Folder
	// Uploads are the places that it may have started to write in parts.
	Uploads []Ref
	// OnlyUploads leaves what lies in folders, and need not be listed by a store that
	// finds the uploads of a run by other means than their places.
	OnlyUploads bool
	// Keep are the ids of uploads that will be continued.
	Keep map[string]bool
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

// Occupant returns the entry that is in the way of an entry of the ref's kind: any entry
// with the name, unless the account lets a file and a folder share one. ErrNotFound if
// the place is free.
func Occupant(ctx context.Context, s Store, ref Ref) (Entry, error) {
	if !s.Traits().FileBesideFolder {
		ref = ref.As("")
	}
	return s.Stat(ctx, ref)
}

// Move moves an entry within a store. ErrUnsupported where the store cannot:
// the bytes have to be copied then.
func Move(ctx context.Context, s Store, from Ref, revision string, to Ref) (Entry, error) {
	if move := s.Capabilities().Move; move != nil {
		return move(ctx, from, revision, to)
	}
	return Entry{}, Errorf(ErrUnsupported, "entries cannot be moved within this account")
}

// CanMove reports whether the store can move entries within itself.
func CanMove(s Store) bool { return s.Capabilities().Move != nil }

// Copy copies a file within a store. ErrUnsupported where the store cannot: the
// bytes have to go through the service then.
func Copy(ctx context.Context, s Store, from Ref, revision string, to Ref, run string) (Entry, error) {
	if copyWithin := s.Capabilities().Copy; copyWithin != nil {
		return copyWithin(ctx, from, revision, to, run)
	}
	return Entry{}, Errorf(ErrUnsupported, "files cannot be copied within this account")
}

// CopyOrigin copies what an origin says within a store, as Copy does.
func CopyOrigin(ctx context.Context, s Store, from Origin, to Ref, run string) (Entry, error) {
	if from.Version == "" {
		return Copy(ctx, s, from.File, from.Revision, to, run)
	}
	if versions := s.Capabilities().Versions; versions != nil {
		return versions.CopyVersion(ctx, from.File, from.Version, to)
	}
	return Entry{}, Errorf(ErrUnsupported, "the account does not keep versions of its own")
}

// Keeps reports whether a write keeps what it replaces at [Writing.Keep].
func Keeps(s Store, writing Writing) bool {
	keeps := s.Capabilities().Keeps
	return keeps != nil && keeps(writing)
}

// CanCopy reports whether the store can copy files within itself.
func CanCopy(s Store) bool { return s.Capabilities().Copy != nil }

// CanSum reports whether the store may tell a hash of a kind.
func CanSum(s Store, kind HashKind) bool {
	sums := s.Capabilities().Checksums
	return sums != nil && slices.Contains(sums.SumKinds(), kind)
}

// Clean removes the leftovers of a run, if the store leaves any.
func Clean(ctx context.Context, s Store, cleaning Cleaning) ([]Leftover, error) {
	if clean := s.Capabilities().Clean; clean != nil {
		return clean(ctx, cleaning)
	}
	return nil, nil
}

// Prepare makes the store's traits final, before it is written to.
func Prepare(ctx context.Context, s Store) error {
	if prepare := s.Capabilities().Prepare; prepare != nil {
		return prepare(ctx)
	}
	return nil
}

// Sync writes everything to stable storage that a write does not.
func Sync(ctx context.Context, s Store) error {
	if sync := s.Capabilities().Sync; sync != nil {
		return sync(ctx)
	}
	return nil
}

// Check returns ErrRefused where the account's start is another folder than it
// was when the account was opened.
func Check(ctx context.Context, s Store) error {
	if check := s.Capabilities().Check; check != nil {
		return check(ctx)
	}
	return nil
}

// SpaceOf returns the account's space, UnknownSpace where it does not tell.
func SpaceOf(ctx context.Context, s Store) (Space, error) {
	if space := s.Capabilities().Space; space != nil {
		return space(ctx)
	}
	return UnknownSpace, nil
}

// OwnerOf returns whom the account belongs to, empty where it does not tell.
func OwnerOf(ctx context.Context, s Store) (string, error) {
	if owner := s.Capabilities().Owner; owner != nil {
		return owner(ctx)
	}
	return "", nil
}

// Locate returns where the folder is; empty where the store does not tell.
func Locate(s Store, folder Folder) string {
	if locate := s.Capabilities().Locate; locate != nil {
		return locate(folder)
	}
	return ""
}

// AreasOf returns the areas that there are behind an account's sign-in; none
// where it has no such thing.
func AreasOf(ctx context.Context, s Store) ([]string, error) {
	if areas := s.Capabilities().Areas; areas != nil {
		return areas(ctx)
	}
	return nil, nil
}

// PinnedOf returns the options that were learned of a place; none where there
// are none to learn.
func PinnedOf(s Store) map[string]string {
	if pinned := s.Capabilities().Pinned; pinned != nil {
		return pinned()
	}
	return nil
}

// Lock has the store keep a file until a time; false where it does not.
func Lock(ctx context.Context, s Store, ref Ref, until time.Time) (bool, error) {
	if lock := s.Capabilities().Lock; lock != nil {
		return lock(ctx, ref, until)
	}
	return false, nil
}

// Close ends the connections that a store keeps, where it keeps any.
func Close(s Store) error {
	if closeStore := s.Capabilities().Close; closeStore != nil {
		return closeStore()
	}
	return nil
}
