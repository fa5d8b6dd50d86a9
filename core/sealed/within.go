package sealed

import (
	"context"
	"errors"
	"strings"
	"time"

	"deftheron/core/store"
)

// Capabilities implements store.Store.
func (p *Place) Capabilities() store.Capabilities {
	beneath := p.base.Capabilities()
	c := store.Capabilities{
		Keeps:     func(store.Writing) bool { return true },
		Checksums: sums{p},
		Move:      p.move,
		Clean:     p.clean,
		Sync:      p.Sync,
		Prepare:   beneath.Prepare,
		Check:     beneath.Check,
		Space:     beneath.Space,
		Owner:     beneath.Owner,
		Close:     p.close,
		Sealing:   p,
	}
	if beneath.Copy != nil {
		c.Copy = p.copy
	}
	if beneath.Lock != nil {
		c.Lock = func(ctx context.Context, ref store.Ref, until time.Time) (bool, error) {
			one, err := p.look(ctx, ref.As(store.KindFile))
			if err != nil {
				return false, err
			}
			return beneath.Lock(ctx, p.contentPlace(one.Content), until)
		}
	}
	if beneath.Locate != nil {
		c.Locate = func(folder store.Folder) string {
			return beneath.Locate(store.Folder{Path: p.Folder}) + "sealed/" + strings.ReplaceAll(string(folder.Path), "\x00", "%2F")
		}
	}
	if parts := beneath.Parts; parts != nil {
		if limits, ok := parts.PartLimits(); ok && limits.Uneven {
			c.Parts = &partWriter{p, parts}
		}
	}
	return c
}

// close writes the pending changes. The caller that has opened the base closes it.
func (p *Place) close() error {
	if p.readOnly {
		return nil
	}
	p.mu.Lock()
	p.closing = true
	p.mu.Unlock()
	return p.Sync(context.Background())
}

// sums are the hashes in manifests.
type sums struct{ place *Place }

// SumKinds implements store.Checksummer.
func (s sums) SumKinds() []store.HashKind {
	return []store.HashKind{store.CRC64NVME, store.MD5, store.SHA256}
}

// Sum implements store.Checksummer.
func (s sums) Sum(ctx context.Context, ref store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	one, err := s.place.look(ctx, ref.As(store.KindFile))
	if err != nil {
		return store.Hash{}, err
	}
	if revision != "" && one.Content != revision {
		return store.Hash{}, store.Errorf(store.ErrChanged, "%s is another version now", ref)
	}
	if known := one.shown().Hashes.Get(kind); !known.IsZero() {
		return known, nil
	}
	return store.Hash{}, store.Errorf(store.ErrUnsupported, "%s: no %s is known", ref, kind)
}

// both returns two folders, locked, which may be one. unlock is called once.
func (p *Place) both(ctx context.Context, a, b store.Path) (inA, inB *folder, unlock func(), err error) {
	for range 10 {
		var ids [2]string
		for i, path := range []store.Path{a, b} { // each is loaded, and let go
			f, err := p.folderAt(ctx, path, freshLook)
			if err != nil {
				return nil, nil, nil, err
			}
			ids[i] = f.id
			f.mu.Unlock()
		}
		if ids[0] == ids[1] {
			if inA = p.lockLoaded(ids[0]); inA != nil {
				return inA, inA, inA.mu.Unlock, nil
			}
			continue
		}
		first, second := p.lockLoaded(min(ids[0], ids[1])), (*folder)(nil) // always in one order
		if first == nil {
			continue
		}
		if second = p.lockLoaded(max(ids[0], ids[1])); second == nil {
			first.mu.Unlock()
			continue
		}
		unlock = func() { first.mu.Unlock(); second.mu.Unlock() }
		if first.id == ids[0] {
			return first, second, unlock, nil
		}
		return second, first, unlock, nil
	}
	return nil, nil, nil, store.Errorf(store.ErrTryAgain, "the folders %s and %s change all the time", a.Ref(), b.Ref())
}

// lockLoaded returns a folder, locked, if it needs no request; else nil.
func (p *Place) lockLoaded(id string) *folder {
	p.mu.Lock()
	f := p.folders[id]
	p.mu.Unlock()
	if f == nil {
		return nil
	}
	f.mu.Lock()
	if f.dead || f.gone || f.index == nil || len(f.moving) > 0 {
		f.mu.Unlock()
		return nil
	}
	return f
}

// isPending reports whether anything about a key is not written. f.mu is held.
func (f *folder) isPending(key store.Key) bool {
	_, pending := f.pending[key]
	_, writing := f.writing[key]
	return pending || writing
}

// settled returns two folders, locked, with nothing pending about a key in each: what
// leaves a folder has to be written there.
func (p *Place) settled(ctx context.Context, a store.Path, keyA store.Key, b store.Path, keyB store.Key) (inA, inB *folder, unlock func(),
	err error) {
	for range 10 {
		inA, inB, unlock, err = p.both(ctx, a, b)
		if err != nil || inA == inB || !inA.isPending(keyA) && !inB.isPending(keyB) {
			return inA, inB, unlock, err
		}
		unlock()
		if err := p.Sync(ctx); err != nil {
			return nil, nil, nil, err
		}
	}
	return nil, nil, nil, store.Errorf(store.ErrTryAgain, "something else writes to %s all the time", a.Ref())
}

// prepareLeaving prepares an entry that is about to move to another folder, and returns it: it
// must be written, its old folder must record that it has arrived, and its content must not
// be taken for a leftover of a run.
func (p *Place) prepareLeaving(ctx context.Context, ref store.Ref) (*entry, error) {
	for range 10 {
		f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
		if err != nil {
			return nil, err
		}
		one, err := f.findRef(ref)
		pending := err == nil && f.isPending(one.key())
		f.mu.Unlock()
		if err != nil {
			return nil, err
		}
		if pending {
			if err := p.Sync(ctx); err != nil {
				return nil, err
			}
			continue
		}
		if err := p.settleFrom(ctx, one.From); err != nil || one.Content == "" {
			return one, err
		}
		return one, p.holdOn(p.admit(ctx), one.Content)
	}
	return nil, store.Errorf(store.ErrTryAgain, "something else writes to %s all the time", ref)
}

// settleFrom looks at the folder that an entry came from, so that it knows that it has
// arrived.
func (p *Place) settleFrom(ctx context.Context, id string) error {
	if id == "" {
		return nil
	}
	f, err := p.enter(ctx, id, time.Hour)
	if err == nil {
		f.mu.Unlock()
	}
	if store.KindOf(err) == store.ErrRefused {
		numbers, failed := p.numbers(p.admit(ctx), p.manifest(id))
		if failed != nil || len(numbers) == 0 { // it was removed
			return failed
		}
	}
	return err
}

// move is [store.Capabilities.Move]: nothing but manifests is written.
func (p *Place) move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	kind := store.KindFile
	if from.Kind == store.KindFolder {
		kind = store.KindFolder
		if strings.HasPrefix(string(to.Folder.Path), string(from.AsFolder().Path)) {
			return store.Entry{}, store.Errorf(store.ErrRefused, "%s cannot be moved into itself", from)
		}
	}
	from, to = from.As(kind), to.As(kind)
	before, err := p.look(ctx, from)
	if err != nil {
		return store.Entry{}, err
	}
	if from.Folder.Path != to.Folder.Path {
		if before, err = p.prepareLeaving(ctx, from); err != nil {
			return store.Entry{}, err
		}
	}
	keyFrom, keyTo := before.key(), store.KeyOf("", to.Name, kind)
	source, target, unlock, err := p.settled(ctx, from.Folder.Path, keyFrom, to.Folder.Path, keyTo)
	if err != nil {
		return store.Entry{}, err
	}
	defer unlock()
	one, err := source.findRef(from)
	if err != nil {
		return store.Entry{}, err
	}
	if one.id() != before.id() || revision != "" && kind == store.KindFile && one.Content != revision {
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s is another version now", from)
	}
	moved, err := p.putInto(source, target, one, to)
	if err != nil {
		return store.Entry{}, err
	}
	left := change{old: one, kept: true}
	if source != target {
		left.leaves = targetOf(target.id, to.Name)
	}
	source.set(p, keyFrom, left)
	if kind == store.KindFolder {
		p.forgetPaths()
	}
	return moved.shown(), nil
}

// putInto gives an entry of one folder a name in another one as well. Both are locked.
func (p *Place) putInto(source, target *folder, one *entry, to store.Ref) (*entry, error) {
	there, err := target.findRef(to)
	if there != nil {
		return nil, store.Errorf(store.ErrExists, "%s already exists", to)
	}
	if store.KindOf(err) != store.ErrNotFound {
		return nil, err
	}
	moved := *one
	moved.Moving = nil
	moved.setName(to.Name)
	if source != target {
		moved.From = source.id
	}
	target.set(p, moved.key(), change{entry: &moved})
	return &moved, nil
}

// replaceAndKeep gives a content the name of another, which goes to where the write says.
func (p *Place) replaceAndKeep(ctx context.Context, writing store.Writing, now *entry) error {
	ref, keep := writing.Place.As(store.KindFile), writing.Keep.As(store.KindFile)
	before, err := p.look(ctx, ref)
	if store.KindOf(err) == store.ErrNotFound { // there is nothing to be kept
		writing.Keep = store.Ref{}
		return p.enterEntry(ctx, writing, now)
	}
	if err != nil {
		return err
	}
	if ref.Folder.Path != keep.Folder.Path {
		if before, err = p.prepareLeaving(ctx, ref); err != nil {
			return err
		}
	}
	source, target, unlock, err := p.settled(ctx, ref.Folder.Path, now.key(), keep.Folder.Path, store.KeyOf("", keep.Name, store.KindFile))
	if err != nil {
		return err
	}
	defer unlock()
	there, err := source.allows(ref, writing.If)
	if err != nil {
		return err
	}
	if there.id() != before.id() {
		return store.Errorf(store.ErrChanged, "%s is another version now", ref)
	}
	if _, err := p.putInto(source, target, there, keep); err != nil {
		return err
	}
	left := change{entry: now, old: there, kept: true}
	if source != target {
		left.leaves = targetOf(target.id, keep.Name)
	}
	source.set(p, now.key(), left)
	return nil
}

// copy is [store.Capabilities.Copy]: the content is copied at the provider, with its key.
func (p *Place) copy(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
	one, err := p.look(ctx, from.As(store.KindFile))
	if err != nil {
		return store.Entry{}, err
	}
	if revision != "" && one.Content != revision {
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s is another version now", from)
	}
	folder, err := p.allows(ctx, to.As(store.KindFile), store.Absent)
	if err != nil {
		return store.Entry{}, err
	}
	content, end := p.begin(run)
	defer end()
	content += copyMark + folder // its header names the folder that it was copied from
	at := p.contentPlace(content)
	if err := p.makeFolder(ctx, at.Folder.Path); err != nil {
		return store.Entry{}, err
	}
	copied, err := store.Copy(ctx, p.base, p.contentPlace(one.Content), "", at, run)
	if err == nil && copied.Size >= 0 && copied.Size != one.Header+payloadSize(one.Size) {
		err = damaged(p.contentPlace(one.Content), errors.New("it has another length"))
	}
	if err != nil {
		p.discard(removal{Content: content})
		return store.Entry{}, err
	}
	made := *one
	made.Content, made.Moving, made.From = content, nil, ""
	written, err := p.enterFile(ctx, store.Writing{Place: to, If: store.Absent}, &made)
	return written.Entry, err
}
