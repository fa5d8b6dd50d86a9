// Package fileserver makes a store of a server that knows files by their paths
// and can rename them, such as one of SFTP, FTP or SMB.
//
// A protocol implements [Server], ten calls on paths, and [New] makes the rest of
// them: each file arrives under a name of ours, is verified there, and is given its
// own name under the write's condition (see [publish.Publish]). Every call passes
// the account's gate here, and nowhere else.
package fileserver

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"io"
	"iter"
	"strconv"
	"strings"
	"time"

	"deftheron/core/publish"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// Server has the operations of a protocol on paths. Paths are the server's own, from
// its root or from the start of the account, separated by slashes; a name never has
// one. Errors are those of package store.
type Server interface {
	// Stat looks at one entry, and does not follow a link. ErrNotFound.
	Stat(ctx context.Context, path string) (store.Entry, error)
	// List returns the entries of a folder, in any order, or an error, but never
	// only a part of them.
	List(ctx context.Context, path string) ([]store.Entry, error)
	// Open reads a file from an offset on. No more than length bytes are going
	// to be read, and never none. A connection that was lost in the middle is
	// an error, never a clean end.
	Open(ctx context.Context, path string, offset, length int64) (io.ReadCloser, error)
	// Create writes a new file of ours and returns when the server has all of
	// it: on its disk, where it can be told to see to that. Modified is its
	// time, zero for none. Size is -1 where it is not known.
	Create(ctx context.Context, path string, content io.Reader, size int64, modified time.Time) error
	// Rename is as in store.Renamer.
	Rename(ctx context.Context, from, to string, replace bool) error
	// Replaces is as in store.Renamer.
	Replaces() bool
	// MakeFolder makes a folder in one that is there. ErrExists where
	// anything has the name.
	MakeFolder(ctx context.Context, path string) error
	// Remove removes an entry that is no folder.
	Remove(ctx context.Context, path string) error
	// RemoveFolder removes a folder that was found empty, and fails where it
	// is not, or where a file has the name now.
	RemoveFolder(ctx context.Context, path string) error
}

// Preparer is the need of a server to find out what it can do before the first
// write; see store.Capabilities.
type Preparer interface {
	Prepare(ctx context.Context) error
}

// Hasher is the ability of a server to hash a file by itself.
type Hasher interface {
	// HashKinds are those that it offers; none where it does not.
	HashKinds() []store.HashKind
	// Hash returns the hash of a whole file; ErrUnsupported if the server cannot.
	Hash(ctx context.Context, path string, kind store.HashKind) (store.Hash, error)
}

// Store implements store.Store.
type Store struct {
	server Server
	base   string
	gate   store.Gate
	traits func() store.Traits
}

// New returns a store of the entries below base, a path without a slash at its end.
// traits may change until the first write is done.
func New(server Server, base string, gate store.Gate, traits func() store.Traits) *Store {
	return &Store{server: server, base: base, gate: gate, traits: traits}
}

// Traits implements store.Store. What a server lists is sorted here.
func (s *Store) Traits() store.Traits {
	traits := s.traits()
	traits.Order, traits.Folders, traits.Whole = store.OrderByKey, store.FoldersReal, true
	return traits
}

// Path is where a place is on the server.
func (s *Store) Path(place store.Ref) (string, error) {
	if place.IsStart() {
		return s.folderPath(store.Folder{})
	}
	folder, err := s.folderPath(place.Folder)
	if err != nil {
		return "", err
	}
	if err := s.traits().NameError(place.Folder.Path, place.Name); err != nil {
		return "", err
	}
	return strings.TrimSuffix(folder, "/") + "/" + place.Name, nil
}

func (s *Store) folderPath(folder store.Folder) (string, error) {
	names := folder.Path.Names()
	for _, name := range names {
		if err := s.traits().NameError("", name); err != nil {
			return "", err
		}
	}
	path := s.base
	for _, name := range names {
		path += "/" + name
	}
	if path == "" {
		path = "/"
	}
	return path, nil
}

// existing returns the path of an entry to look up; the error is ErrNotFound if no entry
// can have the name.
func (s *Store) existing(place store.Ref) (string, error) {
	path, err := s.Path(place)
	if err != nil {
		err = store.Errorf(store.ErrNotFound, "%s: %w", place, err)
	}
	return path, err
}

// pass does one request through the gate.
func (s *Store) pass(ctx context.Context, doing, what string, do func() error) error {
	done, err := s.gate.Pass(ctx)
	if err != nil {
		return err
	}
	err = do()
	done(err)
	return wrap(ctx, doing, what, err)
}

// ask is pass for a request that changes nothing: a lost answer is asked for again.
func (s *Store) ask(ctx context.Context, doing, what string, do func() error) error {
	return again(s.pass(ctx, doing, what, do))
}

func again(err error) error {
	if store.KindOf(err) == store.ErrOutcomeUnknown {
		return store.Errorf(store.ErrTryAgain, "%w", err)
	}
	return err
}

// wrap adds what was being done, and returns the context's error if the call was cancelled.
func wrap(ctx context.Context, doing, what string, err error) error {
	if err == nil {
		return nil
	}
	if cause := ctx.Err(); cause != nil {
		return cause
	}
	return store.Errorf(KindOr(err), "could not %s %s: %w", doing, what, err)
}

// KindOr is the kind of an error, and ErrTryAgain where it has none.
func KindOr(err error) error {
	if kind := store.KindOf(err); kind != nil {
		return kind
	}
	return store.ErrTryAgain
}

// Stat implements store.Store and store.Renamer.
func (s *Store) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	path, err := s.existing(place)
	if err != nil {
		return store.Entry{}, err
	}
	var entry store.Entry
	err = s.ask(ctx, "look at", place.String(), func() (err error) {
		entry, err = s.server.Stat(ctx, path)
		return err
	})
	if err == nil && !place.Means(entry.Kind) {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is a %s", place, entry.Kind)
	}
	entry.Name = place.Name
	return revised(entry), err
}

// Capabilities implements store.Store.
func (s *Store) Capabilities() store.Capabilities {
	c := store.Capabilities{Move: s.Move, Clean: s.Clean, Keeps: func(store.Writing) bool { return true }}
	if hasher, ok := s.server.(Hasher); ok && len(hasher.HashKinds()) > 0 {
		c.Checksums = s
	}
	if preparer, ok := s.server.(Preparer); ok {
		c.Prepare = preparer.Prepare
	}
	return c
}

// revised gives an entry its revision: its size and its time.
func revised(entry store.Entry) store.Entry {
	if entry.Kind == store.KindFolder {
		entry.Size, entry.Revision = 0, ""
		return entry
	}
	if entry.Revision == "" {
		entry.Revision = strconv.FormatInt(entry.Size, 36) + "." + strconv.FormatInt(entry.Modified.UnixNano(), 36)
	}
	return entry
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		entries, err := retry.Read(ctx, func() ([]store.Entry, error) { return s.list(ctx, folder) })
		if err != nil {
			yield(store.Entry{}, err)
			return
		}
		for i := range entries {
			if !yield(revised(entries[i]), nil) {
				return
			}
		}
	}
}

func (s *Store) list(ctx context.Context, folder store.Folder) ([]store.Entry, error) {
	what := folder.Path.Ref().String()
	path, err := s.folderPath(folder)
	if err != nil {
		return nil, store.Errorf(store.ErrNotFound, "%s: %w", what, err)
	}
	var entries []store.Entry
	err = s.ask(ctx, "list", what, func() (err error) {
		entries, err = s.server.List(ctx, path)
		return err
	})
	if kind := store.KindOf(err); err != nil && kind != store.ErrNotFound && ctx.Err() == nil {
		// Servers answer variously where a file is listed as a folder.
		if there, look := s.Stat(ctx, folder.Path.Ref().As("")); look == nil && there.Kind != store.KindFolder {
			err = store.Errorf(store.ErrNotFound, "%s is a %s", what, there.Kind)
		}
	}
	if err != nil {
		return nil, err
	}
	kept := entries[:0]
	for _, entry := range entries {
		switch {
		case entry.Name == "" || entry.Name == "." || entry.Name == "..":
		case strings.ContainsAny(entry.Name, "/\x00"):
			return nil, store.Errorf(store.ErrRefused, "the server listed %q in %s, which is not a name", entry.Name, what)
		default:
			kept = append(kept, entry)
		}
	}
	store.SortByKey(kept)
	return kept, nil
}

// MakeFolder implements store.Store.
func (s *Store) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	if place.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	path, err := s.Path(place)
	if err != nil {
		return store.Entry{}, err
	}
	err = s.pass(ctx, "make the folder", place.String(), func() error { return s.server.MakeFolder(ctx, path) })
	if err == nil {
		return store.Entry{Name: place.Name, Kind: store.KindFolder}, nil
	}
	entry, look := s.Stat(ctx, place.As(""))
	switch {
	case look == nil && entry.Kind == store.KindFolder:
		return entry, nil
	case look == nil:
		return store.Entry{}, store.Errorf(store.ErrExists, "a file is at %s, where a folder is needed", place)
	}
	return store.Entry{}, s.withoutParent(ctx, place, err)
}

// withoutParent returns ErrNotFound instead of err if the folder is missing.
func (s *Store) withoutParent(ctx context.Context, place store.Ref, err error) error {
	if _, look := s.Stat(ctx, place.Folder.Path.Ref()); store.KindOf(look) == store.ErrNotFound {
		return store.Errorf(store.ErrNotFound, "the folder of %s is not there: %w", place, err)
	}
	return err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	place = place.As(store.KindFile)
	entry, err := s.Stat(ctx, place)
	if err != nil {
		return "", err
	}
	if revision != "" && !store.SameRevision(entry.Revision, revision) {
		return "", store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	path, err := s.existing(place)
	if err != nil {
		return "", err
	}
	return store.RemovedFinally, s.pass(ctx, "remove", place.String(), func() error { return s.server.Remove(ctx, path) })
}

// RemoveFolder implements store.Store and store.Renamer. It lists the folder first, so
// that the error says what the folder holds.
func (s *Store) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	if place.IsStart() {
		return "", store.Errorf(store.ErrRefused, "the start of an account cannot be removed")
	}
	if _, err := s.Stat(ctx, place.As(store.KindFolder)); err != nil {
		return "", err
	}
	for child, err := range s.List(ctx, place.AsFolder()) {
		if err != nil {
			return "", err
		}
		return "", store.Errorf(store.ErrRefused, "the folder %s is not empty: it holds %q", place, child.Name)
	}
	path, err := s.existing(place)
	if err != nil {
		return "", err
	}
	return store.RemovedFinally, s.pass(ctx, "remove the folder", place.String(), func() error { return s.server.RemoveFolder(ctx, path) })
}

// Rename implements store.Renamer.
func (s *Store) Rename(ctx context.Context, from, to store.Ref, replace bool) error {
	source, err := s.existing(from)
	if err != nil {
		return err
	}
	target, err := s.Path(to)
	if err != nil {
		return err
	}
	return s.pass(ctx, "move", from.String()+" to "+to.String(), func() error { return s.server.Rename(ctx, source, target, replace) })
}

// Replaces implements store.Renamer.
func (s *Store) Replaces() bool { return s.server.Replaces() }

// Discard implements store.Renamer.
func (s *Store) Discard(ctx context.Context, place store.Ref) {
	path, err := s.Path(place)
	if err != nil {
		return
	}
	publish.Discard(ctx, func(ctx context.Context) error {
		return s.pass(ctx, "remove", place.String(), func() error { return s.server.Remove(ctx, path) })
	})
}

// Move moves an entry. A file that turns out not to be the revision expected, or a
// folder that turns out to be a file, is moved back.
func (s *Store) Move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	there, err := s.Stat(ctx, from)
	if err != nil {
		return store.Entry{}, err
	}
	held := revision != "" && there.Kind == store.KindFile
	if held && !store.SameRevision(there.Revision, revision) {
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
	}
	if err := s.Rename(ctx, from, to, false); err != nil {
		if kind := store.KindOf(err); kind == store.ErrExists || kind == store.ErrNameRefused {
			return store.Entry{}, err
		}
		return store.Entry{}, s.withoutParent(ctx, to, err)
	}
	entry, err := s.Stat(ctx, to.As(""))
	if err == nil && (entry.Kind != there.Kind || held && !store.SameRevision(entry.Revision, revision)) {
		if back := s.Rename(context.WithoutCancel(ctx), to, from, false); back != nil {
			return store.Entry{}, store.Errorf(store.ErrOutcomeUnknown, "%s changed in the meantime, is at %s now, and could not be moved back: %w",
				from, to, back)
		}
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
	}
	return entry, err
}

// Clean is store.Capabilities.Clean.
func (s *Store) Clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	return publish.CleanArrivals(ctx, s, s, cleaning)
}

// SumKinds implements store.Checksummer.
func (s *Store) SumKinds() []store.HashKind {
	if hasher, ok := s.server.(Hasher); ok {
		return hasher.HashKinds()
	}
	return nil
}

// Sum implements store.Checksummer.
func (s *Store) Sum(ctx context.Context, place store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	entry, err := s.Stat(ctx, place)
	if err != nil {
		return store.Hash{}, err
	}
	if revision != "" && !store.SameRevision(entry.Revision, revision) {
		return store.Hash{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	return s.hash(ctx, place, kind)
}

func (s *Store) hash(ctx context.Context, place store.Ref, kind store.HashKind) (store.Hash, error) {
	hasher, ok := s.server.(Hasher)
	if !ok {
		return store.Hash{}, store.Errorf(store.ErrUnsupported, "the server computes no hashes")
	}
	path, err := s.existing(place)
	if err != nil {
		return store.Hash{}, err
	}
	var hash store.Hash
	err = s.ask(ctx, "hash", place.String(), func() (err error) {
		hash, err = hasher.Hash(ctx, path, kind)
		return err
	})
	return hash, err
}

func arrivingName(run string) string {
	var random [6]byte
	rand.Read(random[:])
	return store.ArrivingName(run, hex.EncodeToString(random[:]))
}
