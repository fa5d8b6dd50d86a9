// Package gate limits the requests to one account: how many go at once, how many a second,
// and how many bytes. Runs that share an account each get their part.
package gate

import (
	"context"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// Gate is what every protocol request of one account passes, listings and
// token refreshes too. It bounds how many go at once, learns the rate that the
// provider bears, and keeps the wait that the provider named, for the whole
// account.
//
// Concurrency is additive up and multiplicative down: a request that ends well
// adds 1/limit to the limit, one that the provider slowed down or that timed out takes
// a third of it away, at most once a second. The rate is unlimited until the
// provider refuses several of the last requests, see [rateLearner].
//
// A transfer reserves a slot at each end with [Gate.Reserve] before its first
// request; its requests then pass within that slot.
type Gate struct {
	mu       sync.Mutex
	waited   time.Duration
	name     string
	limit    float64
	most     float64
	inUse    int
	waiting  []waiter
	shares   map[*Share]int // how many of those in use each has
	until    time.Time      // the wait that the provider named
	limiter  *rate.Limiter
	learner  rateLearner
	loans    loans
	borrowed *borrowed // nil for a gate that is not lent by another
	lentRate float64   // of the account, as the lender says
	lowered  time.Time
	now      func() time.Time
	requests int64
	slowed   int64
}

// Stats are the counts of a gate.
type Stats struct {
	Requests int64 // sent
	Slowed   int64 // answered with "slow down"
	// Waited is how long requests and transfers have waited for their turn, together.
	Waited time.Duration
	Limit  float64 // requests at once
	Rate   float64 // requests a second; 0 is unlimited
}

// New returns a gate for the account named, beginning with start requests
// at once and never going over most.
func New(name string, start, most int) *Gate {
	return &Gate{
		shares: map[*Share]int{}, name: name, limit: float64(start), most: float64(most),
		limiter: rate.NewLimiter(rate.Inf, 1), now: time.Now,
	}
}

// Name is the account's name; reservations are made in the order of names.
func (g *Gate) Name() string { return g.name }

// Stats returns what the gate has seen.
func (g *Gate) Stats() Stats {
	g.mu.Lock()
	defer g.mu.Unlock()
	stats := Stats{Requests: g.requests, Slowed: g.slowed, Limit: g.limit, Waited: g.waited}
	if limit := g.limiter.Limit(); limit != rate.Inf {
		stats.Rate = float64(limit)
	} else if g.borrowed != nil {
		stats.Rate = g.lentRate
	}
	return stats
}

// waitedSince adds a wait to the total.
func (g *Gate) waitedSince(begun time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.waited += g.now().Sub(begun)
}

type reservation struct{ gate *Gate }

// reserved reports whether a slot is held for what goes under ctx.
func (g *Gate) reserved(ctx context.Context) bool {
	given, ok := ctx.Value(reservation{g}).(*atomic.Bool)
	return ok && !given.Load()
}

// Reserve takes a slot for a transfer and returns a context under which
// requests pass within it, and the function that gives it back. After that each
// request takes a slot of its own.
func (g *Gate) Reserve(ctx context.Context) (context.Context, func(), error) {
	if g == nil || g.reserved(ctx) {
		return ctx, func() {}, nil
	}
	begun := g.now()
	err := g.take(ctx)
	g.waitedSince(begun)
	if err != nil {
		return nil, nil, err
	}
	var given atomic.Bool
	share := shareOf(ctx)
	return context.WithValue(ctx, reservation{g}, &given), func() {
		if !given.Swap(true) {
			g.give(share)
		}
	}, nil
}

// ReserveBoth takes a slot at each of two gates, which may be the same one, in
// the order of their names, so that two transfers in opposite directions
// between accounts with one slot each cannot wait for each other.
func ReserveBoth(ctx context.Context, a, b *Gate) (context.Context, func(), error) {
	if a != nil && b != nil && b.name < a.name {
		a, b = b, a
	}
	ctx, giveA, err := a.Reserve(ctx)
	if err != nil {
		return nil, nil, err
	}
	ctx, giveB, err := b.Reserve(ctx)
	if err != nil {
		giveA()
		return nil, nil, err
	}
	return ctx, func() { giveB(); giveA() }, nil
}

// Admit returns a context under which requests pass without a slot. It is for a request
// that transfers wait for, which may hold all slots between them.
func (g *Gate) Admit(ctx context.Context) context.Context {
	if g == nil {
		return ctx
	}
	return context.WithValue(ctx, reservation{g}, new(atomic.Bool))
}

// Pass waits until a request may be sent. The caller calls the function
// returned when the request and its body are done with, with its error.
func (g *Gate) Pass(ctx context.Context) (func(error), error) {
	if g == nil {
		return func(error) {}, nil
	}
	defer g.waitedSince(g.now())
	held := g.reserved(ctx)
	if !held {
		if err := g.take(ctx); err != nil {
			return nil, err
		}
	}
	giveBack := func() {
		if !held {
			g.give(shareOf(ctx))
		}
	}
	if err := g.pause(ctx); err != nil {
		giveBack()
		return nil, err
	}
	var once sync.Once
	return func(err error) {
		once.Do(func() {
			g.learn(err)
			giveBack()
		})
	}, nil
}

func (g *Gate) take(ctx context.Context) error {
	share := shareOf(ctx)
	g.mu.Lock()
	if float64(g.inUse) < max(1, g.limit) {
		g.enter(share)
		g.mu.Unlock()
		return nil
	}
	mine := waiter{make(chan struct{}), share}
	g.waiting = append(g.waiting, mine)
	g.mu.Unlock()
	select {
	case <-mine.turn:
		return nil
	case <-ctx.Done():
		g.mu.Lock()
		defer g.mu.Unlock()
		for i, other := range g.waiting {
			if other.turn == mine.turn {
				g.waiting = append(g.waiting[:i], g.waiting[i+1:]...)
				return ctx.Err()
			}
		}
		g.leave(share) // the turn came at the same moment
		return ctx.Err()
	}
}

func (g *Gate) give(share *Share) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.leave(share)
}

// enter and leave count who is in. g.mu is held.
func (g *Gate) enter(share *Share) {
	g.inUse++
	if share != nil {
		g.shares[share]++
	}
}

func (g *Gate) leave(share *Share) {
	g.inUse--
	if share != nil {
		if g.shares[share]--; g.shares[share] == 0 {
			delete(g.shares, share)
		}
	}
	g.wake()
}

// wake lets those waiting in while there is room. g.mu is held.
func (g *Gate) wake() {
	for len(g.waiting) > 0 && float64(g.inUse) < max(1, g.limit) {
		next := g.nextTurn()
		one := g.waiting[next]
		g.waiting = append(g.waiting[:next], g.waiting[next+1:]...)
		g.enter(one.share)
		close(one.turn)
	}
}

// pause keeps the named wait and the learned rate.
func (g *Gate) pause(ctx context.Context) error {
	for {
		g.mu.Lock()
		wait := g.until.Sub(g.now())
		g.mu.Unlock()
		if wait <= 0 {
			break
		}
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return ctx.Err()
		}
	}
	err := g.borrow(ctx)
	if err != nil {
		return err
	}
	end, err := g.turn(ctx)
	if err == nil {
		err = g.limiter.Wait(ctx)
		end()
	}
	if err != nil {
		return err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.requests++
	g.learner.sent(g.now())
	return nil
}

func (g *Gate) learn(err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	kind := store.KindOf(err)
	if kind == store.ErrSlowDown {
		g.slowed++
		if wait := store.Wait(err); wait > 0 && g.now().Add(wait).After(g.until) {
			g.until = g.now().Add(wait)
		}
	}
	if g.borrowed != nil {
		g.saw(kind)
		return
	}
	g.learnRate(kind == store.ErrSlowDown)
	switch {
	case kind == store.ErrSlowDown, kind == store.ErrOutcomeUnknown:
		g.lower()
	case err == nil:
		g.raise(1)
	}
}

// learnRate takes in how a request ended, of this process or another. g.mu is held.
func (g *Gate) learnRate(refused bool) {
	now := g.now()
	if limit := g.learner.learn(now, g.until, g.limiter.Limit(), refused); limit != g.limiter.Limit() {
		g.limiter.SetLimitAt(now, limit)
	}
}

// lower takes a third of the limit away, at most once a second. g.mu is held.
func (g *Gate) lower() {
	if now := g.now(); now.Sub(g.lowered) >= time.Second {
		g.lowered = now
		g.limit = max(1, g.limit*2/3)
	}
}

// raise raises the limit for requests that ended well. g.mu is held.
func (g *Gate) raise(requests int) {
	g.limit = min(g.most, g.limit+float64(requests)/g.limit)
	g.wake()
}

// RoundTripper sends HTTP requests through the gate. A slot is held until the
// answer's body is closed. Answers 429 and 503 count as "slow down", with the
// Retry-After that they name (RFC 9110, section 10.2.3).
func (g *Gate) RoundTripper(base http.RoundTripper) http.RoundTripper {
	return &gatedTransport{gate: g, base: base}
}

type gatedTransport struct {
	gate *Gate
	base http.RoundTripper
}

func (t *gatedTransport) RoundTrip(request *http.Request) (*http.Response, error) {
	done, err := t.gate.Pass(request.Context())
	if err != nil {
		if request.Body != nil {
			request.Body.Close() // as http.RoundTripper asks for
		}
		return nil, err
	}
	response, err := t.base.RoundTrip(request)
	if err != nil {
		done(store.Transport(err, true))
		return nil, err
	}
	var outcome error
	if response.StatusCode == http.StatusTooManyRequests || response.StatusCode == http.StatusServiceUnavailable {
		outcome = store.SlowDown(retry.AfterHeader(response.Header, time.Now()), nil)
	}
	response.Body = &gatedBody{ReadCloser: response.Body, done: func() { done(outcome) }}
	return response, nil
}

type gatedBody struct {
	io.ReadCloser
	done func()
}

func (b *gatedBody) Close() error {
	defer b.done()
	return b.ReadCloser.Close()
}
