package accounts

import (
	"context"
	"net"
	"net/http"
	"time"
)

const (
	dialTime = 10 * time.Second
	// stillTime is how long a connection may be still while something is
	// expected of it, before it counts as lost.
	stillTime = 3 * time.Minute
)

var dialer = net.Dialer{Timeout: dialTime, KeepAlive: 30 * time.Second}

// Dial connects for a provider. A connection that is still for too long counts as
// lost.
func Dial(ctx context.Context, network, address string) (net.Conn, error) {
	connection, err := dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &stillConn{connection}, nil
}

// stillConn ends a read or a write that nothing comes of.
type stillConn struct{ net.Conn }

func (c *stillConn) Read(p []byte) (int, error) {
	if err := c.SetReadDeadline(time.Now().Add(stillTime)); err != nil {
		return 0, err
	}
	return c.Conn.Read(p)
}

func (c *stillConn) Write(p []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(stillTime)); err != nil {
		return 0, err
	}
	return c.Conn.Write(p)
}

// newTransport is an account's own: what one provider does to its connections
// must not touch another's.
func newTransport() http.RoundTripper {
	return &http.Transport{
		Proxy: http.ProxyFromEnvironment, DialContext: Dial,
		TLSHandshakeTimeout: dialTime, ExpectContinueTimeout: time.Second,
		MaxIdleConnsPerHost: 64, IdleConnTimeout: 90 * time.Second,
		WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10,
		DisableCompression: true, // a stored .gz is what is wanted, not what is in it
	}
}
