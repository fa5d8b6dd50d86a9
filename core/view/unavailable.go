package view

import (
	"context"
	"io"
	"iter"

	"deftheron/core/store"
)

// Unavailable is an account that cannot be opened: each operation answers with why.
func Unavailable(why error) store.Store { return unavailable{why} }

type unavailable struct{ why error }

func (u unavailable) Traits() store.Traits             { return store.Traits{} }
func (u unavailable) Capabilities() store.Capabilities { return store.Capabilities{} }

func (u unavailable) List(context.Context, store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) { yield(store.Entry{}, u.why) }
}

func (u unavailable) Stat(context.Context, store.Ref) (store.Entry, error) {
	return store.Entry{}, u.why
}
func (u unavailable) Open(context.Context, store.Reading) (io.ReadCloser, error) { return nil, u.why }
func (u unavailable) Write(context.Context, store.Writing) (store.Written, error) {
	return store.Written{}, u.why
}
func (u unavailable) MakeFolder(context.Context, store.Ref) (store.Entry, error) {
	return store.Entry{}, u.why
}
func (u unavailable) Remove(context.Context, store.Ref, string) (store.Removal, error) {
	return "", u.why
}
func (u unavailable) RemoveFolder(context.Context, store.Ref) (store.Removal, error) {
	return "", u.why
}
