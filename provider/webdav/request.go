package webdav

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"

	"deftheron/core/pinning"
	"deftheron/core/remedy"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// request is one that is sent to the server.
type request struct {
	method string
	url    *url.URL
	header http.Header
	// body opens what is sent, as often as it has to be; nil is nothing.
	body func() (io.ReadCloser, error)
	// size of the body in bytes; -1 is unknown.
	size int64
	// changes says that the request may change something: an answer that is
	// lost leaves its outcome unknown.
	changes bool
}

const (
	mostRedirects = 5
	mostSignins   = 2
)

// send sends a request, signs in where it is asked to, and follows redirects
// within the same origin. The caller closes the answer's body. Any answer of
// 400 and above is an error of ours.
func (a *account) send(ctx context.Context, r request) (*http.Response, error) {
	target := r.url
	lock, shown := store.LockOf(ctx)
	for redirects, signins, ended := 0, 0, false; ; {
		response, sent, err := a.once(ctx, r, target, shown)
		if err != nil {
			return nil, err
		}
		switch status := response.StatusCode; {
		case status == http.StatusUnauthorized && signins < mostSignins && a.signin.learn(response, sent):
			signins++
		case status >= 300 && status < 400 && status != http.StatusNotModified:
			next, err := a.redirected(response, target)
			if err != nil {
				discard(response)
				return nil, err
			}
			if redirects++; redirects > mostRedirects {
				discard(response)
				return nil, store.Errorf(store.ErrRefused, "%s redirects without an end", a.base.Host)
			}
			target = next
		case status == http.StatusPreconditionFailed && shown && strings.Contains(response.Request.Header.Get("If"), "DAV:no-lock"):
			shown = false // some servers refuse the token of a lock that has ended
		case status == http.StatusLocked && lock.Token != "" && !shown && !ended:
			// Others want one for both ends of a MOVE. Who holds the lock gives it up for a moment.
			if ended = true; a.UnlockEntry(store.WithLock(ctx, store.ShownLock{}), lock.Ref, lock.Token) != nil {
				defer discard(response)
				return nil, a.failure(response, r)
			}
		case status >= 400:
			defer discard(response)
			return nil, a.failure(response, r)
		default:
			return response, nil
		}
		discard(response)
	}
}

// once sends a request once. shown says that it shows the lock of its context.
func (a *account) once(ctx context.Context, r request, target *url.URL, shown bool) (*http.Response, string, error) {
	var body io.ReadCloser // a nil one stays nil
	if r.body != nil {
		var err error
		if body, err = r.body(); err != nil {
			return nil, "", err
		}
	}
	out, err := http.NewRequestWithContext(ctx, r.method, target.String(), body)
	if err != nil {
		closeBody(body)
		return nil, "", err
	}
	out.URL = target // as it is escaped
	out.Header.Set("User-Agent", "DeftHeron")
	for name, values := range r.header {
		out.Header[name] = values
	}
	if shown {
		a.showLock(ctx, out)
	}
	if body != nil {
		out.ContentLength = r.size
		if r.size == 0 {
			body.Close()
			out.Body = http.NoBody
		}
	}
	if err := a.signin.sign(out); err != nil {
		closeBody(body)
		return nil, "", store.Errorf(store.ErrSignInExpired, "%s asks for a sign-in that cannot be given: %w", a.base.Host, err)
	}
	response, err := a.http.RoundTrip(out)
	if err != nil {
		if why := pinning.CertificateProblem(err, a.base.Host); why != "" {
			return nil, "", store.Concerns(store.Errorf(store.ErrRefused, "%w", remedy.New(why)), "certificate")
		}
		return nil, "", store.Transport(err, r.changes)
	}
	return response, out.Header.Get("Authorization"), nil
}

func closeBody(body io.Closer) {
	if body != nil {
		body.Close()
	}
}

// discard reads what is left of a small body, so that the connection is used
// again.
func discard(response *http.Response) {
	_, _ = io.CopyN(io.Discard, response.Body, 64<<10)
	response.Body.Close()
}

// redirected is where a redirect leads, which must be the same origin: what is
// sent there is signed in.
func (a *account) redirected(response *http.Response, from *url.URL) (*url.URL, error) {
	location := response.Header.Get("Location")
	next, err := from.Parse(location)
	if location == "" || err != nil {
		return nil, store.Errorf(store.ErrRefused, "%s redirects to %q, which is not an address", a.base.Host, location)
	}
	if !sameOrigin(next, a.base) {
		return nil, store.Errorf(store.ErrRefused, "%s redirects to %s://%s, where the sign-in is not sent; if that is the server, link it "+
			"by that URL", a.base.Host, next.Scheme, next.Host)
	}
	return next, nil
}

func sameOrigin(a, b *url.URL) bool {
	return strings.EqualFold(a.Scheme, b.Scheme) && strings.EqualFold(a.Hostname(), b.Hostname()) && port(a) == port(b)
}

func port(u *url.URL) string {
	if port := u.Port(); port != "" {
		return port
	}
	if strings.EqualFold(u.Scheme, "https") {
		return "443"
	}
	return "80"
}

// statusError is an answer that is a failure.
type statusError struct {
	status int
	text   string
}

func (e *statusError) Error() string { return e.text }

func statusOf(err error) int {
	var s *statusError
	if errors.As(err, &s) {
		return s.status
	}
	return 0
}

// failure gives an answer its kind (RFC 4918, section 11, and RFC 9110).
func (a *account) failure(response *http.Response, r request) error {
	place := r.url.Path
	if below, ok := strings.CutPrefix(place, a.base.Path); ok {
		place = "/" + below
	}
	cause := &statusError{response.StatusCode, fmt.Sprintf("the server answered %s to %s %s", response.Status, r.method, place)}
	switch status := response.StatusCode; status {
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		return store.SlowDown(retry.AfterHeader(response.Header, a.now()), cause)
	default:
		return store.Errorf(kindOf(status), "%w", cause)
	}
}

func kindOf(status int) error {
	if status == http.StatusConflict { // the folder is missing
		return store.ErrNotFound
	}
	return store.KindOfStatus(status)
}

// explain adds what to do to an error of the first request.
func (a *account) explain(err error, start store.Path) error {
	var dns *net.DNSError
	var noTLS tls.RecordHeaderError
	var operation *net.OpError
	kind, status := store.KindOf(err), statusOf(err)
	var option *store.OptionError
	switch {
	case errors.As(err, &option):
		return err
	case errors.Is(err, context.DeadlineExceeded):
		return store.Concerns(store.Errorf(store.ErrTryAgain,
			"%s did not answer in time; check the host and port of the URL, and that no firewall is between",
			a.base.Host), "url")
	case errors.As(err, &dns):
		return store.Concerns(store.Errorf(store.ErrTryAgain, "the host %s is not known; check the URL", a.base.Hostname()), "url")
	case errors.As(err, &operation) && operation.Op == "dial":
		return store.Concerns(store.Errorf(store.ErrTryAgain,
			"nothing answers at %s (%v); check the host and port of the URL, and that the server runs",
			a.base.Host, operation.Err), "url")
	case strings.Contains(err.Error(), "HTTP response to HTTPS") || errors.As(err, &noTLS):
		return &store.OptionError{Option: "url", Reason: fmt.Sprintf("%s speaks no TLS; give the URL with http:// if that is intended",
			a.base.Host)}
	case kind == store.ErrSignInExpired && a.user == "":
		return store.Concerns(store.Errorf(store.ErrSignInExpired, "%s asks for a sign-in; give a user and a password", a.base.Host), "user",
			"secret-file")
	case kind == store.ErrSignInExpired:
		return store.Concerns(store.Errorf(store.ErrSignInExpired, "%s does not accept the user %q with this password; check both",
			a.base.Host, a.user), "user", "secret-file")
	case status == http.StatusForbidden:
		return store.Concerns(store.Errorf(store.ErrRefused, "%s does not let %s list %s; allow it there, or give another URL", a.base.Host,
			cmpOr(a.user, "everybody"), a.base.Path), "url")
	case kind == store.ErrNotFound && start != "":
		return store.Concerns(store.Errorf(store.ErrNotFound, "the starting folder /%s is not there; make it, or give another starting folder",
			strings.TrimSuffix(string(start), "/")), "start")
	case kind == store.ErrNotFound:
		return store.Concerns(store.Errorf(store.ErrNotFound,
			"there is nothing for a WebDAV client at %s; check the URL, and that WebDAV is on there", a.base), "url")
	case status == http.StatusMethodNotAllowed || status == http.StatusNotImplemented || status == http.StatusBadRequest:
		return store.Concerns(store.Errorf(store.ErrRefused,
			"%s answers, but not as a WebDAV server (%v); check the URL, and that WebDAV is on there",
			a.base.Host, err), "url")
	case kind == store.ErrTryAgain || kind == store.ErrSlowDown:
		return store.Concerns(store.Errorf(kind, "%s cannot serve now (%v); try again in a moment, and check the URL", a.base.Host, err), "url")
	}
	return err
}

func cmpOr(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return "the user " + text
}
