package webdav

import (
	"context"
	"errors"
	"iter"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// Stat implements store.Store.
func (a *account) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	found, err := a.stat(ctx, place)
	return found.Entry, err
}

func (a *account) stat(ctx context.Context, place store.Ref) (resource, error) {
	if err := checkPlace(place); err != nil {
		return resource{}, store.Errorf(store.ErrNotFound, "%s: %w", place, err)
	}
	found, err := retry.Read(ctx, func() (resource, error) { return a.lookAt(ctx, a.urlOfPlace(place)) })
	if err != nil && a.inFile(ctx, place, err) {
		return resource{}, store.Errorf(store.ErrNotFound, "%s is not there: what would hold it is a file", place)
	}
	if err != nil {
		return resource{}, doing("look at", place.String(), err)
	}
	if !place.Means(found.Kind) {
		return resource{}, store.Errorf(store.ErrNotFound, "%s is a %s", place, found.Kind)
	}
	found.Name = place.Name
	return found, nil
}

// inFile reports whether the folder of a place is a file, to which servers answer in several ways.
func (a *account) inFile(ctx context.Context, place store.Ref, err error) bool {
	switch statusOf(err) {
	case http.StatusBadRequest, http.StatusForbidden, http.StatusMethodNotAllowed, http.StatusConflict:
	default:
		return false
	}
	if place.Folder.Path == "" {
		return false
	}
	parent, err := a.stat(ctx, place.Folder.Path.Ref())
	return store.KindOf(err) == store.ErrNotFound || err == nil && parent.Kind != store.KindFolder
}

// doing says what was being done when an error came, and keeps its kind.
func doing(what, where string, err error) error {
	kind := store.KindOf(err)
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return err
	case kind == nil:
		kind = store.ErrTryAgain
	case kind == store.ErrSlowDown:
		return err
	case kind == store.ErrNotFound && statusOf(err) != 0:
		return store.Errorf(kind, "%s is not there: %w", where, err)
	}
	return store.Errorf(kind, "could not %s %s: %w", what, where, err)
}

// errStopped ends a listing whose consumer wants no more.
var errStopped = errors.New("no more is wanted")

// List implements store.Store.
func (a *account) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return a.children(ctx, folder)
}

// children lists by one request of depth 1, decoded as it comes. One that breaks
// off before its first entry is asked for again.
func (a *account) children(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		if err := checkPlace(folder.Path.Ref()); err != nil {
			yield(store.Entry{}, store.Errorf(store.ErrNotFound, "%q: %w", folder.Path, err))
			return
		}
		target := a.urlOf(folder.Path, "")
		yielded := 0
		_, err := retry.Read(ctx, func() (string, error) {
			self := false
			token, err := a.propfind(ctx, "PROPFIND", target, "1", properties, func(at *url.URL, r response) error {
				entry, itself, err := a.child(at, r)
				switch {
				case err != nil:
					return err
				case itself:
					self = true
					if entry.Kind != store.KindFolder {
						return store.Errorf(store.ErrNotFound, "%s is a file", folder.Path.Ref())
					}
					return nil
				case entry.Name == "":
					return nil // gone since the server began to answer
				}
				yielded++
				if !yield(entry, nil) {
					return errStopped
				}
				return nil
			})
			if err == nil && !self {
				err = store.Errorf(store.ErrRefused, "the server lists %s without the folder itself, and may have left out more", folder.Path.Ref())
			}
			if err != nil && yielded > 0 && err != errStopped {
				err = incomplete{err} // not to be asked for again: some were given already
			}
			return token, err
		})
		var broken incomplete
		if errors.As(err, &broken) {
			err = broken.error
		}
		if status := statusOf(err); status == http.StatusBadRequest || status == http.StatusMethodNotAllowed {
			// So do servers answer where a file is listed as a folder.
			if entry, look := a.Stat(ctx, folder.Path.Ref().As("")); look == nil && entry.Kind != store.KindFolder {
				err = store.Errorf(store.ErrNotFound, "%s is a file", folder.Path.Ref())
			}
		}
		if err != nil && err != errStopped {
			yield(store.Entry{}, doing("list", folder.Path.Ref().String(), err))
		}
	}
}

// incomplete hides the kind of an error.
type incomplete struct{ error }

// child makes an entry of one response to a listing of target. An entry without
// a name is one that is gone.
func (a *account) child(target *url.URL, r response) (entry store.Entry, itself bool, err error) {
	if len(r.Hrefs) == 0 {
		return entry, false, store.Errorf(store.ErrRefused, "the server lists something without saying where it is")
	}
	name, err := a.nameBelow(target, r.Hrefs[0])
	if err != nil {
		return entry, false, err
	}
	p, ok := r.found()
	status := code(r.Status)
	if name == "" {
		if !ok && status >= 400 {
			return entry, true, store.Errorf(kindOf(status), "%w", &statusError{status, "the server answered " + r.Status})
		}
		return entryOf("", p), true, nil
	}
	switch {
	case ok:
		return entryOf(name, p), false, nil
	case status == http.StatusNotFound:
		return entry, false, nil
	}
	// It is there and cannot be looked at: reading it will say why.
	return store.Entry{Name: name, Kind: store.KindFile, Size: -1}, false, nil
}

// nameBelow returns the name that an href has in the folder listed; "" is the
// folder itself. Hrefs may be URLs, paths, or relative, with or without a slash
// at the end, and escaped in whichever way; but they must be of this server and
// in this folder.
func (a *account) nameBelow(target *url.URL, href string) (string, error) {
	href = strings.TrimSpace(href)
	refused := func(why string) error {
		return store.Errorf(store.ErrRefused, "the server lists %q, which %s; the listing is not used", href, why)
	}
	parsed, err := target.Parse(href)
	if err != nil {
		return "", refused("is not an address")
	}
	if !sameOrigin(parsed, target) {
		return "", refused("is at another server")
	}
	want, err := segments(target.EscapedPath())
	if err != nil {
		return "", refused("cannot be read")
	}
	have, err := segments(parsed.EscapedPath())
	if err != nil {
		return "", refused("is escaped wrongly")
	}
	if len(have) < len(want) || len(have) > len(want)+1 {
		return "", refused("is not in the folder " + target.Path)
	}
	for i := range want {
		if have[i] != want[i] {
			return "", refused("is not in the folder " + target.Path)
		}
	}
	if len(have) == len(want) {
		return "", nil
	}
	name := have[len(want)]
	if name == "." || name == ".." {
		return "", refused("is a step and no name")
	}
	return name, nil
}

// segments are the names of an escaped path, unescaped each by itself, so that
// an escaped slash stays part of a name.
func segments(escaped string) ([]string, error) {
	var names []string
	for _, segment := range strings.Split(strings.Trim(escaped, "/"), "/") {
		if segment == "" {
			continue
		}
		name, err := url.PathUnescape(segment)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, nil
}

const quotaProperties = `<?xml version="1.0" encoding="utf-8"?>
<D:propfind xmlns:D="DAV:"><D:prop><D:quota-used-bytes/><D:quota-available-bytes/></D:prop></D:propfind>`

// Space is store.Capabilities.Space (RFC 4331).
func (a *account) Space(ctx context.Context) (store.Space, error) {
	space := store.UnknownSpace
	_, err := a.propfind(ctx, "PROPFIND", a.base, "0", quotaProperties, func(_ *url.URL, r response) error {
		p, ok := r.found()
		if !ok {
			return nil
		}
		if used, err := strconv.ParseInt(strings.TrimSpace(p.Used), 10, 64); err == nil && used >= 0 {
			space.Used = used
		}
		if free, err := strconv.ParseInt(strings.TrimSpace(p.Available), 10, 64); err == nil && free >= 0 {
			space.Free = free
		}
		return nil
	})
	if err != nil {
		return store.UnknownSpace, doing("ask for the space of", "/", err)
	}
	if space.Used >= 0 && space.Free >= 0 {
		space.Total = space.Used + space.Free
	}
	return space, nil
}

const lockProperties = `<?xml version="1.0" encoding="utf-8"?>
<D:propfind xmlns:D="DAV:"><D:prop><D:lockdiscovery/></D:prop></D:propfind>`

// locked names the owner of a lock that an answer of 423 spoke of, where the
// server tells.
func (a *account) locked(ctx context.Context, place store.Ref, target *url.URL, err error) error {
	if store.KindOf(err) != store.ErrLocked {
		return err
	}
	who := ""
	_, look := a.propfind(ctx, "PROPFIND", target, "0", lockProperties, func(_ *url.URL, r response) error {
		p, _ := r.found()
		for _, lock := range p.Locks.Active {
			if name := strings.Join(strings.Fields(lock.Owner.Text+" "+lock.Owner.Href), " "); name != "" && who == "" {
				who = name
			}
		}
		return nil
	})
	if look != nil || who == "" {
		return store.Errorf(store.ErrLocked, "%s is locked by somebody whom the server does not name: %w", place, err)
	}
	return store.Errorf(store.ErrLocked, "%s is locked by %s: %w", place, who, err)
}
