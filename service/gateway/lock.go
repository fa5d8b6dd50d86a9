package gateway

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/service/records"
)

// mostOwner is how much a client may say of a lock's owner, in bytes.
const mostOwner = 2 << 10

// lock takes a lock, or renews one (RFC 4918, section 9.10). An exclusive lock on a file, or on a
// whole folder, is one of the service's own too, which runs and the other clients of the service obey.
func (g *Gateway) lock(q *request) error {
	root, err := readXML(q.w, q.Request)
	if err != nil {
		return err
	}
	located, err := g.change(q, q.place)
	if err != nil {
		return err
	}
	until := g.Now().Add(timeout(q.Header.Get("Timeout")))
	if root == nil {
		return g.renew(q, until)
	}
	asked, err := readLock(q, root)
	if err != nil {
		return err
	}
	_, exists, err := occupant(q.ctx, located)
	if err != nil {
		return err
	}
	if !exists {
		if err := g.check(q, change{address: q.place.address, named: true}); err != nil {
			return err
		}
		if err := g.parent(q.ctx, located); err != nil {
			return err
		}
	}
	asked.User, asked.By = g.Service.User(q.ctx)
	asked.Expires = until
	taken, err := g.locks.take(q.ctx, g, asked, q.place.address)
	if err != nil {
		return err
	}
	if !exists { // an empty file, which nobody else can take now
		_, err = g.write(q.ctx, located, store.Entry{}, false, files.Putting{Size: 0, Body: http.NoBody})
	}
	if err == nil && !asked.Shared {
		err = g.lockInService(q.ctx, taken)
	}
	if err != nil {
		if ending := g.end(context.WithoutCancel(q.ctx), taken); ending != nil {
			g.Log.Warn("a lock that was not given could not be removed", "address", taken.Address, "error", ending)
		}
		return err
	}
	status := http.StatusOK
	if !exists {
		status = http.StatusCreated
	}
	q.w.Header().Set("Lock-Token", "<"+taken.Token+">")
	g.answerLock(q, taken, status)
	return nil
}

// lockInService makes the service's own lock. The folder of a lock that does not go deep is left: what
// is in it is not locked.
func (g *Gateway) lockInService(ctx context.Context, lock *held) error {
	node, err := g.Tree.Stat(ctx, lock.address)
	if err != nil || node.Kind == store.KindFolder && !lock.Deep || node.Kind != store.KindFile && node.Kind != store.KindFolder {
		return err
	}
	made, err := g.Locks.Lock(ctx, lock.address, lock.Expires)
	if store.KindOf(err) == store.ErrNotFound {
		return nil // a name of the drive's own, as exports have
	}
	if err != nil || !made {
		return err
	}
	return g.locks.update(ctx, g, lock, func(lock *held) { lock.Made = true })
}

// renew gives a lock that the client shows more time.
func (g *Gateway) renew(q *request, until time.Time) error {
	tokens := q.conditions.tokens()
	if len(tokens) != 1 {
		return fail(http.StatusBadRequest, "", "to renew a lock, show its token, and no other, in the If header")
	}
	for token := range tokens {
		lock, err := g.mine(q, token)
		if err != nil {
			return err
		}
		if err := g.locks.update(q.ctx, g, lock, func(lock *held) { lock.Expires = until }); err != nil {
			return err
		}
		if lock.Made {
			if _, err := g.Locks.Lock(q.ctx, lock.address, until); err != nil {
				return err
			}
		}
		g.answerLock(q, lock, http.StatusOK)
	}
	return nil
}

// mine returns the lock of a token, which has to cover what a request is about, and be of its user.
func (g *Gateway) mine(q *request, token string) (*held, error) {
	lock, err := g.locks.byName(q.ctx, g, token, q.place.address)
	if err != nil {
		return nil, err
	}
	if lock == nil {
		return nil, fail(http.StatusPreconditionFailed, "<D:lock-token-matches-request-uri/>", "there is no such lock on %s", q.place.address)
	}
	if user, _ := g.Service.User(q.ctx); user != lock.User {
		return nil, fail(http.StatusForbidden, "", "the lock on %s is held by %s", lock.address, lock.By)
	}
	return lock, nil
}

func (g *Gateway) answerLock(q *request, lock *held, status int) {
	q.w.Header().Set("Content-Type", xmlType)
	q.w.WriteHeader(status)
	_, _ = fmt.Fprintf(q.w, "%s<D:prop xmlns:D=\"DAV:\"><D:lockdiscovery>%s</D:lockdiscovery></D:prop>\n", xmlHead,
		activeLock(lock, lock.Expires.Sub(g.Now())))
}

// readLock reads which kind of lock the client requests.
func readLock(q *request, root *element) (asked records.GatewayLock, err error) {
	scope := root.child("lockscope")
	if root.name.Space != dav || root.name.Local != "lockinfo" || scope == nil || root.child("locktype") == nil ||
		root.child("locktype").child("write") == nil || scope.child("exclusive") == nil && scope.child("shared") == nil {
		return asked, errXML
	}
	asked.Shared = scope.child("shared") != nil
	switch depth := q.Header.Get("Depth"); {
	case depth == "" || strings.EqualFold(depth, "infinity"):
		asked.Deep = true
	case depth != "0":
		return asked, fail(http.StatusBadRequest, "", "the depth of a lock is 0 or infinity, not %q", depth)
	}
	if owner := root.child("owner"); owner != nil {
		if asked.Owner = owner.inner; len(asked.Owner) > mostOwner {
			return asked, fail(http.StatusRequestEntityTooLarge, "", "the owner of the lock is described in more than %d bytes", mostOwner)
		}
	}
	return asked, nil
}

// timeout is how long a lock is to last: the first of the wishes in a Timeout header that can be read,
// and not longer than longestLock.
func timeout(header string) time.Duration {
	for _, wish := range strings.Split(header, ",") {
		text, ok := strings.CutPrefix(strings.TrimSpace(wish), "Second-")
		if wanted, err := strconv.ParseUint(text, 10, 32); ok && err == nil && wanted > 0 {
			return min(longestLock, time.Duration(wanted)*time.Second)
		}
	}
	return longestLock
}

// unlock ends a lock (RFC 4918, section 9.11).
func (g *Gateway) unlock(q *request) error {
	token, ok := strings.CutPrefix(strings.TrimSpace(q.Header.Get("Lock-Token")), "<")
	token, closed := strings.CutSuffix(token, ">")
	if !ok || !closed {
		return fail(http.StatusBadRequest, "", "the Lock-Token header is missing, or is not a token in angle brackets")
	}
	if !q.place.inTree() {
		return fail(http.StatusForbidden, "", "history cannot be locked")
	}
	lock, err := g.locks.byName(q.ctx, g, token, q.place.address)
	if err == nil && lock == nil {
		return fail(http.StatusConflict, "<D:lock-token-matches-request-uri/>", "there is no such lock on %s", q.place.address)
	}
	if err == nil {
		lock, err = g.mine(q, token)
	}
	if err == nil {
		err = g.end(q.ctx, lock)
	}
	if err == nil {
		q.w.WriteHeader(http.StatusNoContent)
	}
	return err
}
