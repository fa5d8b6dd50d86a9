package sealed

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// patience is how a segment is tried again.
var patience = retry.Policy{First: 200 * time.Millisecond, Longest: 5 * time.Second, Tries: 6}

// commit writes a segment with some changes. If another service has written a segment with
// the same number, its changes are read: ErrChanged if one is of a name that changed here.
func (p *Place) commit(ctx context.Context, f *folder, changes map[store.Key]change) error {
	var collided error
	for range 10 {
		again := patience
		again.May = func(err error) bool {
			kind := store.KindOf(err)
			return retry.MayPass(err) || kind == store.ErrOutcomeUnknown
		}
		err := again.Do(ctx, func() error { return p.commitOnce(ctx, f, changes) })
		if store.KindOf(err) != store.ErrExists {
			return cmp.Or(err, collided)
		}
		p.log.Warn("another service writes to this sealed place at the same time", "folder", f.id)
		f.mu.Lock()
		f.fresh = false
		err = p.load(ctx, f)
		if err == nil {
			var now error
			now, err = f.giveWay(p, changes)
			collided = cmp.Or(now, collided)
		}
		f.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return store.Errorf(store.ErrTryAgain,
		"another service writes to the folder %s of the sealed place all the time; let one of them write alone",
		f.id)
}

// giveWay drops the changes of names that another service has written in the meantime, and
// returns ErrChanged if there are any: the other service's entries stay. f.mu is held.
func (f *folder) giveWay(p *Place, changes map[store.Key]change) (collided, err error) {
	for key, one := range changes {
		there, err := f.written(key)
		if err != nil {
			return nil, err
		}
		if id := there.id(); id == one.old.id() || id == one.entry.id() {
			continue
		}
		delete(changes, key)
		delete(f.writing, key)
		if one.entry.contentID() != "" && !one.comes() {
			p.discard(removal{Content: one.entry.Content})
		}
		collided = store.Errorf(store.ErrChanged, "another service has written %q in this sealed place at the same time, and that stays; "+
			"let one service at a time write to it", key)
	}
	return collided, nil
}

// comes reports whether the entry was in another place of the sealed place before.
func (c change) comes() bool { return c.entry.From != "" || c.leaves != nil }

// commitOnce makes a segment and writes it. ErrExists where its number is taken.
func (p *Place) commitOnce(ctx context.Context, f *folder, changes map[store.Key]change) error {
	f.mu.Lock()
	entries := asEntries(changes)
	segments, whole := f.segments, f.whole
	f.mu.Unlock()
	stood := standsFor(segments, len(entries))
	if whole {
		stood = len(segments)
	}
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
	p.loaded.Add(int64(len(entries) + 50))
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

// send writes a segment to the provider. If the answer was lost, it looks the segment up.
func (p *Place) send(ctx context.Context, id string, made *segment) error {
	at := p.segmentPlace(id, made.Number)
	_, err := p.base.Write(ctx, store.Writing{Place: at, Size: made.piece.size, If: store.Absent, Run: ownRun,
		Content: pieceContent{made.piece}})
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

// pieceContent is a segment on its way to the provider.
type pieceContent struct{ piece *piece }

// Open implements store.Content.
func (c pieceContent) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(newSection(c.piece), store.CRC64NVME, nil), nil
}
