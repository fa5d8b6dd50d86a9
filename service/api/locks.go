package api

import (
	"context"
	"errors"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/access"
	"deftheron/service/annotations"
	"deftheron/service/messages"
	"deftheron/service/records"
)

func (s *Server) listLocks(ctx context.Context, _ *none) (*body[[]contract.Annotations], error) {
	locked, err := s.Annotations.Locks(ctx)
	shown := []contract.Annotations{}
	for i := range locked {
		shown = append(shown, shownAnnotations(ctx, locked[i].Address, &locked[i].Annotated))
	}
	return &body[[]contract.Annotations]{shown}, err
}

// usualLock is how long a lock lasts if nothing is said.
const usualLock = 8 * time.Hour

func (s *Server) takeLocks(ctx context.Context, in *body[contract.NewLock]) (*body[[]contract.Annotations], error) {
	who, now := person(ctx), s.Annotations.Now()
	lock := records.Lock{User: who.User, By: who.Name, Until: now.Add(usualLock), Reason: strings.TrimSpace(in.Body.Reason)}
	switch {
	case in.Body.Until != nil && in.Body.For != "":
		return nil, remedy.Errorf("a lock has a duration or an end, and both are given; give one")
	case in.Body.Until != nil:
		lock.Until = *in.Body.Until
	case in.Body.For != "":
		within, err := lockTime(in.Body.For, now)
		if err != nil {
			return nil, err
		}
		lock.Until = now.Add(within)
	}
	entries, err := s.notedAll(ctx, in.Body.Addresses)
	if err != nil {
		return nil, err
	}
	shown := []contract.Annotations{}
	for _, one := range entries {
		if one.Located.Store.Traits().ReadOnly {
			return nil, store.Errorf(store.ErrRefused, "/%s is linked to be read only, and nothing can be changed there; it needs no locks",
				one.Located.Name)
		}
		held, err := s.Annotations.Lock(ctx, one, lock)
		if err != nil {
			return nil, s.notHeld(err)
		}
		one.Annotated.Lock = &held
		shown = append(shown, shownAnnotations(ctx, one.Address, &one.Annotated))
	}
	return &body[[]contract.Annotations]{shown}, nil
}

// lockTime reads a time such as 30m, 2h, 3d or 1w.
func lockTime(text string, now time.Time) (time.Duration, error) {
	if within, err := time.ParseDuration(text); err == nil {
		return within, nil
	}
	before, err := job.ParseAge(text, now)
	if err != nil {
		return 0, remedy.Errorf("%q is not a time for a lock; write it as 30m, 2h or 3d", text)
	}
	return now.Sub(before), nil
}

// notHeld adds the remedy to the error of a lock of another user.
func (s *Server) notHeld(err error) error {
	if store.KindOf(err) != store.ErrLocked {
		return err
	}
	_, commands := messages.RemedyOf(plan.CauseLocked, messages.Subject{})
	return messages.With(err, commands...)
}

func (s *Server) endLocks(ctx context.Context, in *body[contract.Addresses]) (*body[contract.Noted], error) {
	entries, err := s.notedAll(ctx, in.Body.Addresses)
	if err != nil {
		return nil, err
	}
	var noted contract.Noted
	for _, one := range entries {
		if err := s.mayUnlock(ctx, one); err != nil {
			return nil, err
		}
	}
	for _, one := range entries {
		if err := s.Annotations.Unlock(ctx, one); err != nil {
			return nil, err
		}
		noted.Changed++
	}
	return &body[contract.Noted]{noted}, nil
}

// mayUnlock returns an error unless who asks may end the lock of an entry: who holds it, an
// owner, and anybody if who held it is gone.
func (s *Server) mayUnlock(ctx context.Context, one annotations.Entry) error {
	lock := one.Annotated.Lock
	if lock == nil {
		return store.Errorf(store.ErrNotFound, "%s is not locked; see the list of locks", one.Address)
	}
	who := person(ctx)
	if lock.User == who.User || who.Role == access.Owner {
		return nil
	}
	holder, err := s.DB.User(ctx, lock.User)
	if errors.Is(err, records.ErrNotFound) || err == nil && holder.Disabled {
		return nil
	}
	return store.Errorf(store.ErrRefused, "%s is locked by %s; ask %s or an owner of the service to unlock it", one.Address, lock.By, lock.By)
}
