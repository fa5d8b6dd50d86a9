package declared

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/google/uuid"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// grant is the secret of an account that was linked by consent.
type grant struct {
	Way          string    `json:"way"` // of the definition
	ClientID     string    `json:"client_id,omitempty"`
	ClientSecret string    `json:"client_secret,omitempty"`
	Access       string    `json:"access"`
	Refresh      string    `json:"refresh,omitempty"`
	Issued       time.Time `json:"issued"`
	Expires      time.Time `json:"expires,omitzero"`
}

// old reports whether the token has to be renewed, ahead of its end by a
// minute, or a quarter of its time where that is less.
func (g grant) old(now time.Time) bool {
	if g.Expires.IsZero() {
		return false
	}
	return !now.Before(g.Expires.Add(-min(time.Minute, g.Expires.Sub(g.Issued)/4)))
}

// client is an app registration, the account's own or the definition's.
func (a *account) client(way *SignIn, id, secret string) (string, string) {
	if id != "" {
		return id, secret
	}
	return way.Client.ID, way.Client.Secret
}

// tokens asks for tokens with parameters (RFC 6749, sections 4 to 6).
func (a *account) tokens(ctx context.Context, way *SignIn, parameters map[string]string, clientID,
	clientSecret string) (grant, *answer, error) {
	in := a.fixed()
	more, err := texts(ctx, way.Tokening, in.asInput())
	if err != nil {
		return grant{}, nil, err
	}
	for name, value := range more {
		parameters[name] = value
	}
	out, err := a.tokenRequest(way, in, way.Token, parameters, clientID, clientSecret)
	if err != nil {
		return grant{}, nil, err
	}
	got, err := a.sendToken(ctx, out)
	if err != nil {
		return grant{}, got, err
	}
	g := grant{Way: way.Way, ClientID: clientID, ClientSecret: clientSecret, Issued: a.opening.Now()}
	input := got.input(in)
	access, err := tokenField(ctx, way.Answer.Access, input, "access_token")
	if err != nil {
		return grant{}, got, err
	}
	refresh, err := tokenField(ctx, way.Answer.Refresh, input, "refresh_token")
	if err != nil {
		return grant{}, got, err
	}
	expires, err := tokenField(ctx, way.Answer.Expires, input, "expires_in")
	if err != nil {
		return grant{}, got, err
	}
	if g.Access = textOf(access); g.Access == "" {
		return grant{}, got, store.Errorf(store.ErrRefused, "%s answered without a token", out.url.Host)
	}
	g.Refresh = textOf(refresh)
	lasts := time.Duration(way.Lifetime)
	if seconds, ok := intOf(expires); ok && seconds > 0 {
		lasts = time.Duration(seconds) * time.Second
	}
	if lasts > 0 {
		g.Expires = g.Issued.Add(lasts)
	}
	return g, got, nil
}

func tokenField(ctx context.Context, e Expr, input jqInput, name string) (any, error) {
	body, _ := input.Value.(map[string]any)
	return e.run(ctx, input, body[name])
}

// tokenRequest is a request to where tokens are got, with the client in it.
func (a *account) tokenRequest(way *SignIn, in scope, address Template, parameters map[string]string, clientID,
	clientSecret string) (*outgoing, error) {
	target, err := a.address(address, in, nil)
	if err != nil {
		return nil, err
	}
	out := &outgoing{operation: "the request for a token", method: http.MethodPost, url: target,
		header: http.Header{"Accept": {"application/json"}}, in: in}
	if way.ClientBy == "basic" && clientID != "" {
		request := http.Request{Header: http.Header{}}
		request.SetBasicAuth(url.QueryEscape(clientID), url.QueryEscape(clientSecret)) // RFC 6749, section 2.3.1
		out.header.Set("Authorization", request.Header.Get("Authorization"))
	} else if clientID != "" {
		parameters["client_id"] = clientID
		if clientSecret != "" {
			parameters["client_secret"] = clientSecret
		}
	}
	for _, name := range []string{"client_secret", "refresh_token", "code", "device_code", "assertion", "code_verifier", "client_assertion"} {
		a.secret(parameters[name])
	}
	if way.Json {
		data, err := json.Marshal(parameters)
		if err != nil {
			return nil, err
		}
		out.header.Set("Content-Type", "application/json")
		out.body = bytesPayload(data)
		return out, nil
	}
	form := url.Values{}
	for name, value := range parameters {
		form.Set(name, value)
	}
	out.header.Set("Content-Type", "application/x-www-form-urlencoded")
	out.body = bytesPayload([]byte(form.Encode()))
	return out, nil
}

// tokenError is the error of RFC 6749, section 5.2, and RFC 8628, section 3.5.
type tokenError struct {
	code, why string
}

func (e *tokenError) Error() string {
	if e.why == "" {
		return e.code
	}
	return e.code + " (" + e.why + ")"
}

func (a *account) sendToken(ctx context.Context, out *outgoing) (*answer, error) {
	out.accepts = []int{400, 401, 403, 428}
	response, err := a.send(ctx, out)
	if err != nil {
		return nil, err
	}
	got, err := a.read(response)
	a.recorded(out, response, got)
	if finish(response, err) != nil {
		return nil, err
	}
	if got.status < 300 {
		return got, got.json(out)
	}
	body, _ := got.body.(map[string]any)
	code, _ := body["error"].(string)
	if code == "" {
		return got, a.failure(ctx, out, got)
	}
	failed := &tokenError{code, strings.TrimSpace(textOf(body["error_description"]))}
	switch code {
	case "invalid_client", "unauthorized_client":
		return got, store.Errorf(store.ErrSignInExpired, "%s does not accept the app registration: %w; check the client id and its secret",
			out.url.Host, failed)
	case "invalid_grant", "access_denied", "expired_token":
		return got, store.Errorf(store.ErrSignInExpired, "%s does not accept the sign-in any more: %w", out.url.Host, failed)
	case "invalid_scope":
		return got, store.Errorf(store.ErrRefused, "%s does not give the scopes that are asked for: %w", out.url.Host, failed)
	case "temporarily_unavailable", "server_error":
		return got, store.Errorf(store.ErrTryAgain, "%s cannot sign in anybody now: %w", out.url.Host, failed)
	case "slow_down", "authorization_pending":
		return got, store.SlowDown(retry.AfterHeader(got.header, a.opening.Now()), failed)
	}
	return got, store.Errorf(store.ErrRefused, "%s gives no token: %w", out.url.Host, failed)
}

// scopes returns the scopes to request, which depend on the use of the account.
func (a *account) scopes(way *SignIn) string {
	asked := way.Scopes.Full
	if a.opening.ReadOnly && len(way.Scopes.ReadOnly) > 0 {
		asked = way.Scopes.ReadOnly
	}
	separator := way.Separator
	if separator == "" {
		separator = " "
	}
	return strings.Join(asked, separator)
}

// assert signs a service key's assertion (RFC 7523).
func (a *account) assert(ctx context.Context, way *SignIn, secret []byte) (string, error) {
	about := way.Assertion
	var value any = string(secret)
	var object map[string]any
	if json.Unmarshal(secret, &object) == nil {
		value = object
	}
	in := a.fixed()
	in["scope"] = a.scopes(way)
	input := jqInput{Value: value, In: map[string]any(in), Headers: map[string]any{}}
	claims, err := about.Claims.run(ctx, input, nil)
	if err != nil {
		return "", err
	}
	all, ok := claims.(map[string]any)
	if !ok {
		return "", store.Errorf(store.ErrRefused, "the claims of the assertion are no object")
	}
	lasts := time.Duration(about.Lasts)
	if lasts == 0 {
		lasts = 5 * time.Minute
	}
	now := a.opening.Now()
	made := jwt.MapClaims{"iat": now.Unix(), "exp": now.Add(lasts).Unix(), "jti": uuid.NewString()}
	for name, value := range all {
		if value != nil {
			made[name] = value
		}
	}
	algorithm := about.Algorithm
	if algorithm == "" {
		algorithm = "RS256"
	}
	token := jwt.NewWithClaims(jwt.GetSigningMethod(algorithm), made)
	header, err := about.Header.run(ctx, input, nil)
	if err != nil {
		return "", err
	}
	if members, ok := header.(map[string]any); ok {
		for name, value := range members {
			token.Header[name] = value
		}
	}
	key, err := about.Key.run(ctx, input, value)
	if err != nil {
		return "", err
	}
	signing, err := signingKey(algorithm, textOf(key))
	if err != nil {
		return "", store.Errorf(store.ErrRefused, "the service key cannot be used: %w; give it as the service handed it out", err)
	}
	signed, err := token.SignedString(signing)
	if err != nil {
		return "", store.Errorf(store.ErrRefused, "the service key cannot sign with %s: %w", algorithm, err)
	}
	return signed, nil
}

func signingKey(algorithm, text string) (any, error) {
	switch {
	case strings.HasPrefix(algorithm, "HS"):
		return []byte(text), nil
	case strings.HasPrefix(algorithm, "ES"):
		return keyOrError[*ecdsa.PrivateKey](jwt.ParseECPrivateKeyFromPEM([]byte(text)))
	case algorithm == "EdDSA":
		key, err := jwt.ParseEdPrivateKeyFromPEM([]byte(text))
		if err != nil {
			return nil, err
		}
		private, _ := key.(ed25519.PrivateKey)
		return private, nil
	}
	return keyOrError[*rsa.PrivateKey](jwt.ParseRSAPrivateKeyFromPEM([]byte(text)))
}

func keyOrError[K any](key K, err error) (any, error) { return key, err }

// byConsent are the ways in which a person agrees.
var byConsent = map[string]store.ConsentWay{"code": store.ConsentByPage, "device": store.ConsentByDevice, "paste": store.ConsentByPaste}

// way is the way of the definition with a name; nil where there is none.
func (d *Definition) way(name string) *SignIn {
	at := slices.IndexFunc(d.SignIn, func(way SignIn) bool { return way.Way == name })
	if at < 0 {
		return nil
	}
	return &d.SignIn[at]
}
