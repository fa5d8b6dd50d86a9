package servertest

import (
	"math/rand/v2"
	"net"
	"sync"
	"testing"
)

// Line passes connections on to a server, and may cut them.
type Line struct {
	Host, Port string

	mu     sync.Mutex
	most   int64 // bytes a connection passes on before it is cut, at most; 0 for any number
	cut    int
	random *rand.Rand
}

// StartLine starts a line to a server at HOST:PORT.
func StartLine(t testing.TB, to string) *Line {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := &Line{random: rand.New(rand.NewPCG(5, 11))}
	l.Host, l.Port, _ = net.SplitHostPort(listener.Addr().String())
	var group sync.WaitGroup
	group.Go(func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			group.Go(func() { l.pass(near, far) })
		}
	})
	t.Cleanup(func() { listener.Close() })
	return l
}

// CutAfter has each connection from now on cut after some number of bytes up to most, in both
// directions together; 0 cuts none.
func (l *Line) CutAfter(most int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.most = most
}

// Cut is how many connections were cut.
func (l *Line) Cut() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cut
}

func (l *Line) pass(near, far net.Conn) {
	l.mu.Lock()
	left := int64(-1)
	if l.most > 0 {
		left = 1 + l.random.Int64N(l.most)
	}
	l.mu.Unlock()
	var mu sync.Mutex
	var group sync.WaitGroup
	for _, way := range [][2]net.Conn{{near, far}, {far, near}} {
		group.Go(func() {
			defer near.Close()
			defer far.Close()
			buffer := make([]byte, 4096)
			for {
				n, err := way[0].Read(buffer)
				mu.Lock()
				if left >= 0 {
					if left -= int64(n); left < 0 {
						mu.Unlock()
						l.mu.Lock()
						l.cut++
						l.mu.Unlock()
						return
					}
				}
				mu.Unlock()
				if n > 0 {
					if _, err := way[1].Write(buffer[:n]); err != nil {
						return
					}
				}
				if err != nil {
					return
				}
			}
		})
	}
	group.Wait()
}
