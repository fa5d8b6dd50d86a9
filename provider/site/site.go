// Package site is a provider whose places only another machine reaches. A store of it sends
// what it is asked to a worker at that site, which has opened the real account with the real
// provider, and passes on what comes back: entries, contents, errors and capabilities.
//
// [Open] is the side of the service, [Host] that of the worker. Between them is a [Caller],
// which carries a request to a worker and its answer back: requests are small, and answers
// and contents are streams that the reader holds back. docs/workers.md describes what is sent.
package site

import (
	"context"
	"errors"
	"io"
	"time"

	"deftheron/core/store"
)

// ErrOffline is wrapped by the error of a Caller that has sent nothing: no worker of the site
// is there.
var ErrOffline = errors.New("no worker of the site is connected")

// Call is a request to the workers of a site.
type Call struct {
	// Worker is the id of the worker that is meant; empty for any.
	Worker string
	// Request is the request, at most MostMessage bytes with its token.
	Request []byte
	// Content, where it is not nil, writes the content that comes with the request, from its
	// start, as often as the worker asks for it. It is not called, nor running, after the
	// answer was closed.
	Content func(ctx context.Context, w io.Writer) error
}

// Caller carries requests to the workers of one site.
type Caller interface {
	// Call sends a request and returns the answer, which ends early with an error where the
	// worker is lost, and the id of the worker. The caller closes the answer, before its end
	// to give the request up. The error wraps ErrOffline where nothing was sent.
	Call(ctx context.Context, call Call) (answer io.ReadCloser, worker string, err error)
	// Seal encrypts a secret to a worker.
	Seal(ctx context.Context, worker string, secret []byte) ([]byte, error)
}

// Opening is what an account at a site is opened with.
type Opening struct {
	store.Opening
	// ID identifies the account, and Generation the settings with which it is opened: an account
	// that was edited has another one.
	ID, Generation string
	// Network is where the account is: the same address is another place in another network.
	Network string
	// Lent says that the secret is good for a short time, and the worker asks for another then.
	Lent bool
	// CertificateEnds, if not nil, is called with when the certificate ends that a server of the account shows.
	CertificateEnds func(time.Time)
	// Definition is the provider definition in YAML; empty for a provider that the program brings.
	Definition []byte
}

// Open opens an account of a provider, by its name, at a site.
func Open(ctx context.Context, caller Caller, provider string, opening Opening) (store.Store, error) {
	a := &account{caller: caller, provider: provider, opening: opening, gate: opening.Gates()}
	if err := a.tell(ctx, opCheck, nil); err != nil { // opens it at a worker
		return nil, err
	}
	if a.described() == nil {
		return nil, store.Errorf(store.ErrTryAgain, "the worker did not describe the account")
	}
	return a, nil
}

// account is one at a site. It implements store.Store.
type account struct {
	caller   Caller
	provider string
	opening  Opening
	gate     store.Gate

	state
}

// locateTime is how long a worker has to say where a folder is.
const locateTime = 10 * time.Second
