package transfer

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
)

// Snapshot is how far a run has come.
type Snapshot struct {
	Planned   bool  `json:"planned"` // all is listed, and the totals are final
	Items     int64 `json:"items"`   // queued so far
	Done      int64 `json:"done"`
	Skipped   int64 `json:"skipped"`
	Retries   int64 `json:"retries"` // tries beyond the first, since it was taken up
	Removed   int64 `json:"removed"` // of those done
	Failed    int64 `json:"failed"`
	Unchanged int64 `json:"unchanged"`
	Bytes     int64 `json:"bytes"` // to be moved, as far as is known
	Moved     int64 `json:"moved"` // bytes, those in flight included
	// Rate in bytes a second and items a second, over the last ten seconds.
	Rate      float64 `json:"rate"`
	ItemsRate float64 `json:"items_rate"`
	// Left in seconds; -1 where it cannot be told yet.
	Left   float64  `json:"left"`
	Flying []Flying `json:"flying"`
	// Away are the accounts that it waits for.
	Away []Away `json:"away,omitempty"`
	// Slowed lists the accounts whose providers limit the rate of requests.
	Slowed []Slowed `json:"slowed,omitempty"`
	// Waits and SlowDowns are since the run was taken up.
	Waits     run.Waits `json:"-"`
	SlowDowns int64     `json:"-"`
}

// Slowed is an account whose provider asks to slow down.
type Slowed struct {
	Account string  `json:"account"`
	Rate    float64 `json:"rate"` // requests a second that are allowed, as far as was learned
}

// Flying is one item on its way.
type Flying struct {
	Address string `json:"address"`
	Size    int64  `json:"size"`
	Moved   int64  `json:"moved"`
}

// Waiting is how many items have not ended.
func (s Snapshot) Waiting() int64 { return max(0, s.Items-s.Done-s.Skipped-s.Failed) }

type progress struct {
	planned                                         atomic.Bool
	items, done, skipped, failed, locked, unchanged atomic.Int64
	removed, retries                                atomic.Int64 // of those done; tries beyond the first
	bytes                                           atomic.Int64 // to be moved
	landed                                          atomic.Int64 // bytes of items that are done

	away  atomic.Pointer[[]Away]
	waits waits

	mu      sync.Mutex
	lanes   int
	flights map[*flight]bool
	begun   int64 // flights so far
	samples []sample
}

// flight is an item on its way.
type flight struct {
	number  int64 // in the order in which they began
	started time.Time
	from    store.Address
	key     store.Key
	kind    store.Kind
	size    int64
	moved   atomic.Int64
	idle    atomic.Bool // all of it has moved
}

// waits are times in nanoseconds, added up over all lanes.
type waits struct {
	worked        atomic.Int64 // that items were in flight
	source, limit atomic.Int64 // of these, that they read from the source, or waited for a bandwidth limit
	slots         atomic.Int64 // before they were in flight
}

// flyingLocked returns how long the items now in flight have been so, together.
func (p *progress) flyingLocked(now time.Time) (together time.Duration) {
	for f := range p.flights {
		if !f.idle.Load() {
			together += now.Sub(f.started)
		}
	}
	return together
}

// now returns the waits so far; flying is the time of the items that are in flight. What is
// neither the source nor a limit is the target.
func (w *waits) now(flying time.Duration) run.Waits {
	source, limit := w.source.Load(), w.limit.Load()
	return run.Waits{Source: time.Duration(source), Limit: time.Duration(limit), Slots: time.Duration(w.slots.Load()),
		Target: time.Duration(max(0, w.worked.Load()+int64(flying)-source-limit))}
}

type sample struct {
	at    time.Time
	bytes int64
	items int64
}

func (p *progress) init(lanes int) { p.lanes, p.flights = lanes, map[*flight]bool{} }

func (p *progress) restore(t Tally) {
	p.planned.Store(t.Planned)
	p.items.Store(t.Items)
	p.bytes.Store(t.Bytes)
	p.done.Store(t.Done)
	p.skipped.Store(t.Skipped)
	p.failed.Store(t.Failed)
	p.locked.Store(t.Locked)
	p.unchanged.Store(t.Unchanged)
	p.landed.Store(t.Moved)
	p.removed.Store(t.Removed)
}

func (p *progress) queued(item Item) {
	p.items.Add(1)
	switch item.State {
	case Skipped:
		p.skipped.Add(1)
	case Failed:
		p.failed.Add(1)
	default:
		p.bytes.Add(item.moves())
	}
}

func (p *progress) resize(item *Item, size int64) { p.bytes.Add(max(0, size) - max(0, item.Size)) }

func (p *progress) ended(item *Item, ending Ending) {
	if item.marked() {
		p.items.Add(1) // it has not counted until now
	}
	if ending.Drop {
		p.items.Add(-1)
		return
	}
	switch ending.State {
	case Done:
		p.done.Add(1)
		if item.Action.Takes() && ending.Cause != plan.CauseMoved {
			p.removed.Add(1)
		}
		p.landed.Add(ending.Moved)
	case Skipped:
		p.skipped.Add(1)
		p.bytes.Add(-item.moves())
		if ending.Cause == plan.CauseLocked {
			p.locked.Add(1)
		}
	case Failed: // its bytes were to be moved, and were not
		p.failed.Add(1)
	}
}

func (p *progress) rest(state State, n int64) {
	if state == Skipped {
		p.skipped.Add(n)
	} else {
		p.failed.Add(n)
	}
}

func (p *progress) takeOff(from Side, item *Item) *flight {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.begun++
	f := &flight{number: p.begun, started: time.Now(), from: from.Address, key: item.Key, kind: item.Kind, size: max(0, item.Size)}
	p.flights[f] = true
	return f
}

func (p *progress) land(f *flight) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.flights, f)
}

func (p *progress) moved() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.movedLocked()
}

func (p *progress) movedLocked() int64 {
	moved := p.landed.Load()
	for f := range p.flights {
		moved += f.moved.Load()
	}
	return moved
}

// Snapshot returns how far the run has come. It may be called at any time, as
// often as wanted.
func (r *Run) Snapshot() Snapshot {
	p := &r.progress
	p.mu.Lock()
	defer p.mu.Unlock()
	s := Snapshot{
		Planned: p.planned.Load(), Items: p.items.Load(), Done: p.done.Load(), Skipped: p.skipped.Load(), Removed: p.removed.Load(),
		Retries: p.retries.Load(),
		Failed:  p.failed.Load(), Unchanged: p.unchanged.Load(), Bytes: p.bytes.Load(), Moved: p.movedLocked(), Left: -1,
	}
	for _, f := range slices.SortedFunc(maps.Keys(p.flights), func(a, b *flight) int { return cmp.Compare(a.number, b.number) }) {
		if !f.idle.Load() {
			s.Flying = append(s.Flying, Flying{Address: Side{Address: f.from}.address(f.key, f.kind), Size: f.size,
				Moved: min(f.moved.Load(), f.size)})
		}
	}
	if away := p.away.Load(); away != nil {
		s.Away = *away
	}
	s.Slowed, s.SlowDowns = r.slowed()
	s.Waits = p.waits.now(p.flyingLocked(time.Now()))
	p.sample(&s, time.Now())
	return s
}

// slowed returns the accounts whose providers have asked to slow down since the run started,
// and whose rate is limited; answers counts how often they asked.
func (r *Run) slowed() (all []Slowed, answers int64) {
	seen := map[*gate.Gate]bool{}
	r.states.mu.Lock() // a route may just be opened again
	defer r.states.mu.Unlock()
	for _, route := range r.Routes {
		for _, side := range []Side{route.Source, route.Target} {
			if side.Gate == nil || seen[side.Gate] {
				continue
			}
			seen[side.Gate] = true
			stats := side.Gate.Stats()
			answers += stats.Slowed - r.slowedBefore[side.Gate]
			if stats.Slowed > r.slowedBefore[side.Gate] && stats.Rate > 0 {
				all = append(all, Slowed{Account: side.Account, Rate: stats.Rate})
			}
		}
	}
	return all, answers
}

// sample keeps the last ten seconds and takes the rates from them.
func (p *progress) sample(s *Snapshot, now time.Time) {
	ended := s.Done + s.Skipped + s.Failed
	if n := len(p.samples); n == 0 || now.Sub(p.samples[n-1].at) >= 200*time.Millisecond {
		p.samples = append(p.samples, sample{now, s.Moved, ended})
	}
	for len(p.samples) > 2 && now.Sub(p.samples[0].at) > 10*time.Second {
		p.samples = p.samples[1:]
	}
	first := p.samples[0]
	seconds := now.Sub(first.at).Seconds()
	if seconds < 0.2 {
		return
	}
	s.Rate = max(0, float64(s.Moved-first.bytes)/seconds)
	s.ItemsRate = max(0, float64(ended-first.items)/seconds)
	if !s.Planned {
		return
	}
	var byBytes, byItems float64
	if left := s.Bytes - s.Moved; left > 0 && s.Rate > 0 {
		byBytes = float64(left) / s.Rate
	}
	if left := s.Waiting(); left > int64(p.lanes) && s.ItemsRate > 0 {
		byItems = float64(left) / s.ItemsRate
	}
	if byBytes+byItems > 0 || s.Waiting() == 0 {
		s.Left = max(byBytes, byItems)
	}
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if stem, ok := strings.CutSuffix(one, "y"); ok {
		one = stem + "ie"
	}
	return fmt.Sprintf("%d %ss", n, one)
}
