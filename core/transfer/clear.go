package transfer

import (
	"context"
	"iter"
	"strings"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// clear removes the files of the sources whose copies at the targets are verified, and
// returns how many entries stay. It lists both sides again, completely, and compares
// them with the records: a file is removed only if the source still has the revision
// that was copied and the target the one that was verified, or if both report the same
// hash. A folder is removed when it is empty. clear may be interrupted and started again
// at any moment.
func (r *Run) clear(ctx context.Context) (stays int64, err error) {
	for _, route := range r.Routes {
		n, err := r.clearRoute(ctx, route)
		if err != nil {
			return stays, err
		}
		stays += n
	}
	return stays, nil
}

func (r *Run) clearRoute(ctx context.Context, route Route) (stays int64, err error) {
	differences, err := route.again(ctx, r.Rules, r.Began, r.Records, nil)
	if store.KindOf(err) == store.ErrNotFound {
		return 0, nil // cleared before it was interrupted
	}
	if err != nil {
		return 0, err
	}
	c := &clearing{run: r, route: route}
	for d, err := range differences {
		if err != nil {
			return c.stays, err
		}
		if d.Source == nil {
			continue
		}
		if err := c.leave(ctx, d.Key); err != nil {
			return c.stays, err
		}
		if d.Kind == store.KindFolder {
			c.open = append(c.open, openFolder{d.Key, d.Target != nil})
			continue
		}
		if err := c.file(ctx, d); err != nil {
			return c.stays, err
		}
	}
	if err := c.leave(ctx, ""); err != nil {
		return c.stays, err
	}
	r.removeCanary(ctx, route)
	return c.stays, c.root(ctx)
}

// again lists both sides of a route again and compares them with the records. sieve, if not
// nil, excludes entries of the source.
func (r Route) again(ctx context.Context, rules plan.Rules, began time.Time, memory Memory,
	sieve *plan.Sieve) (iter.Seq2[compare.Difference, error], error) {
	streams, err := r.streams(ctx, rules)
	if err != nil {
		return nil, err
	}
	streams.Pairs = memory.Pairs(ctx, r.Scope)
	if streams.Names, err = r.mapper(rules, began); err != nil {
		return nil, err
	}
	streams.At = r.Target.at
	if source := streams.Source; sieve != nil && !streams.single {
		streams.Source = func(ctx context.Context) iter.Seq2[store.Listed, error] { return sieve.Of(source(ctx)) }
	}
	return compare.Merge(ctx, streams.Streams, r.sides(false)), nil
}

// clearing holds the folders on the way to where the listing is, and no more.
type clearing struct {
	run   *Run
	route Route
	open  []openFolder
	stays int64
}

type openFolder struct {
	key     store.Key
	arrived bool
}

func (c *clearing) file(ctx context.Context, d compare.Difference) error {
	verified := d.Target != nil && d.Verdict == compare.Same && (d.Evidence == compare.ByPair && !d.Pair.Kept || d.Evidence == compare.ByHash)
	if !verified {
		c.stays++
		return nil
	}
	file := sourceFile{source: c.route.Source.place(d.Key, d.Kind), target: c.route.Target.place(d.To, d.Kind), revision: d.Source.Revision}
	file.source.ID, file.target.ID = d.Source.ID, d.Target.ID
	if d.Pair != nil && d.Evidence == compare.ByPair {
		file.hash = d.Pair.Verification
	} else if hash, _, ok := store.Shared(d.Source.Hashes, d.Target.Hashes); ok {
		file.hash = hash.String()
	}
	return c.remove(ctx, file)
}

// remove counts what cannot be removed as staying; only an expired sign-in
// ends the clearing.
func (c *clearing) remove(ctx context.Context, file sourceFile) error {
	_, err := c.run.removeSource(ctx, c.route, file)
	if stopped := c.run.stopped.Load(); stopped != nil {
		return store.Errorf(store.ErrRefused, "%s", stopped.why)
	}
	switch kind := store.KindOf(err); {
	case err == nil || kind == store.ErrNotFound:
		return nil
	case store.WaitsForPerson(err) || ctx.Err() != nil:
		return err
	}
	c.run.Log.Info("an item stays at the source", "run", c.run.ID, "place", file.source.String(), "error", err)
	c.stays++
	return nil
}

// leave removes the folders that key is no longer in, innermost first. One that
// still holds something stays, and does not count: what it holds does.
func (c *clearing) leave(ctx context.Context, key store.Key) error {
	for len(c.open) > 0 {
		last := c.open[len(c.open)-1]
		if key != "" && strings.HasPrefix(string(key), string(last.key)) {
			return nil
		}
		c.open = c.open[:len(c.open)-1]
		if !last.arrived {
			c.stays++
			continue
		}
		place := c.route.Source.place(last.key, store.KindFolder)
		if err := c.folder(ctx, place); err != nil {
			return err
		}
	}
	return nil
}

func (c *clearing) folder(ctx context.Context, place store.Ref) error {
	_, err := c.route.Source.Store.RemoveFolder(ctx, place)
	if kind := store.KindOf(err); err == nil || kind == store.ErrNotFound || kind == store.ErrRefused {
		return ctx.Err()
	}
	return err
}

// root removes the folder that was moved itself.
func (c *clearing) root(ctx context.Context) error {
	if c.route.Source.Root.IsStart() || c.stays > 0 {
		return nil
	}
	return c.folder(ctx, c.route.Source.Root)
}
