package store

import (
	"context"
	"io"
	"iter"
)

// ReadOnly returns a store that shows another and lets nothing be written
// there: neither a file nor a folder, nor what is ours, nor a probe.
func ReadOnly(s Store, account string) Store { return &readOnly{s, account} }

type readOnly struct {
	store   Store
	account string
}

func (r *readOnly) refuse() error {
	return Errorf(ErrRefused, "the account %s was linked to be read only; link the place again under another name without --read-only to "+
		"write there", r.account)
}

// Traits implements Store.
func (r *readOnly) Traits() Traits {
	traits := r.store.Traits()
	traits.ReadOnly = true
	return traits
}

// Stat implements Store.
func (r *readOnly) Stat(ctx context.Context, place Ref) (Entry, error) {
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
func (r *readOnly) MakeFolder(context.Context, Ref) (Entry, error) { return Entry{}, r.refuse() }

// Remove implements Store, and refuses.
func (r *readOnly) Remove(context.Context, Ref, string) (Removal, error) { return "", r.refuse() }

// RemoveFolder implements Store, and refuses.
func (r *readOnly) RemoveFolder(context.Context, Ref) (Removal, error) { return "", r.refuse() }

// Capabilities implements Store: those that read. Which they are is decided one
// by one, here.
func (r *readOnly) Capabilities() Capabilities {
	c := r.store.Capabilities()
	return Capabilities{
		c.ListFlat,
		nil, // Move
		nil, // Copy
		nil, // Parts
		c.Sums,
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
		c.Close,
	}
}
