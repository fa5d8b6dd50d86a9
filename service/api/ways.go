package api

import (
	"context"
	"crypto/rand"
	"errors"
	"html/template"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/service/access"
)

// ProviderCallbackPath is where an OpenID provider leads back to.
const ProviderCallbackPath = contract.Root + "/session/provider/callback"

func (s *Server) registerWays(api huma.API) {
	add(api, http.MethodPost, "/session/passkey/challenge", "begin-passkey-sign-in", "Begin to sign in with a passkey", http.StatusCreated,
		s.beginPasskeySignIn, small)
	add(api, http.MethodPost, "/session/passkey", "end-passkey-sign-in", "Sign in with a passkey", http.StatusNoContent, s.endPasskeySignIn,
		medium)
	add(api, http.MethodPost, "/session/confirmation/passkey/challenge", "begin-passkey-confirmation",
		"Begin to sign in again with a passkey", http.StatusCreated, s.beginPasskeyConfirmation, small)
	add(api, http.MethodPost, "/session/confirmation/passkey", "end-passkey-confirmation", "Sign in again with a passkey",
		http.StatusNoContent, s.endPasskeyConfirmation, medium)
	add(api, http.MethodGet, "/me/passkeys", "list-passkeys", "List your passkeys", http.StatusOK, s.listPasskeys)
	add(api, http.MethodPost, "/me/passkeys/challenge", "begin-passkey", "Begin to add a passkey", http.StatusCreated, s.beginPasskey)
	add(api, http.MethodPost, "/me/passkeys", "end-passkey", "Add a passkey", http.StatusNoContent, s.endPasskey, medium)
	add(api, http.MethodDelete, "/me/passkeys/{id}", "remove-passkey", "Remove a passkey", http.StatusNoContent, s.removePasskey)
}

// medium bounds what a browser sends of a passkey.
func medium(operation *huma.Operation) { operation.MaxBodyBytes = 64 << 10 }

// originKey holds the origin under which a browser reaches the service.
type originKey struct{}

func (s *Server) originOf(r *http.Request) string {
	if origin := r.Header.Get("Origin"); origin != "" {
		return origin // it was compared with what the service is reached under
	}
	scheme := "http://"
	if s.Secure {
		scheme = "https://"
	}
	return scheme + r.Host
}

func origin(ctx context.Context) string {
	text, _ := ctx.Value(originKey{}).(string)
	return text
}

func (s *Server) signInWays(ctx context.Context, _ *none) (*body[contract.SignInWays], error) {
	ways := contract.SignInWays{Passkeys: true}
	if err := access.CheckHost(origin(ctx)); err != nil {
		ways.Passkeys, ways.PasskeysWhy = false, contract.Sentence(err.Error())
	}
	if s.OpenID != nil {
		ways.Provider = s.OpenID.Title()
	}
	return &body[contract.SignInWays]{ways}, nil
}

func (s *Server) beginPasskeySignIn(ctx context.Context, _ *none) (*body[contract.Challenge], error) {
	id, options, err := s.Passkeys.Begin("", origin(ctx))
	return &body[contract.Challenge]{contract.Challenge{ID: id, Options: options}}, err
}

func (s *Server) endPasskeySignIn(ctx context.Context, in *body[contract.ChallengeAnswer]) (*cookieOutput, error) {
	session, expires, err := s.Passkeys.End(ctx, origin(ctx), in.Body.ID, in.Body.Answer, visitor(ctx))
	if err != nil {
		return nil, s.notProved(ctx, contract.SignIn{}, err)
	}
	s.record(ctx, access.Event{Person: s.personOfSession(ctx, session), Action: "sign-in", Subject: "by a passkey", Outcome: "done"})
	return &cookieOutput{s.cookie(session, expires)}, nil
}

func (s *Server) beginPasskeyConfirmation(ctx context.Context, _ *none) (*body[contract.Challenge], error) {
	id, options, err := s.Passkeys.Begin(person(ctx).User, origin(ctx))
	return &body[contract.Challenge]{contract.Challenge{ID: id, Options: options}}, err
}

func (s *Server) endPasskeyConfirmation(ctx context.Context, in *body[contract.ChallengeAnswer]) (*none, error) {
	if err := s.Passkeys.Confirm(ctx, person(ctx), origin(ctx), in.Body.ID, in.Body.Answer); err != nil {
		return nil, s.notProved(ctx, contract.SignIn{Name: person(ctx).Name}, err)
	}
	return &none{}, nil
}

func (s *Server) listPasskeys(ctx context.Context, _ *none) (*body[[]contract.Passkey], error) {
	rows, err := s.DB.Passkeys(ctx, person(ctx).User)
	keys := []contract.Passkey{}
	for _, row := range rows {
		keys = append(keys, contract.Passkey{ID: row.ID, Name: row.Name, Created: row.CreatedAt, Seen: row.SeenAt})
	}
	return &body[[]contract.Passkey]{keys}, err
}

func (s *Server) beginPasskey(ctx context.Context, _ *none) (*body[contract.Challenge], error) {
	id, options, err := s.Passkeys.BeginAdding(ctx, person(ctx).User, origin(ctx))
	return &body[contract.Challenge]{contract.Challenge{ID: id, Options: options}}, err
}

func (s *Server) endPasskey(ctx context.Context, in *body[contract.NewPasskey]) (*none, error) {
	return &none{}, s.Passkeys.EndAdding(ctx, person(ctx).User, origin(ctx), in.Body.ID, in.Body.Name, in.Body.Answer)
}

func (s *Server) removePasskey(ctx context.Context, in *idInput) (*none, error) {
	removed, err := s.DB.RemovePasskey(ctx, person(ctx).User, in.ID)
	if err == nil && !removed {
		err = &contract.Problem{Status: http.StatusNotFound, Title: http.StatusText(http.StatusNotFound),
			Detail: "There is no such passkey of yours.",
			Remedy: "Check the list of your passkeys."}
	}
	return &none{}, err
}

// browserCookie binds a sign-in at a provider to the browser that began it; an empty value removes it.
func (s *Server) browserCookie(value string) http.Cookie {
	return s.returnCookie("provider", value, 10*time.Minute)
}

// beginProviderSignIn sends a browser to the OpenID provider.
func (s *Server) beginProviderSignIn(c *gin.Context) {
	if s.OpenID == nil {
		refuse(c, &contract.Problem{Status: http.StatusNotFound, Detail: "This service has no OpenID provider to sign in with.",
			Remedy: "Sign in another way."})
		return
	}
	address, browser, err := s.OpenID.Begin(c.Request.Context())
	if err != nil {
		s.signInPage(c, err)
		return
	}
	cookie := s.browserCookie(browser)
	http.SetCookie(c.Writer, &cookie)
	c.Redirect(http.StatusSeeOther, address)
}

// endProviderSignIn is where the OpenID provider leads back to.
func (s *Server) endProviderSignIn(c *gin.Context) {
	if s.OpenID == nil {
		s.signInPage(c, errors.New("this service has no OpenID provider to sign in with"))
		return
	}
	ctx, query := c.Request.Context(), c.Request.URL.Query()
	answer := access.OpenIDAnswer{State: query.Get("state"), Code: query.Get("code"), Issuer: query.Get("iss"), Refused: query.Get("error")}
	gone := s.browserCookie("")
	if cookie, err := c.Request.Cookie(gone.Name); err == nil {
		answer.Browser = cookie.Value
	}
	http.SetCookie(c.Writer, &gone)
	session, expires, err := s.OpenID.End(ctx, answer, visitor(ctx))
	if err != nil {
		_ = s.signInFailed(ctx, "", nil)
		s.signInPage(c, err)
		return
	}
	s.record(ctx, access.Event{Person: s.personOfSession(ctx, session), Action: "sign-in", Subject: "at " + s.OpenID.Title(), Outcome: "done"})
	cookie := s.cookie(session, expires)
	http.SetCookie(c.Writer, &cookie)
	s.signInPage(c, nil)
}

// leadPage leads on from another site's page: a cookie with SameSite=Strict is sent only with requests
// that a page of ours makes.
var leadPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Title}} · Deft Heron</title>
{{if not .Why}}<meta http-equiv="refresh" content="0;url=/">{{end}}
<style nonce="{{.Nonce}}">:root{color-scheme:light dark}
body{font:15px/1.6 system-ui,sans-serif;background:light-dark(#f6f7f4,#11181c);color:light-dark(#1c2930,#e6ece9);
margin:0}
main{max-width:36rem;margin:12vh auto;padding:0 1.5rem}h1{font-size:24px;margin:0 0 .5rem}
a{color:light-dark(#35617f,#7fb2d3)}</style></head>
<body><main><h1>{{.Title}}</h1>{{if .Why}}<p>{{.Why}}</p><p>{{.Remedy}}</p><p><a href="/signin">Go to the sign-in page</a></p>
{{else}}<p><a href="/">Go to the overview</a></p>{{end}}</main></body></html>`))

// signInPage says how a sign-in at a provider ended.
func (s *Server) signInPage(c *gin.Context, err error) {
	nonce := rand.Text()
	shown := map[string]string{"Title": "Signed in", "Nonce": nonce}
	status := http.StatusOK
	if err != nil {
		why := problem(err)
		status, shown["Title"], shown["Why"], shown["Remedy"] = http.StatusUnauthorized, "Not signed in", why.Detail, why.Remedy
	}
	c.Header("Content-Security-Policy", policy(nonce))
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Status(status)
	_ = leadPage.Execute(c.Writer, shown)
}
