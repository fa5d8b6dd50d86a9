package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/google/uuid"
	"golang.org/x/oauth2"

	"deftheron/core/remedy"
	"deftheron/service/records"
)

// OpenIDOptions are how users sign in through an OpenID provider (OpenID Connect Core 1.0): by a code
// with PKCE (RFC 7636).
type OpenIDOptions struct {
	// Issuer is the provider's issuer identifier, an https URL, or http on loopback; empty: there is none.
	Issuer string
	// Title is what the sign-in page calls the provider.
	Title                  string
	ClientID, ClientSecret string
	// Roles are the roles that groups get, by group. Who is in none of them is not let in.
	Roles map[string]Role
	// Callback is the URL that the provider leads back to.
	Callback string
	// HTTP is how the provider is reached; nil is http.DefaultClient.
	HTTP *http.Client
}

// OpenID signs users in through an OpenID provider.
type OpenID struct {
	options OpenIDOptions
	access  *Access

	mu       sync.Mutex
	provider *oidc.Provider
	// issues says whether the provider names itself in its answers (RFC 9207).
	issues  bool
	pending map[string]pendingSignIn // by state
}

// pendingSignIn is a sign-in whose user is at the provider.
type pendingSignIn struct {
	nonce, verifier string
	// browser is the hash of a value that the browser which began has in a cookie.
	browser [sha256.Size]byte
	until   time.Time
}

const (
	// openIDTime is how long a person may take at the provider.
	openIDTime = 10 * time.Minute
	// mostPending is how many sign-ins may be pending; the oldest goes.
	mostPending = 200
	askTime     = 15 * time.Second
)

// NewOpenID returns a way to sign in through a provider. It is asked for what it is at the first sign-in.
func NewOpenID(access *Access, options OpenIDOptions) (*OpenID, error) {
	if options.ClientID == "" || len(options.Roles) == 0 {
		return nil, remedy.Errorf("signing in through an OpenID provider needs a client id and the role of at least one group; " +
			"give --openid-client and --openid-role GROUP=ROLE")
	}
	issuer, err := url.Parse(options.Issuer)
	if err != nil || issuer.Host == "" || issuer.Scheme != "https" && !onLoopback(issuer) {
		return nil, remedy.Errorf("--openid-issuer %q is not an https URL; use the issuer that the provider names in its discovery document",
			options.Issuer)
	}
	for group, role := range options.Roles {
		if !role.Valid() {
			return nil, remedy.Errorf("--openid-role %s=%s names no role; choose viewer, operator or owner", group, role)
		}
	}
	if options.Title == "" {
		options.Title = strings.TrimPrefix(strings.TrimPrefix(options.Issuer, "https://"), "http://")
	}
	return &OpenID{options: options, access: access, pending: map[string]pendingSignIn{}}, nil
}

// onLoopback reports whether a URL is of this machine.
func onLoopback(at *url.URL) bool {
	ip := net.ParseIP(at.Hostname())
	return at.Scheme == "http" && (at.Hostname() == "localhost" || ip != nil && ip.IsLoopback())
}

// Title is what the sign-in page calls the provider.
func (o *OpenID) Title() string { return o.options.Title }

// reach returns the provider, asking it for what it is once.
func (o *OpenID) reach(ctx context.Context) (*oidc.Provider, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.provider != nil {
		return o.provider, nil
	}
	// The provider's keys are fetched later too, with the context given here.
	provider, err := oidc.NewProvider(o.client(context.WithoutCancel(ctx)), o.options.Issuer)
	if err != nil {
		return nil, remedy.Errorf("the OpenID provider %s cannot be reached (%w); try again later, or sign in another way", o.options.Title, err)
	}
	var more struct {
		Issues bool `json:"authorization_response_iss_parameter_supported"`
	}
	if err := provider.Claims(&more); err != nil {
		return nil, err
	}
	o.provider, o.issues = provider, more.Issues
	return provider, nil
}

// client has requests go through the client of the options, and bounds their time.
func (o *OpenID) client(ctx context.Context) context.Context {
	client := http.Client{}
	if o.options.HTTP != nil {
		client = *o.options.HTTP
	}
	client.Timeout = askTime
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return oidc.ClientContext(ctx, &client)
}

func (o *OpenID) config(provider *oidc.Provider) oauth2.Config {
	return oauth2.Config{ClientID: o.options.ClientID, ClientSecret: o.options.ClientSecret, Endpoint: provider.Endpoint(),
		RedirectURL: o.options.Callback, Scopes: []string{oidc.ScopeOpenID, "profile", "email", "groups"}}
}

// Begin returns the address at the provider to which a browser is sent, and a value that the browser
// has to bring back in a cookie.
func (o *OpenID) Begin(ctx context.Context) (address, browser string, err error) {
	provider, err := o.reach(ctx)
	if err != nil {
		return "", "", err
	}
	state, browser := rand.Text(), secret()
	one := pendingSignIn{nonce: rand.Text(), verifier: oauth2.GenerateVerifier(), browser: sha256.Sum256([]byte(browser)),
		until: o.access.Now().Add(openIDTime)}
	o.mu.Lock()
	defer o.mu.Unlock()
	for state, other := range o.pending {
		if o.access.Now().After(other.until) {
			delete(o.pending, state)
		}
	}
	if len(o.pending) >= mostPending {
		oldest := ""
		for state, other := range o.pending {
			if oldest == "" || other.until.Before(o.pending[oldest].until) {
				oldest = state
			}
		}
		delete(o.pending, oldest)
	}
	o.pending[state] = one
	config := o.config(provider)
	return config.AuthCodeURL(state, oidc.Nonce(one.nonce), oauth2.S256ChallengeOption(one.verifier)), browser, nil
}

// OpenIDAnswer holds the parameters with which a provider redirects a browser back.
type OpenIDAnswer struct {
	State, Code, Issuer string
	Refused             string // why the provider refused; empty if it did not
	// Browser is the value of the cookie.
	Browser string
}

// claims are the claims of an identity that are used.
type claims struct {
	Nonce  string   `json:"nonce"`
	Name   string   `json:"preferred_username"`
	Email  string   `json:"email"`
	Groups []string `json:"groups"`
}

// End begins a session of the user that an answer of the provider tells of. A user who signs in for the
// first time is added; the role follows the groups each time.
func (o *OpenID) End(ctx context.Context, answer OpenIDAnswer, by Visitor) (session string, expires time.Time, err error) {
	o.mu.Lock()
	one, known := o.pending[answer.State]
	delete(o.pending, answer.State)
	issues := o.issues
	o.mu.Unlock()
	browser := sha256.Sum256([]byte(answer.Browser))
	switch {
	case !known || o.access.Now().After(one.until), subtle.ConstantTimeCompare(browser[:], one.browser[:]) != 1:
		return "", expires, remedy.Errorf("this answer belongs to no sign-in of this browser; begin again on the sign-in page")
	case answer.Issuer != "" && answer.Issuer != o.options.Issuer, answer.Issuer == "" && issues:
		return "", expires, remedy.Errorf("the answer is not from %s; begin again on the sign-in page", o.options.Title)
	case answer.Refused != "" || answer.Code == "":
		return "", expires, remedy.Errorf("%s did not sign you in (%s); begin again on the sign-in page", o.options.Title, answer.Refused)
	}
	provider, err := o.reach(ctx)
	if err != nil {
		return "", expires, err
	}
	subject, told, err := o.identify(ctx, provider, one, answer.Code)
	if err != nil {
		return "", expires, remedy.Errorf("%s's answer cannot be trusted (%w); begin again on the sign-in page", o.options.Title, err)
	}
	user, err := o.user(ctx, subject, told)
	if err != nil {
		return "", expires, err
	}
	return o.access.begin(ctx, user.ID, by)
}

// identify exchanges a code for the identity that the provider vouches for.
func (o *OpenID) identify(ctx context.Context, provider *oidc.Provider, one pendingSignIn, code string) (subject string, told claims,
	err error) {
	ctx = o.client(ctx)
	config := o.config(provider)
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(one.verifier))
	if err != nil {
		return "", told, errors.New("the code was refused") // the error may hold the answer
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return "", told, errors.New("there is no identity in it")
	}
	identity, err := provider.Verifier(&oidc.Config{ClientID: o.options.ClientID}).Verify(ctx, raw)
	if err != nil {
		return "", told, errors.New("its signature, audience or time is not right")
	}
	if err := identity.Claims(&told); err != nil {
		return "", told, errors.New("its claims cannot be read")
	}
	if subtle.ConstantTimeCompare([]byte(identity.Nonce), []byte(one.nonce)) != 1 {
		return "", told, errors.New("it answers another sign-in")
	}
	return identity.Subject, told, nil
}

// user returns the user of an identity, with the role that the groups give.
func (o *OpenID) user(ctx context.Context, subject string, told claims) (records.User, error) {
	var role Role
	for _, group := range told.Groups {
		if given := o.options.Roles[group]; given.rank() > role.rank() {
			role = given
		}
	}
	if role == "" {
		return records.User{}, remedy.Errorf("none of your groups at %s may use this service; ask its owner", o.options.Title)
	}
	user, err := o.access.DB.UserOf(ctx, o.options.Issuer, subject)
	switch {
	case errors.Is(err, records.ErrNotFound):
		user = records.User{ID: uuid.NewString(), Role: string(role), Recovery: []string{}, Issuer: o.options.Issuer, Subject: subject,
			CreatedAt: o.access.Now()}
		return user, o.add(ctx, &user, told)
	case err != nil:
		return user, err
	case user.Disabled:
		return user, remedy.Errorf("the user %s is disabled; ask an owner of the service", user.Name)
	}
	changed := user.Role != string(role)
	user.Role = string(role)
	if err := o.access.DB.SaveUser(ctx, user, "role"); err != nil {
		return user, err
	}
	if changed {
		o.access.regranted(ctx, user.ID)
	}
	return user, nil
}

var notInNames = regexp.MustCompile(`[^a-z0-9._@-]+`)

// add adds a user under the first name that is free: what the provider calls the user, then with a number.
func (o *OpenID) add(ctx context.Context, user *records.User, told claims) error {
	base := "user"
	for _, text := range []string{told.Name, told.Email} {
		if name := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(text), "-"), "-._@"); CheckUserName(name) == nil && len(name) < 60 {
			base = name
			break
		}
	}
	for n := range 100 {
		if user.Name = base; n > 0 {
			user.Name = fmt.Sprintf("%s-%d", base, n+1)
		}
		err := o.access.DB.AddUser(ctx, user)
		if !errors.Is(err, records.ErrTaken) {
			return err
		}
	}
	return remedy.Errorf("a hundred users are called %s; ask an owner of the service to remove some", base)
}

// ParseRoles reads GROUP=ROLE.
func ParseRoles(texts []string) (map[string]Role, error) {
	roles := map[string]Role{}
	for _, text := range texts {
		group, role, ok := strings.Cut(text, "=")
		if !ok || group == "" || !slices.Contains([]Role{Viewer, Operator, Owner}, Role(role)) {
			return nil, remedy.Errorf("--openid-role %q is not of the form GROUP=ROLE with the role viewer, operator or owner", text)
		}
		roles[group] = Role(role)
	}
	return roles, nil
}

// ReadClientSecret reads the secret of this service at a provider from a file.
func ReadClientSecret(path string) (string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return "", remedy.Errorf("--openid-secret-file cannot be read (%w); give a file that holds the client secret alone", err)
	}
	return strings.TrimSpace(string(text)), nil
}
