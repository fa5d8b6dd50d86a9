package sftp

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

const (
	// most is how many connections an account has at once; the encryption of
	// one is bound to one processor.
	most = 4
	// crowded is how many calls a connection carries before another is made.
	crowded = 3
	// requestsInFlight is how many of one file are under way: 64 of 32 KiB
	// fill a line of 100 Mbit/s over 160 ms.
	requestsInFlight = 64
)

// pool keeps connections, and makes another where those are crowded or lost.
type pool struct {
	target *target
	log    *slog.Logger

	mu     sync.Mutex
	open   []*link
	making int
	closed bool
}

// link is one connection.
type link struct {
	ssh   *ssh.Client
	files *sftp.Client
	users int // guarded by pool.mu
	once  sync.Once
}

func (l *link) cut() {
	l.once.Do(func() {
		_ = l.files.Close()
		_ = l.ssh.Close()
	})
}

// take returns a connection for one call; the caller gives it back.
func (p *pool) take(ctx context.Context) (*link, error) {
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return nil, errClosed()
	}
	var best *link
	for _, l := range p.open {
		if best == nil || l.users < best.users {
			best = l
		}
	}
	if best != nil && (best.users < crowded || len(p.open)+p.making >= most) {
		best.users++
		p.mu.Unlock()
		return best, nil
	}
	p.making++
	p.mu.Unlock()
	made, err := p.make(ctx)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.making--
	if err != nil {
		if best != nil && store.KindOf(err) == store.ErrTryAgain { // it wants no more of them
			best.users++
			return best, nil
		}
		return nil, err
	}
	if p.closed {
		go made.cut()
		return nil, errClosed()
	}
	made.users = 1
	p.open = append(p.open, made)
	return made, nil
}

func errClosed() error { return store.Errorf(store.ErrTryAgain, "the account was closed") }

func (p *pool) make(ctx context.Context) (*link, error) {
	client, err := p.target.connect(ctx)
	if err != nil {
		return nil, err
	}
	files, err := subsystem(client)
	if err != nil {
		client.Close()
		// A server that says no is another thing than a connection that breaks.
		kind := store.ErrTryAgain
		var closed *ssh.OpenChannelError
		if errors.As(err, &closed) || strings.Contains(err.Error(), "subsystem request failed") {
			kind = store.ErrRefused
		}
		return nil, store.Errorf(kind, "%s accepts the sign-in, but has no SFTP for %s (%w); ask who runs it to allow it", p.target.address,
			p.target.user, err)
	}
	l := &link{ssh: client, files: files}
	go func() { // ends with the connection
		err := files.Wait()
		p.forget(l, err)
		l.cut()
	}()
	return l, nil
}

// forget takes a connection that was lost out of the pool.
func (p *pool) forget(l *link, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, other := range p.open {
		if other == l {
			p.open = append(p.open[:i], p.open[i+1:]...)
			p.log.Debug("a connection was lost", "server", p.target.address, "error", err)
			return
		}
	}
}

// subsystem begins SFTP on a session of a connection.
func subsystem(client *ssh.Client) (*sftp.Client, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := session.RequestSubsystem("sftp"); err != nil {
		return nil, err
	}
	return sftp.NewClientPipe(out, lostPipe{in},
		sftp.UseConcurrentReads(true), sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(requestsInFlight), sftp.UseFstat(true))
}

// lostPipe gives a channel that was closed an error that cannot be taken for the
// end of a listing or of a file.
type lostPipe struct{ io.WriteCloser }

var errLost = errors.New("the connection was lost")

func (p lostPipe) Write(data []byte) (int, error) {
	n, err := p.WriteCloser.Write(data)
	if errors.Is(err, io.EOF) {
		err = errLost
	}
	return n, err
}

// give takes a connection back; one that was lost is not used again.
func (p *pool) give(l *link, err error) {
	p.mu.Lock()
	l.users--
	p.mu.Unlock()
	if isLost(err) {
		p.forget(l, err)
		go l.cut() // its close waits for the other side
	}
}

func (p *pool) close() error {
	p.mu.Lock()
	open := p.open
	p.open, p.closed = nil, true
	p.mu.Unlock()
	for _, l := range open {
		l.cut()
	}
	return nil
}

// do makes one call on a connection. A call that nobody waits for any more is
// given a moment to end, and else its connection is cut.
func (p *pool) do(ctx context.Context, call func(*link) error) error {
	l, err := p.take(ctx)
	if err != nil {
		return err
	}
	defer fileserver.Watch(ctx, l.cut)()
	err = call(l)
	p.give(l, err)
	return err
}
