package store

import "context"

// ShareLevel is a person's permission on a shared entry.
type ShareLevel string

// The levels, the lowest first.
const (
	ShareView    ShareLevel = "view"
	ShareComment ShareLevel = "comment"
	ShareEdit    ShareLevel = "edit"
)

// ShareLevels are all levels, the lowest first.
var ShareLevels = []ShareLevel{ShareView, ShareComment, ShareEdit}

// MostShared is how many people a share list may hold; a longer one is an error.
const MostShared = 10_000

// ShareList holds the owner of an entry, and the people with whom it is shared. It has the
// shares of the entry itself, not those that it inherits from a folder.
type ShareList struct {
	// Owner is the email address of the owner; empty if the provider does not report it.
	Owner string
	// People are those whom the owner has shared the entry with.
	People []SharedWith
	// Links is how many links the entry has that whoever knows them may use.
	Links int
}

// SharedWith is one person of a share list.
type SharedWith struct {
	Person string // their email address
	Level  ShareLevel
}

// Sharing reads and extends share lists. Its methods return ErrUnsupported for what the
// provider cannot do, and ErrRefused for what it does not let this account do.
type Sharing interface {
	// ShareList returns the share list of an entry. [Entry.HasShares] tells beforehand
	// whether that says more than whom the account belongs to.
	ShareList(ctx context.Context, ref Ref) (ShareList, error)
	// Share shares an entry with a person. It raises a lower level of that person, and
	// changes no other person's level. The provider sends no notifications, if these can
	// be switched off.
	Share(ctx context.Context, ref Ref, with SharedWith) error
	// SetOwner makes a person the owner of an entry. A folder passes it on to what it
	// holds or not, as the provider has it.
	SetOwner(ctx context.Context, ref Ref, person string) error
	// KnowsPerson reports whether entries can be shared with a person.
	KnowsPerson(ctx context.Context, person string) (bool, error)
	// ShareLevels are the levels that the provider has, the lowest first.
	ShareLevels() []ShareLevel
}
