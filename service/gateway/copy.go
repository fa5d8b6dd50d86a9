package gateway

import (
	"context"
	"net/http"
	"strings"

	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
)

// transfer is a copy or a move.
type transfer struct {
	g *Gateway
	// moves says that the source is removed, file by file, once it is at the target.
	moves    bool
	failures []failure
	// deep copies what is in a folder too.
	deep bool
}

// failure is an entry that could not be copied or moved.
type failure struct {
	address store.Address
	kind    store.Kind
	err     error
}

// mostFailures is how many failures are listed; then a copy ends.
const mostFailures = 100

// end is one end of a copy.
type end struct {
	tree.Located
	there  store.Entry
	exists bool
}

// copyOrMove copies or moves an entry (RFC 4918, sections 9.8 and 9.9).
func (g *Gateway) copyOrMove(q *request) error {
	t := &transfer{g: g, moves: q.Method == "MOVE", deep: true}
	switch depth := q.Header.Get("Depth"); {
	case depth == "" || strings.EqualFold(depth, "infinity"):
	case depth == "0" && !t.moves:
		t.deep = false
	default:
		return fail(http.StatusBadRequest, "", "%s does not go with a depth of %q", q.Method, depth)
	}
	from, to, err := g.ends(q, t)
	if err != nil {
		return err
	}
	if to.exists && strings.EqualFold(q.Header.Get("Overwrite"), "F") {
		return fail(http.StatusPreconditionFailed, "", "%s exists already", to.Address)
	}
	if err := g.parent(q.ctx, to.Located); err != nil {
		return err
	}
	changes := []change{{address: to.Address, whole: true, named: !to.exists}}
	if t.moves {
		changes = append(changes, change{address: from.Address, whole: true, named: true})
	}
	if err := g.check(q, changes...); err != nil {
		return err
	}
	if err := t.one(q.ctx, from, to); err != nil {
		return err
	}
	if len(t.failures) == 0 {
		g.answerWritten(q, to.exists)
		return nil
	}
	out := &multistatus{g: g, w: q.w, ctx: q.ctx}
	for _, one := range t.failures {
		out.failed(one.address, one.kind, statusOf(one.err))
	}
	return out.end(nil)
}

// ends looks at both ends of a copy, and refuses what cannot be meant.
func (g *Gateway) ends(q *request, t *transfer) (from, to end, err error) {
	target, err := g.destination(q.Request)
	if err != nil {
		return from, to, err
	}
	if len(q.place.address.Steps) == 0 {
		return from, to, fail(http.StatusForbidden, "", "a whole account is copied by a job, not here")
	}
	if t.moves {
		if from.Located, err = g.change(q, q.place); err == nil {
			err = g.Service.CheckLoss(q.ctx, q.place.address)
		}
	} else {
		from.Located, err = g.Tree.Locate(q.ctx, q.place.address)
	}
	if err == nil {
		from.there, from.exists, err = occupant(q.ctx, from.Located)
	}
	if err == nil && !from.exists {
		err = store.Errorf(store.ErrNotFound, "%s does not exist", q.place.address)
	}
	if err != nil {
		return from, to, err
	}
	if to.Located, err = g.change(q, target); err != nil {
		return from, to, err
	}
	if keyOf(from.Address) == keyOf(to.Address) {
		return from, to, fail(http.StatusForbidden, "", "%s is the source and the target", from.Address)
	}
	source, goal := from.Address, to.Address
	if source.Folder, goal.Folder = false, false; source.Contains(goal) || goal.Contains(source) {
		return from, to, fail(http.StatusForbidden, "", "one of %s and %s is in the other", from.Address, to.Address)
	}
	to.there, to.exists, err = occupant(q.ctx, to.Located)
	if to.exists && t.moves && sameEntry(from, to) {
		to.exists = false // only the letter case of its name changes
	}
	return from, to, err
}

// sameEntry reports whether both names are of one entry in an account that ignores letter case.
func sameEntry(from, to end) bool {
	return from.Name == to.Name && from.Store.Traits().CaseIgnored && from.Place.Folder == to.Place.Folder &&
		strings.EqualFold(from.Place.Name, to.Place.Name)
}

// one copies or moves one entry, with all that is in it.
func (t *transfer) one(ctx context.Context, from, to end) error {
	to.Place = to.Place.As("")
	if err := to.Store.Traits().NameError(to.Place.Folder.Path, to.Place.Name); err != nil {
		return err
	}
	if to.exists && (to.there.Kind == store.KindFolder || from.there.Kind == store.KindFolder) {
		// What is replaced goes first, as the protocol has it, once the source is known to be readable.
		if _, err := files.Survey(ctx, from.Store, from.Place.As(from.there.Kind)); err != nil {
			return err
		}
		removed, err := t.g.removeEntry(ctx, to.Located, to.there, false)
		if err != nil || len(removed.Failures) > 0 {
			for _, one := range removed.Failures {
				t.failures = append(t.failures, failure{store.MakeAddress(to.Name, one.Place), one.Place.Kind, one.Err})
			}
			return err
		}
		to.exists = false
	}
	if t.moves && !to.exists && from.Name == to.Name {
		done, err := t.inside(ctx, from, to)
		if done || err != nil {
			return err
		}
	}
	if from.there.Kind == store.KindFolder {
		return t.folder(ctx, from, to)
	}
	return t.file(ctx, from, to)
}

// inside moves an entry within its account; false if the account cannot.
func (t *transfer) inside(ctx context.Context, from, to end) (bool, error) {
	if !store.CanMove(from.Store) {
		return false, nil
	}
	_, err := store.Move(ctx, from.Store, from.Place.As(from.there.Kind), from.there.Revision, to.Place)
	t.g.Service.Changed(from.Located)
	t.g.Service.Changed(to.Located)
	if store.KindOf(err) == store.ErrUnsupported {
		return false, nil
	}
	if err == nil {
		err = store.Sync(context.WithoutCancel(ctx), to.Store)
	}
	if err == nil {
		t.follow(ctx, from, to)
	}
	return true, err
}

// file copies one file, and then removes the source if it is to be moved.
func (t *transfer) file(ctx context.Context, from, to end) error {
	switch {
	case from.there.Kind != store.KindFile:
		return fail(http.StatusForbidden, "", "%s holds no content of its own, and cannot be copied", from.Address)
	case t.moves && view.ExportedAs(from.there) != "":
		return fail(http.StatusForbidden, "", "%s is a document of its service; copy it, or move it there", from.Address)
	}
	if err := writable(to.there, to.exists, to.Located); err != nil {
		return err
	}
	if done, err := t.copyInside(ctx, from, to); err != nil || !done {
		if err == nil {
			err = t.through(ctx, from, to)
		}
		if err != nil {
			return err
		}
	}
	if t.moves {
		if _, err := from.Store.Remove(ctx, from.Place.As(store.KindFile), from.there.Revision); err != nil {
			return err
		}
		t.g.Service.Changed(from.Located)
		if err := store.Sync(context.WithoutCancel(ctx), from.Store); err != nil {
			return err
		}
	}
	t.follow(ctx, from, to)
	return nil
}

// copyInside copies a file within its account; false if the account cannot.
func (t *transfer) copyInside(ctx context.Context, from, to end) (bool, error) {
	if from.Name != to.Name || to.exists || !store.CanCopy(from.Store) || view.ExportedAs(from.there) != "" {
		return false, nil
	}
	run, ended, err := t.g.Service.TrackUpload(ctx, to.Address)
	if err != nil {
		return false, err
	}
	defer ended()
	_, err = store.Copy(ctx, from.Store, from.Place.As(store.KindFile), from.there.Revision, to.Place.As(store.KindFile), run)
	t.g.Service.Changed(to.Located)
	if store.KindOf(err) == store.ErrUnsupported {
		return false, nil
	}
	if err == nil {
		err = store.Sync(context.WithoutCancel(ctx), to.Store)
	}
	return err == nil, err
}

// through copies a file by reading and writing it.
func (t *transfer) through(ctx context.Context, from, to end) error {
	reading := store.Reading{Place: from.Place, Revision: from.there.Revision}
	source, err := from.Store.Open(ctx, reading)
	if err != nil {
		return err
	}
	defer source.Close()
	_, err = t.g.write(ctx, to.Located, to.there, to.exists, files.Putting{
		Size: from.there.Size, Modified: from.there.Modified, Body: source,
	})
	return err
}

// folder copies a folder, entry by entry. What cannot be copied is listed, and the rest goes on.
func (t *transfer) folder(ctx context.Context, from, to end) error {
	if err := t.g.newFolder(ctx, to.Located); err != nil {
		return err
	}
	before := len(t.failures)
	if t.deep {
		for node, err := range t.g.Tree.List(ctx, from.Address) {
			if err != nil {
				return err
			}
			t.child(ctx, from, to, node)
			if len(t.failures) >= mostFailures {
				return nil
			}
		}
	}
	if t.moves && len(t.failures) == before {
		if _, err := from.Store.RemoveFolder(ctx, from.Place.As(store.KindFolder)); err != nil {
			return err
		}
		t.g.Service.Changed(from.Located)
		if err := store.Sync(context.WithoutCancel(ctx), from.Store); err != nil {
			return err
		}
	}
	t.follow(ctx, from, to)
	return nil
}

// child copies what is in a folder to where nothing is.
func (t *transfer) child(ctx context.Context, from, to end, node tree.Node) {
	source, target := from, to
	source.Address, source.Place = node.Address, node.Ref(from.Place.AsFolder())
	source.there, source.exists = node.Entry, true
	target.Address, target.Place = to.Address.Child(node.Name), to.Place.AsFolder().Ref(node.Name)
	target.there, target.exists = store.Entry{}, false
	err := store.CheckName(node.Name)
	if err == nil {
		err = t.one(ctx, source, target)
	}
	if err != nil {
		t.failures = append(t.failures, failure{source.Address, node.Kind, err})
	}
}

// follow has what clients have set of an entry follow it. Locks do not.
func (t *transfer) follow(ctx context.Context, from, to end) {
	ctx = context.WithoutCancel(ctx)
	kind := kindOf(from.there.Kind)
	source, err := t.g.Service.AccountID(ctx, from.Name)
	target := source
	if err == nil && to.Name != from.Name {
		target, err = t.g.Service.AccountID(ctx, to.Name)
	}
	if err == nil {
		err = t.g.DB.CopyProperties(ctx, source, from.Place.As(kind), target, to.Place)
	}
	if err != nil {
		t.g.Log.WarnContext(ctx, "the properties of an entry could not follow it",
			"from", from.Address.String(), "to", to.Address.String(), "error", err)
	}
	if t.moves {
		t.g.gone(ctx, from.Address)
		t.g.forget(ctx, from.Located, from.there.Kind)
	}
}
