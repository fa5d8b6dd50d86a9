package runner

import (
	"context"
	"slices"
	"sync"
)

// runLimiter lets so many runs move at once; of those that wait, the ones of a higher
// priority first, and then the one that has waited longest.
type runLimiter struct {
	mu      sync.Mutex
	most    int
	moving  int
	waiting []*turn
}

type turn struct {
	weight func() int64
	come   chan struct{}
}

func newRunLimiter(most int) *runLimiter { return &runLimiter{most: most} }

// take waits for a turn. weight is asked whenever one is free.
func (t *runLimiter) take(ctx context.Context, weight func() int64) error {
	t.mu.Lock()
	if t.moving < t.most && len(t.waiting) == 0 {
		t.moving++
		t.mu.Unlock()
		return nil
	}
	mine := &turn{weight, make(chan struct{})}
	t.waiting = append(t.waiting, mine)
	t.next()
	t.mu.Unlock()
	select {
	case <-mine.come:
		return nil
	case <-ctx.Done():
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := slices.Index(t.waiting, mine); i >= 0 {
		t.waiting = slices.Delete(t.waiting, i, i+1)
		return ctx.Err()
	}
	t.moving-- // it came at the same moment
	t.next()
	return ctx.Err()
}

// give gives a turn back.
func (t *runLimiter) give() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.moving--
	t.next()
}

// setMost changes how many move at once. Those that move go on.
func (t *runLimiter) setMost(most int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.most = most
	t.next()
}

// next lets in those whose turn it is. t.mu is held.
func (t *runLimiter) next() {
	for t.moving < t.most && len(t.waiting) > 0 {
		best := 0
		for i, one := range t.waiting {
			if one.weight() > t.waiting[best].weight() {
				best = i
			}
		}
		one := t.waiting[best]
		t.waiting = slices.Delete(t.waiting, best, best+1)
		t.moving++
		close(one.come)
	}
}
