package servertest

import (
	"context"
	"net"
	"sync"
)

// Breaker dials, and breaks what it dialled when it is told to: all connections of
// a client at once, those for data too.
type Breaker struct {
	mu   sync.Mutex
	left int64 // bytes until all break; negative for never
	open map[net.Conn]bool
}

// NewBreaker breaks nothing until it is told to.
func NewBreaker() *Breaker { return &Breaker{left: -1, open: map[net.Conn]bool{}} }

// Dial is that of a net.Dialer.
func (b *Breaker) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	connection, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.open[connection] = true
	return &brittle{Conn: connection, breaker: b}, nil
}

// BreakAfter has all connections break once so many bytes more were sent or
// received. Those that are made later last.
func (b *Breaker) BreakAfter(bytes int64) {
	b.mu.Lock()
	b.left = bytes
	b.mu.Unlock()
	if bytes == 0 {
		b.breakAll()
	}
}

func (b *Breaker) breakAll() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for connection := range b.open {
		connection.Close()
	}
	b.open = map[net.Conn]bool{}
	b.left = -1
}

// passed counts, and reports how many of n may still pass.
func (b *Breaker) passed(n int) int {
	b.mu.Lock()
	if b.left < 0 {
		b.mu.Unlock()
		return n
	}
	if allowed := int(b.left); allowed < n {
		b.mu.Unlock()
		return allowed
	}
	b.left -= int64(n)
	b.mu.Unlock()
	return n
}

type brittle struct {
	net.Conn
	breaker *Breaker
}

func (c *brittle) Write(p []byte) (int, error) {
	allowed := c.breaker.passed(len(p))
	if allowed == len(p) {
		return c.Conn.Write(p)
	}
	n, _ := c.Conn.Write(p[:allowed])
	c.breaker.breakAll()
	return n, net.ErrClosed
}

func (c *brittle) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if allowed := c.breaker.passed(n); allowed < n {
		c.breaker.breakAll()
		return allowed, net.ErrClosed
	}
	return n, err
}
