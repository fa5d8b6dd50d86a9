package declared

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"slices"
	"strings"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// payload is content that goes with a request.
type payload struct {
	// open begins to read it. Unless again is true that can be done once.
	open  func() (io.ReadCloser, error)
	size  int64
	again bool
}

func bytesPayload(data []byte) *payload {
	return &payload{open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }, size: int64(len(data)),
		again: true}
}

// outgoing is a request that is ready to be sent.
type outgoing struct {
	operation string
	method    string
	url       *url.URL
	header    http.Header
	body      *payload // nil is nothing
	signed    bool
	follow    bool
	changes   bool  // a lost answer leaves its outcome unknown
	accepts   []int // statuses that are no failure
	in        scope
}

// prepare makes a request of a step.
func (a *account) prepare(ctx context.Context, operation string, step *Step, in scope, content *payload) (*outgoing, error) {
	input := in.asInput()
	more, err := values(ctx, step.With, input)
	if err != nil {
		return nil, err
	}
	out := &outgoing{
		operation: operation, method: step.Request.Method, header: http.Header{}, signed: !step.Unsigned,
		follow: step.Redirects != "kept", accepts: step.Accepts, in: in,
	}
	if out.url, err = a.address(step.Request.Address, in, more); err != nil {
		return nil, err
	}
	if err := a.addQuery(ctx, out, step, input); err != nil {
		return nil, err
	}
	headers := []map[string]Expr{step.Headers}
	if a.ours(out.url) {
		headers = []map[string]Expr{a.definition.Send.Headers, step.Headers}
	}
	out.header.Set("Accept", "application/json, */*;q=0.5")
	for _, named := range headers {
		set, err := texts(ctx, named, input)
		if err != nil {
			return nil, err
		}
		for name, value := range set {
			if strings.ContainsAny(value, "\r\n\x00") {
				return nil, store.Errorf(store.ErrNameRefused, "the header %s cannot hold %q", name, value)
			}
			out.header.Set(name, value)
		}
	}
	return out, a.addBody(ctx, out, step, content)
}

// address expands an address, which counts from the base if it begins with /.
func (a *account) address(template Template, in scope, more map[string]any) (*url.URL, error) {
	return a.parseAddress(template.expand(in, more))
}

func (a *account) parseAddress(text string) (*url.URL, error) {
	if strings.HasPrefix(text, "/") && !strings.HasPrefix(text, "//") {
		text = a.base + text
	}
	address, err := url.Parse(text)
	if err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https" {
		return nil, store.Errorf(store.ErrRefused, "%q is not an address that a request can go to", a.blank(text))
	}
	return address, nil
}

func (a *account) addQuery(ctx context.Context, out *outgoing, step *Step, input jqInput) error {
	all := []map[string]Expr{step.Query}
	if a.ours(out.url) {
		all = []map[string]Expr{a.definition.Send.Query, step.Query}
	}
	var parts []string
	for _, named := range all {
		set, err := values(ctx, named, input)
		if err != nil {
			return err
		}
		for name, value := range set {
			list, several := value.([]any)
			if !several {
				list = []any{value}
			}
			for _, one := range list {
				if one != nil {
					parts = append(parts, url.QueryEscape(name)+"="+url.QueryEscape(textOf(one)))
				}
			}
		}
	}
	if len(parts) == 0 {
		return nil
	}
	slices.Sort(parts)
	if out.url.RawQuery != "" {
		parts = append([]string{out.url.RawQuery}, parts...)
	}
	out.url.RawQuery = strings.ReplaceAll(strings.Join(parts, "&"), "+", "%20")
	return nil
}

func (a *account) addBody(ctx context.Context, out *outgoing, step *Step, content *payload) error {
	input := in(out)
	setType := func(kind string) {
		if out.header.Get("Content-Type") == "" {
			out.header.Set("Content-Type", kind)
		}
	}
	switch {
	case step.Json.Given():
		value, err := step.Json.run(ctx, input, nil)
		if err != nil {
			return err
		}
		data, err := json.Marshal(value)
		if err != nil {
			return wrong(err)
		}
		setType("application/json")
		out.body = bytesPayload(data)
	case step.Form != nil:
		set, err := texts(ctx, step.Form, input)
		if err != nil {
			return err
		}
		form := url.Values{}
		for name, value := range set {
			form.Set(name, value)
		}
		setType("application/x-www-form-urlencoded")
		out.body = bytesPayload([]byte(form.Encode()))
	case step.Content:
		if content == nil {
			return store.Errorf(store.ErrUnsupported, "there is no content to send here")
		}
		media, err := step.Media.run(ctx, input, "application/octet-stream")
		if err != nil {
			return err
		}
		if kind := textOf(media); kind != "" {
			setType(kind)
		}
		out.body = content
	case step.Multipart != nil:
		return a.addParts(ctx, out, step.Multipart, content)
	}
	return nil
}

func in(out *outgoing) jqInput { return out.in.asInput() }

// addParts builds a body of several parts; the content streams within it.
func (a *account) addParts(ctx context.Context, out *outgoing, m *Multipart, content *payload) error {
	var before, after bytes.Buffer
	writer := multipart.NewWriter(&before)
	sends, ended := false, true
	create := func(header textproto.MIMEHeader) (io.Writer, error) {
		if !ended { // the content has no line break at its end
			after.WriteString("\r\n")
			ended = true
		}
		return writer.CreatePart(header)
	}
	for _, part := range m.Parts {
		header, err := a.partHeader(ctx, out, m, part)
		if err != nil {
			return err
		}
		if part.Content {
			if content == nil || sends {
				return store.Errorf(store.ErrUnsupported, "the content can be sent in one part, and there has to be some")
			}
			if _, err := create(header); err != nil {
				return err
			}
			rest := multipart.NewWriter(&after)
			_ = rest.SetBoundary(writer.Boundary())
			writer, sends, ended = rest, true, false
			continue
		}
		text := part.Text
		if part.Json.Given() {
			text = part.Json
		}
		value, err := text.run(ctx, in(out), nil)
		if err != nil {
			return err
		}
		data := []byte(textOf(value))
		if part.Json.Given() {
			if data, err = json.Marshal(value); err != nil {
				return wrong(err)
			}
		}
		body, err := create(header)
		if err != nil {
			return err
		}
		_, _ = body.Write(data)
	}
	if err := writer.Close(); err != nil {
		return err
	}
	if sends {
		out.body = &payload{size: int64(before.Len()) + content.size + int64(after.Len()), again: content.again}
		out.body.open = func() (io.ReadCloser, error) {
			inner, err := content.open()
			if err != nil {
				return nil, err
			}
			return &between{Reader: io.MultiReader(bytes.NewReader(before.Bytes()), inner, bytes.NewReader(after.Bytes())), Closer: inner}, nil
		}
	} else {
		out.body = bytesPayload(before.Bytes())
	}
	if out.header.Get("Content-Type") == "" {
		out.header.Set("Content-Type", fmt.Sprintf("multipart/%s; boundary=%s", m.Type, writer.Boundary()))
	}
	return nil
}

type between struct {
	io.Reader
	io.Closer
}

func (a *account) partHeader(ctx context.Context, out *outgoing, m *Multipart, part Part) (textproto.MIMEHeader, error) {
	header := textproto.MIMEHeader{}
	set, err := texts(ctx, part.Headers, in(out))
	if err != nil {
		return nil, err
	}
	for name, value := range set {
		header.Set(name, value)
	}
	if m.Type == "form-data" {
		disposition := fmt.Sprintf(`form-data; name="%s"`, escapeQuotes(part.Name))
		file, err := part.FileName.run(ctx, in(out), nil)
		if err != nil {
			return nil, err
		}
		if file != nil {
			disposition += fmt.Sprintf(`; filename="%s"`, escapeQuotes(textOf(file)))
		}
		header.Set("Content-Disposition", disposition)
	}
	otherwise := ""
	if part.Json.Given() {
		otherwise = "application/json"
	} else if part.Content {
		otherwise = "application/octet-stream"
	}
	media, err := part.Media.run(ctx, in(out), otherwise)
	if err != nil {
		return nil, err
	}
	if text := textOf(media); text != "" {
		header.Set("Content-Type", text)
	}
	return header, nil
}

// escapeQuotes escapes as HTML's form submission does (WHATWG, multipart/form-data).
var escapeQuotes = strings.NewReplacer(`"`, "%22", "\r", "%0D", "\n", "%0A").Replace

const mostRedirects = 5

// patience is how a trial, which no engine stands behind, waits for a service that asks to
// slow down.
var patience = retry.Policy{First: 300 * time.Millisecond, Longest: 3 * time.Second, Tries: 13}

// send sends a request, signed in where it may be, through redirects, and
// returns its answer: the caller closes its body. A failure is one of ours.
func (a *account) send(ctx context.Context, out *outgoing) (*http.Response, error) {
	refreshed := false
	for redirects, slowed := 0, 0; ; {
		response, token, err := a.once(ctx, out)
		if err != nil {
			return nil, err
		}
		switch status := response.StatusCode; {
		case status == http.StatusUnauthorized && !refreshed && token != "" && (out.body == nil || out.body.again):
			refreshed = true
			discard(response)
			if err := a.signer.renew(ctx, token); err != nil {
				return nil, err
			}
		case isRedirect(status) && out.follow && response.Header.Get("Location") != "":
			if redirects++; redirects > mostRedirects {
				discard(response)
				return nil, store.Errorf(store.ErrRefused, "%s redirects without an end", out.url.Host)
			}
			discard(response)
			if err := a.redirect(out, response); err != nil {
				return nil, err
			}
		case status >= 200 && status < 400 || slices.Contains(out.accepts, status):
			return response, nil
		default:
			answer, err := a.read(response)
			a.recorded(out, response, answer)
			failed := finish(response, a.failure(ctx, out, answer))
			if slowed++; a.patient && slowed < patience.Tries && store.KindOf(failed) == store.ErrSlowDown && (out.body == nil || out.body.again) {
				if err := retry.Sleep(ctx, max(store.Wait(failed), patience.After(slowed+1))); err != nil {
					return nil, failed
				}
				continue
			}
			if status == http.StatusUnauthorized && token != "" && !refreshed && err == nil {
				if err := a.signer.renew(ctx, token); err != nil {
					return nil, err
				}
				return nil, store.Errorf(store.ErrTryAgain, "the sign-in was renewed in the middle of sending; what was sent has to be sent again")
			}
			return nil, failed
		}
	}
}

func isRedirect(status int) bool {
	return status == 301 || status == 302 || status == 303 || status == 307 || status == 308
}

// redirect turns a request to where its answer leads (RFC 9110, section 15.4).
// The sign-in does not go to another origin.
func (a *account) redirect(out *outgoing, response *http.Response) error {
	location, err := out.url.Parse(response.Header.Get("Location"))
	if err != nil || location.Host == "" || location.Scheme != "http" && location.Scheme != "https" {
		return store.Errorf(store.ErrRefused, "%s redirects to no address", out.url.Host)
	}
	if out.url.Scheme == "https" && location.Scheme == "http" {
		return store.Errorf(store.ErrRefused, "%s redirects to %s, which is not encrypted", out.url.Host, location.Host)
	}
	status := response.StatusCode
	if status == 303 || (status == 301 || status == 302) && out.method == http.MethodPost {
		out.method, out.body = http.MethodGet, nil
		out.header.Del("Content-Type")
	}
	if out.body != nil && !out.body.again {
		return store.Errorf(store.ErrTryAgain, "%s redirects an upload in its middle", out.url.Host)
	}
	if origin(location) != origin(out.url) {
		kept := http.Header{"Accept": out.header["Accept"]}
		if r := out.header.Get("Range"); r != "" {
			kept.Set("Range", r)
		}
		if c := out.header.Get("Content-Type"); c != "" {
			kept.Set("Content-Type", c)
		}
		out.header = kept
		out.signed = out.signed && a.ours(location)
	}
	out.url = location
	return nil
}

// once sends a request once, through the gate. The token that it was signed
// with comes back, to be renewed where it was not accepted.
func (a *account) once(ctx context.Context, out *outgoing) (response *http.Response, token string, err error) {
	var body io.ReadCloser
	request, err := http.NewRequestWithContext(ctx, out.method, out.url.String(), nil)
	if err != nil {
		return nil, "", store.Errorf(store.ErrRefused, "%w", err)
	}
	request.Header = out.header.Clone()
	request.Header.Set("User-Agent", "DeftHeron")
	if out.signed && a.ours(out.url) {
		if token, err = a.signer.sign(ctx, request); err != nil {
			return nil, "", err
		}
	}
	if out.body != nil {
		if body, err = out.body.open(); err != nil {
			return nil, "", err
		}
		request.Body, request.ContentLength = body, out.body.size
		if out.body.size == 0 {
			body.Close()
			request.Body = http.NoBody
		}
	}
	done, err := a.opening.Gates().Pass(ctx)
	if err != nil {
		if body != nil {
			body.Close()
		}
		return nil, "", err
	}
	response, err = a.opening.Transport.RoundTrip(request)
	if err != nil {
		err = a.unreachable(err, out)
		done(err)
		a.recordedError(out, err)
		return nil, "", err
	}
	var outcome error
	if response.StatusCode == http.StatusTooManyRequests || response.StatusCode == http.StatusServiceUnavailable {
		outcome = store.SlowDown(retry.AfterHeader(response.Header, a.opening.Now()), errors.New("busy"))
	}
	response.Body = &gated{ReadCloser: response.Body, done: done, outcome: outcome}
	return response, token, nil
}

func (a *account) unreachable(err error, out *outgoing) error {
	if kind := store.KindOf(err); kind != nil {
		return err
	}
	return store.Transport(fmt.Errorf("%s: %w", out.url.Host, err), out.changes)
}

// gated gives a slot of the gate back when the body is closed.
type gated struct {
	io.ReadCloser
	done    func(error)
	outcome error
}

func (g *gated) Close() error {
	defer func() { g.done(g.outcome) }()
	return g.ReadCloser.Close()
}

// discard reads the rest of a small body, so that the connection can be used again.
func discard(response *http.Response) {
	_, _ = io.CopyN(io.Discard, response.Body, 64<<10)
	response.Body.Close()
}

func origin(u *url.URL) string { return store.OriginOfURL(u) }

// ours reports whether an address is of the service, so that the sign-in may go
// there.
func (a *account) ours(u *url.URL) bool { return a.origins[origin(u)] }
