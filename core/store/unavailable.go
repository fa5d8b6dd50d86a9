package store

import (
	"context"
	"io"
	"iter"
)

// Unavailable is an account that cannot be opened: each operation answers with why.
func Unavailable(why error) Store { return unavailable{why} }

type unavailable struct{ why error }

func (u unavailable) Traits() Traits             { return Traits{} }
func (u unavailable) Capabilities() Capabilities { return Capabilities{} }

func (u unavailable) List(context.Context, Folder) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) { yield(Entry{}, u.why) }
}

func (u unavailable) Stat(context.Context, Ref) (Entry, error)             { return Entry{}, u.why }
func (u unavailable) Open(context.Context, Reading) (io.ReadCloser, error) { return nil, u.why }
func (u unavailable) Write(context.Context, Writing) (Written, error)      { return Written{}, u.why }
func (u unavailable) MakeFolder(context.Context, Ref) (Entry, error)       { return Entry{}, u.why }
func (u unavailable) Remove(context.Context, Ref, string) (Removal, error) { return "", u.why }
func (u unavailable) RemoveFolder(context.Context, Ref) (Removal, error)   { return "", u.why }
