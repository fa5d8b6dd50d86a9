// Package gateway serves the tree as WebDAV (RFC 4918, classes 1, 2 and 3), so that desktops and
// programs use it as a network drive. A Gateway is an http.Handler for everything below Prefix; who
// calls it has signed the request in, and put the scope of its user into the context.
//
// A path below Prefix, with percent encoding undone, is an address of the tree. Documents that exist
// only inside a service are files in their default export format. Below Prefix/.history are the
// accounts as they were, read only. A write is answered after the provider has confirmed it.
package gateway

import (
	"context"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// Prefix begins the path of every request.
const Prefix = "/dav"

// Methods are those that a Gateway answers.
var Methods = []string{http.MethodOptions, http.MethodGet, http.MethodHead, http.MethodPut, http.MethodDelete, "MKCOL", "COPY", "MOVE",
	"PROPFIND", "PROPPATCH", "LOCK", "UNLOCK"}

// Reads reports whether a method changes nothing.
func Reads(method string) bool {
	switch method {
	case http.MethodOptions, http.MethodGet, http.MethodHead, "PROPFIND":
		return true
	}
	return false
}

// Service is what a Gateway needs of the service around it.
type Service interface {
	// Place returns where an address leads, for a change there, or why its user may not change it.
	Place(ctx context.Context, all *tree.Tree, address store.Address) (tree.Located, error)
	// CheckLoss returns why what is at an address may not be deleted or overwritten.
	CheckLoss(ctx context.Context, address store.Address) error
	// CheckDeletion returns why so many files may not be deleted in one request.
	CheckDeletion(ctx context.Context, files int64) error
	// Changed is called after a change, and has Recent forget the account.
	Changed(place tree.Located)
	// TrackUpload has what an upload leaves behind cleaned up if the service ends in it.
	TrackUpload(ctx context.Context, address store.Address) (run string, ended func(), err error)
	// Transfer shows a transfer of a size in bytes, -1 if it is unknown, among those that go on.
	Transfer(address store.Address, writes bool, size int64) (counted func(int), ended func())
	// User returns the id and the name of whose request it is.
	User(ctx context.Context) (id, name string)
	// AccountID returns the id of an account by its name.
	AccountID(ctx context.Context, name string) (string, error)
	// PastTree returns the tree as it was at a time.
	PastTree(at time.Time) *tree.Tree
	// Times returns moments just before an account changed, the newest first.
	Times(ctx context.Context, account string, most int) ([]time.Time, error)
}

// Locks are the service's own locks, which hold for everything that is done through it.
type Locks interface {
	// On returns the lock that covers what is at an address.
	On(ctx context.Context, address store.Address) (by, user string, until time.Time, ok bool)
	// Lock locks what is at an address for the user of a request. made is false if that user holds a
	// lock on it already that lasts as long.
	Lock(ctx context.Context, address store.Address, until time.Time) (made bool, err error)
	// Unlock ends the lock on what is at an address.
	Unlock(ctx context.Context, address store.Address) error
}

// Gateway answers WebDAV requests.
type Gateway struct {
	// Tree has documents as files; see [Files].
	Tree *tree.Tree
	// Recent is the short memory of its listings.
	Recent  *tree.Recent
	Service Service
	Locks   Locks
	DB      *records.DB
	Log     *slog.Logger
	// PublicHost is the host, with its port if it has one, under which others reach the service through a
	// proxy; empty for none.
	PublicHost string
	// Scratch is a folder for content whose size is not known.
	Scratch string
	// Now is the clock.
	Now func() time.Time

	locks  lockTable
	spaces spaces
}

// request is one request, and where it leads.
type request struct {
	*http.Request
	w     http.ResponseWriter
	ctx   context.Context
	place place
	// conditions are those of the If header; see conditions.go.
	conditions conditions
}

// ServeHTTP implements http.Handler.
func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if err := g.serve(w, r); err != nil {
		g.refuse(w, r, err)
	}
}

func (g *Gateway) serve(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("DAV", "1, 2, 3")
	if r.Method == http.MethodOptions {
		w.Header().Set("MS-Author-Via", "DAV")
		w.Header().Set("Allow", strings.Join(Methods, ", "))
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	at, err := parsePath(r.URL.EscapedPath())
	if err != nil {
		return err
	}
	q := &request{Request: r, w: w, ctx: r.Context(), place: at}
	if !Reads(r.Method) && !at.inTree() {
		return fail(http.StatusForbidden, "", "%s is part of history and cannot be changed; restore what you need with the service",
			r.URL.Path)
	}
	if q.conditions, err = parseIf(r.Header.Get("If"), func(host string) bool { return g.isHere(r, host) }); err != nil {
		return err
	}
	if err := g.checkIf(q); err != nil {
		return err
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		return g.read(q)
	case "PROPFIND":
		return g.propfind(q)
	case "PROPPATCH":
		return g.proppatch(q)
	case http.MethodPut:
		return g.put(q)
	case "MKCOL":
		return g.makeFolder(q)
	case http.MethodDelete:
		return g.remove(q)
	case "COPY", "MOVE":
		return g.copyOrMove(q)
	case "LOCK":
		return g.lock(q)
	case "UNLOCK":
		return g.unlock(q)
	}
	w.Header().Set("Allow", strings.Join(Methods, ", "))
	return fail(http.StatusMethodNotAllowed, "", "this address does not answer %s", r.Method)
}

// change returns where a request leads, to be changed.
func (g *Gateway) change(q *request, at place) (tree.Located, error) {
	switch {
	case !at.inTree():
		return tree.Located{}, fail(http.StatusForbidden, "", "history cannot be changed")
	case len(at.address.Steps) == 0:
		return tree.Located{}, fail(http.StatusForbidden, "", "accounts are linked and unlinked in the service, not here; name what is in one")
	}
	return g.Service.Place(q.ctx, g.Tree, at.address)
}

// parent returns an error unless the folder that an entry is to be in exists.
func (g *Gateway) parent(ctx context.Context, located tree.Located) error {
	folder := located.Place.Folder.Path.Ref().As(store.KindFolder)
	if folder.IsStart() {
		return nil
	}
	entry, err := located.Store.Stat(ctx, folder)
	if store.KindOf(err) == store.ErrNotFound || err == nil && entry.Kind != store.KindFolder {
		return fail(http.StatusConflict, "", "the folder %s does not exist; make it first", located.Address.Parent())
	}
	return err
}

// spaces remembers for a short time how full accounts are: clients ask with every listing.
type spaces struct {
	mu    sync.Mutex
	known map[string]spaceAt
}

type spaceAt struct {
	store.Space
	at time.Time
}

// spaceFor is how long the space of an account is remembered.
const spaceFor = time.Minute

// space returns how full the account of an address is; store.UnknownSpace if it does not tell.
func (g *Gateway) space(ctx context.Context, account string) store.Space {
	g.spaces.mu.Lock()
	known, ok := g.spaces.known[account]
	g.spaces.mu.Unlock()
	if ok && g.Now().Sub(known.at) < spaceFor {
		return known.Space
	}
	space := store.UnknownSpace
	if opened, err := g.Tree.Accounts.Open(ctx, account); err == nil {
		if told, err := store.SpaceOf(ctx, opened.Store); err == nil {
			space = told
		}
	}
	g.spaces.mu.Lock()
	defer g.spaces.mu.Unlock()
	if g.spaces.known == nil || len(g.spaces.known) > 1000 {
		g.spaces.known = map[string]spaceAt{}
	}
	g.spaces.known[account] = spaceAt{space, g.Now()}
	return space
}
