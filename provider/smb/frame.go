package smb

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"sync/atomic"
)

// frameConn is a connection that sees the messages which pass (MS-SMB2, section
// 2.1): it knows when it is broken, and whether what it sends is encrypted.
//
// It also mends what the library gets wrong where everything has to be signed: a
// server that needs more time for a request says so in an interim response without
// a signature (section 3.2.5.1.3 has the client not ask for one), which the library
// refuses, as it is of its own session. It looks at the session of a compound's
// first message alone, though, and has no use for one whose number is that of
// nothing; so an interim response arrives here as the second of such a pair, without
// its session. What it says, the number by which the request may be cancelled and
// credits, is of no use to anybody in between.
type frameConn struct {
	net.Conn
	broken atomic.Bool
	sealed atomic.Bool // what was sent last was encrypted

	left    int64 // of the message that is being read
	pending bytes.Reader
	small   [4 + headerSize + longestInterim]byte
}

const (
	// longestInterim is more than such a message has.
	longestInterim = 160
	headerSize     = 64
	statusPending  = 0x00000103
	flagAsync      = 0x00000002
	flagSigned     = 0x00000008
)

func (c *frameConn) Read(p []byte) (int, error) {
	if c.pending.Len() > 0 {
		return c.pending.Read(p)
	}
	if c.left == 0 {
		if err := c.begin(); err != nil {
			c.broken.Store(true)
			return 0, err
		}
		return c.pending.Read(p)
	}
	n, err := c.Conn.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	if err != nil {
		c.broken.Store(true)
	}
	return n, err
}

// begin reads the length of the next message, and all of it where it is small.
func (c *frameConn) begin() error {
	if _, err := io.ReadFull(c.Conn, c.small[:4]); err != nil {
		return err
	}
	size := int(binary.BigEndian.Uint32(c.small[:4]) & 0xFFFFFF)
	if size > longestInterim {
		c.left = int64(size)
		c.pending.Reset(c.small[:4])
		return nil
	}
	message := c.small[4+headerSize : 4+headerSize+size]
	if _, err := io.ReadFull(c.Conn, message); err != nil {
		return err
	}
	if !isInterim(message) {
		copy(c.small[4:], message)
		c.pending.Reset(c.small[:4+size])
		return nil
	}
	first := c.small[4 : 4+headerSize]
	clear(first)
	copy(first, message[:8])
	binary.LittleEndian.PutUint32(first[20:], headerSize) // where the next one begins
	binary.LittleEndian.PutUint64(first[24:], ^uint64(0)) // the number of nothing
	copy(first[40:48], message[40:48])                    // the session
	clear(message[40:48])
	binary.BigEndian.PutUint32(c.small[:4], uint32(headerSize+size))
	c.pending.Reset(c.small[:4+headerSize+size])
	return nil
}

// isInterim reports whether a message is an interim response without a signature
// (section 2.2.1.1 has the header).
func isInterim(message []byte) bool {
	if len(message) < headerSize || string(message[:4]) != "\xfeSMB" {
		return false
	}
	status, flags := binary.LittleEndian.Uint32(message[8:]), binary.LittleEndian.Uint32(message[16:])
	return status == statusPending && flags&flagAsync != 0 && flags&flagSigned == 0
}

func (c *frameConn) Write(p []byte) (int, error) {
	if len(p) > 4 { // the length is written by itself
		c.sealed.Store(p[0] == 0xFD) // of a transformed message (section 2.2.41)
	}
	n, err := c.Conn.Write(p)
	if err != nil {
		c.broken.Store(true)
	}
	return n, err
}
