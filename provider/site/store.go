package site

import (
	"context"
	"io"
	"iter"

	"deftheron/core/store"
)

// Traits implements store.Store.
func (a *account) Traits() store.Traits {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.traits
}

// Stat implements store.Store.
func (a *account) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	found, err := ask[entry](ctx, a, opStat, withRef(place), nil)
	return found.entry(), err
}

// List implements store.Store.
func (a *account) List(ctx context.Context, in store.Folder) iter.Seq2[store.Entry, error] {
	return list(ctx, a, opList, in, entry.entry)
}

// list yields what a worker lists.
func list[T any](ctx context.Context, a *account, operation string, in store.Folder, of func(entry) T) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		var none T
		at := folderOf(in)
		got, err := a.send(ctx, operation, &arguments{Folder: &at}, nil)
		if err != nil {
			yield(none, err)
			return
		}
		defer got.Close()
		for got.kind == frameItems {
			var batch []entry
			if err = decode(got.data, &batch); err != nil {
				break
			}
			for _, one := range batch {
				if !yield(of(one), nil) {
					return
				}
			}
			if got.kind, got.data, err = got.frames.next(); err != nil {
				break
			}
		}
		if err == nil {
			_, err = a.finish(got)
		}
		_ = got.end(err)
		if err != nil {
			yield(none, err)
		}
	}
}

// Open implements store.Store.
func (a *account) Open(ctx context.Context, r store.Reading) (io.ReadCloser, error) {
	return a.read(ctx, opRead, &arguments{Reading: readingOf(r)})
}

// Write implements store.Store.
func (a *account) Write(ctx context.Context, w store.Writing) (store.Written, error) {
	content := &sending{from: w.Content}
	result, err := ask[written](ctx, a, opWrite, &arguments{Writing: writingOf(w)}, content.send)
	if err != nil && content.failed != nil && store.KindOf(err) != store.ErrOutcomeUnknown {
		err = content.failed // it is why the worker failed, and tells the caller more
	}
	return result.written(), err
}

// MakeFolder implements store.Store.
func (a *account) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	made, err := ask[entry](ctx, a, opMakeFolder, withRef(place), nil)
	return made.entry(), err
}

// Remove implements store.Store.
func (a *account) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	return ask[store.Removal](ctx, a, opRemove, withRevision(place, revision), nil)
}

// RemoveFolder implements store.Store.
func (a *account) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	return ask[store.Removal](ctx, a, opRemoveFolder, withRef(place), nil)
}

func withRef(place store.Ref) *arguments {
	of := refOf(place)
	return &arguments{Ref: &of}
}

func withRevision(place store.Ref, revision string) *arguments {
	with := withRef(place)
	with.Revision = revision
	return with
}

// between are the arguments of what goes from one place to another.
func between(from store.Ref, revision string, to store.Ref) *arguments {
	with, place := withRevision(from, revision), refOf(to)
	with.To = &place
	return with
}
