package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/textproto"
	"regexp"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"

	"deftheron/core/pinning"
	"deftheron/core/remedy"
	"deftheron/core/store"
)

// connect dials and signs in. Sessions of TLS are reused for its data connections,
// as many servers ask for.
func (t *target) connect(ctx context.Context, forPeople bool) (*control, error) {
	c := &control{used: time.Now()}
	var config *tls.Config
	options := []ftp.DialOption{ftp.DialWithShutTimeout(2 * time.Minute), ftp.DialWithWritingMDTM(true),
		ftp.DialWithForceListHidden(forPeople)}
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
			return nil, store.Errorf(store.ErrTryAgain, "%s cannot be reached (%w); check that the server runs, the host and the port",
				t.address, err)
		}
		connection = bounded(connection)
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
		err = store.Concerns(store.Errorf(store.ErrRefused,
			"%s offers no TLS (%w), and without it the password and the files could be read by everybody in "+
				"between; ask who runs it to offer TLS, or set TLS to none if that is known and accepted", t.address, err), "tls")
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
		return "; a server of this port may want explicit TLS"
	}
	return "; a server of this port may want implicit TLS"
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
		return nil, store.Errorf(store.ErrTryAgain,
			"the server's port for data cannot be reached (%w); let the ports for passive transfers through", err)
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

// Close closes the sending side, and waits for the server to close its side. TLS 1.3 sends
// tickets that are not read here, and closing a connection with unread data resets it, so
// that the data just sent is lost.
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

// Handshake is called for empty files, for which nothing is written.
func (d *dataConn) Handshake() error {
	if secure, ok := d.Conn.(*tls.Conn); ok {
		return secure.Handshake()
	}
	return nil
}

// asksForTLS matches the replies of servers that require TLS; there is no single code
// for that.
var asksForTLS = regexp.MustCompile(`(?i)\b(tls|ssl|encrypt\w*|cleartext)\b`)

// explain makes words of what went wrong with a connection.
func (t *target) explain(ctx context.Context, err error) error {
	var reply *textproto.Error
	switch {
	case err == nil, store.KindOf(err) != nil:
		return err
	case ctx.Err() != nil:
		return ctx.Err()
	case pinning.CertificateProblem(err, t.host) != "":
		return store.Concerns(store.Errorf(store.ErrRefused, "%w", remedy.New(pinning.CertificateProblem(err, t.host))), "certificate")
	case t.mode == tlsNone && asksForTLS.MatchString(err.Error()):
		return store.Concerns(store.Errorf(store.ErrRefused, "%s wants TLS (%q); do not set TLS to none", t.address,
			strings.ReplaceAll(err.Error(), "\n", " ")), "tls")
	case errors.As(err, &reply) && (reply.Code == ftp.StatusNotLoggedIn || reply.Code == 430):
		return store.Errorf(store.ErrSignInExpired, "%s does not accept the user %s with this password (%q); check both", t.address, t.user,
			reply.Msg)
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

// kindOf returns the kind of error of a reply (RFC 959, section 4.2.2).
func kindOf(code int) error {
	switch code {
	case 421, 425, 426, 450, 451:
		return store.ErrTryAgain
	case 452, 552:
		return store.ErrNoSpace
	case 430, 530, 532:
		return store.ErrSignInExpired
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
