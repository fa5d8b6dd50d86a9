package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/annotations"
	"deftheron/service/gateway"
	"deftheron/service/records"
	"deftheron/service/runner"
)

// registerGateway serves the tree as WebDAV.
func (s *Server) registerGateway(router *gin.Engine) {
	g := s.Gateway
	if g == nil {
		return
	}
	g.Service, g.Locks = gatewayService{s}, gatewayLocks{s}
	for _, method := range gateway.Methods {
		for _, path := range []string{gateway.Prefix, gateway.Prefix + "/*path"} {
			router.Handle(method, path, s.flow, s.gatewaySignedIn, func(c *gin.Context) { g.ServeHTTP(c.Writer, c.Request) })
		}
	}
}

// gatewayActions are what the audit log calls the requests that change or read something.
var gatewayActions = map[string]string{
	http.MethodGet: "read-content", http.MethodPut: "write-content", http.MethodDelete: "remove", "MKCOL": "make-folder",
	"MOVE": "move", "COPY": "copy", "PROPPATCH": "set-properties", "LOCK": "lock", "UNLOCK": "unlock",
}

// gatewaySignedIn lets those on who sign in with a token as the password of any user name, or as a
// bearer token. The console's cookie does not count: a page elsewhere could use it.
func (s *Server) gatewaySignedIn(c *gin.Context) {
	ctx := context.WithValue(c.Request.Context(), visitorKey{}, visitorOf(c.Request))
	c.Request = c.Request.WithContext(ctx)
	if c.GetHeader("Origin") != "" && !s.sameOrigin(c.Request) {
		c.AbortWithStatus(http.StatusForbidden)
		return
	}
	_, token, basic := c.Request.BasicAuth()
	if bearer, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok && !basic {
		token = strings.TrimSpace(bearer)
	}
	who, err := s.Access.Who(ctx, token)
	if err == nil && who.Kind == access.KindSession {
		err = access.ErrNotSignedIn
	}
	if errors.Is(err, access.ErrNotSignedIn) {
		c.Header("WWW-Authenticate", `Basic realm="Deft Heron", charset="UTF-8"`)
		problem := notSignedIn()
		problem.Remedy = "Sign in with any user name, and a token as the password. Make one with heron token create."
		if token != "" {
			problem = s.signInFailed(ctx, "", problem)
		}
		refuse(c, problem)
		return
	}
	if err != nil {
		refuse(c, problem(err))
		return
	}
	need := changes
	if gateway.Reads(c.Request.Method) {
		need = look
	}
	ctx = context.WithValue(ctx, personKey{}, who)
	ctx = accounts.ByUser(runner.WithOwner(tree.WithScope(ctx, who.Scope), who.User), who.User)
	c.Request = c.Request.WithContext(ctx)
	refused := s.refusal(need, who)
	if refused != nil {
		refuse(c, refused)
	} else {
		if gateway.Reads(c.Request.Method) {
			defer s.endWithSignIn(c, who.TokenID)()
		}
		c.Next()
	}
	if action := gatewayActions[c.Request.Method]; action != "" {
		s.record(ctx, access.Event{Action: action, Subject: gatewaySubject(c.Request), Outcome: outcomeOf(c.Writer.Status()),
			Coalesced: refused != nil || gateway.Reads(c.Request.Method)})
	}
}

// gatewaySubject returns the subject of a request: an address of the tree, and the target of a copy.
func gatewaySubject(r *http.Request) string {
	subject := strings.TrimPrefix(r.URL.Path, gateway.Prefix)
	if target, err := url.Parse(r.Header.Get("Destination")); err == nil && target.Path != "" {
		subject += " " + strings.TrimPrefix(target.Path, gateway.Prefix)
	}
	return cut(strings.ToValidUTF8(subject, "\ufffd"), 2000)
}

// gatewayService has the methods that a gateway needs of this service.
type gatewayService struct{ s *Server }

// Place implements gateway.Service.
func (g gatewayService) Place(ctx context.Context, all *tree.Tree, address store.Address) (tree.Located, error) {
	return g.s.placeIn(ctx, all, address)
}

// CheckLoss implements gateway.Service.
func (g gatewayService) CheckLoss(ctx context.Context, address store.Address) error {
	return g.s.Runner.CheckLoss(ctx, address)
}

// CheckDeletion implements gateway.Service.
func (g gatewayService) CheckDeletion(ctx context.Context, files int64) error {
	if who := person(ctx); files > freshDeletions && !who.Fresh(g.s.Access.Now()) {
		return store.Errorf(store.ErrRefused, "%d files would be deleted, and more than %d need a sign-in of the last 15 minutes; delete "+
			"them in the console", files, freshDeletions)
	}
	return nil
}

// Changed implements gateway.Service.
func (g gatewayService) Changed(located tree.Located) { g.s.changed(located) }

// TrackUpload implements gateway.Service.
func (g gatewayService) TrackUpload(ctx context.Context, address store.Address) (run string, ended func(), err error) {
	return g.s.Runner.TrackUpload(ctx, address)
}

// Transfer implements gateway.Service.
func (g gatewayService) Transfer(address store.Address, writes bool, size int64) (counted func(int), ended func()) {
	transfer := g.s.Runner.Transfers.Begin("", address.String(), writes, size)
	return transfer.Add, transfer.End
}

// User implements gateway.Service.
func (g gatewayService) User(ctx context.Context) (id, name string) {
	who := person(ctx)
	return who.User, who.Name
}

// AccountID implements gateway.Service.
func (g gatewayService) AccountID(ctx context.Context, name string) (string, error) {
	return g.s.Accounts.ID(ctx, name)
}

// PastTree implements gateway.Service.
func (g gatewayService) PastTree(at time.Time) *tree.Tree { return g.s.Runner.TreeAt(at) }

// Times implements gateway.Service.
func (g gatewayService) Times(ctx context.Context, account string, most int) (times []time.Time, err error) {
	address := store.Address{Account: account}
	if err := tree.CheckSeen(ctx, address); err != nil {
		return nil, err
	}
	located, known, err := g.s.Runner.History(ctx, address)
	if err != nil {
		return nil, err
	}
	parts, err := known.PartsOf(ctx, located.Place.AsFolder().Path, g.s.Access.Now().Add(time.Hour), most)
	for _, part := range parts {
		before := part.First.Add(-time.Millisecond).Truncate(time.Millisecond)
		if len(times) == 0 || !before.Equal(times[len(times)-1]) {
			times = append(times, before)
		}
	}
	return times, err
}

// gatewayLocks are the service's own locks, for a gateway.
type gatewayLocks struct{ s *Server }

// On implements gateway.Locks.
func (g gatewayLocks) On(ctx context.Context, address store.Address) (by, user string, until time.Time, ok bool) {
	lock, ok, err := g.s.Annotations.On(ctx, address)
	return lock.Name, lock.User, lock.Until, ok && err == nil
}

// Lock implements gateway.Locks.
func (g gatewayLocks) Lock(ctx context.Context, address store.Address, until time.Time) (made bool, err error) {
	who := person(ctx)
	one, err := g.entry(ctx, address)
	if err != nil {
		return false, err
	}
	if lock := one.Annotated.Lock; lock != nil && lock.User == who.User && lock.Until.After(until) {
		return false, nil
	}
	_, err = g.s.Annotations.Lock(ctx, one, records.Lock{User: who.User, By: who.Name, Until: until, Reason: "open in another program"})
	return err == nil, err
}

// Unlock implements gateway.Locks.
func (g gatewayLocks) Unlock(ctx context.Context, address store.Address) error {
	one, err := g.entry(tree.WithScope(ctx, nil), address)
	if err != nil {
		return err
	}
	return g.s.Annotations.Unlock(ctx, one)
}

// entry returns the entry at an address, with its lock.
func (g gatewayLocks) entry(ctx context.Context, address store.Address) (annotations.Entry, error) {
	one, err := g.s.Annotations.Of(ctx, address)
	if err == nil {
		err = g.s.Annotations.Fill(ctx, &one)
	}
	return one, err
}
