package access

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
)

// Passkeys sign users in by Web Authentication (W3C): the key stays in the user's device. Browsers offer
// them for a host name over TLS and for localhost, never for an address of numbers.
type Passkeys struct {
	access *Access

	mu      sync.Mutex
	pending map[string]ceremony // by id
}

// ceremony is a ceremony that a browser has started.
type ceremony struct {
	session webauthn.SessionData
	user    string // who adds a passkey or confirms; empty for a sign-in
	until   time.Time
}

const (
	ceremonyTime   = 5 * time.Minute
	mostCeremonies = 200
	// mostPasskeys is how many one user may have.
	mostPasskeys = 20
)

// NewPasskeys returns passkeys of the users of an access.
func NewPasskeys(access *Access) *Passkeys {
	return &Passkeys{access: access, pending: map[string]ceremony{}}
}

// hostOf returns the host name of an origin.
func hostOf(origin string) string {
	_, host, _ := strings.Cut(origin, "://")
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return host
}

// CheckHost returns an error that says why passkeys cannot be used at an origin, such as
// https://heron.example.org.
func CheckHost(origin string) error {
	host := hostOf(origin)
	switch {
	case net.ParseIP(strings.Trim(host, "[]")) != nil:
		return remedy.Errorf("browsers offer no passkeys for the address %s; open the console as localhost, or under the name of --public-url",
			host)
	case host != "localhost" && !strings.HasPrefix(origin, "https:"):
		return remedy.Errorf("browsers offer passkeys over TLS only; start the service with TLS files or --public-url https://%s", host)
	}
	return nil
}

// at returns the library's settings for an origin.
func at(origin string) (*webauthn.WebAuthn, error) {
	if err := CheckHost(origin); err != nil {
		return nil, err
	}
	return webauthn.New(&webauthn.Config{RPID: hostOf(origin), RPDisplayName: "Deft Heron", RPOrigins: []string{origin}})
}

// holder is a user as the library wants to have it.
type holder struct {
	user records.User
	keys []webauthn.Credential
}

var _ webauthn.User = holder{}

// WebAuthnID implements webauthn.User.
func (h holder) WebAuthnID() []byte { return []byte(h.user.ID) }

// WebAuthnName implements webauthn.User.
func (h holder) WebAuthnName() string { return h.user.Name }

// WebAuthnDisplayName implements webauthn.User.
func (h holder) WebAuthnDisplayName() string { return h.user.Name }

// WebAuthnCredentials implements webauthn.User.
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func (p *Passkeys) holder(ctx context.Context, user string) (h holder, err error) {
	if h.user, err = p.access.DB.User(ctx, user); err != nil {
		return h, err
	}
	rows, err := p.access.DB.Passkeys(ctx, user)
	for _, row := range rows {
		var key webauthn.Credential
		if err := json.Unmarshal([]byte(row.Credential), &key); err != nil {
			return h, err
		}
		h.keys = append(h.keys, key)
	}
	return h, err
}

// keep keeps a ceremony until it ends, and returns its id.
func (p *Passkeys) keep(one ceremony) string {
	id := rand.Text()
	one.until = p.access.Now().Add(ceremonyTime)
	p.mu.Lock()
	defer p.mu.Unlock()
	oldest := ""
	for id, other := range p.pending {
		if p.access.Now().After(other.until) {
			delete(p.pending, id)
		} else if oldest == "" || other.until.Before(p.pending[oldest].until) {
			oldest = id
		}
	}
	if len(p.pending) >= mostCeremonies {
		delete(p.pending, oldest)
	}
	p.pending[id] = one
	return id
}

var errCeremony = remedy.Errorf("the passkey request is unknown or older than 5 minutes; start again")

// take returns a ceremony of a user, which can be ended once.
func (p *Passkeys) take(id, user string) (ceremony, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one, ok := p.pending[id]
	delete(p.pending, id)
	if !ok || one.user != user || p.access.Now().After(one.until) {
		return ceremony{}, errCeremony
	}
	return one, nil
}

// BeginAdding returns the options with which a browser creates a passkey for a user.
func (p *Passkeys) BeginAdding(ctx context.Context, user, origin string) (id string, options any, err error) {
	site, err := at(origin)
	if err != nil {
		return "", nil, err
	}
	h, err := p.holder(ctx, user)
	if err != nil {
		return "", nil, err
	}
	if len(h.keys) >= mostPasskeys {
		return "", nil, store.Errorf(store.ErrRefused, "%s has %d passkeys, and no more are taken; remove one first", h.user.Name, mostPasskeys)
	}
	var has []protocol.CredentialDescriptor
	for _, key := range h.keys {
		has = append(has, key.Descriptor())
	}
	creation, session, err := site.BeginRegistration(h, webauthn.WithExclusions(has),
		webauthn.WithResidentKeyRequirement(protocol.ResidentKeyRequirementRequired),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired,
			UserVerification: protocol.VerificationRequired}))
	if err != nil {
		return "", nil, err
	}
	return p.keep(ceremony{session: *session, user: user}), creation, nil
}

// EndAdding keeps the passkey that a browser has made.
func (p *Passkeys) EndAdding(ctx context.Context, user, origin, id, name string, answer []byte) error {
	one, err := p.take(id, user)
	if err != nil {
		return err
	}
	site, err := at(origin)
	if err != nil {
		return err
	}
	h, err := p.holder(ctx, user)
	if err != nil {
		return err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBody(bytes.NewReader(answer))
	if err != nil {
		return remedy.Errorf("the passkey cannot be read; begin again")
	}
	key, err := site.CreateCredential(h, one.session, parsed)
	if err != nil {
		return remedy.Errorf("the passkey does not answer what was asked; begin again")
	}
	text, err := json.Marshal(key)
	if err != nil {
		return err
	}
	return p.access.DB.AddPasskey(ctx, &records.Passkey{ID: base64.RawURLEncoding.EncodeToString(key.ID), User: user, Name: name,
		Credential: string(text), CreatedAt: p.access.Now()})
}

// Begin returns the options with which a browser signs in with a passkey; user is the user who confirms a
// session, or empty.
func (p *Passkeys) Begin(user, origin string) (id string, options any, err error) {
	site, err := at(origin)
	if err != nil {
		return "", nil, err
	}
	assertion, session, err := site.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return "", nil, err
	}
	return p.keep(ceremony{session: *session, user: user}), assertion, nil
}

// prove returns the user whose passkey has answered. ErrNotSignedIn if none has.
func (p *Passkeys) prove(ctx context.Context, user, origin, id string, answer []byte) (records.User, error) {
	one, err := p.take(id, user)
	if err != nil {
		return records.User{}, err
	}
	site, err := at(origin)
	if err != nil {
		return records.User{}, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBody(bytes.NewReader(answer))
	if err != nil {
		return records.User{}, ErrNotSignedIn
	}
	find := func(_, handle []byte) (webauthn.User, error) { return p.holder(ctx, string(handle)) }
	found, key, err := site.ValidatePasskeyLogin(find, one.session, parsed)
	if err != nil {
		return records.User{}, ErrNotSignedIn
	}
	h := found.(holder)
	if h.user.Disabled || user != "" && h.user.ID != user || key.Authenticator.CloneWarning {
		return records.User{}, ErrNotSignedIn
	}
	text, err := json.Marshal(key)
	if err != nil {
		return records.User{}, err
	}
	return h.user, p.access.DB.UsePasskey(ctx, base64.RawURLEncoding.EncodeToString(key.ID), string(text), p.access.Now())
}

// End begins a session of the user whose passkey has answered.
func (p *Passkeys) End(ctx context.Context, origin, id string, answer []byte, by Visitor) (session string, expires time.Time, err error) {
	user, err := p.prove(ctx, "", origin, id, answer)
	if err != nil {
		return "", time.Time{}, err
	}
	return p.access.begin(ctx, user.ID, by)
}

// Confirm makes a session fresh again by a passkey of its user.
func (p *Passkeys) Confirm(ctx context.Context, person Person, origin, id string, answer []byte) error {
	if _, err := p.prove(ctx, person.User, origin, id, answer); err != nil {
		return errors.Join(ErrNotSignedIn, err)
	}
	return p.access.Freshen(ctx, person)
}
