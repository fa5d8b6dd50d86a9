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
	conns  []net.Conn
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
			l.mu.Lock()
			l.conns = append(l.conns, near, far)
			l.mu.Unlock()
			group.Go(func() { l.pass(near, far) })
		}
	})
	t.Cleanup(func() {
		listener.Close()
		l.mu.Lock()
		for _, conn := range l.conns {
			conn.Close()
		}
		l.mu.Unlock()
		group.Wait()
	})
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
	spend := l.budget()
	var group sync.WaitGroup
	for _, way := range [][2]net.Conn{{near, far}, {far, near}} {
		group.Go(func() {
			defer near.Close()
			defer far.Close()
			buffer := make([]byte, 4096)
			for {
				n, err := way[0].Read(buffer)
				if !spend(n) {
					return
				}
				if _, failed := way[1].Write(buffer[:n]); failed != nil || err != nil {
					return
				}
			}
		})
	}
	group.Wait()
}

// budget returns a function that reports whether a connection may pass on so many more bytes.
func (l *Line) budget() (spend func(n int) bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.most == 0 {
		return func(int) bool { return true }
	}
	left := 1 + l.random.Int64N(l.most)
	return func(n int) bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		if left < 0 {
			return false
		}
		if left -= int64(n); left < 0 {
			l.cut++
		}
		return left >= 0
	}
}
