package store

import (
	"context"
	"io"
	"iter"
	"time"
)

// ReadOnly returns a store that shows another and lets nothing be written
// there: neither a file nor a folder, nor what is ours, nor a probe.
func ReadOnly(s Store, account string) Store { return &readOnly{s, account} }

// readOnly passes on what reads, each ability by its helper, and has none that
// writes.
type readOnly struct {
	store   Store
	account string
}

// Close ends the connections of the store, where it has any.
func (r *readOnly) Close() error { return Close(r.store) }

func (r *readOnly) refuse() error {
	return Errorf(ErrRefused, "the account %s was linked to be read only; link the place again under another name without --read-only to write there", r.account)
}

// Traits implements Store.
func (r *readOnly) Traits() Traits {
	traits := r.store.Traits()
	traits.ReadOnly = true
	return traits
}

// Stat implements Store.
func (r *readOnly) Stat(ctx context.Context, place Place) (Entry, error) {
	return r.store.Stat(ctx, place)
}

// List implements Store.
func (r *readOnly) List(ctx context.Context, folder Folder) iter.Seq2[Entry, error] {
	return r.store.List(ctx, folder)
}

// Open implements Store.
func (r *readOnly) Open(ctx context.Context, reading Reading) (io.ReadCloser, error) {
	return r.store.Open(ctx, reading)
}

// Write implements Store, and refuses.
func (r *readOnly) Write(context.Context, Writing) (Written, error) { return Written{}, r.refuse() }

// MakeFolder implements Store, and refuses.
func (r *readOnly) MakeFolder(context.Context, Place) (Entry, error) { return Entry{}, r.refuse() }

// Remove implements Store, and refuses.
func (r *readOnly) Remove(context.Context, Place, string) (Removal, error) { return "", r.refuse() }

// ListFlat implements FlatLister.
func (r *readOnly) ListFlat(ctx context.Context, folder Folder) iter.Seq2[Listed, error] {
	return ListFlat(ctx, r.store, folder)
}

// SumKinds implements Summer.
func (r *readOnly) SumKinds() []HashKind {
	if summer, ok := r.store.(Summer); ok {
		return summer.SumKinds()
	}
	return nil
}

// Sum implements Summer.
func (r *readOnly) Sum(ctx context.Context, place Place, revision string, kind HashKind) (Hash, error) {
	return Sum(ctx, r.store, place, Entry{Revision: revision}, kind)
}

// Space implements Spacer.
func (r *readOnly) Space(ctx context.Context) (Space, error) { return SpaceOf(ctx, r.store) }

// Owner implements Owner.
func (r *readOnly) Owner(ctx context.Context) (string, error) { return OwnerOf(ctx, r.store) }

// Pinned implements Pinner.
func (r *readOnly) Pinned() map[string]string { return PinnedOf(r.store) }

// Locate implements Locator.
func (r *readOnly) Locate(folder Folder) string { return Locate(r.store, folder) }

// Changes implements ChangeLister.
func (r *readOnly) Changes(ctx context.Context, folder Folder, cursor string) (ChangePage, error) {
	return Changes(ctx, r.store, folder, cursor)
}

// DocumentKinds implements Exporter.
func (r *readOnly) DocumentKinds() []DocumentKind {
	if exporter, ok := r.store.(Exporter); ok {
		return exporter.DocumentKinds()
	}
	return nil
}

// Export implements Exporter.
func (r *readOnly) Export(ctx context.Context, place Place, revision, format string) (io.ReadCloser, error) {
	return Export(ctx, r.store, place, revision, format)
}

// Areas implements AreaLister.
func (r *readOnly) Areas(ctx context.Context) ([]string, error) { return AreasOf(ctx, r.store) }

// AwaitChanges implements ChangeWaiter.
func (r *readOnly) AwaitChanges(ctx context.Context, folder Folder, cursor string, wait time.Duration) (ChangePage, error) {
	return AwaitChanges(ctx, r.store, folder, cursor, wait)
}
