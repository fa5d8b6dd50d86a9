package lease

import (
	"context"
	"sync"
	"time"
)

// Memory is a queue of this process. Its zero value is empty and ready. It holds at most Most units,
// or 100,000 if that is 0.
type Memory struct {
	Most int

	mu    sync.Mutex
	pools map[string]*pool
	count int
}

const usualMost = 100_000

// pool is the units of one name. Memory.mu guards it.
type pool struct {
	waiting []*held
	takers  []chan *held // that wait, the oldest first
	out     map[*held]bool
}

// held is a unit, while it is offered and while it is held.
type held struct {
	queue   *Memory
	pool    *pool
	unit    []byte
	attempt int
	ends    *time.Timer // nil while nobody holds it
}

// Offer implements Queue.
func (m *Memory) Offer(_ context.Context, name string, unit []byte) error {
	if len(unit) > MostBytes {
		return ErrTooLarge
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	most := m.Most
	if most == 0 {
		most = usualMost
	}
	if m.count >= most {
		return ErrFull
	}
	m.count++
	p := m.poolOf(name)
	p.add(&held{queue: m, pool: p, unit: unit})
	return nil
}

// poolOf returns a pool. Memory.mu is held.
func (m *Memory) poolOf(name string) *pool {
	if m.pools == nil {
		m.pools = map[string]*pool{}
	}
	p := m.pools[name]
	if p == nil {
		p = &pool{out: map[*held]bool{}}
		m.pools[name] = p
	}
	return p
}

// add gives a unit to the taker that waits longest, or keeps it. Memory.mu is held.
func (p *pool) add(unit *held) {
	if len(p.takers) > 0 {
		taker := p.takers[0]
		p.takers = p.takers[1:]
		p.lease(unit)
		taker <- unit
		return
	}
	p.waiting = append(p.waiting, unit)
}

// lease has a unit held. Memory.mu is held.
func (p *pool) lease(unit *held) {
	unit.attempt++
	attempt := unit.attempt
	p.out[unit] = true
	unit.ends = time.AfterFunc(Lasts, func() { _ = unit.end(attempt, true) }) // it may have ended
}

// Take implements Queue.
func (m *Memory) Take(ctx context.Context, name string) (Lease, error) {
	m.mu.Lock()
	p := m.poolOf(name)
	if len(p.waiting) > 0 {
		unit := p.waiting[0]
		p.waiting = p.waiting[1:]
		p.lease(unit)
		m.mu.Unlock()
		return &taken{unit, unit.attempt}, nil
	}
	mine := make(chan *held, 1)
	p.takers = append(p.takers, mine)
	m.mu.Unlock()
	select {
	case unit := <-mine:
		return &taken{unit, unit.attempt}, nil
	case <-ctx.Done():
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, other := range p.takers {
		if other == mine {
			p.takers = append(p.takers[:i], p.takers[i+1:]...)
			return nil, ctx.Err()
		}
	}
	if unit := <-mine; p.out[unit] { // it came at the same moment
		unit.free()
		p.add(unit)
	}
	return nil, ctx.Err()
}

// Drop implements Queue. Takers that wait go on waiting.
func (m *Memory) Drop(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	p := m.pools[name]
	if p == nil {
		return nil
	}
	m.count -= len(p.waiting) + len(p.out)
	for unit := range p.out {
		unit.free()
	}
	p.waiting = nil
	if len(p.takers) == 0 {
		delete(m.pools, name)
	}
	return nil
}

// free ends the lease of a unit. Memory.mu is held.
func (h *held) free() {
	h.ends.Stop()
	h.ends = nil
	delete(h.pool.out, h)
}

// end ends the lease of an attempt, and offers the unit again if that is so; ErrLost if the lease has
// ended before.
func (h *held) end(attempt int, again bool) error {
	h.queue.mu.Lock()
	defer h.queue.mu.Unlock()
	if !h.pool.out[h] || h.attempt != attempt {
		return ErrLost
	}
	h.free()
	if again {
		h.pool.add(h)
	} else {
		h.queue.count--
	}
	return nil
}

// taken is the lease of one attempt.
type taken struct {
	unit    *held
	attempt int
}

// Unit implements Lease.
func (t *taken) Unit() []byte { return t.unit.unit }

// Attempt implements Lease.
func (t *taken) Attempt() int { return t.attempt }

// Renew implements Lease.
func (t *taken) Renew(context.Context) error {
	t.unit.queue.mu.Lock()
	defer t.unit.queue.mu.Unlock()
	if !t.unit.pool.out[t.unit] || t.unit.attempt != t.attempt {
		return ErrLost
	}
	t.unit.ends.Reset(Lasts)
	return nil
}

// Done implements Lease.
func (t *taken) Done(context.Context) error { return t.unit.end(t.attempt, false) }

// Return implements Lease.
func (t *taken) Return(context.Context) error { return t.unit.end(t.attempt, true) }
