package transfer

import (
	"context"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
)

// markFresh finds the targets that do not exist yet: files that are created there need no
// change records of their own, because the folder has one.
func (r *Run) markFresh(ctx context.Context, i int) error {
	route := r.Routes[i]
	if !r.Rules.TracksFiles() || r.Resumed || route.Target.Root.IsStart() || route.Target.Root.Kind == store.KindFile {
		return nil
	}
	_, err := store.Occupant(ctx, route.Target.Store, route.Target.Root)
	if store.KindOf(err) != store.ErrNotFound {
		return err
	}
	for other, another := range r.Routes {
		if other != i && another.Target.Store == route.Target.Store {
			return nil // what is fresh of a store is said of all of it
		}
	}
	root := route.Target.Root
	r.fresh[route.Target.Store] = true
	r.firstChanges = append(r.firstChanges, Ending{Route: i, Changes: []history.Change{{
		Account: route.Target.Account, Path: store.KeyOf(root.Folder.Path, root.Name, store.KindFolder), At: time.Now(), How: history.Created,
		Run: r.ID, Job: r.Job,
	}}})
	return nil
}
