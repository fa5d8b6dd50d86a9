package standin

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"html/template"
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

var pages = template.Must(template.New("").Parse(`{{define "head"}}<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}</title><style>
body{font:16px/1.5 sans-serif;margin:0;background:#f3f2ee;color:#222}
main{max-width:30rem;margin:8vh auto;background:#fff;padding:2rem;border-top:6px solid {{.Colour}};border-radius:4px}
h1{font-size:1.25rem;margin:0 0 1rem}button{font:inherit;padding:.5rem 1.25rem;border-radius:4px;border:1px solid #666;background:#fff;margin-right:.5rem}
button.yes{background:{{.Colour}};border-color:{{.Colour}};color:#fff}input,select{font:inherit;padding:.4rem;width:100%;box-sizing:border-box}
code{font-size:1.1rem;overflow-wrap:anywhere}p.wrong{color:#a00}</style></head><body><main>{{end}}
{{define "agree"}}{{template "head" .}}<h1>An app asks for your {{.Title}} files</h1>
<p>The app <b>{{.Client}}</b> asks to:</p><ul>{{range .Asks}}<li>{{.}}</li>{{end}}</ul>
<form method="post" action="/agree"><input type="hidden" name="query" value="{{.Query}}">
<p><label>Sign in as <select name="user">{{range .Users}}<option>{{.}}</option>{{end}}</select></label></p>
<button class="yes" name="answer" value="agree">Agree</button><button name="answer" value="refuse">Refuse</button></form></main>{{end}}
{{define "code"}}{{template "head" .}}<h1>Copy this code</h1><p>Go back to the app and paste it there:</p><p><code id="code">{{.Code}}</code></p></main>{{end}}
{{define "device"}}{{template "head" .}}<h1>Connect an app</h1>{{if .Wrong}}<p class="wrong">{{.Wrong}}</p>{{end}}
{{if .Done}}<p>{{.Done}} You can close this page.</p>{{else}}<form method="post" action="/device">
<p><label>The code that the app shows <input name="user_code" value="{{.Code}}" autofocus></label></p>
<p><label>Sign in as <select name="user">{{range .Users}}<option>{{.}}</option>{{end}}</select></label></p>
<button class="yes" name="answer" value="agree">Agree</button><button name="answer" value="refuse">Refuse</button></form>{{end}}</main>{{end}}
{{define "wrong"}}{{template "head" .}}<h1>This cannot go on</h1><p class="wrong">{{.Wrong}}</p></main>{{end}}`))

type pageData struct {
	Title, Colour, Client, Query, Code, Wrong, Done string
	Asks, Users                                     []string
}

func (c *Consents) show(w http.ResponseWriter, status int, name string, data pageData) {
	data.Title, data.Colour, data.Users = c.Title, c.Colour, c.Users
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = pages.ExecuteTemplate(w, name, data)
}

// page is the page where a person agrees or refuses.
func (c *Consents) page(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	client := c.clientOf(query.Get("client_id"))
	if client == nil {
		c.show(w, http.StatusBadRequest, "wrong", pageData{Wrong: "No app is registered with the client id " + query.Get("client_id") + "."})
		return
	}
	target, ok := c.redirectOf(client, query.Get("redirect_uri"))
	if !ok {
		c.show(w, http.StatusBadRequest, "wrong", pageData{Wrong: "The app is not registered to lead back to " + query.Get("redirect_uri") + "."})
		return
	}
	back := func(code, why string) {
		leadBack(w, r, target, url.Values{"error": {code}, "error_description": {why}, "state": {query.Get("state")}})
	}
	switch {
	case query.Get("response_type") != "code":
		back("unsupported_response_type", "only code is known")
		return
	case c.Pkce && (query.Get("code_challenge") == "" || query.Get("code_challenge_method") != "S256"):
		back("invalid_request", "a code challenge by S256 is needed")
		return
	}
	var asks []string
	for _, scope := range strings.Fields(query.Get("scope")) {
		words, known := c.Scopes[scope]
		if !known {
			back("invalid_scope", "there is no scope "+scope)
			return
		}
		asks = append(asks, words)
	}
	c.show(w, http.StatusOK, "agree", pageData{Client: client.ID, Asks: asks, Query: r.URL.RawQuery})
}

func leadBack(w http.ResponseWriter, r *http.Request, target *url.URL, values url.Values) {
	to := *target
	query := to.Query()
	for name, value := range values {
		if value[0] != "" {
			query[name] = value
		}
	}
	to.RawQuery = query.Encode()
	http.Redirect(w, r, to.String(), http.StatusSeeOther)
}

func (c *Consents) decide(w http.ResponseWriter, r *http.Request) {
	query, err := url.ParseQuery(r.PostFormValue("query"))
	client := c.clientOf(query.Get("client_id"))
	if err != nil || client == nil {
		http.Error(w, "there is no such request", http.StatusBadRequest)
		return
	}
	target, ok := c.redirectOf(client, query.Get("redirect_uri"))
	if !ok || !slices.Contains(c.Users, r.PostFormValue("user")) {
		http.Error(w, "there is no such request", http.StatusBadRequest)
		return
	}
	if r.PostFormValue("answer") != "agree" {
		leadBack(w, r, target, url.Values{"error": {"access_denied"}, "error_description": {"the person refused"}, "state": {query.Get("state")}})
		return
	}
	code := newSecret()
	c.mu.Lock()
	c.codes[code] = &pendingCode{
		token:    token{client: client, user: r.PostFormValue("user"), scopes: strings.Fields(query.Get("scope")), expires: time.Now().Add(time.Minute)},
		redirect: query.Get("redirect_uri"), challenge: query.Get("code_challenge"), method: query.Get("code_challenge_method"),
	}
	c.mu.Unlock()
	leadBack(w, r, target, url.Values{"code": {code}, "state": {query.Get("state")}})
}

// showCode is the page that shows a code, to be pasted.
func (c *Consents) showCode(w http.ResponseWriter, r *http.Request) {
	if refused := r.URL.Query().Get("error"); refused != "" || c.Shown == "" {
		c.show(w, http.StatusOK, "wrong", pageData{Wrong: "There is no code: " + refused + "."})
		return
	}
	c.show(w, http.StatusOK, "code", pageData{Code: r.URL.Query().Get("code")})
}

func (c *Consents) devicePage(w http.ResponseWriter, r *http.Request, wrong string) {
	c.show(w, http.StatusOK, "device", pageData{Code: r.FormValue("user_code"), Wrong: wrong})
}

func (c *Consents) decideDevice(w http.ResponseWriter, r *http.Request) {
	typed := strings.ToUpper(strings.TrimSpace(r.PostFormValue("user_code")))
	c.mu.Lock()
	var found *device
	for _, d := range c.devices {
		if d.userCode == typed && time.Now().Before(d.expires) && !d.granted && !d.refused {
			found = d
		}
	}
	agreed := r.PostFormValue("answer") == "agree" && slices.Contains(c.Users, r.PostFormValue("user"))
	if found != nil {
		found.granted, found.refused, found.user = agreed, !agreed, r.PostFormValue("user")
	}
	c.mu.Unlock()
	switch {
	case found == nil:
		c.devicePage(w, r, "There is no such code, or it has expired.")
	case agreed:
		c.show(w, http.StatusOK, "device", pageData{Done: "The app is connected."})
	default:
		c.show(w, http.StatusOK, "device", pageData{Done: "The app was refused."})
	}
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
	c.devices[code] = &device{client: client, scopes: strings.Fields(r.PostFormValue("scope")), userCode: typed, expires: time.Now().Add(5 * time.Minute)}
	c.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{
		"device_code": code, "user_code": typed, "verification_uri": "http://" + r.Host + "/device", "expires_in": 300, "interval": int(c.every / time.Second),
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
		"access_token": access, "token_type": "Bearer", "expires_in": int(c.Lifetime / time.Second), "refresh_token": refresh, "scope": strings.Join(t.scopes, " "),
	})
}
