package accounts

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"sync/atomic"
	"time"

	"golang.org/x/net/http/httpproxy"
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
	return &stillConn{Conn: connection}, nil
}

// stillConn ends a read or a write that nothing comes of. A deadline that was
// set a moment ago is not set again: at thousands of requests a second that
// would be felt.
type stillConn struct {
	net.Conn
	reading, writing atomic.Int64 // when the deadlines were set, in Unix seconds
}

// resetEvery is how old a deadline may get before it is set anew.
const resetEvery = 15 // seconds

func (c *stillConn) Read(p []byte) (int, error) {
	if now := time.Now(); now.Unix()-c.reading.Load() >= resetEvery {
		c.reading.Store(now.Unix())
		if err := c.SetReadDeadline(now.Add(stillTime)); err != nil {
			return 0, err
		}
	}
	return c.Conn.Read(p)
}

func (c *stillConn) Write(p []byte) (int, error) {
	if now := time.Now(); now.Unix()-c.writing.Load() >= resetEvery {
		c.writing.Store(now.Unix())
		if err := c.SetWriteDeadline(now.Add(stillTime)); err != nil {
			return 0, err
		}
	}
	return c.Conn.Write(p)
}

// ProxyThrough is the way out through a proxy: http://HOST:PORT or
// https://HOST:PORT. Hosts that NO_PROXY names, and this machine's own
// addresses, are reached directly.
func ProxyThrough(address string) (func(*http.Request) (*url.URL, error), error) {
	parsed, err := url.Parse(address)
	if err != nil || parsed.Host == "" || parsed.Scheme != "http" && parsed.Scheme != "https" {
		return nil, fmt.Errorf("--outbound-proxy %q is no address of a proxy; write it as http://HOST:PORT", address)
	}
	config := httpproxy.FromEnvironment()
	config.HTTPProxy, config.HTTPSProxy = address, address
	choose := config.ProxyFunc()
	return func(request *http.Request) (*url.URL, error) { return choose(request.URL) }, nil
}

// newTransport is an account's own: what one provider does to its connections
// must not touch another's.
func (a *Accounts) newTransport() http.RoundTripper {
	proxy := a.Proxy
	if proxy == nil {
		proxy = http.ProxyFromEnvironment
	}
	return &http.Transport{
		Proxy: proxy, DialContext: Dial,
		TLSHandshakeTimeout: dialTime, ExpectContinueTimeout: time.Second,
		MaxIdleConnsPerHost: 64, IdleConnTimeout: 90 * time.Second,
		WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10,
		DisableCompression: true, // a stored .gz is what is wanted, not what is in it
	}
}
