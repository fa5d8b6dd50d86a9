package declared

import (
	"cmp"
	"context"
	"slices"

	"deftheron/core/store"
)

func sortFound(all []found) {
	slices.SortFunc(all, func(a, b found) int {
		return cmp.Or(cmp.Compare(a.created, b.created), cmp.Compare(len(a.ID), len(b.ID)), cmp.Compare(a.ID, b.ID))
	})
}

// Stat implements store.Store.
func (a *account) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	one, err := a.look(ctx, place)
	return one.Entry, err
}

// look looks at one entry of the ref's kind; of two files of one name, at the
// earlier. Where the ref is of no kind and names no id, a file comes before a folder.
func (a *account) look(ctx context.Context, place store.Ref) (found, error) {
	if place.IsStart() {
		return a.lookAtStart(ctx)
	}
	var one found
	err := a.again(place.Folder, func() (err error) {
		one, err = a.lookOnce(ctx, place)
		return err
	})
	return one, err
}

func (a *account) lookOnce(ctx context.Context, place store.Ref) (found, error) {
	d := a.definition
	byID := d.Addressed == "id"
	if d.Look != nil && (place.ID != "" || !byID) {
		parentID := place.Folder.ID
		in := a.placed(a.fixed(), place.Folder, parentID, place.Name)
		in["id"] = idValue(place.ID)
		got, err := a.do(ctx, "looking", d.Look, in, doing{})
		if err != nil {
			return found{}, err
		}
		one, err := a.entryOf(ctx, "looking", got, in)
		if err == nil && one.excluded {
			err = store.Errorf(store.ErrNotFound, "%s is in the trash of the service", place)
		}
		if err == nil && !place.Means(one.Kind) {
			err = store.Errorf(store.ErrNotFound, "%s is a %s", place, one.Kind)
		}
		if err == nil && place.ID == "" {
			err = a.sameAsAsked(&one, place.Name, "looking")
		} else if err == nil && one.Name == "" {
			one.Name = place.Name
		}
		return one, err
	}
	all, err := a.beside.named(ctx, a, place.Folder, place.Name, false)
	if err != nil {
		return found{}, err
	}
	all = slices.Clone(all) // others have it too
	if place.ID != "" {
		all = slices.DeleteFunc(all, func(one found) bool { return one.ID != place.ID })
	}
	all = slices.DeleteFunc(all, func(one found) bool { return !place.Means(one.Kind) })
	if len(all) == 0 {
		return found{}, store.Errorf(store.ErrNotFound, "there is no %s%w", place, errAbsent)
	}
	if at := slices.IndexFunc(all, func(one found) bool { return one.Kind != store.KindFolder }); at >= 0 {
		return all[at], nil
	}
	return all[0], nil
}

// lookAtStart is the account's start as a folder, which exists if the account
// does.
func (a *account) lookAtStart(ctx context.Context) (found, error) {
	start := found{Entry: store.Entry{Kind: store.KindFolder, ID: a.root}}
	if a.start == "" {
		return start, nil
	}
	if a.definition.Addressed == "id" {
		id, err := a.idOfPath(ctx, "")
		start.ID = id
		return start, err
	}
	above := *a
	above.start = ""
	return above.look(ctx, a.start.Ref())
}

// subject returns the variables of requests about an entry: its place, and its known
// values.
func (a *account) subject(ctx context.Context, place store.Ref, one found) (scope, error) {
	parentID, err := a.folderID(ctx, place.Folder)
	if err != nil {
		return nil, err
	}
	in := a.placed(a.fixed(), place.Folder, parentID, place.Name)
	in["id"], in["kind"], in["revision"] = idValue(cmp.Or(one.ID, place.ID)), string(one.Kind), idValue(one.Revision)
	if one.Size >= 0 {
		in["size"] = int(one.Size)
	}
	in["facts"] = map[string]any{}
	if one.facts != nil {
		in["facts"] = one.facts
	}
	return in, nil
}
