package tree

import (
	"context"
	"iter"

	"deftheron/core/store"
)

// Sight is how much somebody sees of what is at an address.
type Sight int

const (
	// Hidden is as if nothing were there.
	Hidden Sight = iota
	// Through is a folder on the way to what is seen: its name is seen, and of its entries
	// those that lead on.
	Through
	// Seen is everything at the address and below it.
	Seen
)

// Scope says what of the tree somebody may see and change. A nil Scope is everything.
type Scope interface {
	Sees(address store.Address) Sight
	// MayChange reports whether what is at the address, and below it, may be changed.
	MayChange(address store.Address) bool
}

type scopeKey struct{}

// WithScope returns a context in which a tree shows no more than the scope; nil shows everything.
func WithScope(ctx context.Context, scope Scope) context.Context {
	if scope == nil && ScopeOf(ctx) == nil {
		return ctx
	}
	return context.WithValue(ctx, scopeKey{}, scopeValue{scope})
}

// scopeValue holds a scope that may be nil.
type scopeValue struct{ scope Scope }

// ScopeOf returns the scope of a context; nil if it shows everything.
func ScopeOf(ctx context.Context) Scope {
	value, _ := ctx.Value(scopeKey{}).(scopeValue)
	return value.scope
}

// Sees returns how much the scope of a context shows of an address.
func Sees(ctx context.Context, address store.Address) Sight {
	if scope := ScopeOf(ctx); scope != nil {
		return scope.Sees(address)
	}
	return Seen
}

// ErrNotAllowed says that somebody may see a place but not change it. Its kind is
// store.ErrRefused.
type ErrNotAllowed struct{ Address store.Address }

// Error implements error.
func (e *ErrNotAllowed) Error() string {
	return e.Address.String() + " may be looked at but not changed with this sign-in; ask the owner of the service for a grant as operator"
}

// Unwrap gives the error its kind.
func (e *ErrNotAllowed) Unwrap() error { return store.ErrRefused }

// CheckSeen returns an error with the kind store.ErrNotFound unless the scope of a context shows
// everything at an address.
func CheckSeen(ctx context.Context, address store.Address) error {
	if Sees(ctx, address) == Seen {
		return nil
	}
	return store.Errorf(store.ErrNotFound, "%s does not exist; check the names in %s", address, address.Parent())
}

// CheckChange returns an error unless the scope of a context shows an address and lets it be
// changed: an *ErrNotAllowed, or one with the kind store.ErrNotFound.
func CheckChange(ctx context.Context, address store.Address) error {
	if err := CheckSeen(ctx, address); err != nil {
		return err
	}
	if scope := ScopeOf(ctx); scope != nil && !scope.MayChange(address) {
		return &ErrNotAllowed{address}
	}
	return nil
}

// through leaves out of a listing what the scope of a context hides.
func through(ctx context.Context, nodes iter.Seq2[Node, error]) iter.Seq2[Node, error] {
	return func(yield func(Node, error) bool) {
		for node, err := range nodes {
			if err == nil {
				switch Sees(ctx, node.Address) {
				case Hidden:
					continue
				case Through:
					if node.Kind != store.KindFolder {
						continue
					}
					node = passed(node.Address, node.Name)
				}
			}
			if !yield(node, err) {
				return
			}
		}
	}
}

// passed is a folder of which no more is told than its name.
func passed(address store.Address, name string) Node {
	return Node{Address: address, Entry: store.Entry{Name: name, Kind: store.KindFolder}}
}
