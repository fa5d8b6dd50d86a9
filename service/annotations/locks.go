package annotations

import (
	"context"
	"errors"
	"fmt"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/records"
)

const (
	// LongestLock is how long a lock may last before it has to be renewed.
	LongestLock = 90 * 24 * time.Hour
	// heldFor is how long a lock at a server is asked for at once, and renewBefore how long
	// before its end it is renewed.
	heldFor, renewBefore = time.Hour, 10 * time.Minute
	// lookEvery is the interval of the checks for locks that end.
	lookEvery = 5 * time.Second
)

// Watcher returns what decides about the changes of an account.
func (a *Annotations) Watcher(account string) view.Watcher { return watcher{a, account} }

type watcher struct {
	*Annotations
	account string
}

// isOurs reports whether a place is of what runs leave behind or keep.
func isOurs(ref store.Ref) bool {
	names := ref.Folder.Path.Names()
	if len(names) == 0 {
		return ref.Name == store.OwnFolder || store.Ours("", ref.Name)
	}
	return names[0] == store.OwnFolder || store.Ours(ref.Folder.Path, ref.Name)
}

// May implements view.Watcher. A lock keeps out everybody but who holds it, and all runs:
// a run does not know what its owner is at work on.
func (w watcher) May(ctx context.Context, ref store.Ref, whole bool) (context.Context, error) {
	locks, err := w.locksOf(ctx, w.account)
	if err != nil || locks.Len() == 0 || isOurs(ref) || ref.IsStart() {
		return ctx, err
	}
	user, now := w.UserOf(ctx), w.Now()
	if lock, forbids := locks.Forbids(ref, whole, user, now); forbids {
		return ctx, &annotation.HeldError{Ref: ref, Lock: lock}
	}
	if lock, ok := locks.On(ref, now); ok && lock.Token != "" {
		kind := store.KindFile
		if lock.Key[len(lock.Key)-1] == '/' {
			kind = store.KindFolder
		}
		ctx = store.WithLock(ctx, store.ShownLock{Ref: lock.Key.Ref("", kind), Token: lock.Token})
	}
	return ctx, nil
}

// Wrote implements view.Watcher. What is noted about a place is about the file that is there
// now, and servers end a lock with the file that is replaced.
func (w watcher) Wrote(ctx context.Context, ref store.Ref, entry store.Entry) {
	ctx = context.WithoutCancel(ctx)
	if has, err := w.hasSome(ctx, w.account); err == nil && has && !isOurs(ref) {
		place := placeOf(ref, entry)
		row, err := w.db.AnnotatedAt(ctx, w.account, place)
		if err == nil && row.Ref != place.ID {
			err = w.db.FoundAnnotated(ctx, row.ID, w.account, place)
		}
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			w.log.ErrorContext(ctx, "it could not be noted that a file with tags or comments was replaced", "file", ref.String(), "error", err)
		}
	}
	locks, err := w.locksOf(ctx, w.account)
	if err != nil || locks.Len() == 0 {
		return
	}
	if lock, ok := locks.On(ref, w.Now()); ok && lock.Token != "" {
		w.renew(ctx, func(row *records.Annotated) bool {
			place := row.Place()
			return row.Account == w.account && store.KeyOf(place.Folder.Path, place.Name, place.Kind) == lock.Key
		})
	}
}

// Moved implements view.Watcher. What is moved to history, or back, is not followed.
func (w watcher) Moved(ctx context.Context, from, to store.Ref, entry store.Entry) {
	ctx = context.WithoutCancel(ctx)
	has, err := w.hasSome(ctx, w.account)
	if err != nil || !has || isOurs(from) {
		return
	}
	from = placeOf(from, entry)
	if isOurs(to) {
		err = w.db.MissAnnotated(ctx, w.account, from, w.Now())
	} else {
		_, err = w.db.MoveAnnotated(ctx, w.account, from, to.As(from.Kind))
	}
	if err != nil {
		w.log.ErrorContext(ctx, "the tags and comments of an entry could not follow its move",
			"from", from.String(), "to", to.String(), "error", err)
	}
	w.forgetLocks(w.account)
}

// Removed implements view.Watcher.
func (w watcher) Removed(ctx context.Context, ref store.Ref) {
	ctx = context.WithoutCancel(ctx)
	has, err := w.hasSome(ctx, w.account)
	if err == nil && has {
		err = w.db.MissAnnotated(ctx, w.account, ref, w.Now())
		w.forgetLocks(w.account)
	}
	if err != nil {
		w.log.ErrorContext(ctx, "it could not be noted that an entry with tags or comments was removed", "entry", ref.String(), "error", err)
	}
}

// locksOf returns the locks of an account.
func (a *Annotations) locksOf(ctx context.Context, account string) (*annotation.Locks, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if locks := a.locks[account]; locks != nil {
		return locks, nil
	}
	rows, err := a.db.Locked(context.WithoutCancel(ctx), account)
	if err != nil {
		return nil, err
	}
	all := make([]annotation.Lock, 0, len(rows))
	for i := range rows {
		row := &rows[i]
		if row.Placed() && row.Lock != nil {
			place := row.Place()
			all = append(all, annotation.Lock{Key: store.KeyOf(place.Folder.Path, place.Name, place.Kind), User: row.Lock.User, Name: row.Lock.By,
				Until: row.Lock.Until, Reason: row.Lock.Reason, Token: row.Lock.Token})
		}
	}
	a.locks[account] = annotation.NewLocks(all)
	return a.locks[account], nil
}

// On returns the lock that covers the entry at an address: its own, or that of a folder around it.
func (a *Annotations) On(ctx context.Context, address store.Address) (lock annotation.Lock, ok bool, err error) {
	place, known := address.Place()
	if !known || place.IsStart() {
		return lock, false, nil
	}
	account, err := a.AccountID(ctx, address.Account)
	if err != nil {
		return lock, false, err
	}
	locks, err := a.locksOf(ctx, account)
	if err != nil {
		return lock, false, err
	}
	lock, ok = locks.On(place, a.Now())
	return lock, ok, nil
}

func (a *Annotations) forgetLocks(account string) {
	a.mu.Lock()
	delete(a.locks, account)
	a.mu.Unlock()
}

// Lock locks an entry for a user until a time, at its server too if that has locks. Who
// holds it already renews it.
func (a *Annotations) Lock(ctx context.Context, one Entry, lock records.Lock) (records.Lock, error) {
	now := a.Now()
	switch {
	case !lock.Until.After(now):
		return lock, store.Errorf(store.ErrRefused, "the lock would end at once; choose a time that is still to come")
	case lock.Until.After(now.Add(LongestLock)):
		return lock, store.Errorf(store.ErrRefused, "a lock lasts %d days at most; renew it then", LongestLock/(24*time.Hour))
	}
	a.renewing.Lock()
	defer a.renewing.Unlock()
	locks, err := a.locksOf(ctx, one.Account)
	if err != nil {
		return lock, err
	}
	place := one.place()
	if held, forbids := locks.Forbids(place, true, lock.User, now); forbids {
		return lock, &annotation.HeldError{Ref: place, Lock: held}
	}
	if one.Annotated.Lock != nil {
		lock.Token, lock.HeldUntil = one.Annotated.Lock.Token, one.Annotated.Lock.HeldUntil
	}
	lock.At = now
	if err := a.lockAtServer(ctx, one.Located, place, &lock); err != nil {
		return lock, err
	}
	if err := a.db.SetLock(context.WithoutCancel(ctx), one.Account, place, lock); err != nil {
		return lock, err
	}
	a.forgetLocks(one.Account)
	a.noted(one.Account, one.Address)
	return lock, nil
}

// lockAtServer has the server of an entry hold the lock too, as long as it does at once.
func (a *Annotations) lockAtServer(ctx context.Context, located tree.Located, place store.Ref, lock *records.Lock) error {
	locker := located.Store.Capabilities().Locker
	if locker == nil {
		return nil
	}
	held, err := locker.LockEntry(ctx, place, lock.By, min(heldFor, lock.Until.Sub(a.Now())), lock.Token)
	if store.KindOf(err) == store.ErrUnsupported {
		lock.Token = ""
		return nil // the service alone holds it
	}
	if err == nil {
		lock.Token, lock.HeldUntil = held.Token, held.Until
	}
	return err
}

// Unlock ends the lock of an entry.
func (a *Annotations) Unlock(ctx context.Context, one Entry) error {
	a.renewing.Lock()
	defer a.renewing.Unlock()
	return a.unlock(ctx, one.Annotated, one.Address)
}

func (a *Annotations) unlock(ctx context.Context, row records.Annotated, address store.Address) error {
	if row.Lock == nil {
		return nil
	}
	if err := a.unlockAtServer(ctx, row, address); err != nil && a.Now().Before(row.Lock.HeldUntil) {
		a.log.WarnContext(ctx, "a lock could not be ended at its server; it ends there when its time is over", "address", address.String(),
			"error", err)
	}
	if err := a.db.RemoveLock(context.WithoutCancel(ctx), row.ID); err != nil {
		return err
	}
	a.forgetLocks(row.Account)
	a.noted(row.Account, address)
	if a.Unlocked != nil {
		a.Unlocked(address)
	}
	return nil
}

func (a *Annotations) unlockAtServer(ctx context.Context, row records.Annotated, address store.Address) error {
	if row.Lock.Token == "" {
		return nil
	}
	account, err := a.tree.Accounts.Open(tree.WithScope(ctx, nil), address.Account)
	if err != nil {
		return err
	}
	locker := account.Store.Capabilities().Locker
	if locker == nil {
		return nil
	}
	return locker.UnlockEntry(ctx, row.Place(), row.Lock.Token)
}

// Run ends locks in time, renews locks at servers, and removes the annotations of entries that
// have been missing for long, until the context ends.
func (a *Annotations) Run(ctx context.Context) {
	var forgotten time.Time
	for ctx.Err() == nil {
		a.end(ctx)
		a.renew(ctx, func(row *records.Annotated) bool { return !a.Now().Before(row.Lock.HeldUntil.Add(-renewBefore)) })
		if now := a.Now(); now.Sub(forgotten) > time.Hour {
			forgotten = now
			if err := a.db.ForgetMissing(ctx, now, now.Add(-keepMissing)); err != nil && ctx.Err() == nil {
				a.log.ErrorContext(ctx, "tags and comments of missing entries could not be removed", "error", err)
			}
		}
		_ = retry.Sleep(ctx, lookEvery)
	}
}

// each calls do with all locks, and where their entries are in the tree.
func (a *Annotations) each(ctx context.Context, do func(row records.Annotated, address store.Address) error) {
	rows, err := a.db.Locked(ctx, "")
	if err != nil {
		if ctx.Err() == nil {
			a.log.ErrorContext(ctx, "the locks could not be read", "error", err)
		}
		return
	}
	for _, row := range rows {
		name, err := a.accountName(ctx, row.Account)
		if err == nil {
			err = do(row, addressOf(name, &row))
		}
		if err != nil && ctx.Err() == nil {
			a.log.WarnContext(ctx, "a lock could not be looked after", "entry", row.Place().String(), "error", err)
		}
	}
}

// addressOf is the address of an entry in an account.
func addressOf(account string, row *records.Annotated) store.Address {
	return store.MakeAddress(account, row.Place())
}

// errUnlinked is the error if the account of an entry is not linked any more.
var errUnlinked = errors.New("its account is not linked any more")

func (a *Annotations) accountName(ctx context.Context, id string) (string, error) {
	rows, err := a.db.Accounts(ctx)
	for _, row := range rows {
		if row.ID == id {
			return row.Name, nil
		}
	}
	if err == nil {
		err = errUnlinked
	}
	return "", err
}

// end ends the locks whose time is over.
func (a *Annotations) end(ctx context.Context) {
	a.renewing.Lock()
	defer a.renewing.Unlock()
	now := a.Now()
	a.each(ctx, func(row records.Annotated, address store.Address) error {
		if row.Lock == nil || now.Before(row.Lock.Until) {
			return nil
		}
		return a.unlock(ctx, row, address)
	})
}

// renew renews those locks at servers that are due.
func (a *Annotations) renew(ctx context.Context, due func(*records.Annotated) bool) {
	a.renewing.Lock()
	defer a.renewing.Unlock()
	now := a.Now()
	a.each(ctx, func(row records.Annotated, address store.Address) error {
		lock := row.Lock
		if lock == nil || lock.Token == "" || !row.Placed() || !now.Before(lock.Until) || !due(&row) {
			return nil
		}
		ctx := tree.WithScope(ctx, nil)
		account, err := a.tree.Accounts.Open(ctx, address.Account)
		if err != nil {
			return err
		}
		if err := a.lockAtServer(ctx, tree.Located{Account: account, Address: address}, row.Place(), lock); err != nil {
			return fmt.Errorf("renewing it at the server: %w", err)
		}
		if err := a.db.SetLock(ctx, row.Account, row.Place(), *lock); err != nil {
			return err
		}
		a.forgetLocks(row.Account)
		return nil
	})
}
