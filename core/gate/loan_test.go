package gate_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/time/rate"

	"deftheron/core/gate"
	"deftheron/core/store"
)

// TestLentGateKeepsToALimit has eight processes and the lender send as much as they may to a provider
// that allows some requests a second, with a small burst.
func TestLentGateKeepsToALimit(t *testing.T) {
	for _, allowed := range []int{20, 100, 400} {
		t.Run(fmt.Sprint(allowed), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { lendTo(t, 8, allowed) })
		})
	}
}

func lendTo(t *testing.T, borrowers, allowed int) {
	lender := gate.New("drive", 16, 64)
	limit := rate.NewLimiter(rate.Limit(allowed), max(2, allowed/10))
	ctx, cancel := context.WithCancel(t.Context())
	var mu sync.Mutex
	sent, refused := map[int]int{}, 0
	work := func(who int, g *gate.Gate) {
		for ctx.Err() == nil {
			done, err := g.Pass(ctx)
			if err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
			var outcome error
			mu.Lock()
			if limit.Allow() {
				sent[who]++
			} else {
				refused++
				outcome = store.SlowDown(0, nil)
			}
			mu.Unlock()
			done(outcome)
		}
	}
	var group sync.WaitGroup
	for who := range borrowers + 1 {
		g := lender
		if who > 0 {
			g = gate.Borrow("drive", 16, func(ctx context.Context, report gate.Report) (gate.Loan, error) {
				time.Sleep(5 * time.Millisecond) // on the way
				return lender.Lend(fmt.Sprint(who), report), nil
			})
		}
		for range 16 {
			group.Go(func() { work(who, g) })
		}
	}
	time.Sleep(time.Minute)
	mu.Lock()
	clear(sent)
	refused = 0
	mu.Unlock()
	const lasting = 2 * time.Minute
	time.Sleep(lasting)
	mu.Lock()
	total, least := 0, allowed*int(lasting.Seconds())
	for who := range borrowers + 1 {
		total += sent[who]
		least = min(least, sent[who])
	}
	part := float64(refused) / float64(total+refused)
	mu.Unlock()
	cancel()
	group.Wait()
	time.Sleep(time.Second) // what was asked last is answered
	t.Logf("of %d a second: %.1f, %.2f %% refused, the least of nine had %.3f of it", allowed, float64(total)/lasting.Seconds(), 100*part,
		float64(least)/float64(total))
	if got := float64(total) / lasting.Seconds(); got < 0.95*float64(allowed) || part > 0.01 {
		t.Errorf("of %d a second %.1f got through, and %.2f %% were refused", allowed, got, 100*part)
	}
	if float64(least) < 0.5*float64(total)/float64(borrowers+1) {
		t.Errorf("one of them got %d of %d", least, total)
	}
}

// TestLentGateIsCutOff has the lender be out of reach: what was lent is spent, and no more.
func TestLentGateIsCutOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		lender := gate.New("drive", 16, 64)
		reached := true
		g := gate.Borrow("drive", 4, func(context.Context, gate.Report) (gate.Loan, error) {
			if !reached {
				return gate.Loan{}, errors.New("no way there")
			}
			return lender.Lend("one", gate.Report{}), nil
		})
		pass := func() error {
			done, err := g.Pass(t.Context())
			if err == nil {
				done(nil)
			}
			return err
		}
		for range 5 {
			if err := pass(); err != nil {
				t.Fatal(err)
			}
			time.Sleep(time.Second)
		}
		if err := pass(); err != nil {
			t.Fatal(err)
		}
		synctest.Wait() // it has been lent the next
		reached = false
		if err := pass(); err != nil {
			t.Errorf("what was lent could not be spent: %v", err)
		}
		time.Sleep(2 * time.Second)
		if err := pass(); store.KindOf(err) != store.ErrTryAgain {
			t.Errorf("more was spent than was lent: %v", err)
		}
		reached = true
		time.Sleep(time.Second)
		if err := pass(); err != nil {
			t.Errorf("it is reached again: %v", err)
		}
	})
}

// TestLentGateWaits has a provider name a wait to one process: the others keep it too.
func TestLentGateWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		lender := gate.New("drive", 16, 64)
		borrow := func(name string) *gate.Gate {
			return gate.Borrow("drive", 4, func(_ context.Context, report gate.Report) (gate.Loan, error) {
				return lender.Lend(name, report), nil
			})
		}
		one, other := borrow("one"), borrow("other")
		for _, g := range []*gate.Gate{one, other} {
			done, err := g.Pass(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			done(nil)
		}
		time.Sleep(time.Second)
		done, err := one.Pass(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		done(store.SlowDown(30*time.Second, nil))
		begun := time.Now()
		for name, g := range map[string]*gate.Gate{"the lender": lender, "the same": one, "another": other} {
			time.Sleep(time.Second)
			done, err := g.Pass(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			done(nil)
			if waited := time.Since(begun); waited < 29*time.Second {
				t.Errorf("%s sent something after %v", name, waited)
			}
		}
	})
}
