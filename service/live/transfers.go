package live

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"deftheron/contract"
)

// Transfers are the files on their way to and from outside, by the API. Its zero
// value is ready.
type Transfers struct {
	mu     sync.Mutex
	active map[*Transfer]bool
	ended  int64 // bytes of those that have ended
	last   int64 // bytes of all at the last look
	at     time.Time
	rate   float64
}

// Transfer is one of them.
type Transfer struct {
	shown contract.Transfer
	begun time.Time
	moved atomic.Int64
	all   *Transfers
}

// Begin adds a transfer; total is -1 where it is not known. The caller ends it.
func (t *Transfers) Begin(id, address string, upload bool, total int64) *Transfer {
	one := &Transfer{shown: contract.Transfer{ID: id, Address: address, Upload: upload, Total: total}, begun: time.Now(), all: t}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.active == nil {
		t.active = map[*Transfer]bool{}
	}
	t.active[one] = true
	return one
}

// Add counts bytes.
func (t *Transfer) Add(n int) { t.moved.Add(int64(n)) }

// End takes the transfer out.
func (t *Transfer) End() {
	t.all.mu.Lock()
	defer t.all.mu.Unlock()
	if t.all.active[t] {
		delete(t.all.active, t)
		t.all.ended += t.moved.Load()
	}
}

// Now returns the transfers, oldest first, and their rate since the last look in
// bytes a second.
func (t *Transfers) Now(now time.Time) (shown []contract.Transfer, rate float64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	moved := t.ended
	all := make([]*Transfer, 0, len(t.active))
	for one := range t.active {
		all = append(all, one)
		moved += one.moved.Load()
	}
	slices.SortFunc(all, func(a, b *Transfer) int { return cmp.Or(a.begun.Compare(b.begun), cmp.Compare(a.shown.ID, b.shown.ID)) })
	shown = []contract.Transfer{}
	for _, one := range all {
		one.shown.Transferred = one.moved.Load()
		shown = append(shown, one.shown)
	}
	if seconds := now.Sub(t.at).Seconds(); seconds >= 0.2 {
		if t.rate = 0; seconds < 5 {
			t.rate = float64(moved-t.last) / seconds
		}
		t.last, t.at = moved, now
	}
	return shown, t.rate
}
