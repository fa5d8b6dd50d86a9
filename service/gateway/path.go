package gateway

import (
	"net/http"
	"net/url"
	"strings"
	"time"

	"deftheron/core/store"
)

const (
	// historyName is the folder beside the accounts that shows them as they were.
	historyName = ".history"
	// timeForm is how a time is written as a folder's name: every system can hold it.
	timeForm = "2006-01-02T150405.000Z"
)

// level is what a path leads to.
type level int

const (
	levelTree            level = iota // the tree, or an entry in it
	levelHistory                      // the folder of all accounts as they were
	levelHistoryAccount               // the times of one account
	levelHistoryAtMoment              // an account as it was at a time, or an entry in it
)

// place is where a path leads.
type place struct {
	level   level
	address store.Address
	at      time.Time // of levelHistoryAtMoment
	// slash says that the path ended in a slash, as those of folders do.
	slash bool
}

func (p place) inTree() bool { return p.level == levelTree }

// parsePath reads the path of a request, as it was sent.
func parsePath(escaped string) (place, error) {
	rest, ok := strings.CutPrefix(escaped, Prefix)
	if !ok || rest != "" && rest[0] != '/' {
		return place{}, fail(http.StatusNotFound, "", "%s is not below %s", escaped, Prefix)
	}
	var steps []string
	for _, part := range strings.Split(strings.Trim(rest, "/"), "/") {
		step, err := url.PathUnescape(part)
		if err != nil || strings.Contains(step, "/") || strings.IndexByte(step, 0) >= 0 {
			return place{}, fail(http.StatusBadRequest, "", "the path %s cannot be read; write a slash in a name as %%252F", escaped)
		}
		if step != "" {
			steps = append(steps, step)
		}
	}
	at := place{slash: strings.HasSuffix(rest, "/")}
	if len(steps) > 0 && steps[0] == historyName {
		if len(steps) == 1 {
			at.level = levelHistory
			return at, nil
		}
		if at.level = levelHistoryAccount; len(steps) > 2 {
			at.level = levelHistoryAtMoment
			var err error
			if at.at, err = time.Parse(timeForm, steps[2]); err != nil {
				return place{}, fail(http.StatusNotFound, "", "%q is not a time; write it as %s", steps[2], timeForm)
			}
			steps = append(steps[:2], steps[3:]...)
		}
		steps = steps[1:]
	}
	text := "/" + strings.Join(steps, "/")
	if at.slash && len(steps) > 1 {
		text += "/"
	}
	var err error
	if at.address, err = store.ParseAddress(text); err != nil {
		return place{}, fail(http.StatusNotFound, "", "%w", err)
	}
	for _, step := range at.address.Steps {
		if step.ID != "" {
			return place{}, fail(http.StatusNotFound, "", "entries are named here, not addressed by id")
		}
	}
	return at, nil
}

// href is the path of an entry of the kind given, percent-encoded.
func (p place) href(address store.Address, kind store.Kind) string {
	var b strings.Builder
	b.WriteString(Prefix)
	if !p.inTree() {
		b.WriteString("/" + historyName)
	}
	if p.level != levelHistory && address.Account != "" {
		b.WriteString("/" + address.Account)
	}
	if p.level == levelHistoryAtMoment {
		b.WriteString("/" + p.at.Format(timeForm))
	}
	if len(address.Steps) > 0 {
		address.Folder = false
		text := strings.TrimPrefix(address.String(), "/"+address.Account+"/")
		for _, step := range strings.Split(text, "/") {
			if step == "." || step == ".." {
				step = strings.ReplaceAll(step, ".", "%2E") // a client would take it for a way through the tree
			} else {
				step = url.PathEscape(step)
			}
			b.WriteString("/" + step)
		}
	}
	if kind == store.KindFolder {
		b.WriteString("/")
	}
	return b.String()
}

// isHere reports whether a host, with its port, is this service as a request reaches it, or as others do
// through a proxy. An empty one is.
func (g *Gateway) isHere(r *http.Request, host string) bool {
	return host == "" || strings.EqualFold(host, r.Host) || g.PublicHost != "" && strings.EqualFold(host, g.PublicHost)
}

// destination reads the Destination header of a request: an absolute URL of this service, or a path.
func (g *Gateway) destination(r *http.Request) (place, error) {
	text := r.Header.Get("Destination")
	parsed, err := url.Parse(text)
	switch {
	case text == "" || err != nil:
		return place{}, fail(http.StatusBadRequest, "", "the Destination header is missing or is not an address")
	case !g.isHere(r, parsed.Host):
		return place{}, fail(http.StatusBadGateway, "", "%s is another server; copy within this one", parsed.Host)
	}
	at, err := parsePath(parsed.EscapedPath())
	if err != nil {
		return place{}, fail(http.StatusBadGateway, "", "the destination %s is not below %s", text, Prefix)
	}
	return at, nil
}
