package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/textproto"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"deftheron/core/store"
	"deftheron/core/store/fileserver"
)

const (
	// fresh is how long a connection may have been idle to be used without a
	// word before: servers end idle ones.
	fresh = 5 * time.Second
	// turnTime is how long a call waits for a connection. Two transfers that
	// each hold one and wait for another would else wait for ever.
	turnTime = 20 * time.Second
	// dialPause is between tries to connect to a server that allows no more
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

// beginReading waits until a connection may be held for reading a file: all but
// one may, so that what is read can always be written at the same server.
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
			if err := store.Sleep(ctx, dialPause); err != nil {
				return nil, err
			}
			continue
		}
		if time.Since(c.used) < fresh || c.ftp.NoOp() == nil {
			return c, nil
		}
		c.cut()
		p.lost()
	}
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
	if len(p.waiting) > 0 {
		p.waiting[0] <- c
		p.waiting = p.waiting[1:]
		return
	}
	p.idle = append(p.idle, c)
}

// lost is told of a connection that is no more.
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

// fewer is told that the server allows no more connections than there are.
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
	p.idle = nil
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

// connect dials and signs in. Sessions of TLS are reused for its data connections,
// as many servers ask for.
func (t *target) connect(ctx context.Context, forPeople bool) (*control, error) {
	c := &control{used: time.Now()}
	var config *tls.Config
	options := []ftp.DialOption{ftp.DialWithShutTimeout(2 * time.Minute), ftp.DialWithWritingMDTM(true), ftp.DialWithForceListHidden(forPeople)}
	if t.tls != nil {
		config = t.tls.Clone()
		config.ClientSessionCache = tls.NewLRUClientSessionCache(4)
		if t.mode == tlsExplicit {
			options = append(options, ftp.DialWithExplicitTLS(config))
		} else {
			options = append(options, ftp.DialWithTLS(config))
		}
	}
	options = append(options, ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) {
		if c.dialled() {
			return c.dialData(ctx, t, address, config)
		}
		connection, err := t.dial(ctx, network, address)
		if err != nil {
			return nil, store.Errorf(store.ErrTryAgain, "%s cannot be reached (%w); check that the server runs, the host and the port", t.address, err)
		}
		c.mu.Lock()
		c.net = connection
		c.mu.Unlock()
		if t.mode == tlsImplicit {
			return tls.Client(connection, config), nil
		}
		return connection, nil
	}))
	begun, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	stop := context.AfterFunc(begun, c.cut)
	defer stop()
	connection, err := ftp.Dial(t.address, options...)
	if code := replyOf(err); t.mode == tlsExplicit && code >= 500 { // to AUTH TLS
		err = store.Errorf(store.ErrRefused, "%s offers no TLS (%w), and without it the password and the files could be read by everybody in between; ask who runs it to offer TLS, or say --tls none if that is known and accepted", t.address, err)
	}
	if err == nil {
		if err = connection.Login(t.user, t.password); err == nil {
			c.ftp = connection
			return c, nil
		}
		_ = connection.Quit()
	}
	c.cut()
	if begun.Err() != nil && ctx.Err() == nil {
		err = store.Errorf(store.ErrTryAgain, "%s did not end its greeting in time%s", t.address, t.hint())
	}
	return nil, err
}

// hint is what may be wrong where one side waits for the other.
func (t *target) hint() string {
	if t.mode == tlsImplicit {
		return "; a server of this port may want --tls explicit"
	}
	return "; a server of this port may want --tls implicit"
}

// dialData connects for one transfer or listing, to the server itself, whatever
// address it names.
func (c *control) dialData(ctx context.Context, t *target, address string, config *tls.Config) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	connection, err := t.dial(context.WithoutCancel(ctx), "tcp", net.JoinHostPort(t.host, port))
	if err != nil {
		return nil, store.Errorf(store.ErrTryAgain, "the server's port for data cannot be reached (%w); let the ports for passive transfers through", err)
	}
	c.mu.Lock()
	c.data = connection
	c.mu.Unlock()
	if config != nil {
		connection = tls.Client(connection, config)
	}
	return &dataConn{Conn: connection, control: c}, nil
}

// dataConn is a data connection.
type dataConn struct {
	net.Conn
	control *control
}

func (d *dataConn) Read(p []byte) (int, error) {
	n, err := d.Conn.Read(p)
	if d.control.listing != nil {
		d.control.listing.Write(p[:n])
	}
	return n, err
}

// Close ends what is sent, and waits for the server to end its side: TLS 1.3 sends
// tickets that nobody reads here, and to close a connection with something unread
// resets it, which takes with it what was just sent.
func (d *dataConn) Close() error {
	secure, ok := d.Conn.(*tls.Conn)
	if !ok {
		return d.Conn.Close()
	}
	err := secure.CloseWrite()
	if err == nil {
		_ = secure.SetReadDeadline(time.Now().Add(closeTime))
		_, _ = io.Copy(io.Discard, secure)
	}
	return errors.Join(err, secure.NetConn().Close())
}

// Handshake is called for empty files, of which nothing is written.
func (d *dataConn) Handshake() error {
	if secure, ok := d.Conn.(*tls.Conn); ok {
		return secure.Handshake()
	}
	return nil
}

// asksForTLS are the words of servers that let nobody in without; there is no one
// reply for that.
var asksForTLS = regexp.MustCompile(`(?i)\b(tls|ssl|encrypt\w*|cleartext)\b`)

// explain makes words of what went wrong with a connection.
func (t *target) explain(ctx context.Context, err error) error {
	var reply *textproto.Error
	switch {
	case err == nil, store.KindOf(err) != nil:
		return err
	case ctx.Err() != nil:
		return ctx.Err()
	case store.CertificateProblem(err, t.host) != "":
		return store.Errorf(store.ErrRefused, "%s", store.CertificateProblem(err, t.host))
	case t.mode == tlsNone && asksForTLS.MatchString(err.Error()):
		return store.Errorf(store.ErrRefused, "%s wants TLS (%q); leave --tls none out", t.address, strings.ReplaceAll(err.Error(), "\n", " "))
	case errors.As(err, &reply) && (reply.Code == ftp.StatusNotLoggedIn || reply.Code == 430):
		return store.Errorf(store.ErrLapsed, "%s does not accept the user %s with this password (%q); check both", t.address, t.user, reply.Msg)
	case errors.As(err, &reply):
		return store.Errorf(kindOf(reply.Code), "%s answered %d %q to the sign-in", t.address, reply.Code, reply.Msg)
	case t.mode == tlsImplicit:
		return store.Errorf(store.ErrTryAgain, "%s does not speak FTP over TLS as it should (%w)%s", t.address, err, t.hint())
	}
	return store.Errorf(store.ErrTryAgain, "%s does not speak FTP as it should (%w); check the port%s", t.address, err, t.hint())
}

// wrap gives an error its kind.
func wrap(err error) error {
	if err == nil || store.KindOf(err) != nil || errors.Is(err, context.Canceled) {
		return err
	}
	var reply *textproto.Error
	if errors.As(err, &reply) && !isBroken(err) {
		return store.Errorf(kindOf(reply.Code), "the server answered %d %q", reply.Code, reply.Msg)
	}
	if errors.Is(err, ftp.ErrInvalidCommand) {
		return store.Errorf(store.ErrNameRefused, "a line break cannot be sent: %w", err)
	}
	return store.Errorf(store.ErrOutcomeUnknown, "the connection was lost before the answer came: %w", err)
}

// isBroken reports whether an error is one of a connection, even if the server had
// something to say as well.
func isBroken(err error) bool {
	var network net.Error
	return errors.As(err, &network)
}

// kindOf is what a reply means (RFC 959, section 4.2.2).
func kindOf(code int) error {
	switch code {
	case 421, 425, 426, 450, 451:
		return store.ErrTryAgain
	case 452, 552:
		return store.ErrNoSpace
	case 430, 530, 532:
		return store.ErrLapsed
	case 500, 502, 504:
		return store.ErrUnsupported
	case 553:
		return store.ErrNameRefused
	}
	return store.ErrRefused
}

// replyOf is the code of a reply that an error is made of; 0 for any other.
func replyOf(err error) int {
	var reply *textproto.Error
	if errors.As(err, &reply) {
		return reply.Code
	}
	return 0
}

func notFound(what string, answer error) error {
	return store.Errorf(store.ErrNotFound, "there is no %s, or the user may not see it (%w)", what, answer)
}
