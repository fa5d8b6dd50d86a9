package annotation

import (
	"slices"
	"sort"
	"strings"
	"time"

	"deftheron/core/store"
)

// Lock reserves a file or folder for one user: until it ends nobody else may change the entry.
// A lock on a folder covers everything in it.
type Lock struct {
	// Key of the entry, relative to the account's start.
	Key store.Key
	// User is the id of who holds it, and Name what they are called.
	User, Name string
	Until      time.Time
	Reason     string
	// Token is what the server asks for if it enforces the lock too; else empty.
	Token string
}

// Locks are the locks of an account. They do not change.
type Locks struct {
	sorted []Lock
	at     map[store.Key]int
}

// NewLocks returns a set of locks.
func NewLocks(all []Lock) *Locks {
	l := &Locks{sorted: slices.Clone(all), at: make(map[store.Key]int, len(all))}
	sort.Slice(l.sorted, func(i, j int) bool { return l.sorted[i].Key < l.sorted[j].Key })
	for i, lock := range l.sorted {
		l.at[lock.Key] = i
	}
	return l
}

// Len returns how many locks there are, expired ones included.
func (l *Locks) Len() int { return len(l.sorted) }

// On returns the lock that covers an entry: its own, or the lock of the innermost folder around
// it. A ref without a kind means both a file and a folder of its name.
func (l *Locks) On(ref store.Ref, now time.Time) (Lock, bool) {
	for _, kind := range []store.Kind{store.KindFile, store.KindFolder} {
		if ref.Means(kind) {
			if lock, ok := l.one(store.KeyOf(ref.Folder.Path, ref.Name, kind), now); ok {
				return lock, true
			}
		}
	}
	for path := ref.Folder.Path; path != ""; path, _ = path.Split() {
		if lock, ok := l.one(store.Key(path), now); ok {
			return lock, true
		}
	}
	return Lock{}, false
}

func (l *Locks) one(key store.Key, now time.Time) (Lock, bool) {
	i, ok := l.at[key]
	if !ok || !now.Before(l.sorted[i].Until) {
		return Lock{}, false
	}
	return l.sorted[i], true
}

// Within returns the first lock below a folder that the user does not hold.
func (l *Locks) Within(folder store.Path, user string, now time.Time) (Lock, bool) {
	from := sort.Search(len(l.sorted), func(i int) bool { return l.sorted[i].Key > store.Key(folder) })
	for _, lock := range l.sorted[from:] {
		if !strings.HasPrefix(string(lock.Key), string(folder)) {
			break
		}
		if lock.User != user && now.Before(lock.Until) {
			return lock, true
		}
	}
	return Lock{}, false
}

// Forbids returns the lock that forbids a user to change an entry. whole is set if the content
// of a folder changes with it. The empty user holds no lock.
func (l *Locks) Forbids(ref store.Ref, whole bool, user string, now time.Time) (Lock, bool) {
	if lock, ok := l.On(ref, now); ok && (user == "" || lock.User != user) {
		return lock, true
	}
	if whole && ref.Means(store.KindFolder) {
		return l.Within(ref.AsFolder().Path, user, now)
	}
	return Lock{}, false
}

// HeldError is the error of a change that a lock forbids. Its kind is store.ErrLocked.
type HeldError struct {
	Ref  store.Ref
	Lock Lock
}

// Error implements error.
func (e *HeldError) Error() string {
	why := ""
	if e.Lock.Reason != "" {
		why = " (" + e.Lock.Reason + ")"
	}
	return e.Ref.String() + " is locked by " + e.Lock.Name + why + " until " + e.Lock.Until.UTC().Format("2006-01-02 15:04") + " UTC"
}

// Unwrap gives the error its kind.
func (e *HeldError) Unwrap() error { return store.ErrLocked }
