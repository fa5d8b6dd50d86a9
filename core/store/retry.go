package store

import (
	"context"
	"math/rand/v2"
	"time"
)

// pageTries is how often a page of a listing is asked for.
const pageTries = 5

// Page asks for one page of a listing, and again where the fault may pass: a
// listing of a thousand pages must not be lost for one. A provider calls it
// around requests that change nothing; all else is the engine's to try again.
func Page[T any](ctx context.Context, ask func() (T, error)) (T, error) {
	for try := 1; ; try++ {
		page, err := ask()
		kind := KindOf(err)
		if kind != ErrTryAgain && kind != ErrSlowDown || try == pageTries {
			return page, err
		}
		wait := max(Wait(err), 100*time.Millisecond<<try)
		if err := Sleep(ctx, wait/2+rand.N(wait/2+1)); err != nil {
			return page, err
		}
	}
}

// patience is how often something is put off where a service asks to slow down.
const patience = 30

// Patiently does something, and again after a while whenever the service asks to slow
// down, as long as ctx allows. It is for what a person waits for, and no run repeats.
func Patiently(ctx context.Context, do func() error) error {
	for try := 1; ; try++ {
		err := do()
		if KindOf(err) != ErrSlowDown || try == patience {
			return err
		}
		wait := max(Wait(err), min(10*time.Second, 200*time.Millisecond<<min(try, 6)))
		if deadline, ok := ctx.Deadline(); ok && time.Until(deadline) < wait {
			return err
		}
		if Sleep(ctx, wait/2+rand.N(wait/2+1)) != nil {
			return err
		}
	}
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
