package standin

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Client is an app registration at a stand-in.
type Client struct {
	ID     string `json:"id"`
	Secret string `json:"secret"`
	// Redirects are the addresses that the page may lead back to, exactly; of
	// an address on loopback the port is free (RFC 8252, section 7.3).
	Redirects []string `json:"redirects"`
	// PerSecond is how many requests all accounts of the registration may
	// send together; 0 is unlimited.
	PerSecond float64 `json:"per_second"`

	limiter *rate.Limiter
}

// token is an access token, or a refresh token.
type token struct {
	client  *Client
	user    string
	scopes  []string
	expires time.Time
	family  string // of tokens that came of one consent
	spent   bool   // a refresh token that was used
}

// pendingCode is a code that can be exchanged once.
type pendingCode struct {
	token
	redirect, challenge, method string
}

// device is a device code (RFC 8628).
type device struct {
	client   *Client
	scopes   []string
	userCode string
	expires  time.Time
	asked    time.Time
	granted  bool
	refused  bool
	user     string
}

// Consents is the sign-in of a stand-in: its pages and its tokens.
type Consents struct {
	Title  string            // of the service
	Colour string            // of its page
	Users  []string          // who can agree
	Scopes map[string]string // what each scope lets an app do, in words
	// Lifetime of access tokens.
	Lifetime time.Duration
	// Rotates: a refresh token can be used once, and using it twice ends
	// everything that came of the consent.
	Rotates bool
	// Pkce says that codes need it.
	Pkce bool
	// Devices says that device codes are given.
	Devices bool
	// Asserted returns for whom a service key's assertion acts; nil where there are no
	// service keys.
	Asserted func(assertion, audience string) (user string, err error)
	// Shown is the redirect address of the page that shows the code; empty
	// where there is none.
	Shown string

	mu      sync.Mutex
	clients map[string]*Client
	codes   map[string]*pendingCode
	access  map[string]*token
	refresh map[string]*token
	devices map[string]*device
	ended   map[string]bool // families
	every   time.Duration
}

func (c *Consents) begin() {
	c.clients, c.codes = map[string]*Client{}, map[string]*pendingCode{}
	c.access, c.refresh = map[string]*token{}, map[string]*token{}
	c.devices, c.ended = map[string]*device{}, map[string]bool{}
	c.every = time.Second
	if c.Lifetime == 0 {
		c.Lifetime = time.Hour
	}
}

// Register adds an app registration, or changes it.
func (c *Consents) Register(client Client) {
	if client.PerSecond > 0 {
		client.limiter = rate.NewLimiter(rate.Limit(client.PerSecond), int(max(1, client.PerSecond)))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.clients[client.ID] = &client
	for _, tokens := range []map[string]*token{c.access, c.refresh} {
		for _, t := range tokens {
			if t.client.ID == client.ID {
				t.client = &client
			}
		}
	}
}

// Expire ends all access tokens; they can be refreshed.
func (c *Consents) Expire() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.access)
}

// Withdraw withdraws every consent that was given.
func (c *Consents) Withdraw() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.access)
	clear(c.refresh)
}

// Grant gives consent as a person would, and returns an access token and a
// refresh token; for tests and demos that link without a page.
func (c *Consents) Grant(clientID, user string, scopes ...string) (access, refresh string, lasts time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	access, refresh = c.issue(token{client: c.clients[clientID], user: user, scopes: scopes, family: newSecret()})
	return access, refresh, c.Lifetime
}

func newSecret() string { return rand.Text() }

// issue makes tokens. c.mu is held.
func (c *Consents) issue(t token) (access, refresh string) {
	access, refresh = newSecret(), newSecret()
	t.expires = time.Now().Add(c.Lifetime)
	c.access[access] = &t
	kept := t
	c.refresh[refresh] = &kept
	return access, refresh
}

// allowed is who a request is of. The error is a word and the words of a problem
// with its status.
func (c *Consents) allowed(r *http.Request, scope string) (user string, status int, why string) {
	bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		return "", http.StatusUnauthorized, "no token"
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	t := c.access[bearer]
	if t == nil || time.Now().After(t.expires) || c.ended[t.family] {
		return "", http.StatusUnauthorized, "the token has expired"
	}
	if t.client.limiter != nil && !t.client.limiter.Allow() {
		return "", http.StatusTooManyRequests, "the app registration " + t.client.ID + " sends too many requests"
	}
	if scope != "" && !slices.Contains(t.scopes, scope) {
		return "", http.StatusForbidden, scope
	}
	return t.user, 0, ""
}

// serve answers the requests of signing in; false for any other.
func (c *Consents) serve(w http.ResponseWriter, r *http.Request) bool {
	switch r.Method + " " + r.URL.Path {
	case "GET /agree":
		c.page(w, r)
	case "POST /agree":
		c.decide(w, r)
	case "GET /code":
		c.showCode(w, r)
	case "GET /device":
		c.devicePage(w, r, "")
	case "POST /device":
		c.decideDevice(w, r)
	case "POST /token":
		c.token(w, r)
	case "POST /device-code":
		c.deviceCode(w, r)
	case "POST /revoke":
		c.revoke(w, r)
	default:
		return false
	}
	return true
}

func (c *Consents) clientOf(id string) *Client {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.clients[id]
}

// redirectOf is the address to lead back to, if it is a registered one.
func (c *Consents) redirectOf(client *Client, text string) (*url.URL, bool) {
	target, err := url.Parse(text)
	if err != nil || text == "" {
		return nil, false
	}
	if c.Shown != "" && target.Path == c.Shown && target.Host == "" {
		return target, true
	}
	bare := *target
	if host := target.Hostname(); host == "127.0.0.1" || host == "localhost" || host == "::1" {
		bare.Host = host
		if strings.Contains(host, ":") {
			bare.Host = "[" + host + "]"
		}
	}
	return target, slices.Contains(client.Redirects, bare.String())
}

func tokenProblem(w http.ResponseWriter, status int, code, why string) {
	answer(w, status, map[string]string{"error": code, "error_description": why})
}

// authenticated is the client of a request for a token.
func (c *Consents) authenticated(w http.ResponseWriter, r *http.Request) *Client {
	id, secret := r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	client := c.clientOf(id)
	if client == nil || client.Secret != "" && client.Secret != secret {
		tokenProblem(w, http.StatusUnauthorized, "invalid_client", "the client id or its secret is wrong")
		return nil
	}
	return client
}

func (c *Consents) deviceCode(w http.ResponseWriter, r *http.Request) {
	client := c.authenticated(w, r)
	if client == nil {
		return
	}
	if !c.Devices {
		tokenProblem(w, http.StatusBadRequest, "unauthorized_client", "device codes are not given here")
		return
	}
	text := rand.Text()
	code, typed := newSecret(), text[:4]+"-"+text[4:8]
	c.mu.Lock()
	c.devices[code] = &device{client: client, scopes: strings.Fields(r.PostFormValue("scope")), userCode: typed,
		expires: time.Now().Add(5 * time.Minute)}
	c.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{
		"device_code": code, "user_code": typed, "verification_uri": "http://" + r.Host + "/device", "expires_in": 300,
		"interval": int(c.every / time.Second),
	})
}

// Pending is the code of a device that nobody has answered yet; empty for none.
func (c *Consents) Pending() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, d := range c.devices {
		if !d.granted && !d.refused {
			return d.userCode
		}
	}
	return ""
}

// ExpireDevices ends all device codes.
func (c *Consents) ExpireDevices() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, d := range c.devices {
		d.expires = time.Now()
	}
}

// token exchanges what a client has for tokens (RFC 6749, 7636 and 8628).
func (c *Consents) token(w http.ResponseWriter, r *http.Request) {
	if c.Asserted != nil && r.PostFormValue("grant_type") == "urn:ietf:params:oauth:grant-type:jwt-bearer" {
		c.exchangeAssertion(w, r)
		return
	}
	client := c.authenticated(w, r)
	if client == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch r.PostFormValue("grant_type") {
	case "authorization_code":
		c.exchangeCode(w, r, client)
	case "refresh_token":
		c.exchangeRefresh(w, r, client)
	case "urn:ietf:params:oauth:grant-type:device_code":
		c.exchangeDevice(w, r, client)
	default:
		tokenProblem(w, http.StatusBadRequest, "unsupported_grant_type", "this grant is not known here")
	}
}

// exchangeAssertion gives a token for what a service key has signed (RFC 7523).
func (c *Consents) exchangeAssertion(w http.ResponseWriter, r *http.Request) {
	user, err := c.Asserted(r.PostFormValue("assertion"), "http://"+r.Host+"/token")
	if err != nil {
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", err.Error())
		return
	}
	scopes := strings.Fields(r.PostFormValue("scope"))
	for _, scope := range scopes {
		if c.Scopes[scope] == "" {
			tokenProblem(w, http.StatusBadRequest, "invalid_scope", scope+" is not known here")
			return
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	access := newSecret()
	c.access[access] = &token{client: &Client{ID: "service key"}, user: user, scopes: scopes, expires: time.Now().Add(c.Lifetime)}
	answer(w, http.StatusOK, map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": int(c.Lifetime / time.Second)})
}

func (c *Consents) exchangeCode(w http.ResponseWriter, r *http.Request, client *Client) {
	code := c.codes[r.PostFormValue("code")]
	delete(c.codes, r.PostFormValue("code"))
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case code == nil || code.client != client || time.Now().After(code.expires):
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", "the code is not known, was used, or has expired")
	case code.redirect != r.PostFormValue("redirect_uri"):
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", "the redirect address is another")
	case code.challenge != "" && code.challenge != base64.RawURLEncoding.EncodeToString(sum[:]):
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", "the code verifier is wrong")
	default:
		code.family = newSecret()
		c.give(w, code.token)
	}
}

func (c *Consents) exchangeRefresh(w http.ResponseWriter, r *http.Request, client *Client) {
	given := r.PostFormValue("refresh_token")
	t := c.refresh[given]
	if t == nil || t.client.ID != client.ID || c.ended[t.family] {
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", "the consent was withdrawn")
		return
	}
	if !c.Rotates {
		t.expires = time.Now().Add(c.Lifetime)
		access := newSecret()
		fresh := *t
		c.access[access] = &fresh
		answer(w, http.StatusOK, map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": int(c.Lifetime / time.Second)})
		return
	}
	if t.spent {
		c.ended[t.family] = true // somebody else has it: RFC 9700, section 4.14.2
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", "the refresh token was used already")
		return
	}
	t.spent = true
	c.give(w, *t)
}

func (c *Consents) exchangeDevice(w http.ResponseWriter, r *http.Request, client *Client) {
	d := c.devices[r.PostFormValue("device_code")]
	now := time.Now()
	switch {
	case d == nil || d.client.ID != client.ID:
		tokenProblem(w, http.StatusBadRequest, "invalid_grant", "there is no such device code")
	case d.refused:
		tokenProblem(w, http.StatusBadRequest, "access_denied", "the person refused")
	case now.After(d.expires):
		tokenProblem(w, http.StatusBadRequest, "expired_token", "the device code has expired")
	case now.Sub(d.asked) < c.every*9/10:
		d.asked = now
		tokenProblem(w, http.StatusBadRequest, "slow_down", "asked too soon")
	case !d.granted:
		d.asked = now
		tokenProblem(w, http.StatusBadRequest, "authorization_pending", "nobody has agreed yet")
	default:
		delete(c.devices, r.PostFormValue("device_code"))
		c.give(w, token{client: d.client, user: d.user, scopes: d.scopes, family: newSecret()})
	}
}

// revoke ends a token and all that came of its consent (RFC 7009).
func (c *Consents) revoke(w http.ResponseWriter, r *http.Request) {
	client := c.authenticated(w, r)
	if client == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, tokens := range []map[string]*token{c.access, c.refresh} {
		if t := tokens[r.PostFormValue("token")]; t != nil && t.client.ID == client.ID {
			c.ended[t.family] = true
		}
	}
	w.WriteHeader(http.StatusOK) // of a token that is not known, too
}

// Live is how many consents are good.
func (c *Consents) Live() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	families := map[string]bool{}
	for _, t := range c.refresh {
		if !c.ended[t.family] {
			families[t.family] = true
		}
	}
	return len(families)
}

// give answers with new tokens.
func (c *Consents) give(w http.ResponseWriter, t token) {
	t.spent = false
	access, refresh := c.issue(t)
	w.Header().Set("Cache-Control", "no-store")
	answer(w, http.StatusOK, map[string]any{
		"access_token": access, "token_type": "Bearer", "expires_in": int(c.Lifetime / time.Second), "refresh_token": refresh,
		"scope": strings.Join(t.scopes, " "),
	})
}
