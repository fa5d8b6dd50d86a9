package access

import (
	"slices"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// Role is a set of permissions, in rising order.
type Role string

// The roles. An operator or a viewer sees what grants show; an owner sees everything.
const (
	Viewer   Role = "viewer"
	Operator Role = "operator"
	Owner    Role = "owner"
)

// rank orders the roles; 0 is none.
func (r Role) rank() int { return slices.Index([]Role{Viewer, Operator, Owner}, r) + 1 }

// Covers reports whether a role may do what another may.
func (r Role) Covers(other Role) bool { return r.rank() > 0 && r.rank() >= other.rank() }

// Valid reports whether there is such a role.
func (r Role) Valid() bool { return r.rank() > 0 }

// lower returns the lesser of two roles.
func lower(a, b Role) Role {
	if a.Covers(b) {
		return b
	}
	return a
}

// Grant is a role on a place of the tree and everything below it; the root means every account.
type Grant struct {
	Address store.Address
	Role    Role
}

// grants is a tree.Scope: the sum of what each of them grants.
type grants []Grant

var _ tree.Scope = grants{}

// Nothing is the scope that shows nothing.
var Nothing tree.Scope = grants{}

// Sees implements tree.Scope.
func (g grants) Sees(address store.Address) tree.Sight {
	sight := tree.Hidden
	for _, one := range g {
		switch {
		case one.Address.IsRoot(), one.Address.Contains(address):
			return tree.Seen
		case address.IsRoot(), address.Contains(one.Address):
			sight = tree.Through
		}
	}
	return sight
}

// MayChange implements tree.Scope.
func (g grants) MayChange(address store.Address) bool {
	return slices.ContainsFunc(g, func(one Grant) bool {
		return one.Role.Covers(Operator) && (one.Address.IsRoot() || one.Address.Contains(address))
	})
}

// both is what two scopes show and let be changed, one as well as the other.
type both struct{ one, other tree.Scope }

// Sees implements tree.Scope.
func (b both) Sees(address store.Address) tree.Sight {
	return min(b.one.Sees(address), b.other.Sees(address))
}

// MayChange implements tree.Scope.
func (b both) MayChange(address store.Address) bool {
	return b.one.MayChange(address) && b.other.MayChange(address)
}

// narrowed returns the smaller of two scopes; nil is everything.
func narrowed(scope, by tree.Scope) tree.Scope {
	switch {
	case scope == nil:
		return by
	case by == nil:
		return scope
	}
	return both{scope, by}
}

// scopeOf returns the scope of a user with a role and grants; nil for an owner. names are the
// names of accounts, by id: a grant on an account that is gone grants nothing.
func scopeOf(role Role, given []records.Grant, names map[string]string) tree.Scope {
	if role == Owner {
		return nil
	}
	scope := grants{}
	for _, one := range given {
		if address, ok := addressOf(one, names); ok {
			scope = append(scope, Grant{Address: address, Role: lower(role, Role(one.Role))})
		}
	}
	return scope
}

// addressOf returns the place of a grant; false if its account is gone.
func addressOf(grant records.Grant, names map[string]string) (store.Address, bool) {
	if grant.Account == "" {
		return store.Address{}, true
	}
	name, ok := names[grant.Account]
	if !ok {
		return store.Address{}, false
	}
	address, err := store.ParseAddress("/" + name + grant.Folder)
	return address, err == nil
}
