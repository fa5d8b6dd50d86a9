package store

import (
	"context"
	"time"
)

// Locker has the server itself refuse changes that others make to an entry.
type Locker interface {
	// LockEntry locks a file, or a folder with everything in it, for a time that the server
	// may shorten. owner names the holder for people. The token of a present lock renews it.
	// ErrLocked if another holder has locked the entry, ErrUnsupported if the server has no
	// locks.
	LockEntry(ctx context.Context, ref Ref, owner string, within time.Duration, token string) (HeldLock, error)
	// UnlockEntry ends a lock. One that is gone is fine.
	UnlockEntry(ctx context.Context, ref Ref, token string) error
}

// HeldLock is a lock at a server.
type HeldLock struct {
	// Token must be part of every request that changes the entry.
	Token string
	// Until is when the server ends the lock.
	Until time.Time
}

// ShownLock is the lock that a request may rely on.
type ShownLock struct {
	Ref   Ref // of the entry that is locked
	Token string
}

type lockKey struct{}

// WithLock returns a context whose requests show a lock.
func WithLock(ctx context.Context, lock ShownLock) context.Context {
	return context.WithValue(ctx, lockKey{}, lock)
}

// LockOf returns the lock that the requests of a context show; false for none.
func LockOf(ctx context.Context) (ShownLock, bool) {
	lock, ok := ctx.Value(lockKey{}).(ShownLock)
	return lock, ok
}
