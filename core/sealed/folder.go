package sealed

import (
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// folder is the state of one folder: its current manifest, the position of each name in it,
// and the changes that are not written yet.
type folder struct {
	mu sync.Mutex
	id string
	// depth is how far it is from the start; folders nearer to it are written first.
	depth int
	// dead is set if the folder was removed from the cache, and must be looked up again.
	dead bool
	// fresh is set if it was created here and has no manifest yet.
	fresh bool
	// whole has the next segment stand for all others.
	whole bool
	// gone is set if it was removed.
	gone    bool
	checked time.Time
	used    time.Time

	segments []*segment       // in force, from the oldest
	index    map[uint64]int64 // by the hash of a key, of what is there: see place
	pending  map[store.Key]change
	writing  map[store.Key]change // what is being written
	moving   []*entry             // entries that may be elsewhere by now
}

// change is a pending change of a name.
type change struct {
	entry *entry // nil: it is removed
	old   *entry // what was there; nil for nothing
	// leaves is the place to which the entry moves, if it goes to another folder.
	leaves *target
	// kept is set if the content of the old entry is not removed.
	kept bool
}

// offsetBits is how much of a location is the offset in a segment: up to 1 TiB.
const offsetBits = 40

func location(number int, offset int64) int64 { return int64(number)<<offsetBits | offset }

var hashSeed = maphash.MakeSeed()

func hashOf(key store.Key) uint64 { return maphash.String(hashSeed, string(key)) }

// number returns the number of the newest segment in force, 0 for none.
func (f *folder) number() int {
	if len(f.segments) == 0 {
		return 0
	}
	return f.segments[len(f.segments)-1].Number
}

func (f *folder) segment(number int) *segment {
	at, found := slices.BinarySearchFunc(f.segments, number, func(s *segment, n int) int { return s.Number - n })
	if !found {
		return nil
	}
	return f.segments[at]
}

// find looks a key up; nil where nothing has it.
func (f *folder) find(key store.Key) (*entry, error) {
	for _, changes := range []map[store.Key]change{f.pending, f.writing} {
		if one, ok := changes[key]; ok {
			return one.entry, nil
		}
	}
	return f.written(key)
}

// written looks up what of a key was written.
func (f *folder) written(key store.Key) (*entry, error) {
	at, ok := f.index[hashOf(key)]
	if !ok {
		return nil, nil
	}
	if s := f.segment(int(at >> offsetBits)); s != nil {
		one, err := s.at(at & (1<<offsetBits - 1))
		if err != nil || one.key() == key {
			return one, err
		}
	}
	for one, err := range merge(f.segments, nil) { // two keys of one hash
		if err != nil {
			return nil, err
		}
		if one.key() == key && one.Removed == "" {
			return one, nil
		}
	}
	return nil, nil
}

// set notes a change. f.mu is held.
func (f *folder) set(p *Place, key store.Key, now change) {
	if f.pending == nil {
		f.pending = map[store.Key]change{}
	}
	if before, ok := f.pending[key]; ok { // of which nobody knows yet
		if before.entry != nil && before.entry.Content != "" && !now.kept && now.leaves == nil && before.entry.id() != now.entry.id() {
			p.discard(removal{before.entry.Content, cmp.Or(before.entry.From, f.id)})
		}
		now.old, now.leaves, now.kept = before.old, before.leaves, before.kept
	}
	f.pending[key] = now
	p.mark(f)
}

// changes returns the unwritten changes, as entries by key.
func (f *folder) changes() []*entry {
	all := maps.Clone(f.writing)
	if all == nil {
		all = map[store.Key]change{}
	}
	maps.Copy(all, f.pending)
	return asEntries(all)
}

// asEntries turns changes into entries, by key.
func asEntries(changes map[store.Key]change) []*entry {
	var entries []*entry
	for _, key := range slices.Sorted(maps.Keys(changes)) {
		one := changes[key]
		if one.entry != nil {
			entries = append(entries, one.entry)
		} else if one.old != nil {
			entries = append(entries, removedEntry(one.old))
		}
	}
	return entries
}

// load takes the manifest from the provider, as far as it is not here. f.mu is held.
func (p *Place) load(ctx context.Context, f *folder) error {
	ctx = p.admit(ctx)
	f.checked = p.now()
	if f.fresh {
		return nil
	}
	if f.index == nil {
		f.index = map[uint64]int64{}
	}
	at := p.manifest(f.id)
	numbers, err := retry.Read(ctx, func() (map[int]store.Entry, error) { return p.numbers(ctx, at) })
	if err != nil {
		return err
	}
	newest := 0
	for number := range numbers {
		newest = max(newest, number)
	}
	known, err := p.heads.Head(ctx, f.id)
	if err != nil {
		return err
	}
	seen := known
	if known.Number = max(known.Number, f.number()); newest < known.Number {
		if newest == 0 {
			return p.lost(f, 1)
		}
		return store.Errorf(store.ErrRefused, "the folder %s of the sealed place shows an older state: its manifest ends with segment %d, and "+
			"segment %d was written; have the provider bring back what was deleted, or rebuild the place", at.Path.Ref(), newest, known.Number)
	}
	inForce, added, err := p.chain(ctx, f, numbers, newest)
	if err != nil {
		return err
	}
	if len(added) == 0 {
		return nil
	}
	if top := inForce[len(inForce)-1]; top.Number == known.Number && known.MAC != "" && known.MAC != top.mac {
		return damaged(p.segmentPlace(f.id, top.Number), fmt.Errorf("another manifest of that number was there before"))
	}
	if len(f.segments) > 0 {
		p.forgetPaths() // somebody else has written
	}
	if err := f.take(inForce, added); err != nil {
		return err
	}
	p.loaded.Add(int64(f.weight()))
	p.tidy(ctx, f, numbers)
	now := Head{Number: f.number(), MAC: inForce[len(inForce)-1].mac}
	if now == seen {
		return nil
	}
	return p.heads.SaveHead(ctx, f.id, now)
}

// numbers lists the segments that are at the provider.
func (p *Place) numbers(ctx context.Context, at store.Folder) (map[int]store.Entry, error) {
	numbers := map[int]store.Entry{}
	for one, err := range p.base.List(ctx, at) {
		if store.KindOf(err) == store.ErrNotFound {
			return numbers, nil
		}
		if err != nil {
			return nil, err
		}
		text, isSegment := strings.CutSuffix(one.Name, ".age")
		if number, err := strconv.Atoi(text); isSegment && err == nil && one.Kind == store.KindFile && number > 0 {
			numbers[number] = one
		}
	}
	return numbers, nil
}

// chain finds the segments in force: the newest, the one before what it stands for, and so
// on to the first. added are those that were not known.
func (p *Place) chain(ctx context.Context, f *folder, numbers map[int]store.Entry, newest int) (inForce, added []*segment, err error) {
	if newest == 0 {
		return nil, nil, p.lost(f, 1)
	}
	for number := newest; number > 0; number = inForce[len(inForce)-1].From - 1 {
		one := f.segment(number)
		if one == nil {
			there, ok := numbers[number]
			if !ok {
				return nil, nil, p.lost(f, number)
			}
			if one, err = p.fetch(ctx, f.id, number, there.Size); err != nil {
				return nil, nil, err
			}
			added = append(added, one)
		}
		if n := len(inForce); n > 0 && inForce[n-1].Previous != one.mac {
			return nil, nil, damaged(p.segmentPlace(f.id, number), fmt.Errorf("segment %d follows another one", inForce[n-1].Number))
		}
		inForce = append(inForce, one)
	}
	slices.Reverse(inForce)
	slices.Reverse(added)
	if inForce[0].Previous != "" {
		return nil, nil, damaged(p.segmentPlace(f.id, inForce[0].Number), fmt.Errorf("what comes before it is missing"))
	}
	return inForce, added, nil
}

// fetch takes a segment of a size from the provider; -1 is unknown.
func (p *Place) fetch(ctx context.Context, id string, number int, size int64) (*segment, error) {
	place := p.segmentPlace(id, number)
	return retry.Read(ctx, func() (*segment, error) {
		if size < 0 {
			there, err := p.base.Stat(ctx, place)
			if err != nil {
				return nil, err
			}
			size = there.Size
		}
		body, err := p.base.Open(ctx, store.Reading{Place: place})
		if err != nil {
			return nil, err
		}
		defer body.Close()
		one, err := p.readSegment(body, size, id, number)
		if wrong, ok := err.(corrupt); ok { //nolint:errorlint // as readSegment returns it
			return nil, damaged(place, wrong.error)
		}
		return one, err
	})
}

// take puts segments in force, and notes where everything in the added ones is. What
// stands for known segments and more is read again in full.
func (f *folder) take(inForce, added []*segment) error {
	if known := len(inForce) - len(added); !slices.Equal(f.segments, inForce[:known]) { // some are stood for by others
		f.index, added = map[uint64]int64{}, inForce
	}
	f.segments, f.moving = inForce, nil
	for _, one := range added {
		for text, err := range one.lines() {
			if err != nil {
				return err
			}
			if err := f.note(one.Number, text); err != nil {
				return err
			}
		}
	}
	return nil
}

func (f *folder) note(number int, text line) error {
	one, err := parseEntry(text.text)
	if err != nil {
		return err
	}
	hash := hashOf(one.key())
	if one.Removed != "" {
		delete(f.index, hash)
		return nil
	}
	if one.Moving != nil {
		f.moving = append(f.moving, one)
	}
	f.index[hash] = location(number, text.offset)
	return nil
}

// tidy removes segments that are stood for by others, and what broke off on its way.
func (p *Place) tidy(ctx context.Context, f *folder, numbers map[int]store.Entry) {
	if p.readOnly {
		return
	}
	for number, one := range numbers {
		if f.segment(number) != nil || number > f.number() {
			continue
		}
		if _, err := p.base.Remove(ctx, p.segmentPlace(f.id, number), one.Revision); err != nil && store.KindOf(err) != store.ErrNotFound {
			p.log.Warn("a segment that is stood for by another could not be removed", "segment", p.segmentPlace(f.id, number).String(), "error", err)
		}
	}
}

// lost is the error of a manifest, or a piece of it, that is not there.
func (p *Place) lost(f *folder, number int) error {
	return store.Errorf(store.ErrRefused, "segment %d of the manifest %s is missing at the provider; have it brought back, or rebuild the "+
		"sealed place from its contents", number, p.manifest(f.id).Path.Ref())
}

// list yields the present entries of a folder, whatever changes later. f.mu is not held.
func list(segments []*segment, newer []*entry) func(yield func(store.Entry, error) bool) {
	return func(yield func(store.Entry, error) bool) {
		for one, err := range merge(segments, newer) {
			if err != nil {
				yield(store.Entry{}, err)
				return
			}
			if one.Removed == "" && !yield(one.shown(), nil) {
				return
			}
		}
	}
}

// isEmpty reports whether nothing is in a folder. f.mu is held.
func (f *folder) isEmpty() (bool, error) {
	for _, err := range list(f.segments, f.changes()) {
		return false, err
	}
	return true, nil
}
