package site

import (
	"context"
	"crypto/x509"
	"hash/fnv"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"deftheron/core/store"
)

// Answer takes the answer to a request. Small ones are sent at once when they are complete.
type Answer interface {
	io.Writer
	// Stream has the answer sent while it is written. It is called before a content.
	Stream()
}

// Asked is a request that came to a worker.
type Asked struct {
	Request []byte
	// Content opens the content that comes with the request, from its start, as often as is
	// needed.
	Content func(ctx context.Context) (io.ReadCloser, error)
}

// ToOpen is an account that a worker is to open.
type ToOpen struct {
	Account, Generation string
	Name                string
	Provider            string
	Definition          []byte
	Options             map[string]string
	Start               store.Path
	ReadOnly            bool
	Secret              []byte // sealed to the worker
	Lent                bool   // the secret is good for a short time; the worker asks for another then
	// Ahead is how far the clock of the service is ahead of the worker's.
	Ahead time.Duration
	// Showed is called by the opened account with each certificate that its server shows.
	Showed func(*x509.Certificate)
}

// Host opens accounts at a worker and answers requests for them. Open has to be set.
type Host struct {
	// Open opens an account.
	Open func(ctx context.Context, account ToOpen) (store.Store, error)
	// Provider returns the provider of an account, and what it would open the account with; nil if it is
	// asked nothing but of accounts that are open.
	Provider func(account ToOpen) (store.Provider, store.Opening, error)
	// Carry, if not nil, copies a unit. It returns when all copies have ended.
	Carry func(ctx context.Context, carriage Carriage) error

	opening singleflight.Group
	mu      sync.Mutex
	open    map[openKey]*opened
}

// openKey names an account in one of its states.
type openKey struct{ account, generation string }

// opened is an account that is open.
type opened struct {
	store store.Store
	used  atomic.Int64 // when a request ended last, in Unix seconds
	busy  atomic.Int32 // requests that are being answered

	prepared sync.Once
	// certificate is when the certificate ends that a server showed last, in Unix seconds; 0 for none.
	certificate atomic.Int64

	mu       sync.Mutex
	settled  bool // nothing that the first write finds out is missing in the description
	sum      uint64
	describe *description
}

// notOpen is the code of the error that an account has to be opened at this worker first.
const notOpen = "not-open"

// openTime is how long an account may take to open.
const openTime = 20 * time.Second

// Answer answers a request. The error is an error of writing the answer.
func (h *Host) Answer(ctx context.Context, asked Asked, answer Answer) error {
	var r request
	if err := decode(asked.Request, &r); err != nil {
		return writeEnd(answer, end{Error: wireErrorOf(err)})
	}
	var arguments arguments
	if len(r.Arguments) > 0 {
		if err := decode(r.Arguments, &arguments); err != nil {
			return writeEnd(answer, end{Error: wireErrorOf(err)})
		}
	}
	if r.Operation == opOpen {
		return writeEnd(answer, h.openAccount(ctx, r, arguments.Opening))
	}
	if do := providerOperations[r.Operation]; do != nil {
		return writeEnd(answer, h.ofProvider(ctx, r, do, &arguments))
	}
	if r.Operation == opCarry {
		return h.carry(ctx, r, arguments.Carry, answer)
	}
	key := openKey{r.Account, r.Generation}
	account := h.get(key)
	if account == nil {
		return writeEnd(answer, end{Error: &wireError{Kind: notOpen}})
	}
	defer account.done()
	if r.Lock != nil {
		ctx = store.WithLock(ctx, store.ShownLock{Ref: r.Lock.Ref.ref(), Token: r.Lock.Token})
	}
	operate, ok := operations[r.Operation]
	if !ok {
		err := store.Errorf(store.ErrUnsupported, "the worker does not know the operation %q; update the worker", r.Operation)
		return writeEnd(answer, end{Error: wireErrorOf(err)})
	}
	x := &exchange{store: account.store, arguments: &arguments, answer: answer, content: asked.Content}
	result, err := operate(ctx, x)
	if x.failed != nil {
		return x.failed
	}
	if x.streamed { // a content, whose end is written
		return nil
	}
	if r.Operation == opClose {
		h.forget(key)
	}
	return writeEnd(answer, end{Value: result, Error: wireErrorOf(err), Description: account.news(arguments.Known, settling[r.Operation])})
}

// settling are the operations that find out what an account can do.
var settling = map[string]bool{opPrepare: true, opWrite: true, opMakeFolder: true, opBeginParts: true}

// openAccount opens an account, unless it is open.
func (h *Host) openAccount(ctx context.Context, r request, opening *opening) end {
	if opening == nil {
		return end{Error: wireErrorOf(store.Errorf(store.ErrTryAgain, "the service did not say what to open"))}
	}
	key := openKey{r.Account, r.Generation}
	result, err, _ := h.opening.Do(r.Account+"\x00"+r.Generation, func() (any, error) {
		if account := h.get(key); account != nil {
			account.done()
			return account, nil
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), openTime)
		defer cancel()
		account := &opened{}
		to := toOpen(r, opening)
		to.Showed = account.showed
		var err error
		if account.store, err = h.Open(ctx, to); err != nil {
			return nil, err
		}
		account.used.Store(time.Now().Unix())
		account.look()
		h.put(key, account)
		return account, nil
	})
	if err != nil {
		return end{Error: wireErrorOf(err)}
	}
	account := result.(*opened)
	account.mu.Lock()
	defer account.mu.Unlock()
	return end{Description: account.describe}
}

// toOpen is what a worker is to open.
func toOpen(r request, opening *opening) ToOpen {
	to := ToOpen{
		Account: r.Account, Generation: r.Generation, Name: opening.Name, Provider: opening.Provider, Definition: opening.Definition,
		Options: opening.Options, Start: store.Path(opening.Start), ReadOnly: opening.ReadOnly, Secret: opening.Secret, Lent: opening.Lent,
		Showed: func(*x509.Certificate) {},
	}
	if now := opening.Now.time(); !now.IsZero() {
		to.Ahead = time.Until(now)
	}
	return to
}

// get returns an account that is open, or nil. It stays open until done is called.
func (h *Host) get(key openKey) *opened {
	h.mu.Lock()
	defer h.mu.Unlock()
	account := h.open[key]
	if account != nil {
		account.busy.Add(1)
	}
	return account
}

// done ends the use of an account that get returned; nil is none.
func (o *opened) done() {
	if o != nil {
		o.used.Store(time.Now().Unix())
		o.busy.Add(-1)
	}
}

// put keeps an account open.
func (h *Host) put(key openKey, account *opened) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.open == nil {
		h.open = map[openKey]*opened{}
	}
	h.open[key] = account
}

// CloseUnused closes the accounts that nobody has used for an hour, and forgets their secrets.
func (h *Host) CloseUnused() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, one := range h.open {
		if one.busy.Load() == 0 && time.Since(time.Unix(one.used.Load(), 0)) > unused {
			_ = store.Close(one.store)
			delete(h.open, key)
		}
	}
}

// unused is how long an account stays open that has nothing to answer.
const unused = time.Hour

// forget forgets an account that was closed.
func (h *Host) forget(key openKey) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.open, key)
}

// Close closes all accounts.
func (h *Host) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, account := range h.open {
		_ = store.Close(account.store)
		delete(h.open, key)
	}
}

// look describes the account again.
func (o *opened) look() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.describe = describe(o.store)
	o.describe.Certificate = o.certificate.Load()
	o.sum = sumOf(o.describe)
}

// news is the description, where it is another than the one known.
func (o *opened) news(known uint64, settles bool) *description {
	o.mu.Lock()
	settled := o.settled
	o.settled = settled || settles
	shown := o.describe.Certificate != o.certificate.Load()
	o.mu.Unlock()
	if settles && !settled || shown {
		o.look()
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.sum == known {
		return nil
	}
	return o.describe
}

// showed keeps when the certificate of a server ends.
func (o *opened) showed(certificate *x509.Certificate) {
	o.certificate.Store(certificate.NotAfter.Unix())
}

// sumOf is what tells descriptions apart.
func sumOf(d *description) uint64 {
	sum := fnv.New64a()
	sum.Write(encode(d))
	return sum.Sum64()
}

// exchange is a request that is being answered.
type exchange struct {
	store     store.Store
	arguments *arguments
	answer    Answer
	content   func(ctx context.Context) (io.ReadCloser, error)
	streamed  bool  // the end was written
	failed    error // of writing the answer
}
