package retry_test

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// TestRetry holds the waits between tries to what is asked for, and what is not tried again.
func TestRetry(t *testing.T) {
	down := store.Errorf(store.ErrTryAgain, "down")
	usual := retry.Policy{First: time.Second, Longest: 4 * time.Second, Tries: 5, May: retry.MayPass}
	within := usual
	within.Within = 3200 * time.Millisecond // the longest two waits are 3 s, the shortest three 3.5 s
	for name, c := range map[string]struct {
		retry       retry.Policy
		errs        []error // of the tries; after the last, it goes well
		tries       int
		least, most time.Duration
		fails       bool
	}{
		"at once":         {usual, nil, 1, 0, 0, false},
		"the second try":  {usual, []error{down}, 2, time.Second / 2, time.Second, false},
		"growing waits":   {usual, []error{down, down, down, down}, 5, 5500 * time.Millisecond, 11 * time.Second, false},
		"all tries":       {usual, []error{down, down, down, down, down}, 5, 5500 * time.Millisecond, 11 * time.Second, true},
		"a wait is named": {usual, []error{store.SlowDown(7*time.Second, errors.New("busy"))}, 2, 7 * time.Second, 7 * time.Second, false},
		"does not pass":   {usual, []error{down, store.Errorf(store.ErrRefused, "no")}, 2, time.Second / 2, time.Second, true},
		"within its time": {within, []error{down, down, down, down}, 3, 1500 * time.Millisecond, 3 * time.Second, true},
		"the zero value":  {retry.Policy{}, []error{down}, 1, 0, 0, true},
		"constant waits": {retry.Policy{First: time.Second, Tries: 9, May: retry.MayPass}, []error{down, down, down}, 4,
			1500 * time.Millisecond, 3 * time.Second, false},
		"only to slow down": {retry.Policy{First: time.Second, Tries: 9, May: retry.IsSlowDown}, []error{down}, 1, 0, 0, true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				begun, tries := time.Now(), 0
				err := c.retry.Do(t.Context(), func() error {
					if tries++; tries > len(c.errs) {
						return nil
					}
					return c.errs[tries-1]
				})
				took := time.Since(begun)
				if tries != c.tries || (err != nil) != c.fails || took < c.least || took > c.most {
					t.Errorf("%d tries took %v, and end with %v; want %d, %v to %v", tries, took, err, c.tries, c.least, c.most)
				}
			})
		})
	}
}

// TestRetryEndsWithContext does not wait for what ctx would end.
func TestRetryEndsWithContext(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		begun := time.Now()
		err := retry.Patiently(ctx, func() error { return store.SlowDown(time.Minute, errors.New("busy")) })
		if store.KindOf(err) != store.ErrSlowDown || time.Since(begun) != 0 {
			t.Errorf("%v after %v", err, time.Since(begun))
		}
	})
}

// TestRetryIsBrokenOff returns the end of ctx, not the last answer, of what was to be tried
// again: "not found" in the middle of waiting for something is no answer.
func TestRetryIsBrokenOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		time.AfterFunc(1500*time.Millisecond, cancel)
		waiting := retry.Policy{First: time.Second, Tries: 100, May: func(err error) bool { return store.KindOf(err) == store.ErrNotFound }}
		tries := 0
		err := waiting.Do(ctx, func() error {
			tries++
			return store.Errorf(store.ErrNotFound, "not yet")
		})
		if !errors.Is(err, context.Canceled) || store.KindOf(err) != nil || tries < 2 {
			t.Errorf("after %d tries: %v", tries, err)
		}
		if err := waiting.Do(ctx, func() error { return store.Errorf(store.ErrNotFound, "not yet") }); !errors.Is(err, context.Canceled) {
			t.Errorf("begun when it had ended: %v", err)
		}
	})
}

// TestWaitsBeforeTries says what wait comes before a try.
func TestWaitsBeforeTries(t *testing.T) {
	retry := retry.Policy{First: time.Second, Longest: 30 * time.Second}
	for try, longest := range map[int]time.Duration{2: time.Second, 3: 2 * time.Second, 4: 4 * time.Second, 7: 30 * time.Second,
		1000: 30 * time.Second} {
		if wait := retry.After(try); wait < longest/2 || wait > longest {
			t.Errorf("before try %d: %v, want %v to %v", try, wait, longest/2, longest)
		}
	}
}
