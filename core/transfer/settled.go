package transfer

import (
	"context"

	"deftheron/core/history"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// settleKept finds what an interrupted run has moved to history without it being written
// down: it is what the item keeps, or has its name again where the new content has not
// come yet.
func (r *Run) settleKept(ctx context.Context) error {
	notes, err := r.Records.Noted(ctx, r.ID)
	if err != nil {
		return err
	}
	for _, noted := range notes {
		if noted.Kept == "" && noted.From == "" || noted.Item.Route >= len(r.Routes) || r.absentOf(noted.Item.Route) != nil {
			continue
		}
		if err := r.persist(ctx, nil, func() error { return r.settleOneKept(ctx, noted) }); err != nil {
			return err
		}
	}
	return nil
}

func (r *Run) settleOneKept(ctx context.Context, noted Noted) error {
	a := attempt{Run: r, item: &noted.Item, route: r.Routes[noted.Item.Route]}
	if noted.From != "" {
		return a.settleMove(ctx, noted.From)
	}
	s, content := a.route.Target.Store, history.Content{Place: noted.Kept.Ref("", store.KindFile), Version: noted.KeptVersion}
	entry, err := content.Stat(ctx, s)
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return nil
	case err != nil:
		return err
	case entry.Size != noted.Item.Target.Size:
		return nil // it broke off, and is no version
	}
	_, err = store.Occupant(ctx, s, a.target())
	if store.KindOf(err) == store.ErrNotFound && noted.Item.Action != plan.Remove && store.CanMove(s) && content.Version == "" {
		_, err = store.Move(ctx, s, content.Place, "", a.target())
		return err
	}
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return err
	}
	if r.settled == nil {
		r.settled = map[int64]*version{}
	}
	r.settled[noted.Item.Seq] = &version{Content: content, hash: noted.KeptHash, was: noted.Item.Target}
	a.tellKept(a.target(), content)
	return nil
}

// settleMove finds out whether a content has been moved within the target.
func (a *attempt) settleMove(ctx context.Context, from store.Key) error {
	s := a.route.Target.Store
	if _, err := s.Stat(ctx, from.Ref("", store.KindFile)); store.KindOf(err) != store.ErrNotFound {
		return err
	}
	entry, err := s.Stat(ctx, a.target())
	if store.KindOf(err) == store.ErrNotFound {
		return nil
	}
	if err == nil && entry.Size == a.item.Source.Size {
		if a.settledMoves == nil {
			a.settledMoves = map[int64]store.Key{}
		}
		a.settledMoves[a.item.Seq] = from
	}
	return err
}

// takeSettled has an item know what it had done before the run was interrupted.
func (r *Run) takeSettled(item *Item) {
	if item.version == nil {
		item.version = r.settled[item.Seq]
	}
	if item.movedFrom == "" {
		item.movedFrom = r.settledMoves[item.Seq]
	}
}
