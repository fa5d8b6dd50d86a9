package annotations

import (
	"context"
	"errors"

	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// Carried counts the tags and comments that a route's target got from its source.
type Carried struct {
	Entries  int64 // that have all of it
	Tags     int64
	Comments int64
	Missing  int64 // entries that are not at the target
	// Added are the tags and comments that were not there before.
	Added int64
}

// Add adds the counts of another route.
func (c *Carried) Add(other Carried) {
	c.Entries += other.Entries
	c.Tags += other.Tags
	c.Comments += other.Comments
	c.Missing += other.Missing
	c.Added += other.Added
}

// Carry copies the tags and comments of a route's source to the transferred entries. keyAt
// returns the key of an entry at the target. cleared is set if the source may have been
// cleared: then the annotations of missing entries are copied, too. The time depends only
// on the number of annotated entries.
func (a *Annotations) Carry(ctx context.Context, route transfer.Route, by string, cleared bool,
	keyAt func(store.Key) (store.Key, error)) (total Carried, err error) {
	from, err := a.AccountID(ctx, route.Source.Account)
	if err != nil {
		return total, err
	}
	to, err := a.AccountID(ctx, route.Target.Account)
	if err != nil {
		return total, err
	}
	if has, err := a.hasSome(ctx, from); err != nil || !has {
		return total, err
	}
	root := route.Source.Root
	carry := func(one *records.Annotated) error {
		if one.MissingAt != nil && !cleared || len(one.Tags)+one.CommentCount == 0 || isOurs(one.Place()) {
			return nil
		}
		place := one.Place()
		key := store.Key("")
		if place.Folder.Path != root.Folder.Path || place.Name != root.Name {
			key = store.KeyOf(place.Folder.Path, place.Name, place.Kind)[len(root.AsFolder().Path):]
		}
		at, err := keyAt(key)
		if err != nil {
			return err
		}
		target := route.Target.Root.As(place.Kind)
		if at != "" {
			target = at.Ref(route.Target.Root.AsFolder().Path, place.Kind)
		}
		return a.carryOne(ctx, one, to, route.Target.Store, target, by, &total)
	}
	if !root.IsStart() {
		for _, kind := range []store.Kind{store.KindFile, store.KindFolder} {
			top, err := a.db.AnnotatedAt(ctx, from, root.As(kind))
			if errors.Is(err, records.ErrNotFound) {
				continue
			}
			if err == nil {
				filled := []records.Annotated{top}
				if err = a.db.FillAnnotated(ctx, filled); err == nil {
					err = carry(&filled[0])
				}
			}
			if err != nil {
				return total, err
			}
		}
	}
	err = a.db.AnnotatedBelow(ctx, from, root.AsFolder().Path, carry)
	if err == nil && total.Added > 0 {
		a.noted(to, route.Target.Address.Child("."))
	}
	return total, err
}

// carryOne gives an entry at a target the tags and comments of one at the source.
func (a *Annotations) carryOne(ctx context.Context, one *records.Annotated, account string, s store.Store, target store.Ref, by string,
	total *Carried) error {
	entry, err := s.Stat(ctx, target)
	if store.KindOf(err) == store.ErrNotFound || err == nil && (entry.Kind == store.KindFolder) != one.IsFolder {
		total.Missing++
		return nil
	}
	if err != nil {
		return err
	}
	place := placeOf(target, entry)
	a.mu.Lock()
	a.some[account] = true
	a.mu.Unlock()
	if _, err := a.find(ctx, account, s, place); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err // what was moved there is followed first
	}
	if len(one.Tags) > 0 {
		added, err := a.db.AddTags(ctx, account, place, one.Tags, by, a.Now())
		if err != nil && !errors.Is(err, records.ErrTooMany) {
			return err
		}
		total.Added += added
	}
	for _, comment := range one.Comments {
		_, isNew, err := a.db.AddComment(ctx, account, place, comment)
		if err != nil && !errors.Is(err, records.ErrTooMany) {
			return err
		}
		if isNew {
			total.Added++
		}
	}
	total.Entries++
	total.Tags += int64(len(one.Tags))
	total.Comments += int64(one.CommentCount)
	return nil
}
