package store

import (
	"context"
	"net/url"
	"strings"
	"time"
)

// ConsentWay is a way in which a person agrees, at the provider, that an account
// is linked.
type ConsentWay string

const (
	// ConsentByPage is a page in a browser, which leads back to the service.
	ConsentByPage ConsentWay = "page"
	// ConsentByDevice is a short code that is typed at a page on any device.
	ConsentByDevice ConsentWay = "device"
	// ConsentByPaste is a page that shows a code, or ends at an address that
	// holds it, to be pasted back.
	ConsentByPaste ConsentWay = "paste"
)

// Consenter is a provider whose accounts can be linked by consent. What comes
// of it is the account's secret.
type Consenter interface {
	// ConsentWays are the ways that accounts with these options have, the
	// best first; none where they are linked with a secret.
	ConsentWays(options map[string]string) []ConsentWay
	// BeginConsent says where a person has to go. Nothing is linked yet. Of
	// the opening, the options, the network, the clock and, of an account that
	// is linked already, its secret are used.
	BeginConsent(ctx context.Context, opening Opening, asking ConsentAsking) (Consent, error)
	// EndConsent exchanges the answer for the account's secret. By device it
	// is called again until the person has agreed: an error that is
	// ErrSlowDown says "not yet", and for how long not to ask. ErrRefused
	// where the person, or the provider, refused.
	EndConsent(ctx context.Context, opening Opening, consent Consent, answer ConsentAnswer) (secret []byte, err error)
}

// Revoker is a provider that gives a sign-in back when its account is unlinked.
type Revoker interface {
	// Revoke ends the sign-in of an account, where the provider can. It is
	// done once, and not waited for long.
	Revoke(ctx context.Context, opening Opening) error
}

// ConsentAsking is what BeginConsent needs.
type ConsentAsking struct {
	Way ConsentWay
	// Callback is the address of the service that the page leads back to.
	Callback string
	// State comes back with the answer and binds it to who asked.
	State string
	// ClientID and ClientSecret are an app registration of one's own; empty
	// for the provider's default.
	ClientID, ClientSecret string
}

// Consent is a consent that a person may give now.
type Consent struct {
	Way ConsentWay
	// URL of the page to open.
	URL string
	// UserCode is the code to type there, for a consent by device code.
	UserCode string
	// Every is how often EndConsent may be called, by device.
	Every time.Duration
	// Expires is when it is too late.
	Expires time.Time
	// Kept is the provider's own, and secret.
	Kept []byte
}

// ConsentAnswer is what came back from the page.
type ConsentAnswer struct {
	Code string
	// Refused is the error that came back in place of a code, and why.
	Refused, Why string
	// Issuer is the issuer that the answer names (RFC 9207); empty if it names none.
	Issuer string
}

// ParsePasted parses what a person pasted: the code alone, or the last address of
// the page. state is empty if only a code was pasted.
func ParsePasted(text string) (answer ConsentAnswer, state string) {
	text = strings.TrimSpace(text)
	if _, query, ok := strings.Cut(text, "?"); ok || strings.Contains(text, "://") {
		query, _, _ = strings.Cut(query, "#")
		if values, err := url.ParseQuery(query); err == nil {
			return ConsentAnswer{Code: values.Get("code"), Refused: values.Get("error"), Why: values.Get("error_description"),
				Issuer: values.Get("iss")}, values.Get("state")
		}
	}
	return ConsentAnswer{Code: text}, ""
}
