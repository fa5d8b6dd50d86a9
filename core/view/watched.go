package view

import (
	"context"
	"io"
	"iter"

	"deftheron/core/store"
)

// Watcher decides about the changes of a store, and hears of those that were made.
type Watcher interface {
	// May returns an error, mostly of the kind store.ErrLocked, if the entry must not be
	// changed now; whole says that everything in a folder changes with it. It returns the
	// context for the request.
	May(ctx context.Context, ref store.Ref, whole bool) (context.Context, error)
	// Wrote is called after a file was written, with its new entry.
	Wrote(ctx context.Context, ref store.Ref, entry store.Entry)
	// Moved is called after an entry was moved, with its entry at the new place.
	Moved(ctx context.Context, from, to store.Ref, entry store.Entry)
	// Removed is called after an entry was removed.
	Removed(ctx context.Context, ref store.Ref)
}

// Watched returns a view of a store that asks a watcher before every change.
func Watched(s store.Store, watcher Watcher) store.Store { return &watched{s, watcher} }

type watched struct {
	store   store.Store
	watcher Watcher
}

// Traits implements Store.
func (w *watched) Traits() store.Traits { return w.store.Traits() }

// Stat implements Store.
func (w *watched) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	return w.store.Stat(ctx, ref)
}

// List implements Store.
func (w *watched) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return w.store.List(ctx, folder)
}

// Open implements Store.
func (w *watched) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	return w.store.Open(ctx, reading)
}

// Write implements Store.
func (w *watched) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	shown, err := w.watcher.May(ctx, writing.Place, false)
	if err != nil {
		return store.Written{}, err
	}
	written, err := w.store.Write(shown, writing)
	if err == nil {
		w.watcher.Wrote(ctx, writing.Place, written.Entry)
	}
	return written, err
}

// MakeFolder implements Store. A folder that is locked is made if it is missing.
func (w *watched) MakeFolder(ctx context.Context, ref store.Ref) (store.Entry, error) {
	shown, err := w.watcher.May(ctx, ref.Folder.Path.Ref(), false)
	if err != nil {
		if entry, look := w.store.Stat(ctx, ref.As(store.KindFolder)); look == nil {
			return entry, nil
		}
		return store.Entry{}, err
	}
	return w.store.MakeFolder(shown, ref)
}

// Remove implements Store.
func (w *watched) Remove(ctx context.Context, ref store.Ref, revision string) (store.Removal, error) {
	return w.remove(ctx, ref, func(ctx context.Context) (store.Removal, error) { return w.store.Remove(ctx, ref, revision) })
}

// RemoveFolder implements Store.
func (w *watched) RemoveFolder(ctx context.Context, ref store.Ref) (store.Removal, error) {
	ref = ref.As(store.KindFolder)
	return w.remove(ctx, ref, func(ctx context.Context) (store.Removal, error) { return w.store.RemoveFolder(ctx, ref) })
}

func (w *watched) remove(ctx context.Context, ref store.Ref, remove func(context.Context) (store.Removal, error)) (store.Removal, error) {
	shown, err := w.watcher.May(ctx, ref, true)
	if err != nil {
		return "", err
	}
	removal, err := remove(shown)
	if err == nil {
		w.watcher.Removed(ctx, ref)
	}
	return removal, err
}

// Capabilities implements Store: all capabilities of the underlying store. Those that change
// an entry ask the watcher first, except for the leftovers of runs and for history.
func (w *watched) Capabilities() store.Capabilities {
	c := w.store.Capabilities()
	return store.Capabilities{ //nolint:govet // without the fields' names, so that the compiler finds one that is forgotten
		c.ListFlat,
		w.moves(c.Move),
		w.copies(c.Copy),
		c.Keeps,
		c.Origin,
		c.Kept,
		w.parts(c.Parts),
		c.Checksums,
		c.Exports,
		c.Changes,
		c.AwaitChanges,
		c.Clean,
		c.Prepare,
		c.Sync,
		c.Check,
		c.Space,
		c.Owner,
		c.Locate,
		c.Areas,
		c.Pinned,
		c.Lock,
		c.Sealing,
		c.Sharing,
		c.Locker,
		w.versions(c.Versions),
		c.Close,
	}
}

type moving = func(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error)

func (w *watched) moves(move moving) moving {
	if move == nil {
		return nil
	}
	return func(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
		shown, err := w.watcher.May(ctx, from, true)
		if err == nil {
			_, err = w.watcher.May(ctx, to, false)
		}
		if err != nil {
			return store.Entry{}, err
		}
		entry, err := move(shown, from, revision, to)
		if err == nil {
			w.watcher.Moved(ctx, from, to, entry)
		}
		return entry, err
	}
}

type copying = func(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error)

func (w *watched) copies(copyWithin copying) copying {
	if copyWithin == nil {
		return nil
	}
	return func(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
		shown, err := w.watcher.May(ctx, to, false)
		if err != nil {
			return store.Entry{}, err
		}
		return copyWithin(shown, from, revision, to, run)
	}
}

func (w *watched) versions(beneath store.Versions) store.Versions {
	if beneath == nil {
		return nil
	}
	return watchedVersions{beneath, w.watcher}
}

type watchedVersions struct {
	store.Versions
	watcher Watcher
}

// CopyVersion implements store.Versions.
func (v watchedVersions) CopyVersion(ctx context.Context, file store.Ref, version string, to store.Ref) (store.Entry, error) {
	shown, err := v.watcher.May(ctx, to, false)
	if err != nil {
		return store.Entry{}, err
	}
	return v.Versions.CopyVersion(shown, file, version, to)
}

func (w *watched) parts(beneath store.PartWriter) store.PartWriter {
	if beneath == nil {
		return nil
	}
	return watchedParts{beneath, w.watcher}
}

type watchedParts struct {
	store.PartWriter
	watcher Watcher
}

// BeginParts implements store.PartWriter: nothing is sent for a file that is locked.
func (p watchedParts) BeginParts(ctx context.Context, writing store.Writing) (string, error) {
	shown, err := p.watcher.May(ctx, writing.Place, false)
	if err != nil {
		return "", err
	}
	return p.PartWriter.BeginParts(shown, writing)
}

// CommitParts implements store.PartWriter.
func (p watchedParts) CommitParts(ctx context.Context, writing store.Writing, upload string, parts []store.Part) (store.Written, error) {
	shown, err := p.watcher.May(ctx, writing.Place, false)
	if err != nil {
		return store.Written{}, err
	}
	written, err := p.PartWriter.CommitParts(shown, writing, upload, parts)
	if err == nil {
		p.watcher.Wrote(ctx, writing.Place, written.Entry)
	}
	return written, err
}
