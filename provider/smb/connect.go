package smb

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/hirochachacha/go-smb2"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// connectTime bounds the negotiation and the sign-in.
const connectTime = 20 * time.Second

// target is a share and how to sign in there.
type target struct {
	host, address, share   string
	user, domain, password string
	encrypted              bool // it has to be
	dial                   func(ctx context.Context, network, address string) (net.Conn, error)
}

func (t *target) who() string {
	if t.domain == "" {
		return t.user
	}
	return t.domain + `\` + t.user
}

// mount is a share on a connection.
type mount struct {
	connection *frameConn
	session    *smb2.Session
	share      *smb2.Share
}

func (m *mount) cut() { _ = m.connection.Close() }

func (t *target) signIn(ctx context.Context) (*frameConn, *smb2.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, connectTime)
	defer cancel()
	dialled, err := t.dial(ctx, "tcp", t.address)
	if err != nil {
		return nil, nil, store.Errorf(store.ErrTryAgain, "%s cannot be reached (%w); check that the server runs, the host and the port",
			t.address, err)
	}
	connection := &frameConn{Conn: dialled}
	dialer := &smb2.Dialer{
		Negotiator: smb2.Negotiator{RequireMessageSigning: true},
		Initiator:  &smb2.NTLMInitiator{User: t.user, Password: t.password, Domain: t.domain},
	}
	stop := context.AfterFunc(ctx, func() { connection.Close() })
	defer stop()
	session, err := dialer.DialContext(ctx, connection)
	if err != nil {
		connection.Close()
		return nil, nil, t.explain(err)
	}
	if err := listByOneCredit(session); err != nil {
		connection.Close()
		return nil, nil, err
	}
	return connection, session, nil
}

// connect signs in and takes up the share.
func (t *target) connect(ctx context.Context) (*mount, error) {
	connection, session, err := t.signIn(ctx)
	if err != nil {
		return nil, err
	}
	m := &mount{connection: connection, session: session}
	if m.share, err = session.WithContext(ctx).Mount(`\\` + t.host + `\` + t.share); err != nil {
		m.cut()
		if codeOf(err) == statusBadNetworkName {
			return nil, &store.OptionError{Option: "share", Reason: t.missingShare(ctx)}
		}
		return nil, t.explain(err)
	}
	if t.encrypted {
		_, _ = m.share.WithContext(ctx).Stat("")
		if !connection.sealed.Load() {
			m.cut()
			return nil, store.Concerns(store.Errorf(store.ErrRefused,
				"%s does not encrypt the share %s, although it is required; turn on encryption "+
					"there, or set the encryption to offered", t.address, t.share), "encryption")
		}
	}
	return m, nil
}

// missingShare says which shares there are.
func (t *target) missingShare(ctx context.Context) string {
	reason := "there is no share " + t.share + " on " + t.address
	names, err := t.shares(ctx)
	names = slices.DeleteFunc(names, func(name string) bool { return strings.HasSuffix(name, "$") })
	if err != nil || len(names) == 0 {
		return reason + "; ask who runs it for its name"
	}
	return reason + "; there are " + strings.Join(names, ", ")
}

// shares lists the shares of the server.
func (t *target) shares(ctx context.Context) ([]string, error) {
	connection, session, err := t.signIn(ctx)
	if err != nil {
		return nil, err
	}
	defer connection.Close()
	names, err := session.WithContext(ctx).ListSharenames()
	if err != nil {
		return nil, store.Concerns(store.Errorf(store.ErrRefused, "%s does not list its shares (%w); name one", t.address, err), "share")
	}
	_ = session.Logoff()
	slices.Sort(names)
	return names, nil
}

// explain makes words of what went wrong with a sign-in.
func (t *target) explain(err error) error {
	code := codeOf(err)
	switch {
	case store.KindOf(err) != nil || errors.Is(err, context.Canceled):
		return err
	case slices.Contains(expired, code):
		return store.Errorf(store.ErrSignInExpired, "%s does not accept the user %s: %s; check the name, its domain and the password", t.address,
			t.who(), meaning(code))
	case errors.Is(err, os.ErrPermission):
		return store.Errorf(store.ErrRefused, "%s does not let the user %s into the share %s; ask who runs it for access", t.address, t.who(),
			t.share)
	}
	return store.Errorf(store.ErrTryAgain, "%s does not speak SMB 2 or 3 as it should (%w); check the port", t.address, err)
}

// server implements fileserver.Server on one connection, made again when it is lost.
type server struct {
	target *target
	log    *slog.Logger

	making sync.Mutex
	mu     sync.Mutex
	now    *mount
	closed bool
}

// mounted is the connection, made if need be.
func (s *server) mounted(ctx context.Context) (*mount, error) {
	if m := s.alive(); m != nil {
		return m, nil
	}
	s.making.Lock()
	defer s.making.Unlock()
	if m := s.alive(); m != nil {
		return m, nil
	}
	m, err := s.target.connect(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed { // nobody would end it
		m.cut()
		return nil, store.Errorf(store.ErrTryAgain, "the account was closed")
	}
	s.now = m
	return m, nil
}

func (s *server) alive() *mount {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.now != nil && s.now.connection.broken.Load() {
		s.log.Debug("a connection was lost", "server", s.target.address)
		s.now.cut()
		s.now = nil
	}
	return s.now
}

func (s *server) close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	if s.now != nil {
		s.now.cut()
		s.now = nil
	}
	return nil
}

// do makes one call.
func (s *server) do(ctx context.Context, call func(*smb2.Share) error) error {
	m, err := s.mounted(ctx)
	if err != nil {
		return err
	}
	// What was begun is ended, so that no file stays open on the server.
	stop := fileserver.Watch(ctx, m.cut)
	err = wrap(call(m.share.WithContext(context.WithoutCancel(ctx))))
	stop()
	if isLost(err) {
		m.connection.broken.Store(true)
	}
	return err
}
