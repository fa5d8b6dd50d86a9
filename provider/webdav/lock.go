package webdav

import (
	"context"
	"encoding/xml"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"deftheron/core/store"
)

// LockEntry implements store.Locker by an exclusive write lock (RFC 4918, section 9.10).
func (a *account) LockEntry(ctx context.Context, ref store.Ref, owner string, within time.Duration, token string) (store.HeldLock, error) {
	target := a.urlOfKind(ref)
	header := http.Header{"Timeout": {"Second-" + strconv.Itoa(max(1, int(within.Seconds())))}}
	r := request{method: "LOCK", url: target, header: header, changes: true}
	if token == "" {
		depth := "0"
		if ref.Kind == store.KindFolder {
			depth = "infinity"
		}
		header.Set("Depth", depth)
		header.Set("Content-Type", `application/xml; charset="utf-8"`)
		body := lockBody(owner)
		r.size, r.body = int64(len(body)), func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(body)), nil }
	} else {
		header.Set("If", "(<"+token+">)")
	}
	answer, err := a.send(ctx, r)
	if err == nil {
		defer discard(answer)
		return a.heldLock(answer, token)
	}
	switch statusOf(err) {
	case http.StatusMethodNotAllowed, http.StatusNotImplemented:
		return store.HeldLock{}, store.Errorf(store.ErrUnsupported, "the server has no locks: %w", err)
	case http.StatusPreconditionFailed, http.StatusBadRequest:
		if token != "" { // it has ended there; it is taken anew
			return a.LockEntry(ctx, ref, owner, within, "")
		}
	}
	return store.HeldLock{}, doing("lock", ref.String(), a.locked(ctx, ref, target, err))
}

// urlOfKind is the URL of an entry: that of a folder ends in a slash.
func (a *account) urlOfKind(ref store.Ref) *url.URL {
	if ref.Kind == store.KindFolder {
		return a.urlOf(ref.AsFolder().Path, "")
	}
	return a.urlOfPlace(ref)
}

func lockBody(owner string) string {
	var escaped strings.Builder
	_ = xml.EscapeText(&escaped, []byte(owner)) // a builder takes everything
	return `<?xml version="1.0" encoding="utf-8"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope>` +
		`<D:locktype><D:write/></D:locktype><D:owner>` + escaped.String() + `</D:owner></D:lockinfo>`
}

// heldLock reads the answer to a LOCK: the token is in the header of a new lock, and the
// time in the body.
func (a *account) heldLock(answer *http.Response, token string) (store.HeldLock, error) {
	if given := strings.Trim(strings.TrimSpace(answer.Header.Get("Lock-Token")), "<>"); given != "" {
		token = given
	}
	if token == "" || len(token) > 500 || strings.ContainsAny(token, "<>()\r\n") {
		return store.HeldLock{}, store.Errorf(store.ErrRefused, "the server answered a LOCK without a token that can be used")
	}
	var body prop
	if err := xml.NewDecoder(io.LimitReader(answer.Body, largestElement)).Decode(&body); err != nil {
		return store.HeldLock{}, store.Errorf(store.ErrTryAgain, "the answer to a LOCK could not be read: %w", err)
	}
	held := store.HeldLock{Token: token, Until: a.now().Add(shortestLock)}
	for _, lock := range body.Locks.Active {
		held.Until = a.now().Add(lockTimeout(lock.Timeout))
	}
	return held, nil
}

// shortestLock is how long a lock is believed to last whose server does not say.
const shortestLock = time.Minute

// lockTimeout reads a time (RFC 4918, section 10.7): Second-N or Infinite.
func lockTimeout(text string) time.Duration {
	const longest = 24 * time.Hour
	text = strings.TrimSpace(text)
	if strings.EqualFold(text, "Infinite") {
		return longest
	}
	seconds, err := strconv.ParseInt(strings.TrimPrefix(text, "Second-"), 10, 64)
	if err != nil || seconds < 0 {
		return shortestLock
	}
	return time.Duration(min(seconds, int64(longest/time.Second))) * time.Second
}

// UnlockEntry implements store.Locker.
func (a *account) UnlockEntry(ctx context.Context, ref store.Ref, token string) error {
	answer, err := a.send(ctx, request{method: "UNLOCK", url: a.urlOfKind(ref), header: http.Header{"Lock-Token": {"<" + token + ">"}},
		changes: true})
	if err == nil {
		discard(answer)
		return nil
	}
	switch statusOf(err) {
	case http.StatusConflict, http.StatusPreconditionFailed, http.StatusNotFound, http.StatusBadRequest: // it is gone
		return nil
	}
	return doing("unlock", ref.String(), err)
}

// showLock has a request that changes something show the lock of its context. The second
// condition always holds, so that a lock that has ended meanwhile forbids nothing (RFC 4918,
// section 10.4.8).
func (a *account) showLock(ctx context.Context, out *http.Request) {
	lock, ok := store.LockOf(ctx)
	if !ok || lock.Token == "" || out.Header.Get("If") != "" {
		return
	}
	switch out.Method {
	case http.MethodPut, http.MethodDelete, "MOVE", "COPY", "MKCOL":
		out.Header.Set("If", "<"+a.urlOfKind(lock.Ref).String()+"> (<"+lock.Token+">) (Not <DAV:no-lock>)")
	}
}
