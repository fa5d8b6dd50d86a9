package standin

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// The client that SignIn knows, and its secret.
const (
	SignInClient = "heron"
	SignInSecret = "heron-sign-in"
)

// Identity is somebody whom SignIn knows.
type Identity struct {
	Subject string
	Name    string
	Email   string
	Groups  []string
}

// Identities are those whom SignIn knows unless told otherwise.
func Identities() []Identity {
	return []Identity{
		{Subject: "s-1", Name: "surveyor", Email: "surveyor@fenmere.example", Groups: []string{"surveys", "everybody"}},
		{Subject: "s-2", Name: "trustee", Email: "trustee@fenmere.example", Groups: []string{"trustees", "everybody"}},
		{Subject: "s-3", Name: "visitor", Email: "visitor@elsewhere.example", Groups: []string{"guests"}},
	}
}

// SignIn is a small OpenID provider (OpenID Connect Core 1.0 and Discovery 1.0): a page to choose who one
// is, codes with PKCE (RFC 7636), identities signed with RS256, groups, its issuer in each answer
// (RFC 9207), and keys that can be replaced. It is strict: what is wrong is refused.
type SignIn struct {
	mu sync.Mutex
	// fault is what the next answers get wrong.
	fault      string
	issuer     string
	identities []Identity
	keys       []jose.JSONWebKey // the last signs
	codes      map[string]signInCode
	mux        *http.ServeMux
}

// signInCode is a code that was given out.
type signInCode struct {
	identity                   Identity
	redirect, nonce, challenge string
	until                      time.Time
}

// NewSignIn returns a provider that knows some people.
func NewSignIn(identities []Identity) (*SignIn, error) {
	s := &SignIn{identities: identities, codes: map[string]signInCode{}, mux: http.NewServeMux()}
	s.mux.HandleFunc("GET /.well-known/openid-configuration", s.discovery)
	s.mux.HandleFunc("GET /keys", s.publicKeys)
	s.mux.HandleFunc("GET /authorize", s.authorize)
	s.mux.HandleFunc("POST /authorize", s.authorize)
	s.mux.HandleFunc("POST /token", s.token)
	return s, s.Rotate()
}

// SetIssuer says under which URL the provider is reached.
func (s *SignIn) SetIssuer(url string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.issuer = url
}

// SetFault has the next answers be wrong: "iss", "nonce", "audience", "signature" or "expired"; "" for
// none.
func (s *SignIn) SetFault(fault string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fault = fault
}

// SetIdentities changes whom the provider knows.
func (s *SignIn) SetIdentities(identities []Identity) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.identities = identities
}

// Rotate signs with a new key from now on. The one before stays published.
func (s *SignIn) Rotate() error {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.keys = append(s.keys, jose.JSONWebKey{Key: key, KeyID: rand.Text(), Algorithm: string(jose.RS256), Use: "sig"})
	s.keys = s.keys[max(0, len(s.keys)-2):]
	return nil
}

// ServeHTTP implements http.Handler.
func (s *SignIn) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

func (s *SignIn) answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(value)
}

func (s *SignIn) discovery(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	issuer := s.issuer
	s.mu.Unlock()
	s.answer(w, http.StatusOK, map[string]any{
		"issuer": issuer, "authorization_endpoint": issuer + "/authorize", "token_endpoint": issuer + "/token", "jwks_uri": issuer + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"},
		"scopes_supported": []string{"openid", "profile", "email", "groups"},
		"authorization_response_iss_parameter_supported": true,
	})
}

func (s *SignIn) publicKeys(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	var set jose.JSONWebKeySet
	for _, key := range s.keys {
		set.Keys = append(set.Keys, key.Public())
	}
	s.mu.Unlock()
	s.answer(w, http.StatusOK, set)
}

var signInPage = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<title>Sign in · Fenmere sign-in</title><style>body{font:15px/1.6 system-ui,sans-serif;max-width:32rem;margin:10vh auto;padding:0 1rem}
button{display:block;font:inherit;padding:.5rem 1rem;margin:.5rem 0}</style>
<h1>Fenmere sign-in</h1><p>Who are you?</p><form method="post">
{{range .}}<button name="subject" value="{{.Subject}}">{{.Name}}</button>{{end}}<button name="subject" value="">Cancel</button></form></html>`))

// authorize shows who there is, and leads back with a code of whoever was chosen.
func (s *SignIn) authorize(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	redirect, err := url.Parse(query.Get("redirect_uri"))
	switch {
	case err != nil || redirect.Host == "" || redirect.Fragment != "":
		http.Error(w, "redirect_uri is not a URL", http.StatusBadRequest)
		return
	case query.Get("client_id") != SignInClient:
		http.Error(w, "client_id is not known", http.StatusBadRequest)
		return
	case query.Get("response_type") != "code" || !slices.Contains(strings.Fields(query.Get("scope")), "openid") || query.Get("state") == "" ||
		query.Get("nonce") == "" || query.Get("code_challenge_method") != "S256" || len(query.Get("code_challenge")) != 43:
		http.Error(w, "response_type, scope, state, nonce and an S256 code_challenge are needed", http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Method == http.MethodGet {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = signInPage.Execute(w, s.identities)
		return
	}
	back := url.Values{"state": {query.Get("state")}, "iss": {s.issuer}}
	if s.fault == "iss" {
		back.Set("iss", "https://elsewhere.example")
	}
	i := slices.IndexFunc(s.identities, func(one Identity) bool { return one.Subject == r.PostFormValue("subject") })
	if i < 0 {
		back.Set("error", "access_denied")
	} else {
		code := rand.Text()
		s.codes[code] = signInCode{identity: s.identities[i], redirect: redirect.String(), nonce: query.Get("nonce"),
			challenge: query.Get("code_challenge"), until: time.Now().Add(time.Minute)}
		back.Set("code", code)
	}
	redirect.RawQuery = back.Encode()
	http.Redirect(w, r, redirect.String(), http.StatusSeeOther)
}

// token exchanges a code, once, for an identity.
func (s *SignIn) token(w http.ResponseWriter, r *http.Request) {
	refused := func(status int, code string) { s.answer(w, status, map[string]string{"error": code}) }
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if id != SignInClient || subtle.ConstantTimeCompare([]byte(secret), []byte(SignInSecret)) != 1 {
		refused(http.StatusUnauthorized, "invalid_client")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	one, known := s.codes[r.PostFormValue("code")]
	delete(s.codes, r.PostFormValue("code"))
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if r.PostFormValue("grant_type") != "authorization_code" || !known || time.Now().After(one.until) ||
		one.redirect != r.PostFormValue("redirect_uri") || one.challenge != base64.RawURLEncoding.EncodeToString(sum[:]) {
		refused(http.StatusBadRequest, "invalid_grant")
		return
	}
	identity, err := s.sign(one)
	if err != nil {
		refused(http.StatusInternalServerError, "server_error")
		return
	}
	s.answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": identity})
}

// sign returns an identity as a signed JSON web token. s.mu is held.
func (s *SignIn) sign(one signInCode) (string, error) {
	now := time.Now()
	claims := map[string]any{"iss": s.issuer, "sub": one.identity.Subject, "aud": SignInClient, "iat": now.Unix(),
		"exp": now.Add(5 * time.Minute).Unix(), "nonce": one.nonce, "preferred_username": one.identity.Name, "email": one.identity.Email,
		"groups": one.identity.Groups}
	switch s.fault {
	case "nonce":
		claims["nonce"] = "another"
	case "audience":
		claims["aud"] = "another"
	case "expired":
		claims["exp"] = now.Add(-time.Hour).Unix()
	}
	key := s.keys[len(s.keys)-1]
	if s.fault == "signature" {
		other, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			return "", err
		}
		key = jose.JSONWebKey{Key: other, KeyID: key.KeyID, Algorithm: key.Algorithm}
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: key}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// StartSignIn starts a provider on an address of loopback, HOST:PORT; port 0 takes a free one.
func (c *Clouds) StartSignIn(address string) (*SignIn, string, error) {
	s, err := NewSignIn(Identities())
	if err != nil {
		return nil, "", err
	}
	at, err := c.listen(address, s)
	if err != nil {
		return nil, "", err
	}
	s.SetIssuer(at)
	return s, at, nil
}
