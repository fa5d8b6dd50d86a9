package webdav

import (
	"context"
	"encoding/xml"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"deftheron/core/store"
)

// properties are those that are asked for.
const properties = `<?xml version="1.0" encoding="utf-8"?>
<D:propfind xmlns:D="DAV:"><D:prop><D:resourcetype/><D:getcontentlength/><D:getlastmodified/><D:getetag/></D:prop></D:propfind>`

// response is one of a multistatus answer (RFC 4918, section 14.24).
type response struct {
	Hrefs    []string   `xml:"DAV: href"`
	Status   string     `xml:"DAV: status"`
	PropStat []propStat `xml:"DAV: propstat"`
}

type propStat struct {
	Status string `xml:"DAV: status"`
	Prop   prop   `xml:"DAV: prop"`
}

type prop struct {
	ResourceType struct {
		Collection *struct{} `xml:"DAV: collection"`
	} `xml:"DAV: resourcetype"`
	Length    string `xml:"DAV: getcontentlength"`
	Modified  string `xml:"DAV: getlastmodified"`
	ETag      string `xml:"DAV: getetag"`
	Used      string `xml:"DAV: quota-used-bytes"`
	Available string `xml:"DAV: quota-available-bytes"`
	SyncToken string `xml:"DAV: sync-token"`
	Locks     struct {
		Active []activeLock `xml:"DAV: activelock"`
	} `xml:"DAV: lockdiscovery"`
}

type activeLock struct {
	Owner   owner  `xml:"DAV: owner"`
	Timeout string `xml:"DAV: timeout"`
}

// owner is what a client said of itself when it took a lock: text, or an href.
type owner struct {
	Text string `xml:",chardata"`
	Href string `xml:"DAV: href"`
}

// found returns the properties that the server has.
func (r response) found() (prop, bool) {
	for _, propStat := range r.PropStat {
		if code(propStat.Status) == http.StatusOK {
			return propStat.Prop, true
		}
	}
	return prop{}, false
}

// code is that of a status line such as "HTTP/1.1 200 OK"; 0 is none.
func code(line string) int {
	if fields := strings.Fields(line); len(fields) >= 2 {
		n, _ := strconv.Atoi(fields[1])
		return n
	}
	return 0
}

// propfind asks for properties and calls each with what is answered, one
// resource at a time, without holding the whole answer. at is the address that
// answered, to which redirects led. end is the sync-token of an answer that has
// one.
func (a *account) propfind(ctx context.Context, method string, target *url.URL, depth, body string,
	each func(at *url.URL, r response) error) (end string, err error) {
	answer, err := a.send(ctx, request{
		method: method, url: target, size: int64(len(body)),
		header: http.Header{"Depth": {depth}, "Content-Type": {`application/xml; charset="utf-8"`}, "Accept": {"application/xml, text/xml"}},
		body:   func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(body)), nil },
	})
	if err != nil {
		return "", err
	}
	defer discard(answer)
	kind, _, _ := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	if answer.StatusCode != http.StatusMultiStatus || kind != "" && !strings.HasSuffix(kind, "xml") {
		return "", store.Concerns(store.Errorf(store.ErrRefused,
			"%s answers, but not as a WebDAV server (%s, %s); check the URL, and that WebDAV is on there",
			a.base.Host, answer.Status, kind), "url")
	}
	at := target
	if answer.Request != nil && answer.Request.URL != nil {
		at = answer.Request.URL
	}
	return multistatus(answer.Body, func(r response) error { return each(at, r) })
}

// largestElement is the most bytes that a server may say of one resource.
const largestElement = 1 << 20

// multistatus decodes an answer as a stream. One that ends before its end is an
// error: it must not be taken for the whole.
func multistatus(body io.Reader, each func(response) error) (syncToken string, err error) {
	bounded := store.NewBounded(body, largestElement)
	decoder := xml.NewDecoder(bounded)
	broken := func(err error) error {
		if store.KindOf(err) != nil {
			return err
		}
		return store.Errorf(store.ErrTryAgain, "the server's answer broke off or is not XML: %w", err)
	}
	inside := false
	for {
		bounded.Next()
		token, err := decoder.Token()
		if err != nil {
			return "", broken(err)
		}
		switch element := token.(type) {
		case xml.StartElement:
			switch {
			case element.Name.Space != "DAV:":
				if err := decoder.Skip(); err != nil {
					return "", broken(err)
				}
			case element.Name.Local == "multistatus":
				inside = true
			case element.Name.Local == "response" && inside:
				var one response
				if err := decoder.DecodeElement(&one, &element); err != nil {
					return "", broken(err)
				}
				if err := each(one); err != nil {
					return "", err
				}
			case element.Name.Local == "sync-token" && inside:
				if err := decoder.DecodeElement(&syncToken, &element); err != nil {
					return "", broken(err)
				}
			default:
				if err := decoder.Skip(); err != nil {
					return "", broken(err)
				}
			}
		case xml.EndElement:
			if element.Name.Local == "multistatus" {
				return strings.TrimSpace(syncToken), nil
			}
		}
	}
}

// entryOf makes an entry of a resource's properties.
func entryOf(name string, p prop) store.Entry {
	entry := store.Entry{Name: name, Kind: store.KindFile}
	if modified, err := http.ParseTime(strings.TrimSpace(p.Modified)); err == nil {
		entry.Modified = modified
	}
	if p.ResourceType.Collection != nil {
		entry.Kind = store.KindFolder
		return entry
	}
	entry.Size = -1
	if size, err := strconv.ParseInt(strings.TrimSpace(p.Length), 10, 64); err == nil && size >= 0 {
		entry.Size = size
	}
	entry.Revision = revisionOf(p.ETag, entry.Size, entry.Modified)
	return entry
}

// revisionOf is an entity tag without its quotes and the mark of a weak one, so
// that a tag that grows strong with age (RFC 9110, section 8.8.1) stays the same.
func revisionOf(tag string, size int64, modified time.Time) string {
	tag = strings.TrimSpace(tag)
	tag = strings.TrimPrefix(tag, "W/")
	if tag = strings.Trim(tag, `"`); tag != "" {
		return tag
	}
	if modified.IsZero() {
		return ""
	}
	return "t" + strconv.FormatInt(modified.Unix(), 36) + "." + strconv.FormatInt(size, 36)
}

func isWeak(tag string) bool { return strings.HasPrefix(strings.TrimSpace(tag), "W/") }

// resource is one as it was looked at.
type resource struct {
	store.Entry
	tag string   // as the server gave it
	at  *url.URL // where redirects led
}

// answersOf holds the name in an answer to the one that was asked for.
func answersOf(asked *url.URL, r response) error {
	want, err := segments(asked.EscapedPath())
	if err != nil || len(want) == 0 || len(r.Hrefs) == 0 {
		return err
	}
	answered, err := asked.Parse(strings.TrimSpace(r.Hrefs[0]))
	if err != nil {
		return store.Errorf(store.ErrRefused, "the server answered of %q, which is not an address", r.Hrefs[0])
	}
	have, err := segments(answered.EscapedPath())
	if err != nil || len(have) == 0 || have[len(have)-1] != want[len(want)-1] {
		return store.Errorf(store.ErrRefused, "the server was asked for %q and answered of %q; what it says is not relied on", asked.Path,
			r.Hrefs[0])
	}
	return nil
}

// lookAt asks for the properties of one resource.
func (a *account) lookAt(ctx context.Context, target *url.URL) (resource, error) {
	var found *resource
	_, err := a.propfind(ctx, "PROPFIND", target, "0", properties, func(at *url.URL, r response) error {
		p, ok := r.found()
		if status := code(r.Status); !ok && status >= 400 {
			return store.Errorf(kindOf(status), "%w", &statusError{status, "the server answered " + r.Status})
		}
		if err := answersOf(at, r); err != nil {
			return err
		}
		if found == nil {
			found = &resource{entryOf("", p), p.ETag, at}
		}
		return nil
	})
	if err == nil && found == nil {
		err = store.Errorf(store.ErrNotFound, "the server tells nothing of %s", target.Path)
	}
	if err != nil {
		return resource{}, err
	}
	return *found, nil
}
