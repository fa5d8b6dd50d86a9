package workers

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/fxamacker/cbor/v2"

	"deftheron/core/lease"
	"deftheron/core/unit"
	"deftheron/provider/site"
)

const (
	// itemsAhead is how many items a worker has in its hands for each of its lanes, at most, or as many as
	// unitsAhead units have.
	itemsAhead, unitsAhead = 3, 2
	// mostTries is by how many workers a unit is tried.
	mostTries = 3
	// renewEvery is how often the lease of a unit is renewed that a worker has in its hands.
	renewEvery = lease.Lasts / 3
	// lostAfter is the time after which a unit that nobody has started is offered again.
	lostAfter = 15 * time.Second
	// hurryAfter is after what time a unit is given to an idle worker as well, if it takes hurryTimes as
	// long as units do.
	hurryAfter, hurryTimes = 3 * time.Second, 4
)

// giveOut gives the units of a route to workers, until the run has ended.
func (c *Crew) giveOut(route int) {
	for c.ctx.Err() == nil {
		c.mu.Lock()
		queue, kept := c.queue, c.kept
		c.mu.Unlock()
		taken, err := queue.Take(kept, c.pool(route))
		if err != nil {
			if kept.Err() == nil {
				c.fallBack(queue, err)
			}
			continue
		}
		c.give(taken)
	}
}

// give gives a unit to the worker for whom it is cheapest, once one is free.
func (c *Crew) give(taken lease.Lease) {
	var of named
	if cbor.Unmarshal(taken.Unit(), &of) != nil {
		_ = taken.Done(c.ctx)
		return
	}
	c.mu.Lock()
	p := c.pending[of.Number]
	known := p != nil && len(p.holders) == 0
	c.mu.Unlock()
	if !known { // it is done, or somebody does it
		_ = taken.Done(c.ctx)
		return
	}
	to := c.choose(p, taken)
	if to == nil {
		_ = taken.Done(c.ctx)
		p.end(result{err: ErrNobody})
		return
	}
	c.hand(p, to, taken)
}

// choose waits for a worker with room; nil if there is no worker for the route any more, or the unit is
// not wanted any more.
func (c *Crew) choose(p *pending, taken lease.Lease) *presence {
	renew := time.NewTicker(renewEvery)
	defer renew.Stop()
	for {
		w := c.workers
		w.mu.Lock()
		able := c.able(p.route)
		best := c.cheapest(able, p)
		if best != nil {
			best.items += p.size
		}
		changed := w.room
		w.mu.Unlock()
		if best != nil || len(able) == 0 {
			return best
		}
		select {
		case <-changed:
		case <-renew.C:
			if taken.Renew(c.ctx) != nil {
				return nil
			}
		case <-c.ctx.Done():
			return nil
		}
		c.mu.Lock()
		wanted := c.pending[p.number] == p
		c.mu.Unlock()
		if !wanted {
			return nil
		}
	}
}

// cheapest returns of the workers that have room the one that would be done first; nil for none.
// Workers.mu is held.
func (c *Crew) cheapest(able []*presence, p *pending) (best *presence) {
	c.mu.Lock()
	defer c.mu.Unlock()
	quickest := math.Inf(1)
	for _, needs := range c.seconds {
		quickest = min(quickest, needs)
	}
	if math.IsInf(quickest, 1) {
		quickest = 1
	}
	var least float64
	for _, one := range able {
		if _, has := p.holders[one.id]; has || one.items > 0 && one.items+p.size > max(unitsAhead*p.size, itemsAhead*one.said.Lanes) {
			continue
		}
		needs := c.seconds[one.id]
		if needs == 0 {
			needs = quickest // nothing is known of it yet
		}
		cost := needs * float64(one.items+p.size) / float64(one.said.Lanes)
		if best == nil || cost < least || cost == least && one.id < best.id {
			best, least = one, cost
		}
	}
	return best
}

// hand has a worker copy a unit. taken is nil if another has it in its hands as well.
func (c *Crew) hand(p *pending, to *presence, taken lease.Lease) {
	ctx, cancel := context.WithCancel(c.ctx)
	begun := time.Now()
	c.mu.Lock()
	p.holders[to.id] = cancel
	if p.begun.IsZero() {
		p.begun = begun
	}
	c.mu.Unlock()
	c.group.Go(func() {
		defer cancel()
		stop := renewing(ctx, taken)
		copied, err := c.carry(ctx, to, p)
		stop()
		c.free(to, p.size)
		c.mu.Lock()
		delete(p.holders, to.id)
		others := len(p.holders)
		p.tries++
		again := err != nil && others == 0 && p.tries < mostTries && ctx.Err() == nil
		if err == nil {
			c.learn(to, p, time.Since(begun))
		} else {
			c.lost = true
		}
		c.mu.Unlock()
		switch {
		case err == nil:
			p.end(result{by: to.id, copied: copied})
		case again:
			c.workers.log.DebugContext(ctx, "a worker has not copied a unit", "run", c.run, "worker", to.name, "try", p.tries, "error", err)
			if taken == nil || taken.Return(c.ctx) != nil {
				c.offerAgain(p)
			}
			return
		case others == 0:
			p.end(result{by: to.id, err: fmt.Errorf("%w: %w", ErrNobody, err)})
		}
		if taken != nil {
			_ = taken.Done(c.ctx)
		}
	})
}

// offer has a unit be given out.
func (c *Crew) offer(queue lease.Queue, p *pending) {
	if err := queue.Offer(c.ctx, c.pool(p.route), p.encode()); err != nil && c.ctx.Err() == nil {
		c.fallBack(queue, err)
	}
}

// offerAgain offers a unit that is not in the queue any more.
func (c *Crew) offerAgain(p *pending) {
	c.mu.Lock()
	queue := c.queue
	p.offered = time.Now()
	c.mu.Unlock()
	c.offer(queue, p)
}

// hurry looks every second after units that nobody has started, as if the queue had lost them, and those
// that a worker takes long for: an idle one gets them as well, and whoever is first counts.
func (c *Crew) hurry() {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
		case <-c.ctx.Done():
			return
		}
		c.mu.Lock()
		var lost, late []*pending
		for _, p := range c.pending {
			switch {
			case len(p.holders) == 0 && time.Since(p.offered) > lostAfter:
				lost = append(lost, p)
			case len(p.holders) == 1 && time.Since(p.begun) > max(hurryAfter, hurryTimes*c.usual(p)):
				late = append(late, p)
			}
		}
		c.mu.Unlock()
		for _, p := range lost {
			c.offerAgain(p)
		}
		for _, p := range late {
			if idle := c.idle(p); idle != nil {
				c.hand(p, idle, nil)
			}
		}
	}
}

// usual is how long a unit may take whoever holds it. Crew.mu is held.
func (c *Crew) usual(p *pending) time.Duration {
	needs := 0.0
	for id := range p.holders {
		needs = max(needs, c.seconds[id])
	}
	return time.Duration(needs * float64(p.size) * float64(time.Second))
}

// idle returns a worker that has nothing to do and does not copy the unit already, with the unit counted
// for it; nil for none.
func (c *Crew) idle(p *pending) *presence {
	w := c.workers
	w.mu.Lock()
	defer w.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, one := range c.able(p.route) {
		if p.holders[one.id] == nil && one.items == 0 && c.pending[p.number] == p {
			one.items += p.size
			return one
		}
	}
	return nil
}

// renewing renews a lease until it is stopped.
func renewing(ctx context.Context, taken lease.Lease) (stop func()) {
	if taken == nil {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		ticker := time.NewTicker(renewEvery)
		defer ticker.Stop()
		for {
			select {
			case <-ticker.C:
				_ = taken.Renew(ctx) // a lease that was lost is found out at its end
			case <-ctx.Done():
				return
			}
		}
	}()
	return func() { cancel(); <-ended }
}

// carry sends a unit to a worker and returns its answer.
func (c *Crew) carry(ctx context.Context, to *presence, p *pending) ([]unit.Copied, error) {
	route := c.routes[p.route]
	remote := func(of Reached) site.Remote {
		return site.NewRemote(c.workers.At(to.site, to.id, of.Account), of.Provider, of.Opening)
	}
	return site.Carry(ctx, to.id, remote(route.Source), remote(route.Target), p.unit)
}

// learn keeps how long a lane of a worker needs for an item. Crew.mu is held.
func (c *Crew) learn(of *presence, p *pending, took time.Duration) {
	const fade = 0.8
	needs := took.Seconds() * float64(min(of.said.Lanes, p.size)) / float64(p.size)
	if before := c.seconds[of.id]; before > 0 {
		needs = fade*before + (1-fade)*needs
	}
	c.seconds[of.id] = needs
}

// free says that a worker has room again.
func (c *Crew) free(p *presence, items int) {
	w := c.workers
	w.mu.Lock()
	defer w.mu.Unlock()
	p.items -= items
	w.signal()
}

// signal wakes who waits for workers. Workers.mu is held.
func (w *Workers) signal() {
	close(w.room)
	w.room = make(chan struct{})
}
