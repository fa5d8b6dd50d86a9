// Package network is the way of providers to their servers: it obeys the outbound proxy, gives
// up connections that stand still, and lets no answer lead into this machine or its network.
package network

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"sync/atomic"
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
	return dialBy(ctx, dialer, network, address)
}

func dialBy(ctx context.Context, dialer net.Dialer, network, address string) (net.Conn, error) {
	connection, err := dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &stillConn{Conn: connection, still: stillTime}, nil
}

// stillConn ends a read or a write that nothing comes of. A deadline that was
// set a moment ago is not set again: at thousands of requests a second that
// would be felt.
type stillConn struct {
	net.Conn
	still            time.Duration
	reading, writing atomic.Int64 // when the deadlines were set, in Unix seconds
}

// resetEvery is how old a deadline may get before it is set again.
const resetEvery = 15 // seconds

func (c *stillConn) Read(p []byte) (int, error) {
	if now := time.Now(); now.Unix()-c.reading.Load() >= resetEvery {
		c.reading.Store(now.Unix())
		if err := c.SetReadDeadline(now.Add(c.still)); err != nil {
			return 0, err
		}
	}
	return c.Conn.Read(p)
}

func (c *stillConn) Write(p []byte) (int, error) {
	if now := time.Now(); now.Unix()-c.writing.Load() >= resetEvery {
		c.writing.Store(now.Unix())
		if err := c.SetWriteDeadline(now.Add(c.still)); err != nil {
			return 0, err
		}
	}
	return c.Conn.Write(p)
}

// DialThrough connects to an address; where a proxy is the way out to it, through a
// tunnel that the proxy makes (RFC 9110, section 9.3.6).
func DialThrough(ctx context.Context, proxy func(*http.Request) (*url.URL, error), address string) (net.Conn, error) {
	through, err := proxy(&http.Request{URL: &url.URL{Scheme: "https", Host: address}})
	if err != nil { // never past a proxy that is meant, however it is written
		return nil, fmt.Errorf("the proxy to %s cannot be told: %w", address, err)
	}
	if through == nil {
		return Dial(ctx, "tcp", address)
	}
	at := through.Host
	if through.Port() == "" {
		at = net.JoinHostPort(through.Hostname(), map[string]string{"http": "80", "https": "443"}[through.Scheme])
	}
	connection, err := Dial(ctx, "tcp", at)
	if err != nil {
		return nil, fmt.Errorf("the proxy %s cannot be reached: %w", at, err)
	}
	stop := context.AfterFunc(ctx, func() { connection.Close() })
	defer stop()
	tunnel, err := openTunnel(connection, through, address)
	if err != nil {
		connection.Close()
		return nil, fmt.Errorf("the proxy %s makes no tunnel to %s: %w", at, address, err)
	}
	return tunnel, nil
}

func openTunnel(connection net.Conn, through *url.URL, address string) (net.Conn, error) {
	if through.Scheme == "https" {
		connection = tls.Client(connection, &tls.Config{ServerName: through.Hostname(), MinVersion: tls.VersionTLS12})
	}
	request := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: address}, Host: address, Header: http.Header{}}
	if user := through.User; user != nil {
		password, _ := user.Password()
		signed := &http.Request{Header: http.Header{}}
		signed.SetBasicAuth(user.Username(), password)
		request.Header.Set("Proxy-Authorization", signed.Header.Get("Authorization"))
	}
	if err := request.Write(connection); err != nil {
		return nil, err
	}
	reader := bufio.NewReader(connection)
	response, err := http.ReadResponse(reader, request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answered %s", response.Status)
	}
	return &tunnelConn{connection, reader}, nil
}

// tunnelConn is a connection of which the first bytes may have been read: some servers
// speak first.
type tunnelConn struct {
	net.Conn
	reader *bufio.Reader
}

func (c *tunnelConn) Read(p []byte) (int, error) { return c.reader.Read(p) }

// Transport says how HTTP requests of one account are sent.
type Transport struct {
	// Proxy is the way out; required.
	Proxy func(*http.Request) (*url.URL, error)
	// Reach is which hosts may be reached; required.
	Reach *Reach
	// Limited, where it is not nil, puts a connection under limits.
	Limited func(net.Conn) net.Conn
	// Showed, if not nil, is called with the certificate that a server shows.
	Showed func(*x509.Certificate)
}

// New returns a transport of its own: what one provider does to its connections must not
// touch another's.
func (t Transport) New() http.RoundTripper {
	return &http.Transport{
		Proxy: t.Reach.through(t.Proxy), DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			connection, err := t.Reach.dial(ctx, network, address)
			if err != nil || t.Limited == nil {
				return connection, err
			}
			return t.Limited(connection), nil
		},
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, VerifyConnection: func(state tls.ConnectionState) error {
			if t.Showed != nil {
				t.Showed(state.PeerCertificates[0])
			}
			return nil
		}},
		TLSHandshakeTimeout: dialTime, ExpectContinueTimeout: time.Second,
		MaxResponseHeaderBytes: 256 << 10, MaxIdleConnsPerHost: 64, IdleConnTimeout: 90 * time.Second,
		WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10,
		DisableCompression: true, // a stored .gz is what is wanted, not what is in it
	}
}
