package ftp

import (
	"net"
	"sync/atomic"

	"deftheron/core/store"
)

// largestReply is the most bytes of a reply to one command, however many lines it has.
const largestReply = 1 << 20

// boundedConn is a control connection whose replies end: the library holds all lines of
// one in memory.
type boundedConn struct {
	net.Conn
	left atomic.Int64
}

func bounded(connection net.Conn) net.Conn {
	b := &boundedConn{Conn: connection}
	b.left.Store(largestReply)
	return b
}

func (b *boundedConn) Write(p []byte) (int, error) {
	b.left.Store(largestReply)
	return b.Conn.Write(p)
}

func (b *boundedConn) Read(p []byte) (int, error) {
	left := b.left.Load()
	if left <= 0 {
		return 0, store.Errorf(store.ErrRefused, "the server's reply has more than %d bytes, and is not read on", largestReply)
	}
	n, err := b.Conn.Read(p[:min(int64(len(p)), left)])
	b.left.Add(-int64(n))
	return n, err
}
