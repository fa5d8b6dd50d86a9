package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/servertest"
)

// proxy stands between the service and an object store, and slows it down, or
// holds what writes files until it is let go.
type proxy struct {
	server *servertest.ObjectStore
	url    string
	rate   int // bytes a second of contents; 0 is unlimited

	mu   sync.Mutex
	gate chan struct{}
	mute bool
	down bool
}

func slowProxy(t *testing.T, server *servertest.ObjectStore, rate int) *proxy {
	t.Helper()
	target, err := url.Parse(server.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	p := &proxy{server: server, rate: rate}
	forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host, r.Out.Host = target.Scheme, target.Host, r.In.Host
	}}
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if p.isDown() {
			panic(http.ErrAbortHandler)
		}
		if p.isMute() {
			p.wait()
		}
		if r.Method == http.MethodPut && !strings.Contains(r.URL.Path, "/.heron/") {
			p.wait()
			r.Body = &slowBody{ReadCloser: r.Body, proxy: p}
		}
		forward.ServeHTTP(&slowWriter{ResponseWriter: w, proxy: p}, r)
	}))
	t.Cleanup(front.Close)
	t.Cleanup(p.release)
	// The signature is made over the name that is asked: it must be the server's.
	p.url = front.URL
	return p
}

// linkSlow links a bucket of an object store behind a proxy.
func (h *heron) linkSlow(name string, rate int) *proxy {
	h.t.Helper()
	slow := slowProxy(h.t, servertest.StartObjectStore(h.t), rate)
	server := *slow.server
	server.Endpoint = slow.url
	h.linkBucket(name, &server, slow.server.Bucket(h.t))
	return slow
}

// hold lets no file through until release.
func (p *proxy) hold() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.gate = make(chan struct{})
}

// holdAll takes every request and answers none until release.
func (p *proxy) holdAll() {
	p.hold()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mute = true
}

func (p *proxy) isMute() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.mute
}

// release lets everything through, as fast as it goes.
func (p *proxy) release() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mute = false
	if p.gate != nil {
		close(p.gate)
		p.gate = nil
	}
	p.rate = 0
}

// setDown makes every request break off, or lets them through again.
func (p *proxy) setDown(down bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.down = down
}

func (p *proxy) isDown() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.down
}

func (p *proxy) wait() {
	p.mu.Lock()
	gate := p.gate
	p.mu.Unlock()
	if gate != nil {
		<-gate
	}
}

// bandwidth waits for as long as n bytes take at the rate, of four streams at once.
func (p *proxy) bandwidth(n int) {
	p.mu.Lock()
	rate := p.rate
	p.mu.Unlock()
	if rate > 0 && n > 0 {
		<-time.After(time.Duration(n) * time.Second / time.Duration(rate) * 4)
	}
}

type slowBody struct {
	io.ReadCloser
	proxy *proxy
}

func (b *slowBody) Read(data []byte) (int, error) {
	n, err := b.ReadCloser.Read(data[:min(len(data), 128<<10)])
	b.proxy.bandwidth(n)
	return n, err
}

type slowWriter struct {
	http.ResponseWriter
	proxy *proxy
}

func (w *slowWriter) Write(data []byte) (int, error) {
	n, err := w.ResponseWriter.Write(data)
	w.proxy.bandwidth(n)
	return n, err
}
