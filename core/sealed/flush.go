package sealed

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// mark notes that a folder has changes that are not written.
func (p *Place) mark(f *folder) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.dirty[f.id] = f
	if p.AutoSync > 0 && p.timer == nil && !p.closing {
		p.timer = time.AfterFunc(p.AutoSync, p.autoSync)
	}
}

// autoSync writes pending changes for which Sync was not called.
func (p *Place) autoSync() {
	p.mu.Lock()
	p.timer = nil
	p.mu.Unlock()
	if err := p.Sync(context.Background()); err != nil {
		p.log.Warn("what has changed in a sealed place could not be written yet", "error", err)
	}
}

// discard schedules the removal of a content, for the time when all changes are written that
// make it unused. Its folder is the one whose manifest may still name it; empty if none ever
// did.
func (p *Place) discard(one removal) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.doomed = append(p.doomed, one)
}

// Sync writes the manifests of changed folders, and removes unused contents. It is
// [store.Capabilities.Sync].
//
// An entry that moves to another folder is first marked, then written there, and then
// removed at its old place: whenever the process ends in between, the mark says where the
// entry is.
func (p *Place) Sync(ctx context.Context) error {
	p.flushing.Lock()
	defer p.flushing.Unlock()
	if err := p.goOn(p.admit(ctx)); err != nil {
		return err
	}
	if err := store.Sync(ctx, p.base); err != nil {
		return err
	}
	full := p.finished()
	p.mu.Lock()
	dirty, doomed, emptied := slices.Collect(maps.Values(p.dirty)), p.doomed, p.emptied
	p.dirty, p.doomed, p.emptied = map[string]*folder{}, nil, nil
	p.mu.Unlock()
	if len(dirty)+len(doomed)+len(emptied) > 0 {
		note, gone, err := p.write(p.admit(ctx), dirty, doomed)
		if err == nil {
			err = store.Sync(ctx, p.base)
		}
		if err != nil {
			p.mu.Lock()
			p.doomed, p.emptied = append(p.doomed, doomed...), append(p.emptied, emptied...)
			p.wentOn = p.wentOn && note == (store.Ref{})
			p.mu.Unlock()
			return err
		}
		p.remove(p.admit(ctx), gone)
		p.dropNote(p.admit(ctx), note)
		p.removeManifests(p.admit(ctx), emptied)
		p.putAway()
	}
	return p.finish(p.admit(ctx), full)
}

// together is how many requests for manifests go at once.
const together = 8

// write writes the pending changes of folders. It returns the contents that are unused now,
// including those that were doomed before, and the note about them.
func (p *Place) write(ctx context.Context, dirty []*folder, doomed []removal) (note store.Ref, gone []removal, err error) {
	for _, f := range dirty {
		f.mu.Lock()
		f.writing, f.pending = f.pending, nil
		f.mu.Unlock()
	}
	slices.SortFunc(dirty, func(a, b *folder) int { return cmp.Compare(a.depth, b.depth) })
	gone = append(removals(dirty), doomed...)
	note, err = p.noteRemovals(ctx, gone)
	for _, step := range []func(f *folder) map[store.Key]change{marked, arriving, leaving} {
		if err == nil {
			err = p.writeStep(ctx, dirty, step)
		}
	}
	for _, f := range dirty {
		f.mu.Lock()
		if err != nil {
			p.unwritten(f)
		}
		f.writing = nil
		f.mu.Unlock()
	}
	return note, gone, err
}

// unwritten has what could not be written written by the next Sync. What was, in part, is
// written again: it says the same. f.mu is held.
func (p *Place) unwritten(f *folder) {
	for key, one := range f.writing {
		if later, ok := f.pending[key]; ok {
			if one.entry.contentID() != "" && one.entry.id() != later.entry.id() && !later.kept && later.leaves == nil {
				p.discard(removal{one.entry.Content, cmp.Or(one.entry.From, f.id)})
			}
			later.old, later.leaves, later.kept = one.old, one.leaves, one.kept
			one = later
		}
		if f.pending == nil {
			f.pending = map[store.Key]change{}
		}
		f.pending[key] = one
	}
	p.mark(f)
}

func (e *entry) contentID() string {
	if e == nil {
		return ""
	}
	return e.Content
}

// writeStep writes the changes that a step returns for each folder, parents first.
func (p *Place) writeStep(ctx context.Context, dirty []*folder, step func(*folder) map[store.Key]change) error {
	for len(dirty) > 0 {
		level := dirty
		if deeper := slices.IndexFunc(dirty, func(f *folder) bool { return f.depth > dirty[0].depth }); deeper > 0 {
			level = dirty[:deeper]
		}
		dirty = dirty[len(level):]
		group, groupCtx := errgroup.WithContext(ctx)
		group.SetLimit(together)
		for _, f := range level {
			f.mu.Lock()
			changes := step(f)
			first, gone := f.fresh, f.gone
			f.mu.Unlock()
			if (len(changes) > 0 || first) && !gone {
				group.Go(func() error { return p.commit(groupCtx, f, changes) })
			}
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// marked are the entries that leave, with where to.
func marked(f *folder) map[store.Key]change {
	changes := map[store.Key]change{}
	for key, one := range f.writing {
		if one.leaves != nil {
			marked := *one.old
			marked.Moving = one.leaves
			changes[key] = change{entry: &marked, old: one.old}
		}
	}
	return changes
}

// arriving are the changes that do not wait for others.
func arriving(f *folder) map[store.Key]change {
	changes := map[store.Key]change{}
	for key, one := range f.writing {
		if one.leaves == nil {
			changes[key] = one
		}
	}
	return changes
}

// leaving returns the changes for entries that have moved to another folder.
func leaving(f *folder) map[store.Key]change {
	changes := map[store.Key]change{}
	for key, one := range f.writing {
		if one.leaves != nil {
			changes[key] = one
		}
	}
	return changes
}

// remove removes contents. What cannot be removed is left and said: nothing refers to it.
func (p *Place) remove(ctx context.Context, contents []removal) {
	group := errgroup.Group{}
	group.SetLimit(together)
	for _, one := range contents {
		content := one.Content
		group.Go(func() error {
			_, err := retry.Read(ctx, func() (store.Removal, error) { return p.base.Remove(ctx, p.contentPlace(content), "") })
			if err != nil && store.KindOf(err) != store.ErrNotFound {
				p.log.Warn("a content that nothing refers to is left in a sealed place", "content", p.contentPlace(content).String(), "error", err)
			}
			return nil
		})
	}
	_ = group.Wait()
}

// removeManifests removes the manifests of removed folders.
func (p *Place) removeManifests(ctx context.Context, ids []string) {
	for _, id := range ids {
		at := p.manifest(id)
		err := p.removeAll(ctx, at)
		if err != nil && store.KindOf(err) != store.ErrNotFound {
			p.log.Warn("the manifest of a folder that was removed is left", "place", at.Path.Ref().String(), "error", err)
		}
		p.mu.Lock()
		f := p.folders[id]
		delete(p.folders, id)
		delete(p.made, string(at.Path))
		p.mu.Unlock()
		if err := p.heads.SaveHead(ctx, id, Head{}); err != nil {
			p.log.Warn("what was remembered of a folder that was removed is left", "folder", id, "error", err)
		}
		if f != nil {
			f.mu.Lock()
			f.dead = true
			f.mu.Unlock()
		}
	}
}

// removeAll removes a folder of the base with the files in it.
func (p *Place) removeAll(ctx context.Context, at store.Folder) error {
	for one, err := range p.base.List(ctx, at) {
		if err != nil {
			return err
		}
		if _, err := p.base.Remove(ctx, one.Ref(at).As(store.KindFile), one.Revision); err != nil && store.KindOf(err) != store.ErrNotFound {
			return err
		}
	}
	_, err := p.base.RemoveFolder(ctx, at.Path.Ref())
	return err
}
