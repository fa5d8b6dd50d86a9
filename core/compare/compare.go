// Package compare merges two listings and the record of earlier runs into one
// stream of differences, each with its evidence.
//
// All three streams are ordered by key, so the merge holds one entry of each at a
// time and its memory does not grow with the tree. Comparing reads no contents:
// if the metadata does not decide, the verdict is [Unclear], and the caller must
// compare the contents.
package compare

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"

	"deftheron/core/names"
	"deftheron/core/store"
)

// Nothing is remembered of a side that is not to be believed: no entry is it.
var Nothing = Remembered{Revision: "~", Size: -1}

// Verdict is what a comparison came to.
type Verdict string

const (
	// OnlySource says that nothing is at the target.
	OnlySource Verdict = "only-source"
	// OnlyTarget says that nothing is at the source.
	OnlyTarget Verdict = "only-target"
	// Same says that both sides hold the same, or a conflict of theirs is settled.
	Same Verdict = "same"
	// SourceChanged says that the target is as we left it, the source is not. With ByTime as
	// evidence its metadata changed, and its size and time did not.
	SourceChanged Verdict = "source-changed"
	// TargetChanged says that the target is not as we left it, whatever the source.
	TargetChanged Verdict = "target-changed"
	// Differ says that they hold different contents, and nothing is remembered.
	Differ Verdict = "differ"
	// Gone means that the record of earlier runs has an entry that neither side holds.
	Gone Verdict = "gone"
	// Unclear says that nothing that is known decides.
	Unclear Verdict = "unclear"
)

// Evidence is what a verdict rests on.
type Evidence string

const (
	// ByHash is a hash that both sides tell.
	ByHash Evidence = "hash"
	// BySize is that the sizes differ.
	BySize Evidence = "size"
	// ByTime is size and time, where both sides keep times.
	ByTime Evidence = "size and time"
	// ByPair is the record of earlier runs.
	ByPair Evidence = "pair"
	// ByRevision is an equal revision: both sides are the same account, at two times.
	ByRevision Evidence = "revision"
	// ByReading is that both contents were read.
	ByReading Evidence = "reading"
	// ByPresence is that it is on one side only.
	ByPresence Evidence = "presence"
)

// Difference is one key and what was found there. Source, Target and Pair are
// nil if there is none.
type Difference struct {
	// Key at the source; for an entry that is only at the target, its key there.
	Key store.Key
	// To is the present or future key at the target. It equals Key unless names are
	// translated.
	To store.Key
	// Refused says that the target cannot hold the name, and why.
	Refused  error
	Kind     store.Kind
	Source   *store.Entry
	Target   *store.Entry
	Pair     *Pair
	Verdict  Verdict
	Evidence Evidence
}

// Sides says what the two accounts can tell.
type Sides struct {
	Source, Target store.Traits
	// OneStore is set if both sides are the same place at two times: entries with equal
	// revisions are the same.
	OneStore bool
	// ByContent is set if equal size and time do not mean equal files: history keeps a version
	// that was replaced by another content within the same second.
	ByContent bool
}

// Listing begins to list, in the order of keys. It ends after its first error.
type Listing func(context.Context) iter.Seq2[store.Listed, error]

// Streams are the inputs of a merge.
type Streams struct {
	Source, Target Listing
	Pairs          iter.Seq2[Pair, error]
	// Names translates the names of the source for the target; nil leaves them
	// as they are.
	Names *names.Mapper
	// At looks up one entry of the target; nil if there is none. It is called for
	// entries that have another name there, if Names needs it.
	At func(ctx context.Context, key store.Key, kind store.Kind) (*store.Entry, error)
	// AtSource looks up one entry of the source. If it is set, an entry of the target
	// with a translated name is not also yielded as OnlyTarget.
	AtSource func(ctx context.Context, key store.Key, kind store.Kind) (*store.Entry, error)
	// PairTo returns the pair of an entry whose name at the target differs from its name
	// at the source; nil if there is none. If it is set, AtSource must be set, too, and
	// every pair is accounted for: folders have pairs as well; an entry that is only at
	// the target gets the key that it will have at the source, with its pair; and pairs
	// that neither side holds are yielded as Gone.
	PairTo func(ctx context.Context, to store.Key) (*Pair, error)
	// PairAt finds the record of earlier runs of a key of the source; given with PairTo.
	PairAt func(ctx context.Context, key store.Key) (*Pair, error)
	// Unordered is set if the streams are in no order, because they list only some
	// places.
	Unordered bool
}

// whole reports whether all that is remembered is accounted for.
func (s *Streams) whole() bool { return s.PairTo != nil }

// Merge yields every key of either side. It ends after an error, which means that
// some stream was incomplete. Both listings are read ahead, each in a goroutine
// that has ended when the iteration has.
//
// The keys of the source come in order. An entry with another name at the target is
// looked up there by itself, and may also be yielded as OnlyTarget. If the order of the
// names at the target differs altogether, everything is sorted by them first, and each
// folder is still followed by its content.
func Merge(ctx context.Context, streams Streams, sides Sides) iter.Seq2[Difference, error] {
	if streams.Names != nil && (streams.Unordered || !streams.Names.InOrder()) {
		return mergeSorted(ctx, streams, sides)
	}
	return func(yield func(Difference, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		source, stopSource := iter.Pull2(ordered("source", ahead(ctx, streams.Source)))
		target, stopTarget := iter.Pull2(ordered("target", ahead(ctx, streams.Target)))
		pairs, stopPairs := iter.Pull2(streams.Pairs)
		defer stopPairs()
		defer stopTarget()
		defer stopSource()
		defer cancel()
		m := merger{sides: sides, source: head(source), target: head(target), pairs: pairs, looker: looker{streams: streams}}
		m.run(ctx, yield)
	}
}

type merger struct {
	looker
	sides          Sides
	source, target *cursor
	pairs          func() (Pair, error, bool)
	pair           *Pair
	pairUsed       bool // a difference was yielded with it
	pairsDone      bool
}

func (m *merger) run(ctx context.Context, yield func(Difference, error) bool) {
	for {
		if err := errors.Join(m.source.err, m.target.err); err != nil {
			yield(Difference{}, err)
			return
		}
		if !m.gone(ctx, yield) || m.source.done && m.target.done {
			return
		}
		var d Difference
		order := m.source.compare(m.target)
		home := displaced{key: m.target.key}
		if order > 0 {
			var err error
			if home, err = m.displaced(ctx, m.target.key, m.target.listed.Kind); err != nil {
				yield(Difference{}, err)
				return
			}
			if home.elsewhere {
				m.target.advance()
				continue
			}
		}
		if order >= 0 {
			entry := m.target.listed.Entry
			d.Key, d.To, d.Kind, d.Target = home.key, m.target.key, entry.Kind, &entry
		}
		if order <= 0 {
			entry := m.source.listed.Entry
			d.Key, d.To, d.Kind, d.Source = m.source.key, m.source.key, entry.Kind, &entry
			if err := m.named(ctx, &d); err != nil {
				yield(Difference{}, err)
				return
			}
		}
		if d.Pair = home.pair; d.Pair == nil && (d.Kind != store.KindFolder || m.streams.whole()) {
			pair, err := m.pairAt(d.Key)
			if err != nil {
				yield(Difference{}, err)
				return
			}
			d.Pair = pair
		}
		if err := m.remembered(ctx, &d); err != nil {
			yield(Difference{}, err)
			return
		}
		d.Verdict, d.Evidence = Judge(d.Source, d.Target, d.Pair, m.sides)
		m.enter(d)
		if !yield(d, nil) {
			return
		}
		if order <= 0 {
			m.source.advance()
		}
		if order >= 0 {
			m.target.advance()
		}
	}
}

// named gives a difference its key at the target, unless the target holds it under
// its own, and looks there where it is another.
func (m *merger) named(ctx context.Context, d *Difference) error {
	if m.streams.Names == nil || d.Target != nil {
		return nil
	}
	to, err := m.streams.Names.Key(m.source.listed)
	if err != nil {
		d.Refused = err
		return nil
	}
	if to == d.Key {
		return nil
	}
	d.To = to
	d.Target, err = m.look(ctx, to, d.Kind)
	return err
}

// looker looks for single entries at the target.
type looker struct {
	streams Streams
	absent  store.Key // a folder that is not there, nor is anything in it
	// open are the folders on the way to where the merge is that have another name at
	// the target than at the source.
	open []openFolder
}

func (l *looker) look(ctx context.Context, key store.Key, kind store.Kind) (*store.Entry, error) {
	if l.absent != "" && strings.HasPrefix(string(key), string(l.absent)) {
		return nil, nil
	}
	entry, err := l.streams.At(ctx, key, kind)
	if err != nil {
		return nil, fmt.Errorf("could not look at %q: %w", key, err)
	}
	if entry != nil && (entry.Kind == store.KindFolder) != (kind == store.KindFolder) {
		entry = nil // what has the name is another thing
	}
	if entry == nil && kind == store.KindFolder {
		l.absent = key
	}
	return entry, nil
}

// pairAt returns the pair of a key, passing over those before it.
func (m *merger) pairAt(key store.Key) (*Pair, error) {
	for !m.pairsDone && (m.pair == nil || m.pair.Key < key) {
		if err := m.nextPair(); err != nil {
			return nil, err
		}
	}
	if m.pair != nil && m.pair.Key == key {
		m.pairUsed = true
		return m.pair, nil
	}
	return nil, nil
}

func (m *merger) nextPair() error {
	pair, err, ok := m.pairs()
	m.pair, m.pairUsed, m.pairsDone = nil, false, !ok
	if err != nil {
		return fmt.Errorf("could not read the record of earlier runs: %w", err)
	}
	if ok {
		m.pair = &pair
	}
	return nil
}

// gone yields the pairs before the next entry that neither side holds.
func (m *merger) gone(ctx context.Context, yield func(Difference, error) bool) bool {
	if !m.streams.whole() {
		return true
	}
	for {
		if m.pair == nil && !m.pairsDone {
			if err := m.nextPair(); err != nil {
				yield(Difference{}, err)
				return false
			}
		}
		if m.pairsDone || !m.source.done && m.pair.Key >= m.source.key || !m.target.done && m.pair.Key >= m.target.key {
			return true
		}
		if !m.pairUsed {
			if ok, err := m.isGone(ctx, m.pair); err != nil {
				yield(Difference{}, err)
				return false
			} else if ok && !yield(goneOf(m.pair), nil) {
				return false
			}
		}
		m.pair = nil
	}
}

// Judge compares the two sides of one key. A folder is the same as a folder.
func Judge(source, target *store.Entry, pair *Pair, sides Sides) (Verdict, Evidence) {
	switch {
	case target == nil:
		return OnlySource, ByPresence
	case source == nil:
		return OnlyTarget, ByPresence
	case source.Kind == store.KindFolder:
		return Same, ByPresence
	}
	if sides.OneStore && source.Revision != "" && source.Revision == target.Revision {
		return Same, ByRevision
	}
	if pair != nil && pair.Target.Is(target) {
		switch {
		case pair.Source.Is(source):
			return Same, ByPair
		case pair.Kept:
			return TargetChanged, ByPair
		case pair.Source.LooksLike(source):
			return SourceChanged, ByTime
		}
		return SourceChanged, ByPair
	}
	if mine, theirs, ok := store.Shared(source.Hashes, target.Hashes); ok {
		if mine == theirs && source.Size == target.Size {
			return Same, ByHash
		}
		return differ(pair), ByHash
	}
	if source.Size >= 0 && target.Size >= 0 && source.Size != target.Size {
		return differ(pair), BySize
	}
	if pair == nil && !sides.ByContent && sameTime(source, target, sides) {
		return Same, ByTime
	}
	return Unclear, ""
}

func differ(pair *Pair) Verdict {
	if pair != nil {
		return TargetChanged
	}
	return Differ
}

// sameTime compares times at the coarser precision of the two, and only where
// the target keeps the times it is given: clocks are never compared.
func sameTime(source, target *store.Entry, sides Sides) bool {
	precision := max(sides.Source.TimePrecision, sides.Target.TimePrecision)
	if !sides.Target.KeepsTimes || precision == 0 || source.Modified.IsZero() || target.Modified.IsZero() {
		return false
	}
	return source.Size >= 0 && source.Size == target.Size &&
		source.Modified.Truncate(precision).Equal(target.Modified.Truncate(precision))
}
