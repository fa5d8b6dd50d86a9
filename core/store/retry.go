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
