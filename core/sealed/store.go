package sealed

import (
	"context"
	"errors"
	"io"
	"iter"
	"slices"
	"time"

	"deftheron/core/store"
)

// The maximum age of a folder's known state: for a listing, and for a lookup of one entry.
const (
	freshListing = time.Second
	freshLook    = 10 * time.Second
)

// Traits implements store.Store.
func (p *Place) Traits() store.Traits {
	beneath := p.base.Traits()
	traits := store.Traits{
		Order: store.OrderByKey, Folders: store.FoldersReal, FileBesideFolder: true, Revisions: store.RevisionsOfContent,
		TimePrecision: time.Nanosecond, KeepsTimes: true, VerificationKind: store.CRC64NVME, Conditional: beneath.Conditional, Whole: true,
		ReadOnly: beneath.ReadOnly || p.readOnly, Streams: beneath.Streams,
		Windows: []string{
			"Names become visible to another service when the manifest is written, at most a quarter of a second after a file.",
		},
	}
	if !beneath.Conditional {
		traits.Windows = append(traits.Windows, "Two services that write to one sealed place at the same instant may not notice each other: "+
			"the account beneath has no conditional writes.")
	}
	if most := beneath.LargestFile; most > 0 {
		traits.LargestFile = most - most/sealedChunk*16 - longestStart
	}
	return traits
}

// forgetPaths forgets which folders paths lead to.
func (p *Place) forgetPaths() {
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.paths)
}

// enter returns a folder, locked, with its manifest no older than an age.
func (p *Place) enter(ctx context.Context, id string, age time.Duration) (*folder, error) {
	for {
		p.mu.Lock()
		f := p.folders[id]
		if f == nil {
			f = &folder{id: id}
			p.folders[id] = f
		}
		p.mu.Unlock()
		f.mu.Lock()
		if f.dead {
			f.mu.Unlock()
			continue
		}
		f.used = p.now()
		if !f.fresh && (f.index == nil || p.now().Sub(f.checked) > age) {
			if err := p.load(ctx, f); err != nil {
				f.checked = time.Time{}
				f.mu.Unlock()
				return nil, err
			}
		}
		if len(f.moving) == 0 {
			return f, nil
		}
		moving := f.moving
		f.moving = nil
		f.mu.Unlock()
		if err := p.settle(ctx, id, moving); err != nil {
			return nil, err
		}
	}
}

// settle finds out of entries that were on their way to another folder when a process
// ended whether they have arrived. If so, they are not here any more.
func (p *Place) settle(ctx context.Context, id string, moving []*entry) error {
	for _, one := range moving {
		arrived, err := p.hasArrived(ctx, one)
		if err != nil {
			return err
		}
		f, err := p.enter(ctx, id, freshLook)
		if err != nil {
			return err
		}
		there, err := f.find(one.key())
		if err == nil && there.id() == one.id() {
			if arrived {
				f.set(p, one.key(), change{old: there, kept: true})
				p.forgetPaths()
			} else {
				stays := *there
				stays.Moving = nil
				f.set(p, one.key(), change{entry: &stays, old: there, kept: true})
			}
		}
		f.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *Place) hasArrived(ctx context.Context, one *entry) (bool, error) {
	to, err := p.enter(ctx, one.Moving.Folder, 0)
	if store.KindOf(err) == store.ErrRefused {
		never, failed := p.neverWritten(ctx, one.Moving.Folder)
		if failed != nil || never {
			return false, failed
		}
	}
	if err != nil {
		return false, err
	}
	defer to.mu.Unlock()
	there, err := to.find(store.KeyOf("", one.Moving.name(), one.kind()))
	return there.id() == one.id(), err
}

// neverWritten reports whether a folder has no manifest and never had one, as far as is known.
func (p *Place) neverWritten(ctx context.Context, id string) (bool, error) {
	numbers, err := p.numbers(p.admit(ctx), p.manifest(id))
	if err != nil {
		return false, err
	}
	known, err := p.heads.Head(ctx, id)
	return len(numbers) == 0 && known.Number == 0, err
}

// resolve returns the id of the folder at a path.
func (p *Place) resolve(ctx context.Context, path store.Path) (string, error) {
	if path == "" {
		return p.root, nil
	}
	p.mu.Lock()
	id, ok := p.paths[path]
	p.mu.Unlock()
	if ok {
		return id, nil
	}
	parent, name := path.Split()
	in, err := p.resolve(ctx, parent)
	if err != nil {
		return "", err
	}
	f, err := p.enter(ctx, in, freshLook)
	if err != nil {
		return "", err
	}
	one, err := f.find(store.KeyOf("", name, store.KindFolder))
	f.mu.Unlock()
	if err != nil {
		return "", err
	}
	if one == nil {
		return "", store.Errorf(store.ErrNotFound, "the folder %s is not there", path.Ref())
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.paths) > 50_000 {
		clear(p.paths)
	}
	p.paths[path] = one.Folder
	return one.Folder, nil
}

// folderAt returns the folder at a path, locked.
func (p *Place) folderAt(ctx context.Context, path store.Path, age time.Duration) (*folder, error) {
	p.putAway()
	id, err := p.resolve(ctx, path)
	if err != nil {
		return nil, err
	}
	f, err := p.enter(ctx, id, age)
	if err != nil {
		return nil, err
	}
	if f.gone {
		f.mu.Unlock()
		p.forgetPaths()
		return nil, store.Errorf(store.ErrNotFound, "the folder %s is not there", path.Ref())
	}
	f.depth = len(path.Names())
	return f, nil
}

// look finds an entry of the ref's kind.
func (p *Place) look(ctx context.Context, ref store.Ref) (*entry, error) {
	f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
	if err != nil {
		return nil, err
	}
	defer f.mu.Unlock()
	return f.findRef(ref)
}

// findRef finds an entry of the ref's kind. f.mu is held.
func (f *folder) findRef(ref store.Ref) (*entry, error) {
	for _, kind := range []store.Kind{store.KindFile, store.KindFolder} {
		if !ref.Means(kind) {
			continue
		}
		if one, err := f.find(store.KeyOf("", ref.Name, kind)); one != nil || err != nil {
			return one, err
		}
	}
	return nil, store.Errorf(store.ErrNotFound, "%s is not there", ref)
}

// Stat implements store.Store.
func (p *Place) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if ref.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	one, err := p.look(ctx, ref)
	if err != nil {
		return store.Entry{}, err
	}
	return one.shown(), nil
}

// List implements store.Store.
func (p *Place) List(ctx context.Context, at store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		f, err := p.folderAt(ctx, at.Path, freshListing)
		if err != nil {
			yield(store.Entry{}, err)
			return
		}
		segments, newer := slices.Clone(f.segments), f.changes()
		f.mu.Unlock()
		for one, err := range list(segments, newer) {
			if err == nil {
				err = ctx.Err()
			}
			if !yield(one, err) || err != nil {
				return
			}
		}
	}
}

// Open implements store.Store. A range takes one request: the manifest has the key, and the
// length of the header before the payload.
func (p *Place) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	one, err := p.look(ctx, reading.Place.As(store.KindFile))
	if err != nil {
		return nil, err
	}
	if reading.Revision != "" && one.Content != reading.Revision && !reading.Growing {
		return nil, store.Errorf(store.ErrChanged, "%s is another version now", reading.Place)
	}
	body, err := p.openContent(ctx, one, reading.Offset)
	if store.KindOf(err) == store.ErrNotFound {
		return nil, p.missing(ctx, reading.Place, one)
	}
	if err != nil || reading.Length == 0 {
		return body, err
	}
	return limited{io.LimitReader(body, reading.Length), body}, nil
}

// missing is the error of a content that is not there: its entry may be another by now.
func (p *Place) missing(ctx context.Context, ref store.Ref, was *entry) error {
	f, err := p.folderAt(ctx, ref.Folder.Path, 0)
	if err != nil {
		return err
	}
	defer f.mu.Unlock()
	one, err := f.findRef(ref.As(store.KindFile))
	if err == nil && one.Content != was.Content {
		err = store.Errorf(store.ErrChanged, "%s is another version now", ref)
	}
	if err == nil {
		err = damaged(ref, errors.New("its content "+p.contentPlace(one.Content).String()+" is missing at the provider"))
	}
	return err
}

// limited reads a part of a body.
type limited struct {
	io.Reader
	body io.Closer
}

func (l limited) Close() error { return l.body.Close() }

// MakeFolder implements store.Store.
func (p *Place) MakeFolder(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if ref.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
	if err != nil {
		return store.Entry{}, err
	}
	defer f.mu.Unlock()
	key := store.KeyOf("", ref.Name, store.KindFolder)
	one, err := f.find(key)
	if err != nil {
		return store.Entry{}, err
	}
	if one == nil {
		one = &entry{Folder: newID()}
		one.setName(ref.Name)
		made := &folder{id: one.Folder, depth: f.depth + 1, fresh: true, index: map[uint64]int64{}, used: p.now()}
		p.mu.Lock()
		p.folders[one.Folder], p.dirty[one.Folder] = made, made
		p.mu.Unlock()
		f.set(p, key, change{entry: one})
	}
	return one.shown(), nil
}

// Remove implements store.Store.
func (p *Place) Remove(ctx context.Context, ref store.Ref, revision string) (store.Removal, error) {
	ref = ref.As(store.KindFile)
	before, err := p.look(ctx, ref)
	if err != nil {
		return "", err
	}
	if err := p.settleFrom(ctx, before.From); err != nil {
		return "", err
	}
	f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
	if err != nil {
		return "", err
	}
	defer f.mu.Unlock()
	one, err := f.findRef(ref)
	if err != nil {
		return "", err
	}
	if one.id() != before.id() || revision != "" && one.Content != revision {
		return "", store.Errorf(store.ErrChanged, "%s is another version now", ref)
	}
	f.set(p, one.key(), change{old: one})
	return store.RemovedFinally, nil
}

// RemoveFolder implements store.Store.
func (p *Place) RemoveFolder(ctx context.Context, ref store.Ref) (store.Removal, error) {
	child, err := p.folderAt(ctx, ref.AsFolder().Path, 0)
	if err != nil {
		return "", err
	}
	empty, err := child.isEmpty()
	if err == nil && !empty {
		err = store.Errorf(store.ErrRefused, "the folder %s is not empty", ref)
	}
	child.gone = err == nil // nothing is written to it from now on
	child.mu.Unlock()
	if err != nil {
		return "", err
	}
	if err := p.removeEmpty(ctx, ref, child.id); err != nil {
		child.mu.Lock()
		child.gone = false
		child.mu.Unlock()
		return "", err
	}
	return store.RemovedFinally, nil
}

func (p *Place) removeEmpty(ctx context.Context, ref store.Ref, id string) error {
	f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
	if err != nil {
		return err
	}
	defer f.mu.Unlock()
	one, err := f.findRef(ref.As(store.KindFolder))
	if err != nil {
		return err
	}
	if one.Folder != id {
		return store.Errorf(store.ErrChanged, "%s is another folder now", ref)
	}
	f.set(p, one.key(), change{old: one, kept: true})
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.paths)
	p.emptied = append(p.emptied, id)
	return nil
}
