// Package publish gives a written file its name where a protocol has no write that is
// atomic and conditional of its own: under a name of ours first, and then in one step.
package publish

import (
	"context"
	"strings"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// Renamer is what [Settle] and [CleanArrivals] need of a store that writes by
// way of names of ours: to look, and to rename.
type Renamer interface {
	// Stat looks at one entry, which may be one of ours.
	Stat(ctx context.Context, place store.Ref) (store.Entry, error)
	// Rename gives a file another name of the same account. With replace, a
	// file that is there goes in the same moment; ErrUnsupported where the
	// account cannot do so. Without, ErrExists where anything is there.
	Rename(ctx context.Context, from, to store.Ref, replace bool) error
	// Discard removes a file of ours, though ctx is over; at its leisure, and
	// without an error where it is not there.
	Discard(ctx context.Context, place store.Ref)
	// MakeFolder makes a folder of ours, and RemoveFolder removes one that is
	// empty.
	MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error)
	RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error)
	// Replaces reports whether Rename can replace, with no moment between.
	Replaces() bool
}

// asidePrefix begins, after the run, the name of what is kept aside.
const asidePrefix = "aside-"

// longestName is what file servers hold, in bytes.
const longestName = 255

// Publish gives what has arrived under a name of ours the name that it was written
// for, under the write's condition. Where the account cannot replace a file in one
// step, the old content is moved aside first, looked at, and moved back if it is
// not what was expected, or if anything fails. If the write keeps the old content, aside is
// the place where it is kept.
func Publish(ctx context.Context, r Renamer, writing store.Writing, arriving store.Ref) error {
	for try := 1; ; try++ {
		there, err := r.Stat(ctx, writing.Place.As("")) // a folder is in the way too
		missing := store.KindOf(err) == store.ErrNotFound
		if err != nil && !missing {
			return err
		}
		if err := ConditionHolds(writing, there, !missing); err != nil {
			return err
		}
		switch {
		case missing:
			err = r.Rename(ctx, arriving, writing.Place, false)
		case r.Replaces() && writing.Keep.IsStart():
			err = r.Rename(ctx, arriving, writing.Place, true)
		default:
			err = exchange(ctx, r, writing, arriving, there)
		}
		if store.KindOf(err) == store.ErrExists && writing.If == store.Any && try < 5 {
			continue // somebody was faster; whatever it is, it is replaced
		}
		return err
	}
}

// ConditionHolds compares what is at a place with what a write expects there.
func ConditionHolds(writing store.Writing, entry store.Entry, there bool) error {
	revision, atRevision := writing.If.Expect()
	switch {
	case there && entry.Kind == store.KindFolder:
		return store.Errorf(store.ErrExists, "a folder is at %s", writing.Place)
	case writing.If.IsAbsent() && there:
		return store.Errorf(store.ErrExists, "%s already exists", writing.Place)
	case atRevision && (!there || entry.Revision != revision):
		return store.Errorf(store.ErrChanged, "%s changed in the meantime", writing.Place)
	}
	return nil
}

// aside is where the old content of a file goes meanwhile: beside it, or where
// the name has no room for that, under its own name in a folder of ours.
func aside(ctx context.Context, r Renamer, writing store.Writing) (place, folder store.Ref, err error) {
	if !writing.Keep.IsStart() {
		return writing.Keep, store.Ref{}, nil
	}
	if name := store.ArrivingName(writing.Run, asidePrefix+writing.Place.Name); len(name) <= longestName {
		return writing.Place.Folder.Ref(name), store.Ref{}, nil
	}
	folder = writing.Place.Folder.Ref(asideFolder(writing.Run))
	_, err = r.MakeFolder(ctx, folder)
	return folder.AsFolder().Ref(writing.Place.Name), folder, err
}

// removing is in the names of what is put aside to be removed there.
const removing = "removed"

// AsideOfRemoval returns where an entry goes meanwhile that is removed in two steps, as the
// protocol cannot say which entry is meant: it is looked at there, and removed or put back.
// After a kill in between, the place is found again by the entry's name. folder, if it is
// not the start, is a folder of ours that has to be removed at the end.
func AsideOfRemoval(ctx context.Context, r Renamer, place store.Ref) (hidden, folder store.Ref, err error) {
	hidden, folder, err = aside(ctx, r, store.Writing{Run: removing, Place: place})
	return hidden.As(place.Kind), folder, err
}

// RemovalName returns the name of an entry that is put aside beside its place to be removed;
// false if the name has no room for that.
func RemovalName(name string) (string, bool) {
	hidden := store.ArrivingName(removing, asidePrefix+name)
	return hidden, len(hidden) <= longestName
}

func asideFolder(run string) string { return store.ArrivingName(run, "asides") }

// exchange puts what has arrived in the place of what is there.
func exchange(ctx context.Context, r Renamer, writing store.Writing, arriving store.Ref, there store.Entry) error {
	aside, folder, err := aside(ctx, r, writing)
	if err != nil {
		return err
	}
	kept := !writing.Keep.IsStart()
	lasting := context.WithoutCancel(ctx) // what was begun is ended
	if !folder.IsStart() {
		defer func() { _, _ = r.RemoveFolder(lasting, folder) }()
	}
	if err := r.Rename(ctx, writing.Place, aside, false); err != nil {
		if store.KindOf(err) == store.ErrOutcomeUnknown || ctx.Err() != nil {
			_ = r.Rename(lasting, aside, writing.Place, false) // it may be aside
		}
		return err
	}
	moved, err := r.Stat(lasting, aside)
	if err == nil && moved.Revision != there.Revision && (moved.Size != there.Size || !moved.Modified.Equal(there.Modified)) {
		err = store.Errorf(store.ErrChanged, "%s changed in the meantime", writing.Place)
	}
	if err == nil {
		err = r.Rename(lasting, arriving, writing.Place, false)
	}
	if err != nil {
		return putBack(lasting, r, writing, aside, err)
	}
	if !kept {
		r.Discard(lasting, aside)
	}
	return nil
}

// putBack gives the old content its name again after a failure, and returns what
// the write is to say.
func putBack(ctx context.Context, r Renamer, writing store.Writing, aside store.Ref, failed error) error {
	place := writing.Place
	theirs := store.KindOf(failed) == store.ErrChanged
	switch back := r.Rename(ctx, aside, place, false); {
	case back == nil:
		return failed
	case store.KindOf(back) == store.ErrExists && !theirs:
		// The new content has the name though the answer was lost, or what
		// somebody else put there: the old content was due to be replaced.
		if writing.Keep.IsStart() {
			r.Discard(ctx, aside)
		}
		return failed
	case store.KindOf(back) == store.ErrExists:
		// Two others have written there in this moment: both are kept.
		kept := place.Folder.Ref(place.Name + " (written meanwhile)")
		if back = r.Rename(ctx, aside, kept, false); back == nil {
			return store.Errorf(store.ErrChanged, "%s changed twice meanwhile, and the first change is at %s now", place, kept)
		}
		fallthrough
	default:
		return store.Errorf(store.ErrOutcomeUnknown, "the old content of %s is at %s and could not be put back (%w): %w", place, aside, back,
			failed)
	}
}

// CleanArrivals implements [Cleaner] for a store that writes by way of [Settle]:
// it removes what the run left under names of ours below the folder, and puts old
// contents that were kept aside back where nothing has taken their place.
func CleanArrivals(ctx context.Context, s store.Store, r Renamer, cleaning store.Cleaning) ([]store.Leftover, error) {
	c := cleaner{store: s, renamer: r, run: cleaning.Run}
	err := c.clean(ctx, cleaning.Folder)
	if store.KindOf(err) == store.ErrNotFound {
		err = nil
	}
	return c.cleaned, err
}

type cleaner struct {
	store   store.Store
	renamer Renamer
	run     string
	cleaned []store.Leftover
}

func (c *cleaner) clean(ctx context.Context, folder store.Folder) error {
	prefix := store.ArrivingName(c.run, "")
	var folders []store.Folder
	var ours []string
	var removals []store.Entry
	for entry, err := range c.store.List(ctx, folder) {
		switch {
		case err != nil:
			return err
		case entry.Kind == store.KindFolder && (entry.Name == asideFolder(c.run) || entry.Name == asideFolder(removing)):
			if err := c.emptyAsides(ctx, folder, entry.Folder(folder)); err != nil {
				return err
			}
		case store.LeftBy(removing, entry.Name):
			removals = append(removals, entry)
		case entry.Kind == store.KindFolder:
			folders = append(folders, entry.Folder(folder))
		case store.LeftBy(c.run, entry.Name):
			ours = append(ours, entry.Name)
		}
	}
	for _, name := range ours {
		original, aside := strings.CutPrefix(name, prefix+asidePrefix)
		if err := c.settle(ctx, folder.Ref(name), folder.Ref(original), aside); err != nil {
			return err
		}
	}
	for _, entry := range removals {
		if err := c.settleRemoval(ctx, folder, entry); err != nil {
			return err
		}
	}
	for _, below := range folders {
		if err := c.clean(ctx, below); err != nil {
			return err
		}
	}
	return nil
}

// settle puts an old content back, or removes what is ours.
func (c *cleaner) settle(ctx context.Context, ours, original store.Ref, aside bool) error {
	if aside {
		err := c.renamer.Rename(ctx, ours, original, false)
		if err == nil {
			return nil
		}
		if store.KindOf(err) != store.ErrExists {
			return err
		}
	}
	if _, err := c.store.Remove(ctx, ours, ""); err != nil && store.KindOf(err) != store.ErrNotFound {
		return store.Errorf(store.KindOf(err), "could not remove the leftover %s: %w", ours, err)
	}
	c.cleaned = append(c.cleaned, store.Leftover{Run: c.run, Place: ours})
	return nil
}

// settleRemoval gives an entry its name again whose removal was broken off, unless another
// has the name by now.
func (c *cleaner) settleRemoval(ctx context.Context, folder store.Folder, entry store.Entry) error {
	name, aside := strings.CutPrefix(entry.Name, store.ArrivingName(removing, asidePrefix))
	if !aside {
		return nil // nobody knows what it was
	}
	ours := folder.Ref(entry.Name).As(entry.Kind)
	if entry.Kind != store.KindFolder {
		return c.settle(ctx, ours, folder.Ref(name).As(entry.Kind), true)
	}
	err := c.renamer.Rename(ctx, ours, folder.Ref(name).As(entry.Kind), false)
	if store.KindOf(err) != store.ErrExists {
		return err
	}
	_, err = c.renamer.RemoveFolder(ctx, ours)
	if store.KindOf(err) == store.ErrRefused { // it holds something
		err = nil
	}
	return err
}

func (c *cleaner) emptyAsides(ctx context.Context, folder, asides store.Folder) error {
	var entries []store.Entry
	for entry, err := range c.store.List(ctx, asides) {
		if err != nil {
			return err
		}
		entries = append(entries, entry)
	}
	for _, entry := range entries {
		if err := c.settle(ctx, entry.Ref(asides), folder.Ref(entry.Name).As(entry.Kind), true); err != nil {
			return err
		}
	}
	_, err := c.renamer.RemoveFolder(ctx, asides.Path.Ref())
	return err
}

// Discard removes a file of ours with remove, though ctx is over. A server may
// still hold it for a request that was broken off, so it is tried for a while.
func Discard(ctx context.Context, remove func(context.Context) error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	for range 20 {
		err := remove(ctx)
		if kind := store.KindOf(err); err == nil || kind == store.ErrNotFound || retry.Sleep(ctx, 50*time.Millisecond) != nil {
			return
		}
	}
}
