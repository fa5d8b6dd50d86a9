package transfer

import (
	"deftheron/core/compare"
	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// Side is one end of a route.
type Side struct {
	Account string
	Address store.Address
	Store   store.Store
	Gate    *gate.Gate
	Root    store.Ref
}

// Route is one source and its target: Source is copied to Target.
type Route struct {
	Source, Target Side
	// Scope under which pairs are remembered: the same for the same two
	// places.
	Scope string
	// Contents, where it is not empty, is under which the contents of the target are
	// remembered: each is there once, whatever it is called at the sources.
	Contents string
	// Merges says that nothing which is remembered of the two places is believed,
	// and nothing is removed: both are brought together.
	Merges bool
	// Back says that the route is another's, in the opposite direction: its pairs
	// are remembered as that one's.
	Back bool

	canaries *canaries // nil for none
	// Unopened is why an account of the route is not open yet; nil where both are.
	Unopened error
}

// Directions are the routes that items may take: of two sides that are kept in
// step, each is followed by the one back.
func Directions(kind plan.Type, routes []Route) []Route {
	if kind != plan.TwoWay {
		return routes
	}
	var both []Route
	for _, route := range routes {
		both = append(both, route, route.back())
	}
	return both
}

func (r Route) back() Route {
	return Route{Source: r.Target, Target: r.Source, Scope: r.Scope, Merges: r.Merges, Back: !r.Back, canaries: r.canaries}
}

// place of a key below a side's root.
func (s Side) place(key store.Key, kind store.Kind) store.Ref {
	if key == "" {
		return s.Root.As(kind)
	}
	return key.Ref(s.Root.AsFolder().Path, kind)
}

// address of a key, for people.
func (s Side) address(key store.Key, kind store.Kind) string {
	if key == "" {
		return s.Address.String()
	}
	address := s.Address
	below, name := key.Split(kind)
	for _, step := range below.Names() {
		address = address.Child(step)
	}
	return address.Child(name).String()
}

// SourceAddress and TargetAddress are the addresses of an item, for people.
func (r Route) SourceAddress(item Item) string { return r.Source.address(item.Key, item.Kind) }

// TargetAddress is the address that an item has, or was to have; name is the
// one it was given where that is another.
func (r Route) TargetAddress(item Item, name string) string {
	if name == "" {
		return r.Target.address(item.to(), item.Kind)
	}
	if item.Key == "" {
		return r.Target.Address.Parent().Child(name).String()
	}
	below, _ := item.to().Split(item.Kind)
	return r.Target.address(store.KeyOf(below, name, item.Kind), item.Kind)
}

// sides are what comparing has to know of both. A restore compares one place at two times.
func (r Route) sides(restore bool) compare.Sides {
	return compare.Sides{Source: r.Source.Store.Traits(), Target: r.Target.Store.Traits(), OneStore: restore, ByContent: restore}
}
