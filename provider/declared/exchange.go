package declared

import (
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"
)

// Exchange is one request and its answer, for whoever tries a definition. Its
// secrets are blanked.
type Exchange struct {
	Operation string            `json:"operation"`
	Request   string            `json:"request"` // METHOD and address
	Sent      map[string]string `json:"sent"`    // headers
	Body      string            `json:"body,omitempty"`
	Status    int               `json:"status,omitempty"`
	Headers   map[string]string `json:"headers,omitempty"`
	Answer    string            `json:"answer,omitempty"`
	Error     string            `json:"error,omitempty"`
}

// mostShown is how much of a body an exchange shows, in bytes.
const mostShown = 2 << 10

// blanks are the secrets that no words may hold.
type blanks struct {
	mu      sync.Mutex
	secrets []string
}

// secret makes a text one that is blanked from now on.
func (a *account) secret(text string) {
	text = strings.TrimSpace(text)
	if len(text) < 4 {
		return
	}
	a.blanks.mu.Lock()
	defer a.blanks.mu.Unlock()
	if slices.Contains(a.blanks.secrets, text) {
		return
	}
	const most = 64 // tokens that were renewed many times over
	if len(a.blanks.secrets) >= most {
		a.blanks.secrets = a.blanks.secrets[1:]
	}
	a.blanks.secrets = append(a.blanks.secrets, text)
}

const blanked = "•••"

// blank takes every secret out of a text.
func (a *account) blank(text string) string {
	a.blanks.mu.Lock()
	defer a.blanks.mu.Unlock()
	for _, secret := range a.blanks.secrets {
		text = strings.ReplaceAll(text, secret, blanked)
		if escaped := url.QueryEscape(secret); escaped != secret {
			text = strings.ReplaceAll(text, escaped, blanked)
		}
	}
	return text
}

// secretHeaders are blanked whole.
var secretHeaders = map[string]bool{"Authorization": true, "Proxy-Authorization": true, "Cookie": true, "Set-Cookie": true}

func (a *account) exchange(out *outgoing) Exchange {
	e := Exchange{Operation: out.operation, Request: out.method + " " + a.blank(out.url.String()), Sent: a.shownHeaders(out.header)}
	if out.signed && out.operation != "the request for a token" {
		e.Sent["Authorization"] = blanked
	}
	if out.body != nil && out.body.again && out.body.size <= mostShown {
		if body, err := out.body.open(); err == nil {
			text := make([]byte, out.body.size)
			n, _ := io.ReadFull(body, text)
			body.Close()
			e.Body = a.shownBody(text[:n])
		}
	} else if out.body != nil {
		e.Body = "(content)"
	}
	return e
}

func (a *account) shownHeaders(header http.Header) map[string]string {
	shown := map[string]string{}
	for name, values := range header {
		text := a.blank(strings.Join(values, ", "))
		if secretHeaders[http.CanonicalHeaderKey(name)] {
			text = blanked
		}
		shown[name] = text
	}
	return shown
}

func (a *account) shownBody(body []byte) string {
	if !utf8.Valid(body) {
		return "(bytes)"
	}
	text := a.blank(blankTokens(string(body)))
	if len(text) > mostShown {
		text = strings.ToValidUTF8(text[:mostShown], "") + "…"
	}
	return text
}

// tokenFields are members of JSON, or of a form, whose values are secrets
// before anybody has learned them.
var tokenFields = regexp.MustCompile(`(?i)("(?:[a-z_]*token|[a-z_]*secret|password|device_code|assertion|code_verifier)"\s*:\s*")[^"]*(")|((?:^|&)(?:[a-z_]*token|[a-z_]*secret|password|device_code|assertion|code_verifier|code)=)[^&\s]*`)

func blankTokens(text string) string {
	return tokenFields.ReplaceAllString(text, "${1}${3}"+blanked+"${2}")
}

// recorded tells of an exchange, where anybody wants to know.
func (a *account) recorded(out *outgoing, response *http.Response, got *answer) {
	if a.recording == nil {
		return
	}
	e := a.exchange(out)
	e.Status, e.Headers = response.StatusCode, a.shownHeaders(response.Header)
	if got != nil {
		e.Answer = a.shownBody(got.text)
	}
	a.recording(e)
}

func (a *account) recordedError(out *outgoing, err error) {
	if a.recording == nil {
		return
	}
	e := a.exchange(out)
	e.Error = a.blank(err.Error())
	a.recording(e)
}
