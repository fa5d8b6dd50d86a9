package transfer

import (
	"context"
	"fmt"
	"strings"
	"time"

	"deftheron/core/compare"
	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// ShareListed is an entry of a source that has a share list of its own, as it was found
// after the transfer.
type ShareListed struct {
	Route  int
	Item   Item // its Key, To and Kind; see Route.SourceAddress
	Source store.Ref
	Target store.Ref
	// Cause says why the entry at the target must not be shared with the same people: it is
	// missing, holds other content, or is a folder that holds more than the source's. It is
	// CauseNone if it may be.
	Cause plan.Cause
}

// ShareLists lists both sides of the routes again and calls each with every entry of the
// sources that has a share list of its own, a folder after everything in it. Its memory
// grows with the depth of the tree alone. It writes nothing.
func ShareLists(ctx context.Context, routes []Route, rules plan.Rules, began time.Time, memory Memory,
	each func(ShareListed) error) error {
	for i, route := range routes {
		sieve, err := rules.Filter.Sieve(began)
		if err != nil {
			return err
		}
		differences, err := route.again(ctx, rules, began, memory, sieve)
		if err != nil {
			return err
		}
		walk := shareWalk{route: route, number: i, rules: rules, each: each}
		root, err := route.Source.Store.Stat(ctx, route.Source.Root)
		if err != nil {
			return err
		}
		if root.Kind == store.KindFolder {
			walk.open = []sharedFolder{{listed: root.HasShares, source: route.Source.Root, target: route.Target.Root, arrived: true}}
			walk.open[0].source.ID = root.ID
		}
		for d, err := range differences {
			if err == nil {
				err = walk.see(ctx, d)
			}
			if err != nil {
				return fmt.Errorf("%s and %s could not be compared to the end: %w", route.Source.Address, route.Target.Address, err)
			}
		}
		for len(walk.open) > 0 {
			if err := walk.leave(ctx); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// shareWalk holds the folders on the way to where the listing is.
type shareWalk struct {
	route  Route
	number int
	rules  plan.Rules
	each   func(ShareListed) error
	open   []sharedFolder
}

// sharedFolder is a folder of the source, and the one that it is at the target.
type sharedFolder struct {
	key, to        store.Key
	source, target store.Ref
	listed         bool  // it has a share list
	arrived        bool  // it is at the target
	more           bool  // the target's folder holds what the source's does not
	held           int64 // entries that were seen in both
}

func (w *shareWalk) see(ctx context.Context, d compare.Difference) error {
	inside := func(folder sharedFolder) bool {
		if d.Source == nil {
			return strings.HasPrefix(string(d.Key), string(folder.to))
		}
		return strings.HasPrefix(string(d.Key), string(folder.key))
	}
	for len(w.open) > 1 && !inside(w.open[len(w.open)-1]) {
		if err := w.leave(ctx); err != nil {
			return err
		}
	}
	cause := plan.CauseNone
	if d.Kind != store.KindFolder && d.Source != nil {
		_, cause = w.rules.Verified(d)
	}
	if len(w.open) > 0 {
		holder := &w.open[len(w.open)-1]
		holder.more = holder.more || d.Target != nil && (d.Source == nil || cause != plan.CauseNone)
		if d.Source != nil && d.Target != nil {
			holder.held++
		}
	}
	if d.Source == nil {
		return nil
	}
	one := ShareListed{Route: w.number, Item: Item{Key: d.Key, Kind: d.Kind, Size: d.Source.Size}, Cause: cause,
		Source: w.route.Source.place(d.Key, d.Kind), Target: w.route.Target.place(d.To, d.Kind)}
	if d.To != d.Key {
		one.Item.To = d.To
	}
	one.Source.ID = d.Source.ID
	if d.Target != nil {
		one.Target.ID = d.Target.ID
	}
	if d.Kind == store.KindFolder {
		w.open = append(w.open, sharedFolder{key: d.Key, to: d.To, source: one.Source, target: one.Target, listed: d.Source.HasShares,
			arrived: d.Target != nil})
		return nil
	}
	if !d.Source.HasShares {
		return nil
	}
	return w.each(one)
}

// leave ends the innermost folder, after all that it holds was seen.
func (w *shareWalk) leave(ctx context.Context) error {
	folder := w.open[len(w.open)-1]
	w.open = w.open[:len(w.open)-1]
	if folder.listed && folder.arrived && !folder.more && folder.to != folder.key {
		// What only the target holds of a folder with another name there is listed elsewhere.
		n, err := countOf(ctx, w.route.Target.Store, folder.target)
		if err != nil {
			return err
		}
		folder.more = n > folder.held
	}
	if len(w.open) > 0 {
		holder := &w.open[len(w.open)-1]
		holder.more, holder.held = holder.more || folder.more, holder.held+folder.held
	}
	if !folder.listed {
		return nil
	}
	one := ShareListed{Route: w.number, Item: Item{Key: folder.key, Kind: store.KindFolder}, Source: folder.source, Target: folder.target}
	if folder.to != folder.key {
		one.Item.To = folder.to
	}
	switch {
	case !folder.arrived:
		one.Cause = plan.CauseNotThere
	case folder.more:
		one.Cause = plan.CauseShowsMore
	}
	return w.each(one)
}

// countOf returns how many entries are anywhere below a folder.
func countOf(ctx context.Context, s store.Store, folder store.Ref) (n int64, err error) {
	for _, err := range listing.Flat(ctx, s, folder.AsFolder()) {
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
