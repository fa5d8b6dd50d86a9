package access

import (
	"context"
	"crypto/sha256"
	"sync"
	"time"
)

// Sign-ins that fail are slowed down: by the address that they come from and by the name of the
// user, after the first few, and over all addresses together. What is kept of them is bounded.

const (
	// freeFailures are answered at once, from one address.
	freeFailures = 5
	// longestWait is the most that a failed sign-in waits for its answer.
	longestWait = 4 * time.Second
	// forgetAfter is how long an address or a name is remembered after its last failure, and
	// mostKeys how many are.
	forgetAfter = 10 * time.Minute
	mostKeys    = 1000
	// mostWaiting is how many wait at once; those beyond are answered with "too
	// many".
	mostWaiting = 64
)

type failures struct {
	mu      sync.Mutex
	by      map[string]*failure
	waiting int
}

type failure struct {
	n    int
	last time.Time
}

// Failed records a failed sign-in from an address, as the user with a name (empty for none). It
// returns after the delay that this costs, with the number of failures of the address or the
// user, whichever is higher. ok is false if too many requests wait already: the caller must
// answer immediately, and say only that there are too many.
func (a *Access) Failed(ctx context.Context, address, name string) (n int, ok bool) {
	f := &a.failed
	f.mu.Lock()
	n = f.count("address "+address, a.Now())
	if name != "" {
		sum := sha256.Sum256([]byte(name)) // however long it is
		n = max(n, f.count("user "+string(sum[:]), a.Now()))
	}
	if n <= freeFailures {
		f.mu.Unlock()
		return n, true
	}
	if f.waiting >= mostWaiting {
		f.mu.Unlock()
		return n, false
	}
	f.waiting++
	f.mu.Unlock()
	defer func() {
		f.mu.Lock()
		f.waiting--
		f.mu.Unlock()
	}()
	timer := time.NewTimer(min(longestWait, 250*time.Millisecond<<min(n-freeFailures-1, 6)))
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
	return n, true
}

// count counts a failure of a key. f.mu is held.
func (f *failures) count(key string, now time.Time) int {
	if f.by == nil || len(f.by) >= mostKeys {
		for key, one := range f.by {
			if now.Sub(one.last) > forgetAfter {
				delete(f.by, key)
			}
		}
		if f.by == nil || len(f.by) >= mostKeys {
			f.by = map[string]*failure{}
		}
	}
	one := f.by[key]
	if one == nil || now.Sub(one.last) > forgetAfter {
		one = &failure{}
		f.by[key] = one
	}
	one.n++
	one.last = now
	return one.n
}
