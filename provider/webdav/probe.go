package webdav

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/url"
	"time"

	"deftheron/core/publish"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// findings are what the server was found to do.
type findings struct {
	ifMatch     bool // a PUT over another entity tag is refused
	ifNoneMatch bool // a PUT over what is there is refused where nothing may be
	whole       bool // a PUT shows its file only once all of it has arrived
	late        bool // conditions are checked when it has arrived, not before
}

// found is what is known; before anything is, the best is assumed, as nothing
// is written before it is known.
func (a *account) found() findings {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.probed == nil {
		return findings{true, true, true, true}
	}
	return *a.probed
}

// Prepare is store.Capabilities.Prepare with a few requests on a file of ours below
// ".heron", which is removed again: a second creation and a replacement of
// another entity tag must be refused; while a slow replacement arrives, the old
// content must still be there; and a slow creation must be refused where somebody
// else has created the file meanwhile.
func (a *account) Prepare(ctx context.Context) error {
	a.mu.Lock()
	done := a.probed != nil
	a.mu.Unlock()
	if done {
		return nil
	}
	found, err := retry.Read(ctx, func() (findings, error) {
		found, err := a.probe(ctx)
		if store.KindOf(err) == store.ErrOutcomeUnknown { // what came of it does not matter
			err = store.Errorf(store.ErrTryAgain, "%w", err)
		}
		return found, err
	})
	if err != nil {
		return store.Errorf(store.KindOf(err), "could not find out what the server can do: %w", err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.probed = &found
	return nil
}

func (a *account) probe(ctx context.Context) (found findings, err error) {
	own := store.At(store.OwnFolder)
	_, missing := a.Stat(ctx, own)
	if _, err := a.MakeFolder(ctx, own); err != nil {
		return found, err
	}
	place := own.AsFolder().Ref(publish.NewProbe())
	target := a.urlOfPlace(place)
	defer func() {
		a.removeStaleProbes(context.WithoutCancel(ctx), own.AsFolder(), place.Name)
		a.Discard(ctx, place)
		if store.KindOf(missing) == store.ErrNotFound {
			// Of several that look at once, the last to end removes it.
			_, _ = a.RemoveFolder(context.WithoutCancel(ctx), own)
		}
	}()
	data := []byte("Deft Heron looks what this server can do, and removes this again.\n")
	if err := a.putProbe(ctx, target, data, http.Header{}); err != nil {
		return found, err
	}
	refused := func(header http.Header) (bool, error) {
		err := a.putProbe(ctx, target, data, header)
		if err == nil || statusOf(err) == http.StatusPreconditionFailed {
			return err != nil, nil
		}
		return false, err
	}
	if found.ifNoneMatch, err = refused(http.Header{"If-None-Match": {"*"}}); err != nil {
		return found, err
	}
	if found.ifMatch, err = refused(http.Header{"If-Match": {`"no-such-entity-tag"`}}); err != nil {
		return found, err
	}
	if found.whole, err = a.showsWhole(ctx, target, int64(len(data))); err != nil || !found.ifNoneMatch || !found.whole {
		return found, err
	}
	found.late, err = a.checksLate(ctx, own, data)
	return found, err
}

// removeStaleProbes removes probes that were left behind.
func (a *account) removeStaleProbes(ctx context.Context, own store.Folder, probe string) {
	var entries []store.Entry
	for entry, err := range a.List(ctx, own) {
		if err != nil {
			return
		}
		entries = append(entries, entry)
	}
	for _, stale := range publish.StaleProbes(entries, probe) {
		a.Discard(ctx, own.Ref(stale.Name))
	}
}

func (a *account) putProbe(ctx context.Context, target *url.URL, data []byte, header http.Header) error {
	answer, err := a.send(ctx, request{
		method: http.MethodPut, url: target, header: header, size: int64(len(data)), changes: true,
		body: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil },
	})
	if err == nil {
		discard(answer)
	}
	return err
}

// showsWhole replaces a file of the size given by a larger one, and looks at it
// when a half is on its way.
func (a *account) showsWhole(ctx context.Context, target *url.URL, size int64) (whole bool, err error) {
	whole = true
	var looked error
	look := func() {
		for range 4 {
			there, err := a.lookAt(ctx, target)
			if store.KindOf(err) == store.ErrNotFound || err == nil && there.Size != size {
				whole = false
				return
			}
			if looked = err; err != nil || retry.Sleep(ctx, 50*time.Millisecond) != nil {
				return
			}
		}
	}
	if err := a.putSlowly(ctx, target, http.Header{}, look); err != nil {
		return false, err
	}
	return whole, looked
}

// checksLate creates a file slowly where nothing may be, and once more, fast,
// when a half is on its way: a server that checks conditions when a file has
// arrived refuses the slow one.
func (a *account) checksLate(ctx context.Context, own store.Ref, data []byte) (late bool, err error) {
	place := own.AsFolder().Ref(publish.NewProbe())
	target := a.urlOfPlace(place)
	defer a.Discard(ctx, place)
	var faster error
	err = a.putSlowly(ctx, target, http.Header{"If-None-Match": {"*"}}, func() {
		faster = a.putProbe(ctx, target, data, http.Header{})
	})
	if faster != nil {
		return false, nil // the server holds a file that arrives, or fails: nothing is promised
	}
	if status := statusOf(err); status == http.StatusPreconditionFailed || status == http.StatusConflict {
		return true, nil
	}
	return false, err
}

// putSlowly sends a larger file and calls look when a half is on its way.
func (a *account) putSlowly(ctx context.Context, target *url.URL, header http.Header, look func()) error {
	const larger = 128 << 10
	header.Set("Expect", "100-continue") // the server says that it goes on when it has begun to take the file
	answer, err := a.send(ctx, request{
		method: http.MethodPut, url: target, size: larger, changes: true, header: header,
		body: func() (io.ReadCloser, error) { return &slowBody{left: larger, look: look}, nil },
	})
	if err == nil {
		discard(answer)
	}
	return err
}

// slowBody calls look when half of it was read.
type slowBody struct {
	left int
	look func()
}

func (b *slowBody) Read(p []byte) (int, error) {
	const half = 64 << 10
	if b.left == 0 {
		return 0, io.EOF
	}
	if b.left <= half && b.look != nil {
		b.look()
		b.look = nil
	}
	n := min(len(p), b.left)
	if b.left > half {
		n = min(n, b.left-half)
	}
	clear(p[:n])
	b.left -= n
	return n, nil
}

func (b *slowBody) Close() error { return nil }
