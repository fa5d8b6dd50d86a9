package store

import "context"

// Copier is the ability to copy a file to another place of the same account
// without its bytes crossing the network.
type Copier interface {
	// Copy copies a file at a revision (empty: any) to a place where nothing
	// is, and returns it as it is there. run marks what is left behind, as of
	// Writing. Errors as with Mover.
	Copy(ctx context.Context, from Place, revision string, to Place, run string) (Entry, error)
	// CanCopy reports whether the account has the ability.
	CanCopy() bool
}

// Copy copies a file within a store. ErrUnsupported where the store cannot: the
// bytes have to go through the service then.
func Copy(ctx context.Context, s Store, from Place, revision string, to Place, run string) (Entry, error) {
	if copier, ok := s.(Copier); ok && copier.CanCopy() {
		return copier.Copy(ctx, from, revision, to, run)
	}
	return Entry{}, Errorf(ErrUnsupported, "files cannot be copied within this account")
}

// CanCopy reports whether the store can copy files within itself.
func CanCopy(s Store) bool {
	copier, ok := s.(Copier)
	return ok && copier.CanCopy()
}
