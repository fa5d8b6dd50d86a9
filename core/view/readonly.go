// Package view shows a store as another: for reading alone, with exports in place of
// documents, or as one that cannot be opened now. Each view says of every capability of the
// store beneath whether it is passed on.
package view

import (
	"context"
	"io"
	"iter"
	"time"

	"deftheron/core/store"
)

// ReadOnly returns a view of a store that refuses all writes: files, folders,
// our own files, and probes.
func ReadOnly(s store.Store, account string) store.Store {
	return &readOnly{s, func() error {
		return store.Errorf(store.ErrRefused, "the account %s was linked to be read only; to write there, link "+
			"the place again under another name and not as read-only", account)
	}}
}

type readOnly struct {
	store   store.Store
	refusal func() error
}

func (r *readOnly) refuse() error { return r.refusal() }

// Traits implements Store.
func (r *readOnly) Traits() store.Traits {
	traits := r.store.Traits()
	traits.ReadOnly = true
	return traits
}

// Stat implements Store.
func (r *readOnly) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	return r.store.Stat(ctx, place)
}

// List implements Store.
func (r *readOnly) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return r.store.List(ctx, folder)
}

// Open implements Store.
func (r *readOnly) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	return r.store.Open(ctx, reading)
}

// Write implements Store, and refuses.
func (r *readOnly) Write(context.Context, store.Writing) (store.Written, error) {
	return store.Written{}, r.refuse()
}

// MakeFolder implements Store, and refuses.
func (r *readOnly) MakeFolder(context.Context, store.Ref) (store.Entry, error) {
	return store.Entry{}, r.refuse()
}

// Remove implements Store, and refuses.
func (r *readOnly) Remove(context.Context, store.Ref, string) (store.Removal, error) {
	return "", r.refuse()
}

// RemoveFolder implements Store, and refuses.
func (r *readOnly) RemoveFolder(context.Context, store.Ref) (store.Removal, error) {
	return "", r.refuse()
}

// Capabilities implements Store: those that read. Which they are is decided one
// by one, here.
func (r *readOnly) Capabilities() store.Capabilities {
	c := r.store.Capabilities()
	//nolint:govet // without the fields' names, so that the compiler finds one that is forgotten
	return store.Capabilities{
		c.ListFlat,
		nil, // Move
		nil, // Copy
		nil, // Keeps
		c.Origin,
		c.Kept,
		nil, // Parts
		c.Checksums,
		c.Exports,
		c.Changes,
		c.AwaitChanges,
		nil, // Clean
		nil, // Prepare
		nil, // Sync
		c.Check,
		c.Space,
		c.Owner,
		c.Locate,
		c.Areas,
		c.Pinned,
		nil, // Lock
		nil, // Sealing
		r.sharing(c.Sharing),
		nil, // Locker
		r.versions(c.Versions),
		c.Close,
	}
}

// versions reads versions alone.
func (r *readOnly) versions(beneath store.Versions) store.Versions {
	if beneath == nil {
		return nil
	}
	return readOnlyVersions{beneath, r}
}

type readOnlyVersions struct {
	store.Versions
	view *readOnly
}

// CopyVersion implements store.Versions, and refuses.
func (v readOnlyVersions) CopyVersion(context.Context, store.Ref, string, store.Ref) (store.Entry, error) {
	return store.Entry{}, v.view.refuse()
}

// RemoveVersion implements store.Versions, and refuses.
func (v readOnlyVersions) RemoveVersion(context.Context, store.Ref, string) error {
	return v.view.refuse()
}

// LockVersion implements store.Versions, and refuses.
func (v readOnlyVersions) LockVersion(context.Context, store.Ref, string, time.Time) (bool, error) {
	return false, v.view.refuse()
}

// sharing reads share lists alone.
func (r *readOnly) sharing(beneath store.Sharing) store.Sharing {
	if beneath == nil {
		return nil
	}
	return readOnlySharing{beneath, r}
}

type readOnlySharing struct {
	store.Sharing
	view *readOnly
}

// Share implements store.Sharing, and refuses.
func (s readOnlySharing) Share(context.Context, store.Ref, store.SharedWith) error {
	return s.view.refuse()
}

// SetOwner implements store.Sharing, and refuses.
func (s readOnlySharing) SetOwner(context.Context, store.Ref, string) error { return s.view.refuse() }
