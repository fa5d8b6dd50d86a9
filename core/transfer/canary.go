package transfer

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"sync"

	"deftheron/core/plan"
	"deftheron/core/publish"
	"deftheron/core/store"
)

// Two accounts may reach the same storage although nothing that they report shows it: by
// another start folder, host name, protocol or bind mount. A file that is removed at one
// end is then gone at the other. So before a run that removes files, a small file with a
// unique name, the canary, is written below one end and looked for below the other, and
// the other way round: immediately at the same place, and deeper while the ends are listed.

// canaries are the files of one route.
type canaries struct {
	source, target store.Ref // the zero Ref where none could be written
	halt           func()
	gone           bool
}

// watch returns a function that gets our own files in the listing of one end, and stops
// the run at the canary of the other end.
func (c *canaries) watch(target bool) func(store.Listed) {
	if c == nil {
		return nil
	}
	foreign := c.target
	if target {
		foreign = c.source
	}
	return func(listed store.Listed) {
		if foreign.Name != "" && listed.Name == foreign.Name {
			c.halt()
		}
	}
}

// writeCanaries writes the canaries of a route between two accounts, and looks for each
// immediately. It stops the run if one is found at the other end.
func (r *Run) writeCanaries(ctx context.Context, i int) error {
	route := &r.Routes[i]
	if !r.hasCanaries(*route) {
		return nil
	}
	if route.canaries == nil {
		said := *route
		r.change(i, func(route *Route, first *Route) {
			if route == first {
				route.canaries = &canaries{halt: func() { r.haltSameStorage(said) }}
			}
			route.canaries = first.canaries
		})
	}
	c := route.canaries
	for side, canary := range map[*Side]*store.Ref{&route.Source: &c.source, &route.Target: &c.target} {
		if canary.Name != "" { // of a try before
			continue
		}
		var err error
		*canary, err = r.writeCanary(ctx, *side, route.Scope)
		switch {
		case err == nil:
		case side == &route.Source && store.KindOf(err) == store.ErrNoSpace:
			*canary = store.Ref{} // a source may be full
		default:
			return err
		}
	}
	for side, canary := range map[*Side]store.Ref{&route.Target: c.source, &route.Source: c.target} {
		if canary.Name == "" {
			continue
		}
		_, err := side.Store.Stat(ctx, folderOf(*side).Ref(canary.Name).As(store.KindFile))
		switch {
		case err == nil:
			r.haltSameStorage(*route)
		case store.KindOf(err) != store.ErrNotFound:
			return err
		}
	}
	return nil
}

func (r *Run) haltSameStorage(route Route) {
	r.halt(plan.CauseSameStorage, fmt.Sprintf("%s and %s are one storage, reached in two ways: a file that was written below one of them "+
		"appeared below the other", route.Source.Address, route.Target.Address))
}

// folderOf is the folder that is listed of a side.
func folderOf(side Side) store.Folder { return store.Folder{Path: side.Root.AsFolder().Path} }

// canaryOf returns the canary of a side. Its name is the same for the whole run: a run that continues after
// its process was killed removes the canary that was left.
func (r *Run) canaryOf(side Side, scope string) store.Ref {
	sum := sha256.Sum256([]byte(r.ID + "\x00" + scope + "\x00" + side.Account + "\x00" + side.Root.String()))
	return folderOf(side).Ref(store.ArrivingName(r.ID, hex.EncodeToString(sum[:8]))).As(store.KindFile)
}

// writeCanary writes a canary in the folder of a side; the zero Ref where it has no
// such folder, or cannot be written to.
func (r *Run) writeCanary(ctx context.Context, side Side, scope string) (store.Ref, error) {
	if side.Store.Traits().ReadOnly {
		return store.Ref{}, nil
	}
	_, err := side.Store.Stat(ctx, side.Root.As(store.KindFolder))
	if store.KindOf(err) == store.ErrNotFound {
		return store.Ref{}, nil
	}
	if err != nil {
		return store.Ref{}, err
	}
	ref := r.canaryOf(side, scope)
	const text = "Deft Heron looks whether two places are one, and removes this again.\n"
	_, err = side.Store.Write(ctx, store.Writing{Place: ref, Size: int64(len(text)), Run: r.ID, Content: canaryContent(text)})
	switch store.KindOf(err) {
	case nil:
	case store.ErrExists, store.ErrChanged: // it was written before the run was interrupted
		if r.Resumed {
			err = nil
		}
	case store.ErrRefused, store.ErrNameRefused, store.ErrUnsupported:
		return store.Ref{}, nil // a source that cannot be written to
	}
	return ref, err
}

type canaryContent string

// Open implements store.Content.
func (c canaryContent) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(strings.NewReader(string(c))), store.CRC64NVME, nil), nil
}

// hasCanaries reports whether canaries are written for a route.
func (r *Run) hasCanaries(route Route) bool {
	return (r.Rules.Type.Removes() || r.Rules.Type == plan.Clearing || r.Rules.Clear) && route.Source.Account != route.Target.Account
}

// removeOldCanaries removes those that the process left which was interrupted.
func (r *Run) removeOldCanaries(ctx context.Context, route Route) {
	if !r.hasCanaries(route) {
		return
	}
	for _, side := range []Side{route.Source, route.Target} {
		if !side.Store.Traits().ReadOnly {
			publish.Discard(ctx, func(ctx context.Context) error {
				_, err := side.Store.Remove(ctx, r.canaryOf(side, route.Scope), "")
				return err
			})
		}
	}
}

// removeCanaries removes them, though ctx is over.
func (r *Run) removeCanaries(ctx context.Context) {
	for _, route := range r.Routes {
		r.removeCanary(ctx, route)
	}
}

// removeCanary removes the canaries of a route. It may be called again.
func (r *Run) removeCanary(ctx context.Context, route Route) {
	if c := route.canaries; c != nil && !route.Back && !c.gone {
		c.gone = true
		for side, canary := range map[*Side]store.Ref{&route.Source: c.source, &route.Target: c.target} {
			if canary.Name == "" {
				continue
			}
			publish.Discard(ctx, func(ctx context.Context) error {
				_, err := side.Store.Remove(ctx, canary, "")
				return err
			})
		}
	}
}

// firstRemovals lets the first removal of each route go alone, so that at most one file
// is lost where nothing else has shown that two ends are one storage.
type firstRemovals struct {
	mu   sync.Mutex
	done map[string]bool // by scope
}

// first calls do to remove a file. After the first success it checks whether the target
// still has that file; other removals wait until this is known.
func (r *Run) first(ctx context.Context, route Route, target store.Ref, do func() (store.Removal, error)) (store.Removal, error) {
	f := &r.firstRemovals
	f.mu.Lock()
	if f.done[route.Scope] {
		f.mu.Unlock()
		return do()
	}
	defer f.mu.Unlock()
	removal, err := do()
	if err != nil {
		return removal, err
	}
	_, looked := route.Target.Store.Stat(ctx, target)
	if store.KindOf(looked) == store.ErrNotFound {
		r.haltSameStorage(route)
		return removal, nil
	}
	if looked == nil {
		if f.done == nil {
			f.done = map[string]bool{}
		}
		f.done[route.Scope] = true
	}
	return removal, nil
}
