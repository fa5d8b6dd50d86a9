package site

import (
	"context"
	"time"

	"github.com/fxamacker/cbor/v2"

	"deftheron/core/store"
)

// Requests to a provider at a worker, where no account need be open: the methods of
// store.ResourceLister, store.IdentityProber, store.Consenter and store.Revoker.
const (
	opResources    = "resources"
	opIdentity     = "identity"
	opBeginConsent = "begin-consent"
	opEndConsent   = "end-consent"
	opRevoke       = "revoke"
)

// providerOperation answers a request of a provider.
type providerOperation func(ctx context.Context, provider store.Provider, opening store.Opening, a *arguments) (cbor.RawMessage, error)

// providerOperations are what a worker does for each.
var providerOperations = map[string]providerOperation{
	opResources: ofProvider(func(ctx context.Context, p store.ResourceLister, o store.Opening, _ *arguments) ([]store.Resource, error) {
		return p.ListResources(ctx, o)
	}),
	opIdentity: ofProvider(func(ctx context.Context, p store.IdentityProber, o store.Opening, _ *arguments) (shown identity, err error) {
		shown.Value, shown.Words, err = p.ProbeIdentity(ctx, o)
		return shown, err
	}),
	opBeginConsent: ofProvider(func(ctx context.Context, p store.Consenter, o store.Opening, a *arguments) (begun, error) {
		consent, err := p.BeginConsent(ctx, o, a.Consent.Asking)
		return begunOf(consent), err
	}),
	opEndConsent: ofProvider(func(ctx context.Context, p store.Consenter, o store.Opening, a *arguments) ([]byte, error) {
		return p.EndConsent(ctx, o, a.Consent.Begun.consent(), a.Consent.Answer)
	}),
	opRevoke: ofProvider(func(ctx context.Context, p store.Revoker, o store.Opening, _ *arguments) (bool, error) {
		return true, p.Revoke(ctx, o)
	}),
}

func ofProvider[P any, T any](f func(ctx context.Context, p P, o store.Opening, a *arguments) (T, error)) providerOperation {
	return func(ctx context.Context, provider store.Provider, opening store.Opening, a *arguments) (cbor.RawMessage, error) {
		able, ok := provider.(P)
		if !ok {
			return nil, store.Errorf(store.ErrUnsupported, "the provider %s of the worker cannot do this; "+
				"install the version of the service on it", provider.Name())
		}
		if a.Consent == nil {
			a.Consent = &consent{}
		}
		result, err := f(ctx, able, opening, a)
		if err != nil {
			return nil, err
		}
		return encode(result), nil
	}
}

// identity is what a server shows of itself.
type identity struct{ Value, Words string }

// consent is what a consent begins or ends with.
type consent struct {
	Asking store.ConsentAsking
	Begun  begun
	Answer store.ConsentAnswer
}

// begun is a store.Consent on the wire.
type begun struct {
	Way           store.ConsentWay
	URL, UserCode string
	Every         time.Duration
	Expires       moment
	Kept          []byte
}

func begunOf(c store.Consent) begun {
	return begun{c.Way, c.URL, c.UserCode, c.Every, momentOf(c.Expires), c.Kept}
}

func (b begun) consent() store.Consent {
	return store.Consent{Way: b.Way, URL: b.URL, UserCode: b.UserCode, Every: b.Every, Expires: b.Expires.time(), Kept: b.Kept}
}

// ofProvider answers a request of a provider.
func (h *Host) ofProvider(ctx context.Context, r request, do providerOperation, a *arguments) end {
	if a.Opening == nil { // the service did not know yet to which worker it is to seal the secret
		return end{Error: &wireError{Kind: notOpen}}
	}
	if h.Provider == nil {
		return end{Error: wireErrorOf(unsupported("be asked before it is linked"))}
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	provider, opening, err := h.Provider(toOpen(r, a.Opening))
	if err != nil {
		return end{Error: wireErrorOf(err)}
	}
	result, err := do(ctx, provider, opening, a)
	return end{Value: result, Error: wireErrorOf(err)}
}

// askProvider asks the provider of an account at any worker: first which worker answers, and
// then with the secret that is sealed to it.
func askProvider[T any](ctx context.Context, r Remote, operation string, with *consent) (result T, err error) {
	asked := &arguments{}
	ended, worker, err := r.of.once(ctx, Call{Request: r.of.request(ctx, operation, asked)})
	if err == nil && ended.Error != nil && ended.Error.Kind == notOpen {
		asked.Consent = with // a code and a secret go to one worker, once
		if asked.Opening, err = r.of.sealedTo(ctx, worker); err != nil {
			return result, err
		}
		ended, _, err = r.of.once(ctx, Call{Worker: worker, Request: r.of.request(ctx, operation, asked)})
	}
	switch {
	case err != nil:
		return result, lost(err, operation)
	case ended.Error != nil && ended.Error.Kind == notOpen:
		return result, store.Errorf(store.ErrUnsupported, "the worker does not know the request %q; update the worker", operation)
	case ended.Error != nil:
		return result, ended.Error.error()
	}
	return result, decode(ended.Value, &result)
}

// once sends a request whose answer is no more than its end.
func (a *account) once(ctx context.Context, call Call) (ended end, worker string, err error) {
	got, worker, err := a.first(ctx, call)
	if err != nil {
		return end{}, worker, err
	}
	defer got.Close()
	if got.kind != frameEnd {
		return end{}, worker, store.Errorf(store.ErrTryAgain, "the worker sent a frame %q in place of the end", got.kind)
	}
	ended, err = readEnd(got.data)
	return ended, worker, err
}

// ListResources returns the places behind the sign-in, see store.ResourceLister.
func (r Remote) ListResources(ctx context.Context) ([]store.Resource, error) {
	return askProvider[[]store.Resource](ctx, r, opResources, nil)
}

// ProbeIdentity returns what the server shows of itself, see store.IdentityProber.
func (r Remote) ProbeIdentity(ctx context.Context) (value, words string, err error) {
	shown, err := askProvider[identity](ctx, r, opIdentity, nil)
	return shown.Value, shown.Words, err
}

// BeginConsent says where a person has to go, see store.Consenter.
func (r Remote) BeginConsent(ctx context.Context, asking store.ConsentAsking) (store.Consent, error) {
	consent, err := askProvider[begun](ctx, r, opBeginConsent, &consent{Asking: asking})
	return consent.consent(), err
}

// EndConsent exchanges the answer for the secret of the account, see store.Consenter.
func (r Remote) EndConsent(ctx context.Context, of store.Consent, answer store.ConsentAnswer) ([]byte, error) {
	return askProvider[[]byte](ctx, r, opEndConsent, &consent{Begun: begunOf(of), Answer: answer})
}

// Revoke ends the sign-in of the account, see store.Revoker.
func (r Remote) Revoke(ctx context.Context) error {
	_, err := askProvider[bool](ctx, r, opRevoke, nil)
	return err
}
