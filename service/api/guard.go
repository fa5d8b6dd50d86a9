package api

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/runner"
)

// policy is the console's: everything from here, nothing in the page itself, but
// for style sheets that bear the nonce given.
func policy(nonce string) string {
	styles := "'self'"
	if nonce != "" {
		styles += " 'nonce-" + nonce + "'"
	}
	return "default-src 'none'; script-src 'self'; worker-src 'self'; style-src " + styles +
		"; font-src 'self'; img-src 'self'; media-src 'self'; " +
		"connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
}

// secure sets headers that keep a page from being used against its user.
func (s *Server) secure(c *gin.Context) {
	header := c.Writer.Header()
	header.Set("Content-Security-Policy", policy(""))
	header.Set("X-Content-Type-Options", "nosniff")
	header.Set("Referrer-Policy", "no-referrer")
	header.Set("Cross-Origin-Opener-Policy", "same-origin")
	header.Set("Cross-Origin-Resource-Policy", "same-origin")
	if s.Secure {
		header.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		header.Set("Cache-Control", "no-store")
	}
}

// checkHost answers only under the names that the service is meant to have: a
// page elsewhere can make its own name resolve to loopback.
func (s *Server) checkHost(c *gin.Context) {
	host := c.Request.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	if !slices.Contains(s.Hosts, strings.ToLower(host)) {
		refuse(c, &contract.Problem{
			Status: http.StatusMisdirectedRequest, Detail: "This service does not answer to the name " + host + ".",
			Remedy: "Use " + s.BaseURL + ", or add the name when starting it: heron serve --host NAME.",
		})
	}
}

type personKey struct{}

// person is who makes the request.
func person(ctx context.Context) access.Person {
	who, _ := ctx.Value(personKey{}).(access.Person)
	return who
}

// signedIn lets only those on who may have the operation that a request is for: nobody else but for
// the operations that permissions opens, the health probe, and the console's own files, which hold
// nothing.
func (s *Server) signedIn(c *gin.Context) {
	path := c.Request.URL.Path
	if c.IsAborted() || !strings.HasPrefix(path, "/api/") {
		return
	}
	if !s.sameOrigin(c.Request) {
		refuse(c, &contract.Problem{
			Status: http.StatusForbidden, Detail: "The request comes from a page elsewhere.", Remedy: "Use the console at " + s.BaseURL + ".",
		})
		return
	}
	operation := s.routes[c.Request.Method+" "+c.FullPath()]
	need, known := permissions[operation]
	ctx := context.WithValue(c.Request.Context(), visitorKey{}, visitorOf(c.Request))
	ctx = context.WithValue(ctx, originKey{}, s.originOf(c.Request))
	c.Request = c.Request.WithContext(context.WithValue(ctx, operationKey{}, operation))
	if known && need.open {
		return
	}
	token, byCookie := s.token(c.Request)
	who, err := s.Access.Who(c.Request.Context(), token)
	if errors.Is(err, access.ErrNotSignedIn) || byCookie && err == nil && who.Kind != access.KindSession {
		problem := notSignedIn()
		if token != "" {
			problem = s.signInFailed(c.Request.Context(), "", problem)
		}
		refuse(c, problem)
		return
	}
	if err != nil {
		refuse(c, problem(err))
		return
	}
	ctx = context.WithValue(c.Request.Context(), personKey{}, who)
	ctx = runner.WithOwner(tree.WithScope(ctx, who.Scope), who.User)
	c.Request = c.Request.WithContext(ctx)
	if c.FullPath() == "" {
		return // there is nothing, which NoRoute says
	}
	if !s.permit(c, need, who) {
		s.auditRefusal(c)
		return
	}
	if c.Request.Method == http.MethodGet { // what goes on for long only reads
		defer s.endWithSignIn(c, who.TokenID)()
	}
	c.Next()
}

type visitorKey struct{}

// visitor is where a request comes from.
func visitor(ctx context.Context) access.Visitor {
	from, _ := ctx.Value(visitorKey{}).(access.Visitor)
	return from
}

func visitorOf(r *http.Request) access.Visitor {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	return access.Visitor{From: host, Client: strings.ToValidUTF8(cut(r.UserAgent(), 200), "")}
}

func cut(text string, most int) string { return text[:min(len(text), most)] }

// signInFailed slows a sign-in down that has failed, and records it. name is the user that it
// claimed to be, if any; problem is what it is answered with.
func (s *Server) signInFailed(ctx context.Context, name string, problem *contract.Problem) *contract.Problem {
	by := visitor(ctx)
	n, ok := s.Access.Failed(ctx, by.From, name)
	if n&(n-1) == 0 { // the first, second, fourth, eighth …
		s.Log.WarnContext(ctx, "a sign-in failed", "from", by.From, "client", by.Client, "failures", n)
		s.record(ctx, access.Event{Action: "sign-in", Subject: name, Outcome: failedTimes(n)})
	}
	if ok {
		return problem
	}
	return tooMany()
}

// failedTimes says how often sign-ins have failed from an address or as a user.
func failedTimes(n int) string {
	if n == 1 {
		return "failed"
	}
	return fmt.Sprintf("failed, %d times in 10 minutes", n)
}

func notSignedIn() *contract.Problem {
	return &contract.Problem{
		Status: http.StatusUnauthorized, Title: "Unauthorized", Detail: "You are not signed in to this service.",
		Remedy: "In a terminal use heron signin, or set HERON_TOKEN; for the console open a new link: heron signin --console.",
	}
}

// token returns what the request signs in with.
func (s *Server) token(r *http.Request) (token string, byCookie bool) {
	if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return strings.TrimSpace(bearer), false
	}
	if cookie, err := r.Cookie(s.cookieName()); err == nil {
		return cookie.Value, true
	}
	return "", false
}

func (s *Server) tokenOf(r *http.Request) string {
	token, _ := s.token(r)
	return token
}

// sameOrigin holds requests that change something to the console's own origin.
// A program that signs in with a token sends none.
func (s *Server) sameOrigin(r *http.Request) bool {
	origin := r.Header.Get("Origin")
	if origin == "" {
		_, byCookie := s.token(r)
		return r.Method == http.MethodGet || r.Method == http.MethodHead || !byCookie
	}
	if s.Public != "" && strings.EqualFold(origin, s.Public) {
		return true
	}
	parsed, err := url.Parse(origin)
	scheme := "http"
	if s.Secure {
		scheme = "https"
	}
	return err == nil && parsed.Scheme == scheme && strings.EqualFold(parsed.Host, r.Host)
}

// cookieName is of this instance alone, as cookies do not tell ports apart.
// Over TLS the browser holds it to this host and to TLS (RFC 6265bis, section 4.1.3.2).
func (s *Server) cookieName() string {
	if s.Secure {
		return "__Host-heron-" + s.Instance
	}
	return "heron-" + s.Instance
}

// returnCookie is a cookie that a browser sends when another site leads back: not SameSite=Strict.
func (s *Server) returnCookie(what, value string, lasting time.Duration) http.Cookie {
	cookie := s.cookie(value, s.Access.Now().Add(lasting))
	cookie.Name += "-" + what
	cookie.SameSite = http.SameSiteLaxMode
	return cookie
}

func (s *Server) cookie(value string, expires time.Time) http.Cookie {
	cookie := http.Cookie{
		Name: s.cookieName(), Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.Secure, Expires: expires,
	}
	if value == "" {
		cookie.MaxAge = -1
	}
	return cookie
}
