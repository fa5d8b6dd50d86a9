package declared

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"sync"
	"time"

	"deftheron/core/store"
)

// signer signs requests, and renews what they are signed with.
type signer interface {
	// sign adds the sign-in and returns the token in it; empty where there
	// is none to be renewed.
	sign(ctx context.Context, request *http.Request) (token string, err error)
	// renew replaces a token that was not accepted, unless that has been
	// done already. ErrSignInExpired where a person has to sign in again.
	renew(ctx context.Context, token string) error
}

// newSigner returns the signer of an account's way to sign in.
func (a *account) newSigner(ctx context.Context) (signer, error) {
	way, err := a.wayOf(ctx)
	if err != nil || way == nil {
		return nobody{}, err
	}
	switch way.Way {
	case "basic", "bearer", "key":
		secret, err := a.opening.Secrets.Load(ctx)
		if err != nil {
			return nil, err
		}
		a.secret(string(secret))
		return &fixedSigner{way: way, user: a.opening.Options["user"], secret: string(secret)}, nil
	}
	return &tokenSigner{account: a, way: way}, nil
}

// wayOf is the way to sign in that the account was linked with.
func (a *account) wayOf(ctx context.Context) (*SignIn, error) {
	d := a.definition
	if len(d.SignIn) == 0 {
		return nil, nil
	}
	name := a.opening.Options[optionSignIn]
	if name == "" {
		name = d.SignIn[0].Way
	}
	if byConsent[name] != "" {
		// How consent was given is kept with what came of it.
		if raw, err := a.opening.Secrets.Load(ctx); err == nil {
			var g grant
			if json.Unmarshal(raw, &g) == nil && d.way(g.Way) != nil {
				name = g.Way
			}
		}
	}
	way := d.way(name)
	if way == nil {
		return nil, &store.OptionError{Option: optionSignIn, Reason: "the provider " + d.Name + " has no way to sign in that is called " + name}
	}
	return way, nil
}

// nobody signs nothing.
type nobody struct{}

func (nobody) sign(context.Context, *http.Request) (string, error) { return "", nil }
func (nobody) renew(context.Context, string) error {
	return store.Errorf(store.ErrSignInExpired, "the service asks for a sign-in, and the provider definition has none")
}

// fixedSigner signs with a secret that does not change.
type fixedSigner struct {
	way          *SignIn
	user, secret string
}

func (f *fixedSigner) sign(_ context.Context, request *http.Request) (string, error) {
	header := f.way.Header
	switch f.way.Way {
	case "basic":
		request.SetBasicAuth(f.user, f.secret)
	case "bearer":
		setToken(request, f.way, f.secret)
	default:
		prefix := ""
		if f.way.Prefix != nil {
			prefix = *f.way.Prefix
		}
		if header != "" {
			request.Header.Set(header, prefix+f.secret)
		} else {
			query := request.URL.Query()
			query.Set(f.way.Query, prefix+f.secret)
			address := *request.URL
			address.RawQuery = query.Encode()
			request.URL = &address
		}
	}
	return "", nil
}

func (f *fixedSigner) renew(context.Context, string) error {
	return store.Errorf(store.ErrSignInExpired, "the service does not accept the sign-in any more; reauthorize the account with a new one")
}

func setToken(request *http.Request, way *SignIn, token string) {
	header, prefix := way.Header, "Bearer "
	if header == "" {
		header = "Authorization"
	}
	if way.Prefix != nil {
		prefix = *way.Prefix
	}
	request.Header.Set(header, prefix+token)
}

// tokenSigner signs with an access token that expires. It is renewed ahead of
// its end, once for all who wait for it, and a refresh token that rotates is
// saved before what came with it is used.
type tokenSigner struct {
	account *account
	way     *SignIn

	mu      sync.Mutex
	current grant
	loaded  bool
	// unsaved is the result of a renewal that could not be saved yet. The token
	// that was exchanged for it is spent, so it must be neither lost nor used.
	unsaved *unsavedGrant
}

type unsavedGrant struct {
	grant
	before []byte
}

func (t *tokenSigner) sign(ctx context.Context, request *http.Request) (string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.account.opening.Now()
	if !t.loaded || t.current.old(now) || t.unsaved != nil {
		before := t.current
		if err := t.renewLocked(ctx, before.Access); err != nil {
			usable := t.loaded && t.unsaved == nil && before.Access != "" && now.Before(before.Expires)
			if kind := store.KindOf(err); !usable || kind == store.ErrSignInExpired || ctx.Err() != nil {
				return "", err
			}
			t.account.opening.Log.Warn("the sign-in could not be renewed before it expires", "error", err)
		}
	}
	setToken(request, t.way, t.current.Access)
	return t.current.Access, nil
}

func (t *tokenSigner) renew(ctx context.Context, token string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.current.Access != token {
		return nil
	}
	return t.renewLocked(ctx, token)
}

// renewTime bounds one renewal, which goes on when the request that it was for
// is given up: a refresh token that rotated must not be lost.
const renewTime = 30 * time.Second

// renewLocked replaces the token given, which is no longer good; empty for none.
func (t *tokenSigner) renewLocked(ctx context.Context, token string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), renewTime)
	defer cancel()
	if byConsent[t.way.Way] == "" {
		g, err := t.fetch(ctx)
		if err == nil {
			t.take(g)
		}
		return err
	}
	unlock, err := store.LockSecret(ctx, t.account.opening.Secrets)
	if err != nil {
		return store.Errorf(store.ErrTryAgain, "another account that shares the sign-in did not renew it in time: %w", err)
	}
	defer unlock()
	if t.unsaved != nil {
		return t.save(ctx, t.unsaved.before, t.unsaved.grant)
	}
	raw, kept, err := t.load(ctx)
	if err != nil {
		return err
	}
	if kept.Access != token && !kept.old(t.account.opening.Now()) {
		t.take(kept) // it was renewed elsewhere, or is the first to be used
		return nil
	}
	if kept.Refresh == "" {
		return store.Errorf(store.ErrSignInExpired,
			"the sign-in has ended, and the service gave nothing to renew it with; reauthorize the account to sign in again")
	}
	clientID, clientSecret := t.account.client(t.way, kept.ClientID, kept.ClientSecret)
	g, _, err := t.account.tokens(ctx, t.way, map[string]string{"grant_type": "refresh_token", "refresh_token": kept.Refresh}, clientID,
		clientSecret)
	if err != nil {
		return err
	}
	g.ClientID, g.ClientSecret = kept.ClientID, kept.ClientSecret // the definition's are not the account's
	if g.Refresh == "" {
		g.Refresh = kept.Refresh
	}
	return t.save(ctx, raw, g)
}

// save saves the result of a renewal, and then uses it.
func (t *tokenSigner) save(ctx context.Context, before []byte, g grant) error {
	renewed, err := json.Marshal(g)
	if err != nil {
		return err
	}
	t.unsaved = &unsavedGrant{g, before}
	if err := t.account.opening.Secrets.Save(ctx, before, renewed); err != nil {
		if !errors.Is(err, store.ErrChanged) {
			return store.Errorf(store.ErrTryAgain, "the renewed sign-in could not be kept: %w", err)
		}
		if _, g, err = t.load(ctx); err != nil { // mended, or renewed, elsewhere meanwhile
			return err
		}
	}
	t.unsaved = nil
	t.take(g)
	return nil
}

func (t *tokenSigner) load(ctx context.Context) ([]byte, grant, error) {
	raw, err := t.account.opening.Secrets.Load(ctx)
	if err != nil {
		return nil, grant{}, err
	}
	var g grant
	if err := json.Unmarshal(raw, &g); err != nil || g.Access == "" {
		return nil, grant{}, store.Errorf(store.ErrSignInExpired, "nobody has given consent to this account yet; reauthorize it to sign in")
	}
	return raw, g, nil
}

func (t *tokenSigner) take(g grant) {
	t.current, t.loaded = g, true
	t.account.secret(g.Access)
	t.account.secret(g.Refresh)
}

// fetch gets a token with a secret that stays (client credentials, assertions).
func (t *tokenSigner) fetch(ctx context.Context) (grant, error) {
	secret, err := t.account.opening.Secrets.Load(ctx)
	if err != nil && (t.way.Way != "client" || t.way.Client.Secret == "") {
		return grant{}, err
	}
	t.account.secret(string(secret))
	parameters := map[string]string{}
	if scope := t.account.scopes(t.way); scope != "" {
		parameters["scope"] = scope
	}
	clientID, clientSecret := t.account.client(t.way, t.account.opening.Options[optionClient], string(secret))
	if t.way.Way == "assertion" {
		signed, err := t.account.assert(ctx, t.way, secret)
		if err != nil {
			return grant{}, err
		}
		clientID, clientSecret = t.account.opening.Options[optionClient], ""
		if t.way.Assertion.Grant == "client_credentials" {
			parameters["grant_type"], parameters["client_assertion"] = "client_credentials", signed
			parameters["client_assertion_type"] = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
		} else {
			parameters["grant_type"], parameters["assertion"] = "urn:ietf:params:oauth:grant-type:jwt-bearer", signed
			if t.way.Assertion.Grant != "" {
				parameters["grant_type"] = t.way.Assertion.Grant
			}
		}
	} else {
		parameters["grant_type"] = "client_credentials"
	}
	g, _, err := t.account.tokens(ctx, t.way, parameters, clientID, clientSecret)
	return g, err
}
