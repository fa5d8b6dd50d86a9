package access

import (
	"context"
	"sync"
	"time"
)

// Sign-ins that fail are slowed down: by the address that they come from, after the
// first few, and over all addresses together. What is kept of them is bounded.

const (
	// freeFailures are answered at once, from one address.
	freeFailures = 5
	// longestWait is the most that a failed sign-in waits for its answer.
	longestWait = 4 * time.Second
	// forgetAfter is how long an address is remembered after its last failure, and
	// mostAddresses how many are.
	forgetAfter   = 10 * time.Minute
	mostAddresses = 1000
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

// Failed notes a sign-in that failed from an address, and returns after the time that
// it has to wait, with how many there were. ok is false where too many wait already:
// that is to be answered at once, and no more said than that there are too many.
func (a *Access) Failed(ctx context.Context, address string) (n int, ok bool) {
	f := &a.failed
	now := a.Now()
	f.mu.Lock()
	if f.by == nil || len(f.by) >= mostAddresses {
		for address, one := range f.by {
			if now.Sub(one.last) > forgetAfter {
				delete(f.by, address)
			}
		}
		if f.by == nil || len(f.by) >= mostAddresses {
			f.by = map[string]*failure{}
		}
	}
	one := f.by[address]
	if one == nil || now.Sub(one.last) > forgetAfter {
		one = &failure{}
		f.by[address] = one
	}
	one.n++
	one.last = now
	n = one.n
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
