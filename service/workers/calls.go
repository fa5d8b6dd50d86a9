package workers

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"
	"github.com/nats-io/nats.go"

	"deftheron/core/bandwidth"
	"deftheron/core/store"
	"deftheron/provider/site"
	"deftheron/service/messages"
)

// stillTime is how long a stream may stand still while something is expected of it.
const stillTime = 3 * time.Minute

// call is a request that a worker is answering.
type call struct {
	workers  *Workers
	token    string
	worker   string
	content  func(ctx context.Context, w io.Writer) error
	limiters []*bandwidth.Limiter
	line     *bandwidth.Limiter // of the site

	unnamed int // how often in a row the worker has not named it; Workers.mu guards it

	ctx    context.Context // ends with the call
	cancel context.CancelCauseFunc
	answer chan io.ReadCloser // one
	users  sync.WaitGroup     // of the content, and of the answer as a stream

	given atomic.Bool // an answer has come

	mu     sync.Mutex
	closed bool
}

// caller calls the workers of a site, or one of them.
type caller struct {
	workers      *Workers
	site, worker string
	account      Account
}

// Account is an account in the state in which it is opened at a worker.
type Account struct {
	// ID is the id of the account, and Generation names its state.
	ID, Generation string
	// Secrets keep its secret; nil for none.
	Secrets store.Secrets
	// Limiters hold what crosses.
	Limiters []*bandwidth.Limiter
}

// At returns what calls the workers of a site, or only one of them if a worker is given, by its
// id, for an account.
func (w *Workers) At(at, worker string, account Account) site.Caller {
	return &caller{w, at, worker, account}
}

// Seal implements site.Caller.
func (c *caller) Seal(_ context.Context, worker string, secret []byte) ([]byte, error) {
	c.workers.mu.Lock()
	p := c.workers.there[worker]
	if p != nil {
		c.workers.keep(c.account, p.site)
	}
	c.workers.mu.Unlock()
	if p == nil {
		return nil, c.offline()
	}
	return seal(p, secret)
}

// seal encrypts a secret to a worker.
func seal(p *presence, secret []byte) ([]byte, error) {
	recipient, err := age.ParseX25519Recipient(p.recipient)
	if err != nil {
		return nil, fmt.Errorf("read the key of the worker %s: %w", p.name, err)
	}
	var sealed bytes.Buffer
	writer, err := age.Encrypt(&sealed, recipient)
	if err == nil {
		_, err = writer.Write(secret)
	}
	if err == nil {
		err = writer.Close()
	}
	return sealed.Bytes(), err
}

func (c *caller) offline() error {
	return messages.With(offline{store.Errorf(store.ErrTryAgain, "no worker of the site %s is connected; start one there", c.site)},
		"heron worker list")
}

// offline is an error that wraps site.ErrOffline beside its own.
type offline struct{ error }

// Unwrap is for errors.Is.
func (o offline) Unwrap() []error { return []error{o.error, site.ErrOffline} }

// Call implements site.Caller.
func (c *caller) Call(ctx context.Context, asked site.Call) (io.ReadCloser, string, error) {
	one, client, err := c.begin(ctx, asked)
	if err != nil {
		return nil, "", err
	}
	message := nats.NewMsg(site.RequestSubject(one.worker))
	message.Reply = site.AnswerSubject(one.token)
	message.Data = site.Encode(site.Message{Token: one.token, Request: asked.Request})
	if err := client.PublishMsg(message); err != nil {
		one.close()
		return nil, one.worker, offline{store.Errorf(store.ErrTryAgain, "the request to the worker was not sent: %w", err)}
	}
	select {
	case answer := <-one.answer:
		return &closing{answer, one}, one.worker, nil
	case <-one.ctx.Done():
		one.close()
		if err := ctx.Err(); err != nil {
			return nil, one.worker, err
		}
		return nil, one.worker, context.Cause(one.ctx)
	}
}

// begin chooses a worker: of those that may be asked, the one that is answering least.
func (c *caller) begin(ctx context.Context, asked site.Call) (*call, *nats.Conn, error) {
	w := c.workers
	w.mu.Lock()
	defer w.mu.Unlock()
	var best *presence
	for _, p := range w.there {
		may := p.site == c.site && (c.worker == "" || p.id == c.worker) && p.speaks()
		if asked.Worker != "" {
			may = may && p.id == asked.Worker
		} else {
			may = may && !p.draining
		}
		if may && (best == nil || len(p.calls) < len(best.calls) || len(p.calls) == len(best.calls) && p.id < best.id) {
			best = p
		}
	}
	if best == nil || w.bus == nil {
		return nil, nil, c.offline()
	}
	one := &call{workers: w, token: rand.Text(), worker: best.id, content: asked.Content, limiters: c.account.Limiters,
		line: w.SiteLimiter(best.site), answer: make(chan io.ReadCloser, 1)}
	one.ctx, one.cancel = context.WithCancelCause(ctx)
	w.calls[one.token] = one
	best.calls[one] = true
	return one, w.bus.client, nil
}

// fail ends a call with an error.
func (c *call) fail(err error) { c.cancel(err) }

// close ends a call and waits for what uses it.
func (c *call) close() {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return
	}
	c.closed = true
	select {
	case unread := <-c.answer:
		_ = unread.Close()
	default:
	}
	c.mu.Unlock()
	w := c.workers
	w.mu.Lock()
	delete(w.calls, c.token)
	if p := w.there[c.worker]; p != nil {
		delete(p.calls, c)
	}
	started := w.bus
	w.mu.Unlock()
	if started != nil && c.ctx.Err() != nil {
		_ = started.client.Publish(site.RequestSubject(c.worker)+site.CancelSuffix, []byte(c.token))
	}
	c.cancel(errEnded)
	c.users.Wait()
}

// errEnded is why a call ends that was answered.
var errEnded = errors.New("the call has ended")

// use has something of the call be waited for; false if it has ended.
func (c *call) use() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return false
	}
	c.users.Add(1)
	return true
}

// closing is an answer that ends its call.
type closing struct {
	io.ReadCloser
	call *call
}

// Read implements io.Reader. The error of a call that failed comes first.
func (c *closing) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	if err != nil && err != io.EOF && c.call.ctx.Err() != nil {
		err = context.Cause(c.call.ctx)
	}
	return n, err
}

// Close implements io.Closer.
func (c *closing) Close() error {
	err := c.ReadCloser.Close()
	c.call.close()
	return err
}

// answered takes in an answer that came as a message.
func (w *Workers) answered(token string, message *nats.Msg) {
	w.mu.Lock()
	one := w.calls[token]
	w.mu.Unlock()
	switch {
	case one == nil:
	case message.Header.Get("Status") == "503": // nobody has subscribed: the worker is just leaving
		one.fail(offline{store.Errorf(store.ErrTryAgain, "the worker is just leaving; try again")})
	default:
		one.give(io.NopCloser(bytes.NewReader(message.Data)))
	}
}

// give gives the answer to whoever waits for it; false if there was one before, or nobody waits.
func (c *call) give(answer io.ReadCloser) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return false
	}
	select {
	case c.answer <- answer:
		c.given.Store(true)
		return true
	default:
		return false
	}
}

// ErrNoCall says that nobody waits for a stream any more.
var ErrNoCall = errors.New("nobody waits for this answer any more")

func (w *Workers) callOf(token string) (*call, error) {
	w.mu.Lock()
	one := w.calls[token]
	w.mu.Unlock()
	if one == nil || !one.use() {
		return nil, ErrNoCall
	}
	return one, nil
}

// onEnd does something when the call ends, until stop is called, which waits for it.
func (c *call) onEnd(do func()) (stop func()) {
	done := make(chan struct{})
	forget := context.AfterFunc(c.ctx, func() {
		defer close(done)
		do()
	})
	return func() {
		if !forget() {
			<-done
		}
	}
}

// TakeAnswer takes in an answer that comes as a stream, and returns when it has been read, or is
// given up.
func (w *Workers) TakeAnswer(token string, body io.Reader, control *http.ResponseController) error {
	one, err := w.callOf(token)
	if err != nil {
		return err
	}
	defer one.users.Done()
	defer one.onEnd(func() {
		if context.Cause(one.ctx) != errEnded { // what has been read leaves the connection to the next
			_ = control.SetReadDeadline(time.Unix(1, 0))
		}
	})()
	left := bandwidth.Reader(one.ctx, &deadlined{body, control, one.ctx}, bandwidth.Up, one.line) // leaves the site
	read := &streamed{bandwidth.Reader(one.ctx, left, bandwidth.Down, one.limiters...), make(chan struct{})}
	if !one.give(read) {
		return ErrNoCall
	}
	<-read.done
	return nil
}

// streamed is an answer that is read from a request.
type streamed struct {
	io.Reader
	done chan struct{}
}

// Close implements io.Closer. It is called once.
func (s *streamed) Close() error {
	close(s.done)
	return nil
}

// deadlined reads a body that may not stand still for long.
type deadlined struct {
	io.Reader
	control *http.ResponseController
	ctx     context.Context
}

// Read implements io.Reader.
func (d *deadlined) Read(p []byte) (int, error) {
	_ = d.control.SetReadDeadline(time.Now().Add(stillTime))
	if err := d.ctx.Err(); err != nil { // the deadline that ends the reading may have been set before
		return 0, err
	}
	return d.Reader.Read(p)
}

// SendContent writes the content that comes with a request.
func (w *Workers) SendContent(token string, to io.Writer, control *http.ResponseController) error {
	one, err := w.callOf(token)
	if err != nil {
		return err
	}
	defer one.users.Done()
	if one.content == nil {
		return ErrNoCall
	}
	defer one.onEnd(func() { _ = control.SetWriteDeadline(time.Unix(1, 0)) })()
	return one.content(one.ctx, &limitedWriter{to, control, one})
}

// limitedWriter writes a content, held to limits.
type limitedWriter struct {
	to      io.Writer
	control *http.ResponseController
	call    *call
}

// Write implements io.Writer.
func (l *limitedWriter) Write(p []byte) (written int, err error) {
	for len(p) > 0 {
		n := l.call.line.Most(bandwidth.Down, len(p)) // it enters the site
		for _, limiter := range l.call.limiters {
			n = limiter.Most(bandwidth.Up, n)
		}
		if err := l.call.line.Wait(l.call.ctx, bandwidth.Down, n); err != nil {
			return written, err
		}
		for _, limiter := range l.call.limiters {
			if err := limiter.Wait(l.call.ctx, bandwidth.Up, n); err != nil {
				return written, err
			}
		}
		_ = l.control.SetWriteDeadline(time.Now().Add(stillTime))
		if err := l.call.ctx.Err(); err != nil {
			return written, err
		}
		m, err := l.to.Write(p[:n])
		written += m
		if err != nil {
			return written, err
		}
		p = p[n:]
	}
	return written, nil
}
