package webdav

import (
	"context"
	"encoding/xml"
	"net/http"
	"net/url"
	"strings"

	"deftheron/core/store"
)

const syncTokenProperty = `<?xml version="1.0" encoding="utf-8"?>
<D:propfind xmlns:D="DAV:"><D:prop><D:sync-token/></D:prop></D:propfind>`

// Changes is store.Capabilities.Changes by the report of RFC 6578. It tells the
// changes of all levels below the folder where the server allows for that.
func (a *account) Changes(ctx context.Context, folder store.Folder, cursor string) (store.ChangePage, error) {
	target := a.urlOf(folder.Path, "")
	if cursor == "" {
		return a.nowCursor(ctx, folder, target)
	}
	var token strings.Builder
	_ = xml.EscapeText(&token, []byte(cursor))
	body := `<?xml version="1.0" encoding="utf-8"?>
<D:sync-collection xmlns:D="DAV:"><D:sync-token>` + token.String() + `</D:sync-token><D:sync-level>infinite</D:sync-level>
<D:prop><D:resourcetype/><D:getcontentlength/><D:getlastmodified/><D:getetag/></D:prop></D:sync-collection>`
	page := store.ChangePage{}
	next, err := a.propfind(ctx, "REPORT", target, "0", body, func(at *url.URL, r response) error {
		if len(r.Hrefs) == 0 {
			return store.Errorf(store.ErrRefused, "the server tells a change without saying of what")
		}
		place, itself, err := a.placeBelow(at, folder, r.Hrefs[0])
		if err != nil {
			return err
		}
		if itself {
			page.More = page.More || code(r.Status) == http.StatusInsufficientStorage // section 3.6: there is more
			return nil
		}
		p, ok := r.found()
		change := store.Change{Place: place, Gone: !ok && code(r.Status) == http.StatusNotFound}
		if !change.Gone {
			change.Entry = entryOf(place.Name, p)
		}
		page.Changes = append(page.Changes, change)
		return nil
	})
	switch status := statusOf(err); {
	case status == http.StatusForbidden || status == http.StatusConflict || status == http.StatusPreconditionFailed:
		return page, store.Errorf(store.ErrChanged, "the server no longer knows the changes since then: %w", err) // section 3.2
	case err != nil:
		return page, doing("ask for the changes of", folder.Path.Ref().String(), err)
	case next == "":
		return page, store.Errorf(store.ErrUnsupported, "the server tells changes and not from where to go on")
	}
	page.Cursor = next
	return page, nil
}

// nowCursor is the token of what the folder holds now (section 4).
func (a *account) nowCursor(ctx context.Context, folder store.Folder, target *url.URL) (store.ChangePage, error) {
	token := ""
	_, err := a.propfind(ctx, "PROPFIND", target, "0", syncTokenProperty, func(_ *url.URL, r response) error {
		p, _ := r.found()
		token = strings.TrimSpace(p.SyncToken)
		return nil
	})
	if err != nil {
		return store.ChangePage{}, doing("ask for the changes of", folder.Path.Ref().String(), err)
	}
	if token == "" {
		return store.ChangePage{}, store.Errorf(store.ErrUnsupported, "the server tells no changes of %s", folder.Path.Ref())
	}
	return store.ChangePage{Cursor: token}, nil
}

// placeBelow is the place that an href has, at any depth, below a folder.
func (a *account) placeBelow(target *url.URL, folder store.Folder, href string) (place store.Ref, itself bool, err error) {
	parsed, err := target.Parse(strings.TrimSpace(href))
	if err != nil || !sameOrigin(parsed, target) {
		return place, false, store.Errorf(store.ErrRefused, "the server tells a change of %q, which is not of this server", href)
	}
	have, err := segments(parsed.EscapedPath())
	want, err2 := segments(target.EscapedPath())
	if err != nil || err2 != nil || len(have) < len(want) || strings.Join(have[:len(want)], "\x00") != strings.Join(want, "\x00") {
		return place, false, store.Errorf(store.ErrRefused, "the server tells a change of %q, which is not in the folder", href)
	}
	names := have[len(want):]
	if len(names) == 0 {
		return place, true, nil
	}
	path := folder.Path + store.MakePath(names[:len(names)-1]...)
	return store.Folder{Path: path}.Ref(names[len(names)-1]), false, nil
}
