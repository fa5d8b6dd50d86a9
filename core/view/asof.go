package view

import (
	"context"
	"errors"
	"hash"
	"io"
	"iter"
	"strings"
	"time"

	"deftheron/core/history"
	"deftheron/core/listing"
	"deftheron/core/store"
)

// AsOf returns a read-only view of an account at an earlier time. Files that have not changed
// since are read in place, and others from history.
func AsOf(s store.Store, past *history.Past) store.Store {
	view := &asOf{past: past}
	view.store, view.refusal = s, func() error {
		return store.Errorf(store.ErrRefused, "what an account was like at another time can only be read")
	}
	return view
}

type asOf struct {
	readOnly
	past *history.Past
}

// Traits implements Store.
func (v *asOf) Traits() store.Traits {
	traits := v.readOnly.Traits()
	traits.Order, traits.Twins = store.OrderByKey, false
	return traits
}

// Capabilities implements Store: nothing that reports the present state.
func (v *asOf) Capabilities() store.Capabilities {
	c := v.readOnly.Capabilities()
	c.ListFlat, c.Checksums, c.Changes, c.AwaitChanges = nil, nil, nil, nil
	c.Origin, c.Kept = v.origin, v.keep
	return c
}

// keep notes where the content of a file of the account is about to go.
func (v *asOf) keep(ref, kept store.Ref, version string) {
	v.past.Keep(history.Change{Path: history.KeyOf(ref), At: time.Now(), How: history.Overwritten, Size: -1, Kept: history.KeyOf(kept),
		Version: version})
}

// gone is the error for an entry that existed, but that history does not keep.
func gone(ref store.Ref) error {
	return store.Errorf(store.ErrRefused, "what was at %s then is not kept any more", ref)
}

// keptRevision is the revision of a kept content.
func keptRevision(change *history.Change) string {
	if change.Version != "" {
		return "kept " + string(change.Kept) + " " + change.Version
	}
	return "kept " + string(change.Kept)
}

func entryOf(name string, change *history.Change) store.Entry {
	entry := store.Entry{Name: name, Kind: store.KindFile, Size: change.Size, Modified: change.Modified, Revision: keptRevision(change)}
	if hash, ok := store.ParseHash(change.Hash); ok {
		entry.Hashes = store.Hashes{hash}
	}
	return entry
}

// stateOf finds what a file was.
func (v *asOf) stateOf(ctx context.Context, ref store.Ref) (history.State, error) {
	state, err := v.past.Of(ctx, history.KeyOf(ref))
	switch {
	case err != nil:
		return state, err
	case state.Gone:
		return state, gone(ref)
	case !state.Now && state.Change == nil:
		return state, store.Errorf(store.ErrNotFound, "nothing was at %s then", ref)
	case state.Change != nil && state.Change.Size < 0: // on its way there, or not begun
		entry, err := state.Change.Content().Stat(ctx, v.store)
		if store.KindOf(err) == store.ErrNotFound {
			return history.State{Now: true, Path: state.Change.Path}, nil
		}
		change := *state.Change
		change.Size, change.Modified = entry.Size, entry.Modified
		state.Change = &change
		return state, err
	}
	return state, nil
}

// nowAt is the ref of what a state says is there now.
func nowAt(ref store.Ref, state history.State) store.Ref {
	if history.KeyOf(ref) == state.Path {
		return ref
	}
	return state.Path.Ref("", store.KindFile)
}

// Stat implements Store.
func (v *asOf) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if ref.IsStart() {
		return v.store.Stat(ctx, ref)
	}
	if ref.Kind != store.KindFolder {
		state, err := v.stateOf(ctx, ref)
		switch {
		case err == nil && state.Now:
			entry, failed := v.store.Stat(ctx, nowAt(ref, state).As(store.KindFile))
			if failed == nil {
				entry.Name = ref.Name
			}
			if err = failed; ref.Kind != "" || store.KindOf(err) != store.ErrNotFound {
				return entry, err
			}
		case err == nil:
			return entryOf(ref.Name, state.Change), nil
		case ref.Kind != "" || store.KindOf(err) != store.ErrNotFound:
			return store.Entry{}, err
		}
	}
	return v.statFolder(ctx, ref.As(store.KindFolder))
}

// statFolder looks at a folder: it was there where anything was in it, or where it is
// there now and was not made since.
func (v *asOf) statFolder(ctx context.Context, ref store.Ref) (store.Entry, error) {
	for _, err := range v.List(ctx, ref.AsFolder()) {
		if err == nil || store.KindOf(err) != store.ErrNotFound {
			return store.Entry{Name: ref.Name, Kind: store.KindFolder, ID: ref.ID}, err
		}
		return store.Entry{}, err
	}
	return store.Entry{Name: ref.Name, Kind: store.KindFolder, ID: ref.ID}, nil
}

// List implements Store: the present entries in the order of keys, with what has changed since
// replaced by its earlier state.
func (v *asOf) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		made, err := v.past.Made(ctx, folder.Path)
		if err != nil {
			yield(store.Entry{}, err)
			return
		}
		m := merging{view: v, ctx: ctx, folder: folder, made: made, yield: yield}
		m.run()
	}
}

// merging merges the present entries of a folder with the changes since.
type merging struct {
	view    *asOf
	ctx     context.Context
	folder  store.Folder
	made    bool // the folder was made since
	yield   func(store.Entry, error) bool
	yielded bool
}

func keyIn(name string, folder bool) store.Key {
	if folder {
		return store.KeyOf("", name, store.KindFolder)
	}
	return store.KeyOf("", name, store.KindFile)
}

func (m *merging) run() {
	next, stop := iter.Pull2(m.view.past.In(m.ctx, m.folder.Path))
	defer stop()
	change, err, more := next()
	for entry, failed := range listing.Sorted(m.ctx, m.view.store, m.folder) {
		if store.KindOf(failed) == store.ErrNotFound {
			m.missing(next, change, err, more, failed)
			return
		}
		if failed != nil {
			m.yield(store.Entry{}, failed)
			return
		}
		key := keyIn(entry.Name, entry.Kind == store.KindFolder)
		for more && err == nil && keyIn(change.Name, change.Folder) < key {
			if !m.past(change) {
				return
			}
			change, err, more = next()
		}
		if err != nil {
			m.yield(store.Entry{}, err)
			return
		}
		if more && keyIn(change.Name, change.Folder) == key {
			give := func() bool { return m.give(entry) }
			if entry.Kind != store.KindFolder || m.made {
				give = func() bool { return m.past(change) }
			}
			if !give() {
				return
			}
			change, err, more = next()
			continue
		}
		if !m.now(entry) {
			return
		}
	}
	if m.rest(next, change, err, more) && m.made && !m.yielded {
		m.yield(store.Entry{}, store.Errorf(store.ErrNotFound, "nothing was at /%s then", m.folder.Path.Local()))
	}
}

// missing yields the entries of a folder that does not exist now.
func (m *merging) missing(next func() (history.Entry, error, bool), change history.Entry, err error, more bool, why error) {
	if m.rest(next, change, err, more) && !m.yielded {
		m.yield(store.Entry{}, why)
	}
}

// rest yields the remaining changes.
func (m *merging) rest(next func() (history.Entry, error, bool), change history.Entry, err error, more bool) bool {
	for ; more; change, err, more = next() {
		if err != nil {
			m.yield(store.Entry{}, err)
			return false
		}
		if !m.past(change) {
			return false
		}
	}
	return true
}

func (m *merging) give(entry store.Entry) bool {
	m.yielded = true
	return m.yield(entry, nil)
}

// now yields an entry that has not changed since, unless it came with its folder.
func (m *merging) now(entry store.Entry) bool {
	if m.folder.Path == "" && store.Ours("", entry.Name) {
		return true
	}
	if m.made {
		return true
	}
	if entry.Kind == store.KindFolder {
		made, err := m.view.past.Made(m.ctx, m.folder.Path.Child(entry.Name))
		if err != nil {
			return m.yield(store.Entry{}, err)
		}
		if made {
			return true
		}
	}
	return m.give(entry)
}

// held reports whether there was a file in a folder, or below it.
func (v *asOf) held(ctx context.Context, folder store.Folder) (bool, error) {
	for listed, err := range listing.Flat(ctx, v, folder) {
		switch {
		case store.KindOf(err) == store.ErrNotFound:
			return false, nil
		case err != nil:
			return false, err
		case listed.Kind != store.KindFolder:
			return true, nil
		}
	}
	return false, nil
}

// past yields the earlier state of an entry that has changed since.
func (m *merging) past(change history.Entry) bool {
	switch state := change.State; {
	case change.Folder:
		held, err := m.view.held(m.ctx, store.Folder{Path: m.folder.Path.Child(change.Name)})
		if err != nil {
			return m.yield(store.Entry{}, err)
		}
		return !held || m.give(store.Entry{Name: change.Name, Kind: store.KindFolder})
	case state.Change != nil:
		return m.give(entryOf(change.Name, state.Change))
	case state.Now: // it has moved
		entry, err := m.view.store.Stat(m.ctx, state.Path.Ref("", store.KindFile))
		if store.KindOf(err) == store.ErrNotFound {
			return true
		}
		if err != nil {
			return m.yield(store.Entry{}, err)
		}
		entry.Name = change.Name
		return m.give(entry)
	}
	return true
}

// origin is where the content of a file is now.
func (v *asOf) origin(ctx context.Context, ref store.Ref, revision string) (store.Origin, error) {
	state, err := v.stateOf(ctx, ref)
	switch {
	case err != nil:
		return store.Origin{}, err
	case state.Now:
		return store.Origin{File: nowAt(ref, state).As(store.KindFile), Revision: revision}, nil
	}
	content := state.Change.Content()
	entry, err := v.kept(ctx, ref, content, state.Change)
	return store.Origin{File: content.Place, Revision: entry.Revision, Version: content.Version}, err
}

// kept looks at a kept content.
func (v *asOf) kept(ctx context.Context, ref store.Ref, content history.Content, change *history.Change) (store.Entry, error) {
	entry, err := content.Stat(ctx, v.store)
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return entry, store.Errorf(store.ErrRefused, "what was at %s then was kept as %s, and is not there any more", ref, content)
	case err == nil && entry.Size >= 0 && entry.Size != change.Size:
		return entry, store.Errorf(store.ErrRefused, "what was at %s then was kept as %s, and has %d bytes now instead of %d", ref, content,
			entry.Size, change.Size)
	}
	return entry, err
}

// Open implements Store. A content that is read whole is compared with its hash.
func (v *asOf) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	ref := reading.Place
	state, err := v.stateOf(ctx, ref)
	if err != nil {
		return nil, err
	}
	if state.Now {
		reading.Place = nowAt(ref, state).As(store.KindFile)
		return v.store.Open(ctx, reading)
	}
	change := state.Change
	if reading.Revision != "" && reading.Revision != keptRevision(change) {
		return nil, store.Errorf(store.ErrChanged, "what is kept of %s is another version now", ref)
	}
	whole := reading.Offset == 0 && (reading.Length == 0 || reading.Length == change.Size)
	content := change.Content()
	if _, err := v.kept(ctx, ref, content, change); err != nil {
		return nil, err
	}
	body, err := content.Open(ctx, v.store, reading)
	if err != nil {
		return nil, err
	}
	wanted, ok := store.ParseHash(change.Hash)
	if computed := wanted.Kind.New(); ok && whole && computed != nil {
		return &checked{ReadCloser: body, content: content, hash: computed, wanted: wanted}, nil
	}
	return body, nil
}

// checked compares the content read with its hash.
type checked struct {
	io.ReadCloser
	content history.Content
	hash    hash.Hash
	wanted  store.Hash
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.hash.Write(p[:n])
	if errors.Is(err, io.EOF) && store.HashOf(c.wanted.Kind, c.hash.Sum(nil)) != c.wanted {
		return n, store.Errorf(store.ErrRefused, "%s does not hold what was kept there: its hash is not %s", c.content,
			strings.Replace(c.wanted.String(), "=", " ", 1))
	}
	return n, err
}
