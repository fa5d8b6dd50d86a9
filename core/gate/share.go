package gate

import (
	"context"
	"sync/atomic"
)

// Share is one of several users of accounts, such as a run. If they want to send more
// requests than a gate allows, each gets a part by its weight. Requests without a share,
// such as those of a person who opens a folder, come first.
type Share struct{ weight atomic.Int64 }

// NewShare returns a share of a weight; below 1 is 1.
func NewShare(weight int64) *Share {
	s := &Share{}
	s.SetWeight(weight)
	return s
}

// SetWeight changes the weight, from the next turn on.
func (s *Share) SetWeight(weight int64) { s.weight.Store(max(1, weight)) }

// Weight returns the weight.
func (s *Share) Weight() int64 { return s.weight.Load() }

type shareKey struct{}

// WithShare returns a context whose requests count for a share.
func WithShare(ctx context.Context, share *Share) context.Context {
	return context.WithValue(ctx, shareKey{}, share)
}

func shareOf(ctx context.Context) *Share {
	share, _ := ctx.Value(shareKey{}).(*Share)
	return share
}

// waiter waits for its turn at a gate.
type waiter struct {
	turn  chan struct{}
	share *Share
}

// nextTurn is which of those waiting is let in: of the share that has least for its
// weight, the one that waits longest. g.mu is held.
func (g *Gate) nextTurn() int {
	best := 0
	for i, one := range g.waiting {
		if one.share == nil {
			return i
		}
		if i > 0 && g.has(one.share) < g.has(g.waiting[best].share) {
			best = i
		}
	}
	return best
}

// has is how much a share has, for its weight. g.mu is held.
func (g *Gate) has(share *Share) float64 {
	return float64(g.shares[share]) / float64(share.weight.Load())
}
