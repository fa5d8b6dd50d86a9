package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"deftheron/contract"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
)

// refusal is an answer that is not what was asked for.
type refusal struct {
	status int
	// condition is the name of the precondition that was violated (RFC 4918, section 16), with what is
	// in it; empty for none.
	condition string
	error
}

// Unwrap returns the words.
func (r *refusal) Unwrap() error { return r.error }

// fail returns a refusal: "what is wrong; what to do".
func fail(status int, condition, format string, args ...any) error {
	return &refusal{status, condition, remedy.Errorf(format, args...)}
}

// statusOf is the status that an error is answered with.
func statusOf(err error) int {
	var refused *refusal
	if errors.As(err, &refused) {
		return refused.status
	}
	switch store.KindOf(err) {
	case store.ErrNotFound:
		return http.StatusNotFound
	case store.ErrExists:
		return http.StatusConflict
	case store.ErrChanged:
		return http.StatusPreconditionFailed
	case store.ErrRefused, store.ErrNameRefused, store.ErrUnsupported:
		return http.StatusForbidden
	case store.ErrLocked:
		return http.StatusLocked
	case store.ErrTooLarge:
		return http.StatusRequestEntityTooLarge
	case store.ErrNoSpace:
		return http.StatusInsufficientStorage
	case store.ErrSlowDown, store.ErrTryAgain:
		return http.StatusServiceUnavailable
	case store.ErrSignInExpired, store.ErrSuspended, store.ErrReplaced, store.ErrOutcomeUnknown:
		return http.StatusBadGateway
	}
	switch {
	case errors.Is(err, records.ErrTooManyProperties):
		return http.StatusInsufficientStorage
	case errors.Is(err, records.ErrNotFound):
		return http.StatusNotFound
	case errors.Is(err, context.Canceled):
		return 499
	}
	return http.StatusInternalServerError
}

// refuse answers with an error: the precondition that was violated as XML, or else a sentence.
func (g *Gateway) refuse(w http.ResponseWriter, r *http.Request, err error) {
	status := statusOf(err)
	if status >= http.StatusInternalServerError {
		g.Log.WarnContext(r.Context(), "a WebDAV request failed", "method", r.Method, "path", r.URL.Path, "error", err)
	}
	header := w.Header()
	for _, name := range []string{"ETag", "Content-Length", "Last-Modified", "Accept-Ranges"} {
		header.Del(name)
	}
	if status == http.StatusServiceUnavailable {
		header.Set("Retry-After", strconv.Itoa(max(1, int(store.Wait(err).Seconds()))))
	}
	if r.ContentLength != 0 && status != http.StatusMultiStatus { // what is left of the request is not waited for
		header.Set("Connection", "close")
	}
	var refused *refusal
	if errors.As(err, &refused) && refused.condition != "" {
		header.Set("Content-Type", xmlType)
		w.WriteHeader(status)
		_, _ = fmt.Fprintf(w, "%s<D:error xmlns:D=\"DAV:\">%s</D:error>\n", xmlHead, refused.condition)
		return
	}
	wrong, advice := remedy.Of(err)
	text := contract.Sentence(wrong)
	if advice != "" {
		text += " " + contract.Sentence(advice)
	}
	header.Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	_, _ = fmt.Fprintln(w, text)
}
