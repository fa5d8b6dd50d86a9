// Package retry tries again what may pass by itself.
package retry

import (
	"context"
	"time"

	"github.com/cenkalti/backoff/v5"

	"deftheron/core/store"
)

// Policy says how something that failed is tried again. Each wait is twice as long as the one
// before, of which a random half is taken, so that what failed together does not come back
// together; a wait that the provider named is kept whole. The zero value tries once.
type Policy struct {
	First   time.Duration // the wait before the second try
	Longest time.Duration // the longest wait that no provider named; 0: as the first
	Tries   int           // in all
	Within  time.Duration // no try begins later than this after the first one; 0: no limit
	// May reports whether what failed may go well later.
	May func(error) bool
	// Failed, where it is not nil, is told of each try that is followed by another.
	Failed func(try int, err error)
}

// Do does something until it goes well, may not be tried again, or ctx ends. It returns the
// error of the last try, or that of ctx where that ended what would have been tried again:
// an answer such as "not found" is none then. Where the deadline of ctx would come during a
// wait, that is not waited for.
func (r Policy) Do(ctx context.Context, do func() error) error {
	waits := r.waits()
	begun := time.Now()
	for try := 1; ; try++ {
		err := do()
		if err == nil || try >= r.Tries || !r.May(err) {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		wait := max(store.Wait(err), waits.NextBackOff())
		deadline, ends := ctx.Deadline()
		if ends && time.Until(deadline) < wait || r.Within > 0 && time.Since(begun)+wait > r.Within {
			return err
		}
		if r.Failed != nil {
			r.Failed(try, err)
		}
		if ended := Sleep(ctx, wait); ended != nil {
			return ended
		}
	}
}

func (r Policy) waits() *backoff.ExponentialBackOff {
	return &backoff.ExponentialBackOff{
		InitialInterval: r.First * 3 / 4, RandomizationFactor: 1. / 3, Multiplier: 2, MaxInterval: max(r.First, r.Longest) * 3 / 4,
	}
}

// After returns the wait before a try, from 2.
func (r Policy) After(try int) (wait time.Duration) {
	waits := r.waits()
	for range min(try-1, 32) {
		wait = waits.NextBackOff()
	}
	return wait
}

// MayPass reports whether an error may pass by itself: the account did not answer, or asked
// to slow down.
func MayPass(err error) bool {
	kind := store.KindOf(err)
	return kind == store.ErrTryAgain || kind == store.ErrSlowDown
}

// IsSlowDown reports whether the provider asked to slow down.
func IsSlowDown(err error) bool { return store.KindOf(err) == store.ErrSlowDown }

// reading is how a request that changes nothing is tried again.
var reading = Policy{First: 200 * time.Millisecond, Longest: 2 * time.Second, Tries: 5, May: MayPass}

// Read asks for something, and again where the fault may pass: a listing of a thousand
// pages must not be lost for one. A provider calls it around requests that change nothing;
// all else is the engine's to try again.
func Read[T any](ctx context.Context, ask func() (T, error)) (answer T, err error) {
	err = reading.Do(ctx, func() error {
		answer, err = ask()
		return err
	})
	return answer, err
}

// Patiently does something, and again after a while whenever the provider asks to slow
// down, as long as ctx allows. It is for what a person waits for, and no run repeats.
func Patiently(ctx context.Context, do func() error) error {
	return Policy{First: 400 * time.Millisecond, Longest: 10 * time.Second, Tries: 30, May: IsSlowDown}.Do(ctx, do)
}

// Sleep waits, or returns the context's error when that ends first.
func Sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
