package store

import "context"

// Mover is the ability to move an entry to another place of the same account
// without its bytes crossing the network.
type Mover interface {
	// Move moves a file at a revision (empty: any), or a folder with all
	// that is in it, to a place where nothing is, and returns it as it is
	// there. ErrExists where something is there, ErrChanged where the
	// revision is another, ErrNotFound where the entry or the folder that it
	// is to go to is not there; nothing has changed then.
	// ErrOutcomeUnknown as with Write.
	Move(ctx context.Context, from Place, revision string, to Place) (Entry, error)
}

// Move moves an entry within a store. ErrUnsupported where the store cannot:
// the bytes have to be copied then.
func Move(ctx context.Context, s Store, from Place, revision string, to Place) (Entry, error) {
	if mover, ok := s.(Mover); ok && CanMove(s) {
		return mover.Move(ctx, from, revision, to)
	}
	return Entry{}, Errorf(ErrUnsupported, "entries cannot be moved within this account")
}

// CanMove reports whether the store can move entries within itself. A Mover
// whose accounts differ in that says so by a method CanMove.
func CanMove(s Store) bool {
	if some, ok := s.(interface{ CanMove() bool }); ok {
		return some.CanMove()
	}
	_, ok := s.(Mover)
	return ok
}
