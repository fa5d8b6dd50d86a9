package declared

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"deftheron/core/store"
)

// Changes is store.Capabilities.Changes.
func (a *account) Changes(ctx context.Context, folder store.Folder, cursor string) (store.ChangePage, error) {
	return a.changes(ctx, folder, cursor, 0)
}

// AwaitChanges is store.Capabilities.AwaitChanges.
func (a *account) AwaitChanges(ctx context.Context, folder store.Folder, cursor string, wait time.Duration) (store.ChangePage, error) {
	d := a.definition.Changes
	if d == nil || cursor == "" {
		return a.changes(ctx, folder, cursor, 0)
	}
	wait = min(wait, time.Duration(d.Waits))
	if d.Wait == nil || wait <= 0 {
		return a.changes(ctx, folder, cursor, wait)
	}
	in := a.feed(cursor, wait)
	got, err := a.do(ctx, "waiting for changes", &d.Wait.Operation, in, doing{})
	if err != nil {
		return store.ChangePage{}, err
	}
	changed, err := d.Wait.Changed.run(ctx, got.input(in), nil)
	if err != nil {
		return store.ChangePage{}, err
	}
	if !truth(changed) {
		return store.ChangePage{Cursor: cursor}, nil
	}
	return a.changes(ctx, folder, cursor, 0)
}

// feed is what requests about changes see.
func (a *account) feed(cursor string, wait time.Duration) scope {
	in := a.fixed()
	in["cursor"], in["wait"], in["root"] = idValue(cursor), nil, idValue(a.root)
	if wait > 0 {
		in["wait"] = int(wait.Seconds())
	}
	return in
}

func (a *account) changes(ctx context.Context, folder store.Folder, cursor string, wait time.Duration) (store.ChangePage, error) {
	d := a.definition.Changes
	if d == nil {
		return store.ChangePage{}, store.Errorf(store.ErrUnsupported, "the provider %s tells no changes", a.definition.Name)
	}
	in := a.feed(cursor, wait)
	if cursor == "" {
		if d.Begin == nil {
			return a.changePage(ctx, folder, in, true)
		}
		got, err := a.do(ctx, "beginning to follow changes", d.Begin, in, doing{})
		if err != nil {
			return store.ChangePage{}, err
		}
		value, err := d.BeginCursor.run(ctx, got.input(in), nil)
		if err != nil {
			return store.ChangePage{}, err
		}
		return store.ChangePage{Cursor: textOf(value)}, nil
	}
	return a.changePage(ctx, folder, in, false)
}

// changePage asks for a page of changes.
func (a *account) changePage(ctx context.Context, folder store.Folder, in scope, first bool) (store.ChangePage, error) {
	d := a.definition.Changes
	got, err := a.do(ctx, "changes", &d.Page, in, doing{})
	if err != nil {
		return store.ChangePage{}, err
	}
	input := got.input(in)
	page := store.ChangePage{}
	next, err := d.Cursor.run(ctx, input, nil)
	if err != nil {
		return page, err
	}
	page.Cursor = textOf(next)
	if page.Cursor == "" {
		page.Cursor = linkOf(got.header.Values("Link"), "next")
	}
	moved := page.Cursor != ""
	if !moved {
		page.Cursor = textOf(in["cursor"])
	}
	more, err := d.More.run(ctx, input, nil)
	if err != nil {
		return page, err
	}
	page.More = truth(more)
	if first {
		return page, nil
	}
	places := &placer{a: a, folder: folder, known: map[string]store.Folder{}}
	var inner error
	told := 0
	err = d.Items.each(ctx, input, got.body, func(value any) bool {
		told++
		var change store.Change
		var ok bool
		if change, ok, inner = a.change(ctx, places, value, input); ok {
			page.Changes = append(page.Changes, change)
		}
		return inner == nil
	})
	// With the old cursor, the same changes would be asked for again, for ever.
	if stays := page.Cursor == textOf(in["cursor"]); err == nil && inner == nil && (told > 0 && !moved || page.More && stays) {
		err = wrong(errors.New("changes.cursor comes to nothing new, although changes came: the next ones cannot be asked for"))
	}
	return page, errors.Join(err, inner)
}

// change reads one change; ok is false for one outside of the folder.
func (a *account) change(ctx context.Context, places *placer, value any, input jqInput) (store.Change, bool, error) {
	d := a.definition.Changes
	input.Value = value
	m := &mapping{ctx: ctx, input: input}
	gone, id, path := truth(m.value(d.Gone)), m.text(d.ID), m.text(d.Path)
	inner := value
	if d.Entry.Given() {
		inner = m.value(d.Entry)
	}
	if m.err != nil {
		return store.Change{}, false, m.err
	}
	var one found
	if inner != nil && !gone {
		var err error
		if one, err = a.entry(ctx, inner, input); err != nil {
			return store.Change{}, false, err
		}
		gone = one.excluded
		if id == "" {
			id = one.ID
		}
		if path == "" {
			path = one.path
		}
	}
	change := store.Change{Gone: gone, Entry: one.Entry}
	if gone {
		change.Entry = store.Entry{}
	}
	if path != "" {
		place, ok := a.placeOfPath(places.folder, path)
		place.ID = id
		change.Place = place
		return change, ok, nil
	}
	change.Place.ID = id
	if gone && one.parent == "" {
		return change, true, nil // where it was is not told
	}
	if id == a.root && a.root != "" {
		return change, false, nil
	}
	parent, ok, err := places.of(ctx, one.parent, 0)
	if err != nil || !ok {
		return change, false, err
	}
	change.Place = parent.Ref(one.Name)
	change.Place.ID = id
	return change, true, nil
}

// placeOfPath is where a path of the service is in the account; ok is false
// outside of the folder.
func (a *account) placeOfPath(folder store.Folder, path string) (store.Ref, bool) {
	names := strings.Split(strings.Trim(path, "/"), "/")
	above := append(a.start.Names(), folder.Path.Names()...)
	if len(names) <= len(above) {
		return store.Ref{}, false
	}
	for i, name := range above {
		if !a.sameName(names[i], name) {
			return store.Ref{}, false
		}
	}
	names = slices.Clone(names[len(a.start.Names()):])
	return store.At(names...), true
}

// placer finds where entries are by the ids of their folders.
type placer struct {
	a      *account
	folder store.Folder
	known  map[string]store.Folder
}

// deepest bounds how many parent folders are followed.
const deepest = 200

// of is the folder with an id; ok is false where it is not in the one that is
// asked about.
func (p *placer) of(ctx context.Context, id string, depth int) (store.Folder, bool, error) {
	if folder, ok := p.known[id]; ok {
		return folder, folder.ID != "", nil
	}
	if len(p.known) == 0 {
		root, err := p.a.folderID(ctx, p.folder)
		if err != nil {
			return store.Folder{}, false, err
		}
		p.known[root] = store.Folder{Path: p.folder.Path, ID: root}
		if root == id {
			return p.known[root], true, nil
		}
	}
	if id == "" || id == p.a.root || depth > deepest || p.a.definition.Look == nil {
		return store.Folder{}, false, nil
	}
	in := p.a.fixed()
	in["id"] = id
	got, err := p.a.do(ctx, "looking", p.a.definition.Look, in, doing{})
	if store.KindOf(err) == store.ErrNotFound {
		p.known[id] = store.Folder{}
		return store.Folder{}, false, nil
	}
	if err != nil {
		return store.Folder{}, false, err
	}
	one, err := p.a.entryOf(ctx, "looking", got, in)
	if err != nil {
		return store.Folder{}, false, err
	}
	parent, ok, err := p.of(ctx, one.parent, depth+1)
	if err != nil || !ok {
		p.known[id] = store.Folder{}
		return store.Folder{}, false, err
	}
	folder := store.Folder{Path: parent.Path.Child(one.Name), ID: id}
	p.known[id] = folder
	return folder, true, nil
}
