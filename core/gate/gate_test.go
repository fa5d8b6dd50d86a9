package gate_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/time/rate"

	"deftheron/core/gate"
	"deftheron/core/store"
)

func TestGateBoundsHowManyGoAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ownGate := gate.New("a", 2, 2)
		var mu sync.Mutex
		inside, most := 0, 0
		count := func(n int) {
			mu.Lock()
			defer mu.Unlock()
			inside += n
			most = max(most, inside)
		}
		for range 10 {
			go func() {
				done, err := ownGate.Pass(context.Background())
				if err != nil {
					t.Error(err)
				}
				count(1)
				time.Sleep(time.Second)
				count(-1)
				done(nil)
			}()
		}
		begun := time.Now()
		time.Sleep(time.Minute)
		synctest.Wait()
		if most != 2 || ownGate.Stats().Requests != 10 {
			t.Errorf("%d at once, %d in all after %v", most, ownGate.Stats().Requests, time.Since(begun))
		}
	})
}

func TestGateKeepsTheWaitThatIsNamed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ownGate := gate.New("a", 8, 8)
		done, _ := ownGate.Pass(t.Context())
		done(store.SlowDown(30*time.Second, nil))
		begun := time.Now()
		done, err := ownGate.Pass(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		done(nil)
		if waited := time.Since(begun); waited < 30*time.Second || waited > 40*time.Second {
			t.Errorf("the whole account waited %v, want the 30 s named", waited)
		}
	})
}

// TestGateLearnsARate has a provider that bears 50 requests a second.
func TestGateLearnsARate(t *testing.T) {
	for name, slow := range map[string]time.Duration{"from the first second": 0, "after a slow beginning": 20 * time.Second} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { learnRate(t, slow) })
		})
	}
}

// TestReservationsCannotDeadlock moves in opposite directions between two
// accounts with one slot each.
func TestReservationsCannotDeadlock(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := gate.New("a", 1, 1), gate.New("b", 1, 1)
		var finished atomic.Int64
		for i := range 20 {
			from, to := a, b
			if i%2 == 1 {
				from, to = b, a
			}
			if i%5 == 0 {
				to = from // within one account
			}
			go func() {
				ctx, release, err := gate.ReserveBoth(t.Context(), from, to)
				if err != nil {
					t.Error(err)
					return
				}
				for _, ownGate := range []*gate.Gate{from, to} {
					done, err := ownGate.Pass(ctx)
					if err != nil {
						t.Error(err)
						return
					}
					defer done(nil)
				}
				time.Sleep(time.Second)
				release()
				finished.Add(1)
			}()
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		if finished.Load() != 20 {
			t.Errorf("%d of 20 transfers finished", finished.Load())
		}
	})
}

// TestGateSharesFairly has three users of one gate, one with twice the weight, and a
// person, who is let in at once.
func TestGateSharesFairly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ownGate := gate.New("drive", 8, 8)
		passed := map[string]int{}
		var mu sync.Mutex
		ctx, cancel := context.WithCancel(t.Context())
		for name, weight := range map[string]int64{"a": 1, "b": 1, "twice": 2} {
			share := gate.NewShare(weight)
			lanes := map[string]int{"a": 64, "b": 8, "twice": 8}[name] // more lanes are not more of it
			for range lanes {
				go func() {
					for ctx.Err() == nil {
						_, give, err := ownGate.Reserve(gate.WithShare(ctx, share))
						if err != nil {
							return
						}
						time.Sleep(10 * time.Millisecond)
						give()
						mu.Lock()
						passed[name]++
						mu.Unlock()
					}
				}()
			}
		}
		time.Sleep(10 * time.Second)
		begun := time.Now()
		done, err := ownGate.Pass(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if waited := time.Since(begun); waited > 10*time.Millisecond {
			t.Errorf("a person waited for %v", waited)
		}
		done(nil)
		cancel()
		synctest.Wait()
		time.Sleep(time.Second) // those that slept end
		mu.Lock()
		defer mu.Unlock()
		all := passed["a"] + passed["b"] + passed["twice"]
		for name, want := range map[string]float64{"a": 0.25, "b": 0.25, "twice": 0.5} {
			if got := float64(passed[name]) / float64(all); got < want-0.05 || got > want+0.05 {
				t.Errorf("%s had %.2f of it, want %.2f", name, got, want)
			}
		}
	})
}

// learnRate sends to a provider that allows 50 requests a second, and for so long bears
// no more than 10.
func learnRate(t *testing.T, slow time.Duration) {
	ownGate := gate.New("a", 16, 16)
	var mu sync.Mutex
	tokens, last, begun := 5.0, time.Now(), time.Now()
	sent, refused := 0, 0
	count := func() (int, int) {
		mu.Lock()
		defer mu.Unlock()
		s, r := sent, refused
		sent, refused = 0, 0
		return s, r
	}
	serve := func() error {
		mu.Lock()
		defer mu.Unlock()
		now, allowed := time.Now(), 50.0
		if now.Sub(begun) < slow {
			allowed = 10
		}
		tokens = min(5, tokens+now.Sub(last).Seconds()*allowed)
		last = now
		sent++
		if tokens < 1 {
			refused++
			return store.SlowDown(0, nil)
		}
		tokens--
		return nil
	}
	ctx, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	for range 16 {
		group.Go(func() {
			for ctx.Err() == nil {
				done, err := ownGate.Pass(ctx)
				if err != nil {
					return
				}
				outcome := serve()
				time.Sleep(10 * time.Millisecond)
				done(outcome)
			}
		})
	}
	time.Sleep(2*time.Minute + 5*slow)
	count()
	time.Sleep(time.Minute)
	s, r := count()
	cancel()
	group.Wait()
	if good := float64(s-r) / 60; good < 47.5 || float64(r) > 0.01*float64(s) {
		t.Errorf("%.1f requests a second went through, and %d of %d were refused", good, r, s)
	} else {
		t.Logf("%.1f requests a second went through, and %d of %d were refused", good, r, s)
	}
}

// demand sends requests at a rate for some time, of which answer says how each ends, and returns how
// many were sent a second over the last half of it, and which part of these was refused.
func demand(t *testing.T, g *gate.Gate, perSecond int, lasting time.Duration, answer func() error) (sent, refused float64) {
	t.Helper()
	begun := time.Now()
	var mu sync.Mutex
	var late, slow int
	var group sync.WaitGroup
	ticker := time.NewTicker(time.Second / time.Duration(perSecond))
	defer ticker.Stop()
	lanes := make(chan struct{}, 16)
	for time.Since(begun) < lasting {
		<-ticker.C
		lanes <- struct{}{}
		group.Go(func() {
			defer func() { <-lanes }()
			done, err := g.Pass(t.Context())
			if err != nil {
				t.Error(err)
				return
			}
			time.Sleep(20 * time.Millisecond)
			mu.Lock()
			outcome := answer()
			if time.Since(begun) > lasting/2 {
				late++
				if outcome != nil {
					slow++
				}
			}
			mu.Unlock()
			done(outcome)
		})
	}
	group.Wait()
	return float64(late) / (lasting / 2).Seconds(), float64(slow) / float64(max(1, late))
}

// TestGateBearsStrayRefusals has a provider refuse a request now and then whatever the rate is, as
// one does whose servers are restarted: that is no limit to learn.
func TestGateBearsStrayRefusals(t *testing.T) {
	for name, every := range map[string]int{"one in 500": 500, "one in 100": 100} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				n := 0
				sent, _ := demand(t, gate.New("a", 8, 64), 50, 5*time.Minute, func() error {
					if n++; n%every == 0 {
						return store.SlowDown(0, nil)
					}
					return nil
				})
				if sent < 40 {
					t.Errorf("%.1f requests a second, of 50 that were wanted", sent)
				}
			})
		})
	}
	t.Run("after a long silence", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			g := gate.New("a", 8, 64)
			for _, outcome := range []error{nil, store.SlowDown(0, nil), nil} {
				time.Sleep(10 * time.Minute)
				done, err := g.Pass(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				done(outcome)
			}
			if sent, _ := demand(t, g, 50, 4*time.Second, func() error { return nil }); sent < 45 {
				t.Errorf("%.1f requests a second after one refusal", sent)
			}
		})
	})
}

// TestGateKeepsToALimit has a provider allow some requests a second, with a small burst.
func TestGateKeepsToALimit(t *testing.T) {
	for allowed, mostRefused := range map[int]float64{5: 0.015, 20: 0.01, 50: 0.01, 100: 0.01} {
		synctest.Test(t, func(t *testing.T) {
			limit := rate.NewLimiter(rate.Limit(allowed), max(2, allowed/10))
			sent, refused := demand(t, gate.New("a", 8, 64), 4*allowed, 6*time.Minute, func() error {
				if !limit.Allow() {
					return store.SlowDown(0, nil)
				}
				return nil
			})
			if through := sent * (1 - refused); through < 0.95*float64(allowed) || refused > mostRefused {
				t.Errorf("of %d a second: %.1f got through, and %.2f %% were refused", allowed, through, 100*refused)
			}
		})
	}
}
