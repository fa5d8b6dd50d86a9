package declared

import (
	"context"
	"strings"

	"deftheron/core/store"
)

// asideMark begins what follows the run in the name of something that is kept
// until what replaces it is in place; its own name follows.
const asideMark = "aside-"

// swap puts what arrived under a name of ours in the place of what it replaces,
// in a service that replaces nothing itself. What is replaced is kept aside until
// the new one is there, and put back if it does not get there.
func (w *writer) swap(ctx context.Context, arrived found) (found, error) {
	// Begun, it is carried through: half-way the name is missing.
	ctx = context.WithoutCancel(ctx)
	ours := w.writing.Place.Folder.Ref(arrived.Name)
	ours.ID = arrived.ID
	aside := w.writing.Place.Folder.Ref(store.ArrivingName(w.writing.Run, asideMark+w.writing.Place.Name))
	kept, err := w.putAside(ctx, aside)
	if err != nil {
		_ = w.a.removeFound(ctx, ours, arrived)
		return found{}, err
	}
	placed, err := w.a.move(ctx, ours, arrived, w.writing.Place)
	if err != nil {
		if _, back := w.a.move(ctx, aside, kept, w.writing.Place); back != nil {
			return found{}, store.Errorf(store.ErrOutcomeUnknown, "%s is kept as %s, as neither it nor what replaces it could be put there: %w (%w)",
				w.writing.Place, aside, err, back)
		}
		_ = w.a.removeFound(ctx, ours, arrived)
		return found{}, err
	}
	aside.ID = kept.ID
	if err := w.a.removeFound(ctx, aside, kept); err != nil {
		w.a.opening.Log.Warn("a replaced file could not be deleted", "place", aside.String(), "error", err)
	}
	return placed, nil
}

// putAside moves the replaced file out of the way, if it has not changed.
func (w *writer) putAside(ctx context.Context, aside store.Ref) (found, error) {
	if err := w.a.names.Check(aside.Folder.Path, aside.Name); err != nil {
		return found{}, store.Errorf(store.ErrRefused, "%s cannot be replaced: its name leaves no room for one to keep it by meanwhile",
			w.writing.Place)
	}
	place := w.writing.Place
	place.ID = w.before.ID
	now, err := w.a.look(ctx, place)
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return found{}, err
	}
	if err != nil || now.Revision != w.before.Revision {
		return found{}, store.Errorf(store.ErrChanged, "%s changed just before it was replaced", w.writing.Place)
	}
	return w.a.move(ctx, place, now, aside)
}

// swaps reports whether files are replaced by a swap.
func (d *Definition) swaps() bool {
	for _, upload := range d.Uploads {
		if upload.Replaces == "remove" && !d.Names.Twins {
			return true
		}
	}
	return false
}

// cleanArriving completes the unfinished swaps of a run: a file that was moved aside
// gets its name back if that is free, and other files under our names are removed.
func (a *account) cleanArriving(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	if !a.definition.swaps() {
		return nil, nil
	}
	prefix := store.ArrivingName(cleaning.Run, "")
	folders := []store.Folder{{Path: cleaning.Folder.Path}}
	var gone []store.Leftover
	for len(folders) > 0 {
		folder := folders[len(folders)-1]
		folders = folders[:len(folders)-1]
		var ours []found
		for one, err := range a.children(ctx, folder) {
			if store.KindOf(err) == store.ErrNotFound {
				break // it was not made yet
			}
			if err != nil {
				return gone, err
			}
			if one.Kind == store.KindFolder {
				folders = append(folders, one.Folder(folder))
			} else if store.LeftBy(cleaning.Run, one.Name) {
				ours = append(ours, one)
			}
		}
		for _, one := range ours {
			place := one.Ref(folder)
			if err := a.cleanOne(ctx, place, one, strings.TrimPrefix(one.Name, prefix)); err != nil {
				return gone, err
			}
			gone = append(gone, store.Leftover{Run: cleaning.Run, Place: place})
		}
	}
	return gone, nil
}

func (a *account) cleanOne(ctx context.Context, place store.Ref, one found, rest string) error {
	if name, aside := strings.CutPrefix(rest, asideMark); aside {
		home := place.Folder.Ref(name)
		_, err := a.look(ctx, home)
		if store.KindOf(err) == store.ErrNotFound {
			_, err = a.move(ctx, place, one, home)
			return err
		}
		if err != nil {
			return err
		}
	}
	return a.removeFound(ctx, place, one)
}
