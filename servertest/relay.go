package servertest

import (
	"io"
	"net"
	"sync"
	"testing"
)

// Relay passes connections on to a server, and breaks them when it is told to.
type Relay struct {
	Host, Port string
	to         string
	listener   net.Listener

	mu    sync.Mutex
	left  int64 // bytes until all connections break; negative for never
	down  bool
	open  map[net.Conn]bool
	group sync.WaitGroup
}

// StartRelay starts a relay to a server on loopback.
func StartRelay(t testing.TB, to string) *Relay {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	return startRelay(t, listener, to)
}

func startRelay(t testing.TB, listener net.Listener, to string) *Relay {
	t.Helper()
	r := &Relay{to: to, listener: listener, left: -1, open: map[net.Conn]bool{}}
	r.Host, r.Port, _ = net.SplitHostPort(listener.Addr().String())
	r.group.Go(r.serve)
	t.Cleanup(func() {
		listener.Close()
		r.breakAll()
		r.group.Wait()
	})
	return r
}

// BreakAfter has all connections break once so many bytes more have passed, in
// either direction. Later ones are passed on again.
func (r *Relay) BreakAfter(bytes int64) {
	r.mu.Lock()
	r.left = bytes
	r.mu.Unlock()
	if bytes == 0 {
		r.breakAll()
	}
}

// SetDown refuses connections, and ends those that there are.
func (r *Relay) SetDown(down bool) {
	r.mu.Lock()
	r.down = down
	r.mu.Unlock()
	if down {
		r.breakAll()
	}
}

func (r *Relay) breakAll() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for connection := range r.open {
		_ = connection.(*net.TCPConn).SetLinger(0)
		connection.Close()
	}
	r.open = map[net.Conn]bool{}
	r.left = -1
}

func (r *Relay) serve() {
	for {
		client, err := r.listener.Accept()
		if err != nil {
			return
		}
		r.mu.Lock()
		down := r.down
		r.mu.Unlock()
		server, err := net.Dial("tcp", r.to)
		if err != nil || down {
			client.Close()
			if err == nil {
				server.Close()
			}
			continue
		}
		r.mu.Lock()
		r.open[client], r.open[server] = true, true
		r.mu.Unlock()
		r.group.Go(func() { r.pass(client, server) })
		r.group.Go(func() { r.pass(server, client) })
	}
}

func (r *Relay) pass(to, from net.Conn) {
	defer to.Close()
	defer from.Close()
	_, _ = io.Copy(&counted{r, to}, from)
}

type counted struct {
	relay *Relay
	to    net.Conn
}

func (c *counted) Write(p []byte) (int, error) {
	r := c.relay
	r.mu.Lock()
	breaks := r.left >= 0 && r.left < int64(len(p))
	if r.left >= 0 && !breaks {
		r.left -= int64(len(p))
	}
	left := r.left
	r.mu.Unlock()
	if !breaks {
		return c.to.Write(p)
	}
	n, _ := c.to.Write(p[:left])
	r.breakAll()
	return n, io.ErrClosedPipe
}
