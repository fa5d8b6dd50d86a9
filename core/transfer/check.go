package transfer

import (
	"context"
	"fmt"
	"strings"

	"deftheron/core/store"
)

// Check checks a route before anything is done: the source must exist, the target must
// be able to store the target's name, and neither may be inside the other. The error
// says what is wrong and what to do.
func Check(ctx context.Context, route Route) error { return check(ctx, route, checkOverlap) }

// CheckRestore is Check for a route whose source is an earlier state of an account: its
// target may be the place of that state.
func CheckRestore(ctx context.Context, route Route) error {
	return check(ctx, route, func(route Route, _ store.Entry) error {
		from, to := route.Source.Address, route.Target.Address
		if from.String() != to.String() && from.Contains(to) {
			return store.Errorf(store.ErrRefused, "%s lies inside %s, of which it would hold a copy; restore to where it was, or elsewhere", to,
				from)
		}
		return nil
	})
}

func check(ctx context.Context, route Route, overlap func(Route, store.Entry) error) error {
	entry, err := route.Source.Store.Stat(ctx, route.Source.Root)
	if err != nil {
		if store.KindOf(err) == store.ErrNotFound {
			return store.Errorf(store.ErrNotFound, "the source %s is not there; look at what is in %s", route.Source.Address,
				route.Source.Address.Parent())
		}
		return err
	}
	if route.Target.Root.IsStart() && entry.Kind != store.KindFolder {
		return store.Errorf(store.ErrRefused, "%s is the start of an account and cannot become a file; name a folder in it", route.Target.Address)
	}
	if err := overlap(route, entry); err != nil {
		return err
	}
	if route.Target.Store.Traits().ReadOnly {
		return store.Errorf(store.ErrRefused, "%s can only be read; choose a target that can be written", route.Target.Account)
	}
	if err := store.Prepare(ctx, route.Target.Store); err != nil {
		return store.Errorf(store.KindOf(err), "%s cannot be written to: %w", route.Target.Account, err)
	}
	return checkWay(ctx, route)
}

func checkOverlap(route Route, entry store.Entry) error {
	from := store.Locate(route.Source.Store, route.Source.Root.AsFolder())
	to := store.Locate(route.Target.Store, route.Target.Root.AsFolder())
	inside := route.Source.Address.Contains(route.Target.Address) || from != "" && strings.HasPrefix(to, from)
	if inside && (entry.Kind == store.KindFolder || from == to || route.Source.Address.String() == route.Target.Address.String()) {
		return store.Errorf(store.ErrRefused, "the target %s lies inside its own source %s; choose a target outside it", route.Target.Address,
			route.Source.Address)
	}
	return nil
}

// checkWay checks the folders on the way to the target: what exists must be a folder,
// and what does not exist must have a name that the target can store.
func checkWay(ctx context.Context, route Route) error {
	traits := route.Target.Store.Traits()
	way := store.Path("")
	names := route.Target.Root.AsFolder().Path.Names()
	for i, name := range names {
		place := store.Folder{Path: way}.Ref(name)
		if i < len(names)-1 && !traits.FileBesideFolder {
			entry, err := route.Target.Store.Stat(ctx, place)
			if err == nil && entry.Kind != store.KindFolder {
				return store.Errorf(store.ErrExists,
					"/%s%s is a file, and the target needs a folder there; choose another target, or move the file away", route.Target.Account, place)
			}
			if err == nil {
				way = way.Child(name)
				continue
			}
			if store.KindOf(err) != store.ErrNotFound && store.KindOf(err) != store.ErrNameRefused {
				return err
			}
		}
		if err := traits.NameError(way, name); err != nil {
			return store.Errorf(store.ErrNameRefused, "%s cannot hold the target %s: %w; choose another name", route.Target.Account,
				route.Target.Address, err)
		}
		way = way.Child(name)
	}
	return nil
}

// spaceOf returns the space that the routes' target reports; ok is false if it reports
// none, or if there are several targets, because the planned bytes are not known for each.
func spaceOf(ctx context.Context, routes []Route) (space store.Space, ok bool) {
	target := routes[0].Target.Store
	for _, route := range routes {
		if route.Target.Store != target {
			return space, false
		}
	}
	space, err := store.SpaceOf(ctx, target)
	return space, err == nil && space.Free >= 0
}

// LackOfSpace says that the routes' target has no room for so many bytes; empty
// where it has, or does not tell.
func LackOfSpace(ctx context.Context, routes []Route, bytes int64) string {
	space, ok := spaceOf(ctx, routes)
	if !ok || space.Free >= bytes {
		return ""
	}
	return fmt.Sprintf("/%s has %d bytes free, and the run would write %d", routes[0].Target.Account, space.Free, bytes)
}

// isRestore reports whether the source is what the place of the target was at a time.
func (p planning) isRestore() bool {
	return !p.rules.At.IsZero() && p.Source.Address.String() == p.Target.Address.String()
}
