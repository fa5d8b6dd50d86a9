// Package leasetest has what every queue of units passes.
package leasetest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"testing"
	"time"

	"deftheron/core/lease"
)

// Tests are what a queue passes, each with an empty one that leases units for lasts.
var Tests = map[string]func(t *testing.T, q lease.Queue, lasts time.Duration){
	"in order": inOrder, "a unit that is not renewed": notRenewed, "a unit that is renewed": renewed, "returned": returned,
	"a late word": lateWord, "dropped": dropped, "pools are apart": poolsApart, "too large": tooLarge, "many takers": manyTakers,
	"a taker that gives up": givesUp,
}

func take(t *testing.T, q lease.Queue, pool string) lease.Lease {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	taken, err := q.Take(ctx, pool)
	if err != nil {
		t.Fatalf("nothing was taken: %v", err)
	}
	return taken
}

// none reports an error if there is something to take.
func none(t *testing.T, q lease.Queue, pool string, within time.Duration) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	if taken, err := q.Take(ctx, pool); err == nil {
		t.Errorf("took %q, attempt %d", taken.Unit(), taken.Attempt())
	}
}

func offer(t *testing.T, q lease.Queue, pool string, units ...string) {
	t.Helper()
	for _, unit := range units {
		if err := q.Offer(t.Context(), pool, []byte(unit)); err != nil {
			t.Fatal(err)
		}
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Error(err)
	}
}

func inOrder(t *testing.T, q lease.Queue, _ time.Duration) {
	offer(t, q, "a", "1", "2", "3")
	for _, want := range []string{"1", "2", "3"} {
		taken := take(t, q, "a")
		if string(taken.Unit()) != want || taken.Attempt() != 1 {
			t.Errorf("took %q, attempt %d; want %q", taken.Unit(), taken.Attempt(), want)
		}
		must(t, taken.Done(t.Context()))
	}
	none(t, q, "a", 100*time.Millisecond)
}

func notRenewed(t *testing.T, q lease.Queue, lasts time.Duration) {
	offer(t, q, "a", "1")
	first := take(t, q, "a")
	none(t, q, "a", lasts/2)
	second := take(t, q, "a")
	if string(second.Unit()) != "1" || second.Attempt() < 2 { // somebody may have given up as it came
		t.Errorf("took %q, attempt %d", second.Unit(), second.Attempt())
	}
	must(t, second.Done(t.Context()))
	none(t, q, "a", lasts+lasts/2)
	_ = first
}

func renewed(t *testing.T, q lease.Queue, lasts time.Duration) {
	offer(t, q, "a", "1")
	taken := take(t, q, "a")
	for range 6 {
		none(t, q, "a", lasts/2)
		must(t, taken.Renew(t.Context()))
	}
	must(t, taken.Done(t.Context()))
	none(t, q, "a", lasts+lasts/2)
}

func returned(t *testing.T, q lease.Queue, _ time.Duration) {
	offer(t, q, "a", "1")
	must(t, take(t, q, "a").Return(t.Context()))
	again := take(t, q, "a")
	if again.Attempt() < 2 {
		t.Errorf("attempt %d after it was returned", again.Attempt())
	}
	must(t, again.Done(t.Context()))
}

// lateWord has the first taker say that it is done after the second has it.
func lateWord(t *testing.T, q lease.Queue, _ time.Duration) {
	offer(t, q, "a", "1")
	first := take(t, q, "a")
	second := take(t, q, "a") // waits until the first has lost it
	if err := first.Done(t.Context()); !errors.Is(err, lease.ErrLost) {
		t.Errorf("the end of a lease that was lost: %v", err)
	}
	if err := first.Renew(t.Context()); !errors.Is(err, lease.ErrLost) {
		t.Errorf("renewing a lease that was lost: %v", err)
	}
	must(t, second.Renew(t.Context()))
	must(t, second.Done(t.Context()))
}

func dropped(t *testing.T, q lease.Queue, lasts time.Duration) {
	offer(t, q, "a", "1", "2")
	held := take(t, q, "a")
	must(t, q.Drop(t.Context(), "a"))
	must(t, q.Drop(t.Context(), "nothing"))
	none(t, q, "a", lasts+lasts/2)
	if err := held.Done(t.Context()); !errors.Is(err, lease.ErrLost) {
		t.Errorf("the end of a unit that was dropped: %v", err)
	}
	offer(t, q, "a", "3")
	if got := take(t, q, "a"); string(got.Unit()) != "3" {
		t.Errorf("took %q after all was dropped", got.Unit())
	}
}

func poolsApart(t *testing.T, q lease.Queue, _ time.Duration) {
	offer(t, q, "a", "of a")
	offer(t, q, "b", "of b")
	for _, pool := range []string{"b", "a"} {
		if taken := take(t, q, pool); string(taken.Unit()) != "of "+pool {
			t.Errorf("took %q from %s", taken.Unit(), pool)
		}
	}
}

func tooLarge(t *testing.T, q lease.Queue, _ time.Duration) {
	if err := q.Offer(t.Context(), "a", make([]byte, lease.MostBytes+1)); !errors.Is(err, lease.ErrTooLarge) {
		t.Errorf("a unit that is too large: %v", err)
	}
	must(t, q.Offer(t.Context(), "a", make([]byte, lease.MostBytes)))
}

func manyTakers(t *testing.T, q lease.Queue, _ time.Duration) {
	const units, takers = 200, 8
	var mu sync.Mutex
	done := map[string]int{}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var group sync.WaitGroup
	for range takers {
		group.Go(func() {
			for {
				taken, err := q.Take(ctx, "a")
				if err != nil {
					return
				}
				if taken.Attempt()%2 == 1 && len(taken.Unit())%2 == 1 { // every other unit is given back once
					must(t, taken.Return(ctx))
					continue
				}
				must(t, taken.Done(ctx))
				mu.Lock()
				if done[string(taken.Unit())]++; len(done) == units {
					cancel()
				}
				mu.Unlock()
			}
		})
	}
	for i := range units {
		offer(t, q, "a", fmt.Sprintf("unit %d", i))
	}
	group.Wait()
	for _, unit := range slices.Sorted(maps.Keys(done)) {
		if done[unit] != 1 {
			t.Errorf("%q was done %d times", unit, done[unit])
		}
	}
	if len(done) != units {
		t.Errorf("%d of %d units were done", len(done), units)
	}
}

func givesUp(t *testing.T, q lease.Queue, _ time.Duration) {
	none(t, q, "a", 50*time.Millisecond)
	offer(t, q, "a", "1")
	must(t, take(t, q, "a").Done(t.Context()))
}
