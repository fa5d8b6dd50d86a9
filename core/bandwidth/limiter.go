package bandwidth

import (
	"context"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// Direction is which way bytes go.
type Direction int

const (
	// Up is to a provider.
	Up Direction = iota
	// Down is from one.
	Down
)

// Limiter enforces a rule, and counts the bytes of connections. Its zero value does not limit.
type Limiter struct {
	limits atomic.Bool // whether there is a rule: nothing else is asked if not
	moved  [2]atomic.Int64

	mu    sync.Mutex
	rule  Rule
	ways  [2]*rate.Limiter
	until time.Time // the limits hold until then
}

// Set changes the rule, for what moves already too.
func (l *Limiter) Set(rule Rule) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rule, l.until = rule, time.Time{}
	l.limits.Store(!rule.IsZero())
}

// Rule returns the rule.
func (l *Limiter) Rule() Rule {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.rule
}

// Moved returns how many bytes the connections under the limiter have moved in a direction.
func (l *Limiter) Moved(direction Direction) int64 { return l.moved[direction].Load() }

// burst is how much may go at once after a rest, in seconds of the rate.
const burst = 0.25

// way is the limiter of a direction now, nil where there is no limit.
func (l *Limiter) way(direction Direction) *rate.Limiter {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now := time.Now(); !now.Before(l.until) {
		up, down := l.rule.At(now)
		for i, limit := range []Rate{up, down} {
			switch {
			case limit == 0:
				l.ways[i] = nil
			case l.ways[i] == nil || l.ways[i].Limit() != rate.Limit(limit):
				l.ways[i] = rate.NewLimiter(rate.Limit(limit), max(1, int(float64(limit)*burst)))
			}
		}
		l.until = now.Truncate(time.Minute).Add(time.Minute) // hours change at full minutes
	}
	return l.ways[direction]
}

// Most is how many bytes should be moved at once, of n at most, so that a change of
// the rule is soon felt.
func (l *Limiter) Most(direction Direction, n int) int {
	if l == nil || !l.limits.Load() {
		return n
	}
	if way := l.way(direction); way != nil {
		n = max(1, min(n, way.Burst()))
	}
	return n
}

// Wait waits until n bytes may be sent or received; Most returns the largest n.
func (l *Limiter) Wait(ctx context.Context, direction Direction, n int) error {
	if l == nil || !l.limits.Load() || n == 0 {
		return nil
	}
	way := l.way(direction)
	if way == nil {
		return nil
	}
	for n > 0 {
		some := min(n, way.Burst())
		if err := way.WaitN(ctx, some); err != nil {
			return err
		}
		n -= some
	}
	return nil
}

// Reader returns a reader that is limited by limiters.
func Reader(ctx context.Context, r io.Reader, direction Direction, limiters ...*Limiter) io.Reader {
	return &reader{ctx, r, direction, limiters}
}

type reader struct {
	ctx       context.Context
	r         io.Reader
	direction Direction
	limiters  []*Limiter
}

func (r *reader) Read(p []byte) (int, error) {
	for _, limiter := range r.limiters {
		p = p[:limiter.Most(r.direction, len(p))]
	}
	n, err := r.r.Read(p)
	for _, limiter := range r.limiters {
		if waiting := limiter.Wait(r.ctx, r.direction, n); waiting != nil {
			return n, waiting
		}
	}
	return n, err
}

// Conn returns a connection that is limited by limiters: writing is upload, reading is
// download. Closing it ends a wait.
func Conn(conn net.Conn, limiters ...*Limiter) net.Conn {
	ctx, cancel := context.WithCancel(context.Background())
	return &limitedConn{Conn: conn, ctx: ctx, cancel: cancel, limiters: limiters}
}

type limitedConn struct {
	net.Conn
	ctx      context.Context
	cancel   context.CancelFunc
	limiters []*Limiter
}

func (c *limitedConn) limited() bool {
	for _, limiter := range c.limiters {
		if limiter.limits.Load() {
			return true
		}
	}
	return false
}

func (c *limitedConn) count(direction Direction, n int) {
	for _, limiter := range c.limiters {
		limiter.moved[direction].Add(int64(n))
	}
}

func (c *limitedConn) Read(p []byte) (int, error) {
	if !c.limited() {
		n, err := c.Conn.Read(p)
		c.count(Down, n)
		return n, err
	}
	for _, limiter := range c.limiters {
		p = p[:limiter.Most(Down, len(p))]
	}
	n, err := c.Conn.Read(p)
	c.count(Down, n)
	for _, limiter := range c.limiters {
		if waiting := limiter.Wait(c.ctx, Down, n); waiting != nil && err == nil {
			err = net.ErrClosed
		}
	}
	return n, err
}

func (c *limitedConn) Write(p []byte) (written int, err error) {
	if !c.limited() {
		n, err := c.Conn.Write(p)
		c.count(Up, n)
		return n, err
	}
	for written < len(p) {
		some := len(p) - written
		for _, limiter := range c.limiters {
			some = limiter.Most(Up, some)
		}
		for _, limiter := range c.limiters {
			if err := limiter.Wait(c.ctx, Up, some); err != nil {
				return written, net.ErrClosed
			}
		}
		n, err := c.Conn.Write(p[written : written+some])
		c.count(Up, n)
		written += n
		if err != nil {
			return written, err
		}
	}
	return written, nil
}

// Close implements net.Conn.
func (c *limitedConn) Close() error {
	c.cancel()
	return c.Conn.Close()
}
