package gateway

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"deftheron/contract"
	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/content"
)

// put writes a file (RFC 4918, section 9.7). It replaces the revision that is there when the request
// begins, and none that comes in between.
func (g *Gateway) put(q *request) error {
	switch {
	case q.place.inTree() && len(q.place.address.Steps) == 0 || q.place.slash:
		return fail(http.StatusMethodNotAllowed, "", "%s is a folder; name a file", q.URL.Path)
	case q.Header.Get("Content-Range") != "":
		return fail(http.StatusBadRequest, "", "parts of files cannot be written; send the whole file")
	}
	located, err := g.change(q, q.place)
	if err != nil {
		return err
	}
	there, exists, err := occupant(q.ctx, located)
	if err != nil {
		return err
	}
	if err := writable(there, exists, located); err != nil {
		return err
	}
	if err := preconditions(q.Request, exists, there.Revision); err != nil {
		return err
	}
	if err := g.check(q, change{address: q.place.address, named: !exists}); err != nil {
		return err
	}
	if err := g.parent(q.ctx, located); err != nil {
		return err
	}
	size := q.ContentLength
	if expected, err := strconv.ParseInt(q.Header.Get("X-Expected-Entity-Length"), 10, 64); err == nil && size < 0 && expected >= 0 {
		size = expected // as a client says that sends chunks
	}
	counted, ended := g.Service.Transfer(q.place.address, true, size)
	defer ended()
	putting := files.Putting{Size: size, Body: content.Body{ReadCloser: q.Body}, Counted: counted}
	if text := q.Header.Get(contract.ModifiedHeader); text != "" {
		if putting.Modified, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return fail(http.StatusBadRequest, "", "%s: %q is not a time; write it as 2026-03-01T12:00:00Z", contract.ModifiedHeader, text)
		}
	}
	entry, err := g.write(q.ctx, located, there, exists, putting)
	if err != nil {
		return err
	}
	if entry.Revision != "" {
		q.w.Header().Set("ETag", contract.EntityTag(entry.Revision))
	}
	g.answerWritten(q, exists)
	return nil
}

func (g *Gateway) answerWritten(q *request, existed bool) {
	if existed {
		q.w.WriteHeader(http.StatusNoContent)
		return
	}
	q.w.WriteHeader(http.StatusCreated)
}

// occupant looks at what has the name of a place, whatever its kind.
func occupant(ctx context.Context, located tree.Located) (there store.Entry, exists bool, err error) {
	there, err = located.Store.Stat(ctx, located.Place)
	if store.KindOf(err) == store.ErrNotFound {
		return store.Entry{}, false, nil
	}
	return there, err == nil, err
}

// writable returns why a file cannot be written over what is there.
func writable(there store.Entry, exists bool, located tree.Located) error {
	switch {
	case !exists:
		return nil
	case there.Kind == store.KindFolder:
		return fail(http.StatusMethodNotAllowed, "", "%s is a folder; choose another name", located.Address)
	case view.ExportedAs(there) != "":
		return fail(http.StatusForbidden, "", "%s is a document that only its service can change; save under another name", located.Address)
	case there.Kind != store.KindFile:
		return fail(http.StatusForbidden, "", "%s is not a regular file; choose another name", located.Address)
	}
	return nil
}

// write writes content to a place, in place of what is there, and verifies it.
func (g *Gateway) write(ctx context.Context, located tree.Located, there store.Entry, exists bool, putting files.Putting) (store.Entry,
	error) {
	if putting.If = store.Absent; exists {
		if err := g.Service.CheckLoss(ctx, located.Address); err != nil {
			return store.Entry{}, err
		}
		putting.If = store.AtRevision(there.Revision)
	}
	run, ended, err := g.Service.TrackUpload(ctx, located.Address)
	if err != nil {
		return store.Entry{}, err
	}
	defer ended()
	putting.Place, putting.Run, putting.Scratch = located.Place.As(store.KindFile), run, g.Scratch
	written, err := files.Write(ctx, located.Store, putting)
	g.Service.Changed(located)
	if err == nil && !exists {
		g.forget(ctx, located, store.KindFile)
	}
	return written.Entry, err
}

// forget removes what clients have set of an entry that was replaced or is gone.
func (g *Gateway) forget(ctx context.Context, located tree.Located, kind store.Kind) {
	ctx = context.WithoutCancel(ctx)
	account, err := g.Service.AccountID(ctx, located.Name)
	if err == nil {
		err = g.DB.DropProperties(ctx, account, located.Place.As(kindOf(kind)))
	}
	if err != nil {
		g.Log.WarnContext(ctx, "the properties of an entry could not be removed", "address", located.Address.String(), "error", err)
	}
}

// makeFolder makes a folder (RFC 4918, section 9.3).
func (g *Gateway) makeFolder(q *request) error {
	if q.ContentLength != 0 {
		return fail(http.StatusUnsupportedMediaType, "", "a folder is made without a body")
	}
	if q.place.inTree() && len(q.place.address.Steps) == 0 {
		return fail(http.StatusMethodNotAllowed, "", "accounts are linked in the service, not here; name a folder in one")
	}
	located, err := g.change(q, q.place)
	if err != nil {
		return err
	}
	if err := g.check(q, change{address: q.place.address, named: true}); err != nil {
		return err
	}
	if err := g.newFolder(q.ctx, located); err != nil {
		return err
	}
	g.answerWritten(q, false)
	return nil
}

// newFolder makes a folder where nothing is.
func (g *Gateway) newFolder(ctx context.Context, located tree.Located) error {
	located.Place = located.Place.As("")
	if _, exists, err := occupant(ctx, located); err != nil || exists {
		if err == nil {
			err = fail(http.StatusMethodNotAllowed, "", "%s exists already", located.Address)
		}
		return err
	}
	if err := g.parent(ctx, located); err != nil {
		return err
	}
	place := located.Place.As(store.KindFolder)
	if err := located.Store.Traits().NameError(place.Folder.Path, place.Name); err != nil {
		return err
	}
	if err := store.Prepare(ctx, located.Store); err != nil {
		return err
	}
	_, err := located.Store.MakeFolder(ctx, place)
	if err == nil {
		err = store.Sync(ctx, located.Store)
	}
	g.Service.Changed(located)
	if err == nil {
		g.forget(ctx, located, store.KindFolder)
	}
	return err
}

// remove removes a file, or a folder with all that is in it (RFC 4918, section 9.6).
func (g *Gateway) remove(q *request) error {
	located, err := g.change(q, q.place)
	if err != nil {
		return err
	}
	there, exists, err := occupant(q.ctx, located)
	if err == nil && !exists {
		err = store.Errorf(store.ErrNotFound, "%s does not exist", located.Address)
	}
	if err != nil {
		return err
	}
	if err := preconditions(q.Request, true, there.Revision); err != nil {
		return err
	}
	if err := g.check(q, change{address: q.place.address, whole: true, named: true}); err != nil {
		return err
	}
	empty := q.Header.Get("Depth") == "0" // a folder only if nothing is in it, as the protocol leaves open
	removed, err := g.removeEntry(q.ctx, located, there, empty)
	if err != nil {
		return err
	}
	if len(removed.Failures) == 0 {
		q.w.WriteHeader(http.StatusNoContent)
		return nil
	}
	out := &multistatus{g: g, w: q.w, ctx: q.ctx}
	for _, failure := range removed.Failures {
		out.failed(store.MakeAddress(located.Name, failure.Place), failure.Place.Kind, statusOf(failure.Err))
	}
	return out.end(nil)
}

// removeEntry removes what is at a place. A folder is counted to its end first, and no more than that
// is removed; with empty it is removed only if nothing is in it.
func (g *Gateway) removeEntry(ctx context.Context, located tree.Located, there store.Entry, empty bool) (removed files.Removed,
	err error) {
	if err := g.Service.CheckLoss(ctx, located.Address); err != nil {
		return removed, err
	}
	if view.ExportedAs(there) != "" {
		return removed, fail(http.StatusForbidden, "", "%s is a document of its service; delete it there", located.Address)
	}
	place := located.Place.As(there.Kind)
	defer g.Service.Changed(located)
	switch {
	case there.Kind == store.KindFolder && empty:
		if _, err := located.Store.RemoveFolder(ctx, place); err != nil {
			return removed, err
		}
	case there.Kind == store.KindFolder:
		count, err := files.Survey(ctx, located.Store, place)
		if err == nil {
			err = g.Service.CheckDeletion(ctx, count.Files)
		}
		if err == nil {
			removed, err = files.Remove(ctx, located.Store, place, count)
		}
		if err != nil {
			return removed, err
		}
	default:
		if _, err := located.Store.Remove(ctx, place, there.Revision); err != nil {
			return removed, err
		}
	}
	if err := store.Sync(context.WithoutCancel(ctx), located.Store); err != nil || len(removed.Failures) > 0 {
		return removed, err
	}
	g.gone(ctx, located.Address)
	g.forget(ctx, located, there.Kind)
	return removed, nil
}
