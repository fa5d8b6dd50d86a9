package service

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"sync"
	"time"
)

// mostConnections is the maximum number of open connections. When there are more, the one
// is closed that has waited longest without a request. Connections whose requests are being
// answered are bounded by the limits for each kind of request.
const mostConnections = 1024

// connections are the open connections of a server.
type connections struct {
	mu   sync.Mutex
	open map[net.Conn]*connection
}

type connection struct {
	since   time.Time
	serving int // requests that are being answered
}

type connectionKey struct{}

// guard bounds the connections of a server.
func (c *connections) guard(server *http.Server) {
	c.open = map[net.Conn]*connection{}
	answer := server.Handler
	server.ConnContext = func(ctx context.Context, conn net.Conn) context.Context {
		return context.WithValue(ctx, connectionKey{}, conn)
	}
	server.ConnState = c.changed
	server.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, _ := r.Context().Value(connectionKey{}).(net.Conn)
		c.serve(conn, 1)
		defer c.serve(conn, -1)
		answer.ServeHTTP(w, r)
	})
}

func (c *connections) serve(conn net.Conn, n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if one := c.open[conn]; one != nil {
		one.serving += n
		one.since = time.Now()
	}
}

// changed is for http.Server.ConnState.
func (c *connections) changed(conn net.Conn, state http.ConnState) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch state {
	case http.StateNew:
		c.open[conn] = &connection{since: time.Now()}
		if len(c.open) > mostConnections {
			c.closeOldest()
		}
	case http.StateClosed, http.StateHijacked:
		delete(c.open, conn)
	}
}

// closeOldest closes the connection that has waited longest, without a farewell that
// would have to be waited for. c.mu is held.
func (c *connections) closeOldest() {
	var oldest net.Conn
	for conn, one := range c.open {
		if one.serving == 0 && (oldest == nil || one.since.Before(c.open[oldest].since)) {
			oldest = conn
		}
	}
	if oldest == nil {
		return
	}
	delete(c.open, oldest)
	if secured, ok := oldest.(*tls.Conn); ok {
		oldest = secured.NetConn()
	}
	oldest.Close()
}
