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

// autoSync writes what nobody else has had written.
func (p *Place) autoSync() {
	p.mu.Lock()
	p.timer = nil
	p.mu.Unlock()
	if err := p.Sync(context.Background()); err != nil {
		p.log.Warn("what has changed in a sealed place could not be written yet", "error", err)
	}
}

// discard has a content removed once everything is written that says so.
func (p *Place) discard(content string) {
	if content == "" {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.doomed = append(p.doomed, content)
}

// Sync writes the manifests of what has changed, and removes the contents that nothing
// refers to any more. It is [store.Capabilities.Sync].
//
// An entry that goes to another folder is marked first, then written there, then removed
// where it was: whenever the process ends in between, the mark says where to look.
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
		note, gone, err := p.write(p.admit(ctx), dirty)
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
		for _, one := range gone {
			doomed = append(doomed, one.Content)
		}
		p.remove(p.admit(ctx), doomed)
		p.dropNote(p.admit(ctx), note)
		p.removeManifests(p.admit(ctx), emptied)
		p.putAway()
	}
	return p.finish(p.admit(ctx), full)
}

// together is how many requests for manifests go at once.
const together = 8

// write writes what is pending in folders, and returns the contents that nothing refers to
// any more, with the note about them.
func (p *Place) write(ctx context.Context, dirty []*folder) (note store.Ref, gone []removal, err error) {
	for _, f := range dirty {
		f.mu.Lock()
		f.writing, f.pending = f.pending, nil
		f.mu.Unlock()
	}
	slices.SortFunc(dirty, func(a, b *folder) int { return cmp.Compare(a.depth, b.depth) })
	gone = removals(dirty)
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
				p.discard(one.entry.Content)
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

// writeStep writes what a step says of each folder, those nearer to the start first.
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

// leaving are the changes of what has gone to another folder.
func leaving(f *folder) map[store.Key]change {
	changes := map[store.Key]change{}
	for key, one := range f.writing {
		if one.leaves != nil {
			changes[key] = one
		}
	}
	return changes
}

// patience is how a segment is tried again.
var patience = retry.Policy{First: 200 * time.Millisecond, Longest: 5 * time.Second, Tries: 6}

// commit writes a segment with some changes. Where another service has written one of its
// number, what it wrote is looked at: ErrChanged where it is of a name that changed here.
func (p *Place) commit(ctx context.Context, f *folder, changes map[store.Key]change) error {
	for range 10 {
		again := patience
		again.May = func(err error) bool {
			kind := store.KindOf(err)
			return retry.MayPass(err) || kind == store.ErrOutcomeUnknown
		}
		err := again.Do(ctx, func() error { return p.commitOnce(ctx, f, changes) })
		if store.KindOf(err) != store.ErrExists {
			return err
		}
		p.log.Warn("another service writes to this sealed place at the same time", "folder", f.id)
		f.mu.Lock()
		f.fresh = false
		err = p.load(ctx, f)
		if err == nil {
			err = f.collide(changes)
		}
		f.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return store.Errorf(store.ErrTryAgain, "another service writes to the folder %s of the sealed place all the time; let one of them write alone",
		f.id)
}

// collide is ErrChanged where what was written meanwhile is of the same names.
func (f *folder) collide(changes map[store.Key]change) error {
	for key, one := range changes {
		there, err := f.written(key)
		if err != nil {
			return err
		}
		if id := there.id(); id != one.old.id() && id != one.entry.id() {
			return store.Errorf(store.ErrChanged, "another service has written %q in this sealed place at the same time; let one service "+
				"at a time write to it", key)
		}
	}
	return nil
}

// commitOnce makes a segment and writes it. ErrExists where its number is taken.
func (p *Place) commitOnce(ctx context.Context, f *folder, changes map[store.Key]change) error {
	f.mu.Lock()
	entries := asEntries(changes)
	segments := f.segments
	f.mu.Unlock()
	stood := standsFor(segments, len(entries))
	before, replaced := segments[:len(segments)-stood], segments[len(segments)-stood:]
	begin := head{Folder: f.id, Number: 1, From: 1}
	if n := len(segments); n > 0 {
		begin.Number = segments[n-1].Number + 1
		begin.From = begin.Number
	}
	if stood > 0 {
		begin.From = replaced[0].From
	}
	if n := len(before); n > 0 {
		begin.Previous = before[n-1].mac
	}
	made, places, err := p.build(begin, replaced, entries)
	if err != nil {
		return err
	}
	if err := p.makeFolder(ctx, p.manifest(f.id).Path); err != nil {
		return err
	}
	if err := p.send(ctx, f.id, made); err != nil {
		return err
	}
	f.mu.Lock()
	f.fresh = false
	f.segments = append(slices.Clone(before), made)
	if f.index == nil {
		f.index = map[uint64]int64{}
	}
	maps.Copy(f.index, places)
	for _, one := range entries {
		if one.Removed != "" {
			delete(f.index, hashOf(one.key()))
		}
	}
	f.checked = p.now()
	f.mu.Unlock()
	if err := p.heads.SaveHead(ctx, f.id, Head{Number: made.Number, MAC: made.mac}); err != nil {
		return err
	}
	for _, one := range replaced {
		if _, err := p.base.Remove(ctx, p.segmentPlace(f.id, one.Number), ""); err != nil && store.KindOf(err) != store.ErrNotFound {
			p.log.Debug("a segment that is stood for by another is left", "folder", f.id, "number", one.Number, "error", err)
		}
	}
	return nil
}

// build writes a segment into the scratch file, with where each of its entries is.
func (p *Place) build(begin head, replaced []*segment, entries []*entry) (*segment, map[uint64]int64, error) {
	w, err := p.newSegment(begin)
	if err != nil {
		return nil, nil, err
	}
	defer w.done()
	places := map[uint64]int64{}
	for one, err := range merge(replaced, entries) {
		if err != nil {
			return nil, nil, err
		}
		if one.Removed != "" && begin.From == 1 {
			continue // nothing before it is left to be removed
		}
		offset, err := w.add(one)
		if err != nil {
			return nil, nil, err
		}
		if one.Removed == "" {
			places[hashOf(one.key())] = location(begin.Number, offset)
		}
	}
	made, err := w.end()
	return made, places, err
}

// send writes a segment to the provider. Where the answer was lost it is looked up.
func (p *Place) send(ctx context.Context, id string, made *segment) error {
	at := p.segmentPlace(id, made.Number)
	_, err := p.base.Write(ctx, store.Writing{Place: at, Size: made.piece.size, If: store.Absent, Run: ownRun, Content: pieceContent{made.piece}})
	if kind := store.KindOf(err); kind != store.ErrExists && kind != store.ErrOutcomeUnknown {
		return err
	}
	there, failed := p.fetch(ctx, id, made.Number, -1)
	if failed == nil && there.mac == made.mac {
		return nil
	}
	if store.KindOf(failed) == store.ErrNotFound {
		return store.Errorf(store.ErrTryAgain, "the segment %s was not written: %w", at, err)
	}
	if failed != nil {
		return failed
	}
	return store.Errorf(store.ErrExists, "%s was written by another service", at)
}

// tierBase is how many segments of about one size are put together.
const tierBase = 8

// standsFor is how many of the last segments a new one stands for: as many as are of about
// its size or smaller, once there are enough of them. An entry is thus written again once
// for each eightfold growth of its folder.
func standsFor(segments []*segment, entries int) int {
	tierOf := func(entries int) (tier int) {
		for ; entries >= tierBase; entries /= tierBase {
			tier++
		}
		return tier
	}
	tier, stood := tierOf(entries), 0
	for {
		n := stood
		for n < len(segments) && tierOf(segments[len(segments)-1-n].entries) <= tier {
			n++
		}
		if n-stood < tierBase-1 {
			return stood
		}
		stood, tier = n, tier+1
	}
}

// pieceContent is a segment that is to be written.
type pieceContent struct{ piece *piece }

// Open implements store.Content.
func (c pieceContent) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(newSection(c.piece), store.CRC64NVME, nil), nil
}

// remove removes contents. What cannot be removed is left and said: nothing refers to it.
func (p *Place) remove(ctx context.Context, contents []string) {
	group := errgroup.Group{}
	group.SetLimit(together)
	for _, content := range contents {
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

// removeManifests removes what is left of folders that were removed.
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

// mostIndexed is how many entries are held in the indexes of folders that are not in use.
const mostIndexed = 500_000

// mostScratch is how large the scratch file may become.
const mostScratch = 1 << 30

// putAway forgets folders that were not used for the longest, where many are held.
func (p *Place) putAway() {
	p.mu.Lock()
	all, files := slices.Collect(maps.Values(p.folders)), p.scratch
	p.mu.Unlock()
	held := 0
	used := map[*folder]time.Time{}
	for _, f := range all {
		f.mu.Lock()
		held += f.weight()
		used[f] = f.used
		f.mu.Unlock()
	}
	full := files != nil && files.size() > mostScratch
	if held <= mostIndexed && !full {
		return
	}
	slices.SortFunc(all, func(a, b *folder) int { return used[a].Compare(used[b]) })
	for _, f := range all {
		if held <= mostIndexed/2 && !full {
			break
		}
		f.mu.Lock()
		if len(f.pending) == 0 && len(f.writing) == 0 && !f.fresh {
			held -= f.weight()
			f.dead = true
			p.mu.Lock()
			delete(p.folders, f.id)
			p.mu.Unlock()
		}
		f.mu.Unlock()
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.paths)
	if full {
		p.scratch = nil // those who read it still refer to it
	}
}

// weight is what a folder takes in memory, in entries.
func (f *folder) weight() int { return len(f.index) + 50 }
