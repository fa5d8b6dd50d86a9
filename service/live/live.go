// Package live tells what happens now to whoever listens.
//
// Events have ids of the form epoch-sequence. The epoch is the process; the
// sequence counts. A listener that was away gives the last id that it saw and
// gets what it missed; where that is no longer kept, or of another epoch, it
// gets one event "again", and fetches everything again.
package live

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Event is one thing that happened.
type Event struct {
	ID   string // empty for what is not kept, such as progress
	Name string
	Data any
}

// The names of events.
const (
	Again    = "again"    // fetch everything again
	Runs     = "run"      // a run began, or changed its state
	Accounts = "accounts" // accounts were linked or unlinked, or are other than they were
	Jobs     = "job"      // a job was made, changed, removed or started
	Folder   = "folder"   // a folder's listing is another than was answered
	Progress = "progress" // how far what is running has come
)

const (
	kept        = 512
	tick        = 400 * time.Millisecond
	sampleEvery = 2 * time.Second
	samples     = 300 // ten minutes
)

// Source tells the progress of what is running.
type Source interface {
	// Progress returns what is sent as a Progress event, and the rate of all
	// that moves, in bytes a second. It returns nil where nothing runs.
	Progress() (data any, rate float64)
}

// Hub passes events on.
type Hub struct {
	epoch string
	mu    sync.Mutex
	seq   int64
	ring  []Event
	heard map[chan Event]bool
	rates []float64 // the last ten minutes, oldest first
}

// NewHub returns a hub with an epoch of its own.
func NewHub() *Hub {
	return &Hub{epoch: strconv.FormatInt(time.Now().UnixMilli(), 36), heard: map[chan Event]bool{}, rates: make([]float64, samples)}
}

// Publish passes an event on and keeps it for those who are away.
func (h *Hub) Publish(name string, data any) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seq++
	event := Event{ID: fmt.Sprintf("%s-%d", h.epoch, h.seq), Name: name, Data: data}
	if h.ring = append(h.ring, event); len(h.ring) > kept {
		h.ring = h.ring[len(h.ring)-kept:]
	}
	h.send(event)
}

// send gives an event to all who listen. One who does not keep up is cut off,
// and comes back by the last id that it saw. h.mu is held.
func (h *Hub) send(event Event) {
	for listener := range h.heard {
		select {
		case listener <- event:
		default:
			delete(h.heard, listener)
			close(listener)
		}
	}
}

// Listen returns a channel of events, beginning with those after last. It is
// closed when the listener does not keep up. The caller calls the function
// returned when it has heard enough.
func (h *Hub) Listen(last string) (<-chan Event, func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	listener := make(chan Event, kept+64)
	for _, event := range h.missed(last) {
		listener <- event
	}
	h.heard[listener] = true
	return listener, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.heard[listener] {
			delete(h.heard, listener)
			close(listener)
		}
	}
}

func (h *Hub) missed(last string) []Event {
	current := fmt.Sprintf("%s-%d", h.epoch, h.seq)
	if last == "" {
		return []Event{{ID: current, Name: Again}}
	}
	epoch, sequence, _ := strings.Cut(last, "-")
	n, err := strconv.ParseInt(sequence, 10, 64)
	if err != nil || epoch != h.epoch || n > h.seq || n < h.seq-int64(len(h.ring)) {
		return []Event{{ID: current, Name: Again}}
	}
	return h.ring[len(h.ring)-int(h.seq-n):]
}

// Rates returns the rate of all that moved over the last ten minutes, in bytes
// a second, one for every two seconds, oldest first.
func (h *Hub) Rates() []float64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]float64(nil), h.rates...)
}

// Watch asks the source a few times a second, and passes on what it says, until
// the context ends.
func (h *Hub) Watch(ctx context.Context, source Source) {
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	var sampled time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			data, rate := source.Progress()
			h.mu.Lock()
			if now.Sub(sampled) >= sampleEvery {
				sampled = now
				h.rates = append(h.rates[1:], rate)
			}
			if data != nil {
				h.send(Event{Name: Progress, Data: data})
			}
			h.mu.Unlock()
		}
	}
}
