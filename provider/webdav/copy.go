package webdav

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"net/http"

	"deftheron/core/store"
)

// Copy is store.Capabilities.Copy, by COPY (RFC 4918, section 9.8) to a name of ours,
// since servers show a copy while it grows, and a MOVE that replaces nothing.
func (a *account) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
	if err := checkPlace(to); err != nil {
		return store.Entry{}, err
	}
	there, err := a.stat(ctx, from.As(store.KindFile))
	switch {
	case err != nil:
		return store.Entry{}, err
	case there.Kind != store.KindFile:
		return store.Entry{}, store.Errorf(store.ErrUnsupported, "%s is not a file", from)
	case revision != "" && there.Revision != revision:
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
	}
	switch _, err := a.Stat(ctx, to.As("")); store.KindOf(err) {
	case nil:
		return store.Entry{}, store.Errorf(store.ErrExists, "%s already exists", to)
	case store.ErrNotFound:
	default:
		return store.Entry{}, err
	}
	if run == "" {
		run = "copy"
	}
	var random [6]byte
	rand.Read(random[:])
	arriving := to.Folder.Ref(store.ArrivingName(run, hex.EncodeToString(random[:])))
	header := http.Header{"Destination": {a.urlOfPlace(arriving).String()}, "Overwrite": {"F"}, "Depth": {"0"}}
	answer, err := a.send(ctx, request{method: "COPY", url: a.urlOfPlace(from), header: header, changes: true})
	if err == nil {
		discard(answer)
		var now resource
		if now, err = a.stat(ctx, from); err == nil && now.Revision != there.Revision {
			err = store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
		}
	} else if _, look := a.Stat(ctx, to.Folder.Path.Ref()); store.KindOf(look) == store.ErrNotFound {
		err = store.Errorf(store.ErrNotFound, "the folder of %s is not there: %w", to, err)
	} else {
		err = doing("copy", from.String(), err)
	}
	if err == nil {
		err = a.Rename(ctx, arriving, to, false)
	}
	if err != nil {
		a.Discard(ctx, arriving)
		return store.Entry{}, err
	}
	return a.Stat(ctx, to)
}
