package workers

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fxamacker/cbor/v2"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/lease"
	"deftheron/core/store"
	"deftheron/core/unit"
	"deftheron/core/view"
	"deftheron/provider/site"
)

// Reached is an account that workers open for runs.
type Reached struct {
	Account
	Provider string // by its name
	Opening  site.Opening
	// Site is the network that the account is in, and Worker the only one of it that reaches it; empty
	// for an account that the service reaches, which is granted to workers one by one.
	Site, Worker string
	// Watcher decides about its changes; nil for an account that nobody may change.
	Watcher view.Watcher
	// Gate is the gate of the account.
	Gate *gate.Gate
}

// CrewRoute is a route of a run whose accounts workers may open.
type CrewRoute struct{ Source, Target Reached }

// Crew are the workers that copy for one run. It implements transfer.Crew.
type Crew struct {
	workers *Workers
	run     string
	routes  map[int]CrewRoute
	limiter *bandwidth.Limiter // of the run
	ctx     context.Context
	stop    context.CancelFunc
	group   sync.WaitGroup

	mu      sync.Mutex
	queue   lease.Queue
	kept    context.Context // ends when units are kept elsewhere
	leave   context.CancelFunc
	last    int64              // number of the last unit
	pending map[int64]*pending // units that are not done
	taking  map[int]bool       // routes whose units are given out
	done    map[string]*Carried
	lost    bool               // a unit, without a word of what became of it
	seconds map[string]float64 // a lane needed for an item, by worker, over the last units
}

// Carried is what a worker has copied for a run.
type Carried struct {
	Worker       string
	Items, Bytes int64
	// Now are items that it has in its hands.
	Now int64
}

// pending is a unit until it is known what became of it.
type pending struct {
	number int64
	route  int
	unit   unit.Unit
	size   int
	result chan result // one
	once   sync.Once

	// Crew.mu guards what follows.
	offered time.Time // last
	begun   time.Time
	holders map[string]context.CancelFunc // who copies it, by the ids of workers
	tries   int
}

type result struct {
	by     string
	copied []unit.Copied
	err    error
}

// ErrNobody says that no worker has copied a unit.
var ErrNobody = errors.New("no worker could copy it")

// Crew returns who copies for a run, by the numbers of its routes. limiter is the run's. The
// caller closes it.
func (w *Workers) Crew(run string, routes map[int]CrewRoute, limiter *bandwidth.Limiter) *Crew {
	c := &Crew{workers: w, run: run, routes: routes, limiter: limiter, queue: w.units(), pending: map[int64]*pending{}, taking: map[int]bool{},
		done: map[string]*Carried{}, seconds: map[string]float64{}}
	c.ctx, c.stop = context.WithCancel(w.ctx)
	c.kept, c.leave = context.WithCancel(c.ctx)
	w.mu.Lock()
	w.crews[run] = c
	w.mu.Unlock()
	for _, route := range routes {
		w.lend(route.Source)
		w.lend(route.Target)
	}
	return c
}

// Close ends what is on its way and forgets the units.
func (c *Crew) Close() {
	c.stop()
	c.group.Wait()
	w := c.workers
	w.mu.Lock()
	delete(w.crews, c.run)
	w.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(w.ctx), 10*time.Second)
	defer cancel()
	for route := range c.taking {
		if err := c.queue.Drop(ctx, c.pool(route)); err != nil {
			w.log.DebugContext(ctx, "the units of a run were not dropped", "run", c.run, "error", err)
		}
	}
}

func (c *Crew) pool(route int) string { return fmt.Sprint(c.run, "-", route) }

// reaches reports whether a worker reaches an account. Workers.mu is held.
func (w *Workers) reaches(p *presence, account Reached) bool {
	if account.Site != "" {
		return p.site == account.Site && (account.Worker == "" || account.Worker == p.id)
	}
	return w.grants[account.ID][p.id]
}

// able returns the workers that copy for a route now. Workers.mu is held.
func (w *Workers) able(r CrewRoute) (all []*presence) {
	if w.bus == nil {
		return nil
	}
	for _, p := range w.there {
		if p.speaks() && !p.draining && p.said.Lanes > 0 && w.reaches(p, r.Source) && w.reaches(p, r.Target) {
			all = append(all, p)
		}
	}
	return all
}

// able returns the workers that copy for a route of the run now. Workers.mu is held.
func (c *Crew) able(route int) []*presence {
	r, ok := c.routes[route]
	if !ok {
		return nil
	}
	return c.workers.able(r)
}

// Able returns the names of the workers that would copy for a route now.
func (w *Workers) Able(r CrewRoute) (names []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.able(r) {
		names = append(names, p.name)
	}
	slices.Sort(names)
	return names
}

// Lanes implements transfer.Crew.
func (c *Crew) Lanes(route int) (members, lanes int) {
	c.workers.mu.Lock()
	defer c.workers.mu.Unlock()
	for _, p := range c.able(route) {
		members, lanes = members+1, lanes+p.said.Lanes
	}
	return members, lanes
}

// Only implements transfer.Crew.
func (c *Crew) Only() bool { return c.workers.onlyWorkers.Load() }

// named is what of a unit is in the queue: it names rows.
type named struct {
	_      struct{} `cbor:",toarray"`
	Number int64
	Route  int
	Rows   []int64
	Parts  []int
}

// Carry implements transfer.Crew.
func (c *Crew) Carry(ctx context.Context, route int, u unit.Unit) (string, []unit.Copied, error) {
	refused := c.ask(ctx, route, &u)
	if len(u.Copies) == 0 {
		return "", refused, nil
	}
	p := &pending{route: route, unit: u, size: max(1, len(u.Copies)), result: make(chan result, 1), holders: map[string]context.CancelFunc{}}
	if u.Parts != nil {
		p.size = len(u.Parts.Numbers)
	}
	c.mu.Lock()
	c.last++
	p.number, p.offered = c.last, time.Now()
	c.pending[p.number] = p
	if len(c.taking) == 0 {
		c.group.Go(c.hurry)
	}
	if !c.taking[route] {
		c.taking[route] = true
		c.group.Go(func() { c.giveOut(route) })
	}
	queue := c.queue
	c.mu.Unlock()
	defer c.forget(p)
	c.offer(queue, p)
	select {
	case got := <-p.result:
		if got.err == nil {
			c.tell(ctx, route, got.copied, u)
			c.count(got, u.Parts != nil)
		}
		return got.by, append(got.copied, refused...), got.err
	case <-ctx.Done():
		return "", nil, ctx.Err()
	case <-c.ctx.Done():
		return "", nil, c.ctx.Err()
	}
}

func (p *pending) encode() []byte {
	of := named{Number: p.number, Route: p.route}
	for _, one := range p.unit.Copies {
		of.Rows = append(of.Rows, one.Seq)
	}
	if p.unit.Parts != nil {
		of.Parts = p.unit.Parts.Numbers
	}
	data, err := cbor.Marshal(of)
	if err != nil { // cannot be, of our own type
		panic(err)
	}
	return data
}

// ask asks whether the files of a unit may be written, and takes those out that may not.
func (c *Crew) ask(ctx context.Context, route int, u *unit.Unit) (refused []unit.Copied) {
	watcher := c.routes[route].Target.Watcher
	if watcher == nil {
		return nil
	}
	var may []unit.Copy
	for _, one := range u.Copies {
		shown, err := watcher.May(ctx, one.To, false)
		if _, locked := store.LockOf(shown); err == nil && locked {
			err = store.Errorf(store.ErrUnsupported, "a file that is locked is written by the service")
		}
		if err != nil {
			refused = append(refused, unit.Copied{Seq: one.Seq, Err: err})
			continue
		}
		may = append(may, one)
	}
	u.Copies = may
	return refused
}

// tell tells what decides about the changes of the target what was written.
func (c *Crew) tell(ctx context.Context, route int, copied []unit.Copied, u unit.Unit) {
	watcher := c.routes[route].Target.Watcher
	if watcher == nil || u.Parts != nil {
		return
	}
	places := map[int64]store.Ref{}
	for _, one := range u.Copies {
		places[one.Seq] = one.To
	}
	for _, one := range copied {
		if place, ok := places[one.Seq]; ok && one.Err == nil {
			watcher.Wrote(ctx, place, one.Entry)
		}
	}
}

// forget gives up whatever still copies a unit.
func (c *Crew) forget(p *pending) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.pending, p.number)
	for _, cancel := range p.holders {
		cancel()
	}
}

// end says what became of a unit. The first who says so is right.
func (p *pending) end(got result) { p.once.Do(func() { p.result <- got }) }

// fallBack has units be kept in this process from now on, if the queue is still the one that failed: it
// is not the truth about anything.
func (c *Crew) fallBack(failed lease.Queue, why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.queue != failed {
		return
	}
	c.workers.log.WarnContext(c.ctx, "the units of a run are kept in memory, as the message server does not keep them", "run", c.run,
		"error", why)
	c.leave()
	c.queue = &lease.Memory{}
	c.kept, c.leave = context.WithCancel(c.ctx)
	for _, p := range c.pending {
		if len(p.holders) == 0 {
			_ = c.queue.Offer(c.ctx, c.pool(p.route), p.encode()) // which holds more than there are
		}
	}
}

// count adds what a worker has copied. A file whose parts workers have copied is not one worker's: its bytes
// count alone.
func (c *Crew) count(got result, parts bool) {
	name := c.workers.nameOf(got.by)
	c.mu.Lock()
	defer c.mu.Unlock()
	of := c.done[got.by]
	if of == nil {
		of = &Carried{Worker: name}
		c.done[got.by] = of
	}
	for _, one := range got.copied {
		if one.Err != nil {
			continue
		}
		of.Bytes += one.Size
		if !parts {
			of.Items++
		}
	}
}

// Lost reports whether a worker was lost while it copied: it may go on for a while, and leave something
// behind.
func (c *Crew) Lost() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lost
}

// Carried returns what workers have copied for the run since it was taken up, by name.
func (c *Crew) Carried() []Carried {
	c.mu.Lock()
	by := map[string]Carried{}
	for id, one := range c.done {
		by[id] = *one
	}
	for _, p := range c.pending {
		for id := range p.holders {
			one := by[id]
			one.Now += int64(p.size)
			by[id] = one
		}
	}
	c.mu.Unlock() // before Workers.mu, which is held first elsewhere
	all := make([]Carried, 0, len(by))
	for id, one := range by {
		if one.Worker == "" {
			one.Worker = c.workers.nameOf(id)
		}
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b Carried) int { return strings.Compare(a.Worker, b.Worker) })
	return all
}
