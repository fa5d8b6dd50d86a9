package declared

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"deftheron/core/store"
)

// consentTime is how long a consent may take where the service does not say.
const consentTime = 10 * time.Minute

// begun is the state of a consent between its start and its end.
type begun struct {
	Way          string `json:"way"`
	Verifier     string `json:"verifier,omitempty"`
	Device       string `json:"device,omitempty"`
	Redirect     string `json:"redirect,omitempty"`
	ClientID     string `json:"client_id,omitempty"`
	ClientSecret string `json:"client_secret,omitempty"`
}

// ConsentWays implements store.Consenter.
func (p *Provider) ConsentWays(options map[string]string) []store.ConsentWay {
	if chosen := options[optionSignIn]; chosen != "" {
		if way := byConsent[chosen]; way != "" {
			return []store.ConsentWay{way}
		}
		return nil
	}
	d := p.Definition()
	if len(d.SignIn) == 0 || byConsent[d.SignIn[0].Way] == "" {
		return nil
	}
	var ways []store.ConsentWay
	for _, way := range d.SignIn {
		if consent := byConsent[way.Way]; consent != "" {
			ways = append(ways, consent)
		}
	}
	return ways
}

// BeginConsent implements store.Consenter.
func (p *Provider) BeginConsent(ctx context.Context, opening store.Opening, asking store.ConsentAsking) (store.Consent, error) {
	a, way, err := p.consenting(opening, asking.Way)
	if err != nil {
		return store.Consent{}, err
	}
	if asking.ClientID != "" && asking.ClientSecret == "" && opening.Secrets != nil {
		// Made again: the secret of the registration is known from before.
		var before grant
		if raw, err := opening.Secrets.Load(ctx); err == nil && json.Unmarshal(raw, &before) == nil && before.ClientID == asking.ClientID {
			asking.ClientSecret = before.ClientSecret
		}
	}
	kept := begun{Way: way.Way, ClientID: asking.ClientID, ClientSecret: asking.ClientSecret}
	clientID, clientSecret := a.client(way, asking.ClientID, asking.ClientSecret)
	if clientID == "" {
		return store.Consent{}, &store.OptionError{Option: optionClient, Reason: "the provider " + p.Definition().Name +
			" has no app registration of its own; give the client ID of one, and its secret"}
	}
	more, err := texts(ctx, way.Authorizing, a.fixed().asInput())
	if err != nil {
		return store.Consent{}, err
	}
	if way.Way == "device" {
		return a.beginDevice(ctx, way, kept, more, clientID, clientSecret)
	}
	page, err := a.address(way.Authorize, a.fixed(), nil)
	if err != nil {
		return store.Consent{}, err
	}
	kept.Redirect = asking.Callback
	if way.Redirect != "" {
		kept.Redirect = way.Redirect
	}
	query := page.Query()
	set := func(name, value string) {
		if value != "" {
			query.Set(name, value)
		}
	}
	set("response_type", "code")
	set("client_id", clientID)
	set("redirect_uri", kept.Redirect)
	set("scope", a.scopes(way))
	set("state", asking.State)
	if way.Pkce != "none" {
		kept.Verifier = oauth2.GenerateVerifier()
		if way.Pkce == "plain" {
			set("code_challenge", kept.Verifier)
			set("code_challenge_method", "plain")
		} else {
			set("code_challenge", oauth2.S256ChallengeFromVerifier(kept.Verifier))
			set("code_challenge_method", "S256")
		}
	}
	for name, value := range more {
		set(name, value)
	}
	page.RawQuery = query.Encode()
	return consentOf(asking.Way, page.String(), opening.Now().Add(consentTime), kept)
}

func consentOf(way store.ConsentWay, page string, expires time.Time, kept begun) (store.Consent, error) {
	raw, err := json.Marshal(kept)
	return store.Consent{Way: way, URL: page, Expires: expires, Kept: raw}, err
}

// consenting is an account that is not linked yet.
func (p *Provider) consenting(opening store.Opening, consent store.ConsentWay) (*account, *SignIn, error) {
	for name, way := range byConsent {
		if way == consent {
			if found := p.Definition().way(name); found != nil {
				a, err := p.account(opening)
				return a, found, err
			}
		}
	}
	return nil, nil, store.Errorf(store.ErrUnsupported, "the provider %s has no consent by %s", p.Definition().Name, consent)
}

// beginDevice asks for a device code (RFC 8628, section 3.1).
func (a *account) beginDevice(ctx context.Context, way *SignIn, kept begun, parameters map[string]string, clientID,
	clientSecret string) (store.Consent, error) {
	if scope := a.scopes(way); scope != "" {
		parameters["scope"] = scope
	}
	out, err := a.tokenRequest(way, a.fixed(), way.Device, parameters, clientID, clientSecret)
	if err != nil {
		return store.Consent{}, err
	}
	out.operation = "the request for a device code"
	got, err := a.sendToken(ctx, out)
	if err != nil {
		return store.Consent{}, err
	}
	body, _ := got.body.(map[string]any)
	kept.Device = textOf(body["device_code"])
	page := textOf(body["verification_uri"])
	if page == "" {
		page = textOf(body["verification_url"])
	}
	if address, err := url.Parse(page); kept.Device == "" || err != nil || address.Scheme != "http" && address.Scheme != "https" {
		return store.Consent{}, store.Errorf(store.ErrRefused, "%s answered without a device code and a page to type it at", out.url.Host)
	}
	lasts, ok := intOf(body["expires_in"])
	if !ok || lasts <= 0 {
		lasts = int64(consentTime / time.Second)
	}
	consent, err := consentOf(store.ConsentByDevice, page, a.opening.Now().Add(time.Duration(lasts)*time.Second), kept)
	consent.UserCode = textOf(body["user_code"])
	consent.Every = 5 * time.Second // RFC 8628, section 3.2
	if seconds, ok := intOf(body["interval"]); ok && seconds > 0 {
		consent.Every = time.Duration(seconds) * time.Second
	}
	return consent, err
}

// EndConsent implements store.Consenter.
func (p *Provider) EndConsent(ctx context.Context, opening store.Opening, consent store.Consent,
	answer store.ConsentAnswer) ([]byte, error) {
	var kept begun
	if err := json.Unmarshal(consent.Kept, &kept); err != nil {
		return nil, err
	}
	a, way, err := p.consenting(opening, consent.Way)
	if err != nil {
		return nil, err
	}
	parameters := map[string]string{}
	switch {
	case answer.Issuer != "" && !a.isIssuer(way, answer.Issuer):
		return nil, store.Errorf(store.ErrRefused,
			"the answer is from %s, and consent was asked of another; begin again, and agree at the page that opens then", answer.Issuer)
	case answer.Refused != "":
		return nil, refusedBy(p.Definition(), &tokenError{answer.Refused, answer.Why})
	case way.Way == "device":
		parameters["grant_type"], parameters["device_code"] = "urn:ietf:params:oauth:grant-type:device_code", kept.Device
	case answer.Code == "":
		return nil, store.Errorf(store.ErrRefused, "there is no code in the answer; paste the whole address, or the code that is shown")
	default:
		parameters["grant_type"], parameters["code"], parameters["redirect_uri"] = "authorization_code", answer.Code, kept.Redirect
		if kept.Redirect == "" {
			delete(parameters, "redirect_uri")
		}
		if kept.Verifier != "" {
			parameters["code_verifier"] = kept.Verifier
		}
	}
	clientID, clientSecret := a.client(way, kept.ClientID, kept.ClientSecret)
	g, got, err := a.tokens(ctx, way, parameters, clientID, clientSecret)
	var failed *tokenError
	if errors.As(err, &failed) {
		switch failed.code {
		case "access_denied":
			return nil, refusedBy(p.Definition(), failed)
		case "expired_token":
			return nil, store.Errorf(store.ErrRefused, "the code has expired before anybody agreed; begin again")
		case "authorization_pending":
			return nil, store.SlowDown(consent.Every, failed)
		case "slow_down":
			return nil, store.SlowDown(consent.Every+5*time.Second, failed) // RFC 8628, section 3.5
		case "invalid_grant":
			return nil, store.Errorf(store.ErrRefused, "%s does not accept the code: %w; begin again, and use each code once", p.Definition().Title,
				failed)
		}
	}
	if err != nil {
		if got != nil && got.status == http.StatusUnauthorized {
			return nil, store.Errorf(store.ErrSignInExpired, "%w; check the client id and its secret", err)
		}
		return nil, err
	}
	g.Way, g.ClientID, g.ClientSecret = way.Way, kept.ClientID, kept.ClientSecret
	return json.Marshal(g)
}

func refusedBy(d *Definition, failed *tokenError) error {
	if strings.Contains(failed.code, "denied") {
		return store.Errorf(store.ErrRefused, "consent was refused at %s: %w; nothing was linked, begin again and agree to it there", d.Title,
			failed)
	}
	return store.Errorf(store.ErrRefused, "%s gave no consent: %w; begin again", d.Title, failed)
}

// Revoke implements store.Revoker (RFC 7009).
func (p *Provider) Revoke(ctx context.Context, opening store.Opening) error {
	raw, err := opening.Secrets.Load(ctx)
	if err != nil {
		return err
	}
	var g grant
	if json.Unmarshal(raw, &g) != nil || g.Access == "" {
		return nil
	}
	way := p.Definition().way(g.Way)
	if way == nil || !way.Revoke.given() {
		return nil
	}
	a, err := p.account(opening)
	if err != nil {
		return err
	}
	parameters := map[string]string{"token": g.Access, "token_type_hint": "access_token"}
	if g.Refresh != "" {
		parameters = map[string]string{"token": g.Refresh, "token_type_hint": "refresh_token"}
	}
	a.secret(parameters["token"])
	clientID, clientSecret := a.client(way, g.ClientID, g.ClientSecret)
	out, err := a.tokenRequest(way, a.fixed(), way.Revoke, parameters, clientID, clientSecret)
	if err != nil {
		return err
	}
	out.operation = "giving a token back"
	response, err := a.send(ctx, out)
	if err != nil {
		return err
	}
	discard(response)
	return nil
}

// isIssuer reports whether an answer comes from whom it was asked of (RFC 9207, section
// 2.4): a code of another service is not sent to this one, and the other way round.
func (a *account) isIssuer(way *SignIn, issuer string) bool {
	if way.Issuer != "" {
		return issuer == way.Issuer
	}
	for _, template := range []Template{way.Authorize, way.Token} {
		if template.Template != nil && store.OriginOf(template.expand(a.fixed(), nil)) == store.OriginOf(issuer) {
			return true
		}
	}
	return false
}
