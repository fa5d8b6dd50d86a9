package network

import (
	"errors"
	"net"
	"os"
	"testing"
	"testing/synctest"
	"time"
)

// TestStillConnections takes a connection for lost on which nothing comes, however
// long that has been going on before.
func TestStillConnections(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, far := net.Pipe()
		defer far.Close()
		connection := &stillConn{Conn: near, still: stillTime}
		defer connection.Close()
		go func() {
			for range 20 { // slow is not still
				time.Sleep(time.Minute)
				if _, err := far.Write([]byte("x")); err != nil {
					return
				}
			}
		}()
		begun, one := time.Now(), make([]byte, 1)
		for range 20 {
			if _, err := connection.Read(one); err != nil {
				t.Fatalf("after %v: %v", time.Since(begun), err)
			}
		}
		begun = time.Now()
		if _, err := connection.Read(one); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("nothing came, and the read ended with %v", err)
		}
		if waited := time.Since(begun); waited > stillTime || waited < stillTime-resetEvery*time.Second {
			t.Errorf("it was waited for %v", waited)
		}
		if _, err := connection.Write([]byte("nobody reads")); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("nothing went, and the write ended with %v", err)
		}
	})
}
