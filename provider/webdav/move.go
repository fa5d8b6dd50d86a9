package webdav

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"deftheron/core/publish"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// MakeFolder implements store.Store.
func (a *account) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	if place.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	if err := checkPlace(place); err != nil {
		return store.Entry{}, err
	}
	answer, err := a.send(ctx, request{method: "MKCOL", url: a.urlOf(place.AsFolder().Path, ""), changes: true})
	if err == nil {
		discard(answer)
		return store.Entry{Name: place.Name, Kind: store.KindFolder}, nil
	}
	switch statusOf(err) {
	case http.StatusMethodNotAllowed, http.StatusBadRequest, http.StatusForbidden:
		// Something is there. Some say so only if it was there when they looked, and else
		// that it is forbidden to make it once more.
		if entry, look := a.Stat(ctx, place.As("")); look == nil && entry.Kind == store.KindFolder {
			return entry, nil
		} else if look == nil {
			return store.Entry{}, store.Errorf(store.ErrExists, "a file is at %s, where a folder is needed", place)
		}
	case http.StatusConflict:
		return store.Entry{}, store.Errorf(store.ErrNotFound, "the folder of %s is not there: %w", place, err)
	case http.StatusLocked:
		// Where several make it at once, one holds it for a moment.
		if entry, look := a.Stat(ctx, place.As(store.KindFolder)); look == nil {
			return entry, nil
		}
		err = a.locked(ctx, place, a.urlOf(place.Folder.Path, ""), err)
	}
	return store.Entry{}, doing("make the folder", place.String(), err)
}

// Move is store.Capabilities.Move, by MOVE with "Overwrite: F" (RFC 4918, section
// 9.9).
func (a *account) Move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	if err := checkPlace(to); err != nil {
		return store.Entry{}, err
	}
	there, err := a.stat(ctx, from)
	if err != nil {
		return store.Entry{}, err
	}
	if revision != "" && there.Kind == store.KindFile && there.Revision != revision {
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
	}
	if there.Kind == store.KindFolder {
		err = a.move(ctx, from, to, a.urlOf(from.AsFolder().Path, ""), a.urlOf(to.AsFolder().Path, ""), false)
	} else {
		err = a.Rename(ctx, from, to, false)
	}
	if err != nil {
		return store.Entry{}, err
	}
	entry, err := a.Stat(ctx, to.As(""))
	if err == nil && entry.Kind != there.Kind { // replaced in this moment
		if back := a.move(ctx, to, from, a.urlOfPlace(to), a.urlOfPlace(from), false); back != nil {
			return entry, store.Errorf(store.ErrOutcomeUnknown, "%s was replaced meanwhile, is at %s now, and could not be moved back: %w", from, to,
				back)
		}
		return entry, store.Errorf(store.ErrChanged, "%s was replaced meanwhile", from)
	}
	return entry, err
}

// lockedForAMoment is how something is tried again that the server holds for a moment.
var lockedForAMoment = retry.Policy{
	First: 50 * time.Millisecond, Longest: 800 * time.Millisecond, Tries: 6,
	May: func(err error) bool { return store.KindOf(err) == store.ErrLocked },
}

// move tries a few times where the server holds one of both for a moment.
func (a *account) move(ctx context.Context, from, to store.Ref, source, target *url.URL, overwrite bool) error {
	header := http.Header{"Destination": {target.String()}, "Overwrite": {"F"}}
	if overwrite {
		header.Set("Overwrite", "T")
	}
	partly := false
	err := lockedForAMoment.Do(ctx, func() error {
		answer, err := a.send(ctx, request{method: "MOVE", url: source, header: header, changes: true})
		if err == nil {
			partly = answer.StatusCode == http.StatusMultiStatus
			discard(answer)
		}
		return err
	})
	if err == nil && partly { // it could not move all that is in a folder (section 9.9.4)
		return store.Errorf(store.ErrOutcomeUnknown, "%s could not be moved whole to %s; look at both", from, to)
	}
	if err == nil {
		return nil
	}
	switch statusOf(err) {
	case http.StatusPreconditionFailed:
		return store.Errorf(store.ErrExists, "%s already exists", to)
	case http.StatusLocked:
		return a.locked(ctx, from, source, err)
	case 0:
	default: // servers answer variously where the folder is missing; the standard says 409
		if _, look := a.Stat(ctx, to.Folder.Path.Ref()); store.KindOf(look) == store.ErrNotFound {
			return store.Errorf(store.ErrNotFound, "the folder of %s is not there: %w", to, err)
		}
	}
	return doing("move", from.String()+" to "+to.String(), err)
}

// Remove implements store.Store. As a DELETE takes whatever has the name, a folder
// with all that is in it too, the file is moved to a name of ours first and looked at
// there; where the server checks entity tags, the DELETE itself names the one that is
// meant, and the move is spared.
func (a *account) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	place = place.As(store.KindFile)
	if err := checkPlace(place); err != nil {
		return "", store.Errorf(store.ErrNotFound, "%s: %w", place, err)
	}
	there, err := a.stat(ctx, place)
	if store.KindOf(err) == store.ErrNotFound {
		return a.removeBrokenOff(ctx, place, revision, err)
	}
	if err != nil {
		return "", err
	}
	if revision != "" && there.Revision != revision {
		return "", store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	if !a.found().ifMatch || there.tag == "" || isWeak(there.tag) {
		return store.RemovedFinally, a.removeAside(ctx, place, func(hidden store.Ref) error {
			now, err := a.stat(ctx, hidden)
			switch {
			case err != nil:
				return err
			case now.Size != there.Size || !now.Modified.Equal(there.Modified):
				return store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
			}
			return nil
		})
	}
	header := http.Header{"If-Match": {strings.TrimSpace(there.tag)}}
	if err := a.delete(ctx, a.urlOfPlace(place), header); err != nil {
		if statusOf(err) == http.StatusPreconditionFailed {
			return "", store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
		}
		return "", doing("remove", place.String(), a.locked(ctx, place, a.urlOfPlace(place), err))
	}
	return store.RemovedFinally, nil
}

// RemoveFolder implements store.Store and store.Renamer. As a DELETE takes all that is
// in a folder with it, the folder is moved to a name of ours first, where nobody adds
// to it, and found empty there.
func (a *account) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	if place.IsStart() {
		return "", store.Errorf(store.ErrRefused, "the start of an account cannot be removed")
	}
	place = place.As(store.KindFolder)
	if _, err := a.stat(ctx, place); store.KindOf(err) == store.ErrNotFound {
		return a.removeBrokenOff(ctx, place, "", err)
	} else if err != nil {
		return "", err
	}
	if err := a.holdsNothing(ctx, place); err != nil {
		return "", err
	}
	return store.RemovedFinally, a.removeAside(ctx, place, func(hidden store.Ref) error { return a.holdsNothing(ctx, hidden) })
}

// removeBrokenOff ends a removal that was broken off after the entry was moved to a name of
// ours. It returns missing if there is none.
func (a *account) removeBrokenOff(ctx context.Context, place store.Ref, revision string, missing error) (store.Removal, error) {
	name, ok := publish.RemovalName(place.Name)
	if !ok {
		return "", missing
	}
	hidden := place.Folder.Ref(name).As(place.Kind)
	there, err := a.stat(ctx, hidden)
	if err != nil {
		return "", missing
	}
	to := a.urlOfKind(hidden)
	if place.Kind == store.KindFolder {
		err = a.holdsNothing(ctx, hidden)
	} else if revision != "" && there.Revision != revision {
		err = store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	if err != nil {
		return "", errors.Join(err, a.move(context.WithoutCancel(ctx), hidden, place, to, a.urlOfKind(place), false))
	}
	return store.RemovedFinally, doing("remove", place.String(), a.delete(context.WithoutCancel(ctx), to, http.Header{}))
}

// removeAside moves an entry to a name of ours, and removes it there if it is still
// what is meant; else it is moved back.
func (a *account) removeAside(ctx context.Context, place store.Ref, check func(hidden store.Ref) error) error {
	hidden, folder, err := publish.AsideOfRemoval(ctx, a, place)
	if err != nil {
		return err
	}
	from, to := a.urlOfKind(place), a.urlOfKind(hidden)
	err = a.move(ctx, place, hidden, from, to, false)
	if store.KindOf(err) == store.ErrExists { // an earlier removal was broken off
		var random [6]byte
		rand.Read(random[:])
		spare := place.Folder.Ref(store.ArrivingName("removed", hex.EncodeToString(random[:]))).As(place.Kind)
		if place.Kind == store.KindFolder && a.move(ctx, hidden, spare, to, a.urlOfKind(spare), false) == nil {
			// The folder was created again. No other process knows the spare name.
			_ = a.removeHidden(ctx, hidden, spare, func(left store.Ref) error { return a.holdsNothing(ctx, left) })
			err = a.move(ctx, place, hidden, from, to, false)
		}
		if store.KindOf(err) == store.ErrExists {
			hidden = spare
			err = a.move(ctx, place, hidden, from, a.urlOfKind(hidden), false)
		}
	}
	if err != nil {
		return err
	}
	err = a.removeHidden(ctx, place, hidden, check)
	lasting := context.WithoutCancel(ctx)
	if folder = folder.As(store.KindFolder); folder.Name != "" && a.holdsNothing(lasting, folder) == nil {
		_ = a.delete(lasting, a.urlOfKind(folder), http.Header{})
	}
	return err
}

// removeHidden removes an entry that was moved from a place to a name of ours, if check allows it; otherwise
// it moves the entry back. It does so although ctx has ended.
func (a *account) removeHidden(ctx context.Context, place, hidden store.Ref, check func(hidden store.Ref) error) error {
	ctx = context.WithoutCancel(ctx)
	to := a.urlOfKind(hidden)
	_, err := a.stat(ctx, hidden)
	if err == nil {
		err = check(hidden)
	}
	if err == nil {
		err = doing("remove", place.String(), a.delete(ctx, to, http.Header{}))
	}
	if err != nil {
		if back := a.move(ctx, hidden, place, to, a.urlOfKind(place), false); back != nil {
			return store.Errorf(store.ErrOutcomeUnknown, "%s is at %s and could not be put back (%w): %w", place, hidden, back, err)
		}
	}
	return err
}

func (a *account) holdsNothing(ctx context.Context, place store.Ref) error {
	for entry, err := range a.children(ctx, place.AsFolder()) {
		if err != nil {
			return err
		}
		return store.Errorf(store.ErrRefused, "the folder %s is not empty: it holds %q", place, entry.Name)
	}
	return nil
}

func (a *account) delete(ctx context.Context, target *url.URL, header http.Header) error {
	answer, err := a.send(ctx, request{method: http.MethodDelete, url: target, header: header, changes: true})
	if err != nil {
		return err
	}
	partly := answer.StatusCode == http.StatusMultiStatus
	discard(answer)
	if partly {
		return store.Errorf(store.ErrRefused, "the server could not remove %s", target.Path)
	}
	return nil
}
