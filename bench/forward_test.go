package bench

import (
	"net"
	"sync"
	"testing"
)

// forward passes connections on to a server until the test ends, and returns its address. pass copies
// one direction of a connection, up to the server or down from it, until either side ends.
func forward(t *testing.T, to string, pass func(into, from net.Conn, up bool)) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var group sync.WaitGroup
	var mu sync.Mutex
	var open []net.Conn
	both := func(near, far net.Conn, up bool) {
		pass(far, near, up)
		near.Close()
		far.Close()
	}
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
			mu.Lock()
			open = append(open, near, far)
			mu.Unlock()
			group.Go(func() { both(near, far, true) })
			group.Go(func() { both(far, near, false) })
		}
	})
	t.Cleanup(func() {
		listener.Close()
		mu.Lock()
		for _, one := range open {
			one.Close()
		}
		mu.Unlock()
		group.Wait()
	})
	return listener.Addr().String()
}
