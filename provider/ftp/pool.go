package ftp

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/textproto"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

const (
	// fresh is how long a connection may have been idle to be used without a
	// word before: servers end idle ones.
	fresh = 5 * time.Second
	// turnTime is how long a call waits for a connection. Two transfers that
	// each hold one and wait for another would else wait for ever.
	turnTime = 20 * time.Second
	// dialPause is the pause between attempts to connect to a server that allows no more
	// connections, of which there are so many.
	dialPause = 200 * time.Millisecond
	tries     = 10
	// closeTime is how long the end of the other side is waited for.
	closeTime = 10 * time.Second
)

// control is one connection.
type control struct {
	ftp  *ftp.ServerConn
	used time.Time
	// listing is what the data connection gave since it was set, where it is
	// not nil: the library leaves out without a word what it cannot read.
	listing *strings.Builder

	mu   sync.Mutex
	net  net.Conn
	data net.Conn // the latest
}

// cut ends the connection, whatever it is used for.
func (c *control) cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, connection := range []net.Conn{c.net, c.data} {
		if connection != nil {
			_ = connection.Close()
		}
	}
}

func (c *control) dialled() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.net != nil
}

// pool keeps connections, each for one call at a time.
type pool struct {
	target *target
	log    *slog.Logger

	mu      sync.Mutex
	most    int
	open    int
	closed  bool // what is given back is ended
	idle    []*control
	waiting []chan *control // a nil control is leave to dial
	human   bool            // listings are those for people
	reading int             // connections that are held for reading
	read    chan struct{}   // closed when one of those was given back
}

func newPool(target *target, most int, log *slog.Logger) *pool {
	return &pool{target: target, most: most, log: log, read: make(chan struct{})}
}

// inUse is how many connections there are.
func (p *pool) inUse() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.open
}

// beginReading waits until a connection may be used for reading a file. All but one may,
// so that the content can always be written at the same server.
func (p *pool) beginReading(ctx context.Context) error {
	timer := time.NewTimer(turnTime)
	defer timer.Stop()
	for {
		p.mu.Lock()
		if p.reading < max(1, p.most-1) {
			p.reading++
			p.mu.Unlock()
			return nil
		}
		ended := p.read
		p.mu.Unlock()
		select {
		case <-ended:
		case <-ctx.Done():
			return ctx.Err()
		case <-timer.C:
			return store.Errorf(store.ErrTryAgain, "%d files are being read from %s already", p.allowed()-1, p.target.address)
		}
	}
}

func (p *pool) endReading() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.reading--
	close(p.read)
	p.read = make(chan struct{})
}

// allowed is how many connections there may be.
func (p *pool) allowed() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.most
}

// listForPeople makes connections from now on list with LIST -a, as their server
// has no MLSD, and ends those that do not.
func (p *pool) listForPeople() {
	p.mu.Lock()
	p.human = true
	idle := p.idle
	p.idle, p.open = nil, p.open-len(p.idle)
	p.mu.Unlock()
	for _, c := range idle {
		c.cut()
	}
}

// take returns a connection, waiting for one where all are in use.
func (p *pool) take(ctx context.Context) (*control, error) {
	for try := 1; ; try++ {
		c, wait := p.next()
		if wait != nil {
			var err error
			if c, err = p.await(ctx, wait); err != nil {
				return nil, err
			}
		}
		if c == nil {
			made, err := p.dial(ctx)
			// A server takes a moment to see that a connection has ended. Where
			// there are others, whoever asks may hold one: they do without.
			if !errors.Is(err, errTooMany) || try == tries || p.inUse() > 0 {
				return made, err
			}
			if err := retry.Sleep(ctx, dialPause); err != nil {
				return nil, err
			}
			continue
		}
		if time.Since(c.used) < fresh || p.answers(ctx, c) {
			return c, nil
		}
		c.cut()
		p.lost()
	}
}

// answers reports whether a connection that was idle is still there.
func (p *pool) answers(ctx context.Context, c *control) bool {
	defer fileserver.Watch(ctx, c.cut)()
	return c.ftp.NoOp() == nil
}

// next is an idle connection, or leave to dial one, or a channel to wait on.
func (p *pool) next() (*control, chan *control) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if n := len(p.idle); n > 0 {
		c := p.idle[n-1]
		p.idle = p.idle[:n-1]
		return c, nil
	}
	if p.open < p.most {
		p.open++
		return nil, nil
	}
	turn := make(chan *control, 1)
	p.waiting = append(p.waiting, turn)
	return nil, turn
}

func (p *pool) await(ctx context.Context, turn chan *control) (*control, error) {
	timer := time.NewTimer(turnTime)
	defer timer.Stop()
	var err error
	select {
	case c := <-turn:
		return c, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-timer.C:
		err = store.Errorf(store.ErrTryAgain, "all %d connections to %s are in use", p.allowed(), p.target.address)
	}
	p.mu.Lock()
	for i, other := range p.waiting {
		if other == turn {
			p.waiting = append(p.waiting[:i], p.waiting[i+1:]...)
			p.mu.Unlock()
			return nil, err
		}
	}
	p.mu.Unlock()
	if c := <-turn; c != nil { // its turn came at the same moment
		p.give(c)
	} else {
		p.lost()
	}
	return nil, err
}

// give takes a connection back that can be used again.
func (p *pool) give(c *control) {
	c.used = time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		p.open--
		c.cut()
		return
	}
	if len(p.waiting) > 0 {
		p.waiting[0] <- c
		p.waiting = p.waiting[1:]
		return
	}
	p.idle = append(p.idle, c)
}

// lost counts a connection that has ended.
func (p *pool) lost() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.waiting) > 0 && p.open <= p.most {
		p.waiting[0] <- nil
		p.waiting = p.waiting[1:]
		return
	}
	p.open--
}

// fewer is called if the server allows no more connections than there are.
func (p *pool) fewer() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if allowed := p.open - 1; allowed >= 1 && allowed < p.most {
		p.most = allowed
		p.log.Info("the server allows fewer connections", "server", p.target.address, "connections", allowed)
	}
}

func (p *pool) close() error {
	p.mu.Lock()
	idle := p.idle
	p.idle, p.open, p.closed = nil, p.open-len(p.idle), true
	p.mu.Unlock()
	for _, c := range idle {
		_ = c.ftp.Quit()
		c.cut()
	}
	return nil
}

// do makes one call on a connection of its own. A connection whose state is not
// known after it is cut.
func (p *pool) do(ctx context.Context, call func(*control) error) error {
	c, err := p.take(ctx)
	if err != nil {
		return err
	}
	stop := fileserver.Watch(ctx, c.cut)
	err = call(c)
	stop()
	p.settle(c, err)
	return wrap(err)
}

// settle gives a connection back, or cuts it.
func (p *pool) settle(c *control, err error) {
	if code := replyOf(err); err == nil || code != 0 && code != ftp.StatusNotAvailable && !isBroken(err) {
		p.give(c)
		return
	}
	c.cut()
	p.lost()
}

// errTooMany is of a server that allows no more connections for now.
var errTooMany = errors.New("too many connections")

// dial makes a connection and signs in. ErrTooMany is wrapped where the server
// allows no more for now.
func (p *pool) dial(ctx context.Context) (*control, error) {
	c, err := p.target.connect(ctx, p.forPeople())
	if err == nil {
		return c, nil
	}
	var reply *textproto.Error
	if errors.As(err, &reply) && (reply.Code == ftp.StatusNotAvailable || strings.Contains(strings.ToLower(reply.Msg), "too many")) {
		p.fewer()
		err = store.Errorf(store.ErrTryAgain, "%s allows no more connections for now: %q: %w", p.target.address, reply.Msg, errTooMany)
	}
	p.lost()
	return nil, p.target.explain(ctx, err)
}

func (p *pool) forPeople() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.human
}
