// Package compare merges two listings and what is remembered of earlier runs
// into one stream of differences, each with the evidence that it rests on.
//
// All three streams are ordered by key, so that the merge holds one entry of
// each at a time and its memory does not grow with the tree. Comparing reads
// no contents: where what is known does not decide, the verdict is [Unclear],
// and somebody else has to look.
package compare

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"deftheron/core/store"
)

// Remembered is what is kept of one side of a finished item.
type Remembered struct {
	Revision string
	Size     int64
	Modified time.Time
}

// RememberedOf returns what is kept of an entry.
func RememberedOf(entry store.Entry) Remembered {
	return Remembered{Revision: entry.Revision, Size: entry.Size, Modified: entry.Modified}
}

// is reports whether an entry is still what was remembered.
func (r Remembered) is(entry *store.Entry) bool {
	if r.Revision != "" || entry.Revision != "" {
		return r.Revision == entry.Revision
	}
	return r.Size == entry.Size && r.Modified.Equal(entry.Modified)
}

// Pair is what is remembered of a finished item: what each side was when the
// target was last put, or found, in step with the source.
type Pair struct {
	Key    store.Key
	Source Remembered
	Target Remembered
	// Kept says that the target's content is not the source's: a clash was
	// settled by leaving it. A later change of the source is a clash again.
	Kept bool
	// Run that wrote the pair.
	Run string
}

// Verdict is what a comparison came to.
type Verdict string

const (
	// OnlySource: nothing at the target.
	OnlySource Verdict = "only-source"
	// OnlyTarget: nothing at the source.
	OnlyTarget Verdict = "only-target"
	// Same: both sides hold the same, or a clash of theirs is settled.
	Same Verdict = "same"
	// SourceChanged: the target is as we left it, the source is not.
	SourceChanged Verdict = "source-changed"
	// TargetChanged: the target is not as we left it, whatever the source.
	TargetChanged Verdict = "target-changed"
	// Differ: they hold different contents, and nothing is remembered.
	Differ Verdict = "differ"
	// Unclear: nothing that is known decides.
	Unclear Verdict = "unclear"
)

// Evidence is what a verdict rests on.
type Evidence string

const (
	// ByHash: a hash that both sides tell.
	ByHash Evidence = "hash"
	// BySize: the sizes differ.
	BySize Evidence = "size"
	// ByTime: size and time, where both sides keep times.
	ByTime Evidence = "size and time"
	// ByPair: what is remembered.
	ByPair Evidence = "pair"
	// ByReading: both contents were read.
	ByReading Evidence = "reading"
	// ByPresence: it is on one side only.
	ByPresence Evidence = "presence"
)

// Difference is one key and what was found there. Source, Target and Pair are
// nil where there is none.
type Difference struct {
	Key      store.Key
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
}

// Listing begins to list, in the order of keys. It ends after its first error.
type Listing func(context.Context) iter.Seq2[store.Listed, error]

// Streams are what is merged.
type Streams struct {
	Source, Target Listing
	Pairs          iter.Seq2[Pair, error]
}

// Merge yields every key of either side, in order. It ends after an error,
// which means that some stream was incomplete. Both listings are read ahead,
// each in a goroutine that has ended when the iteration has.
func Merge(ctx context.Context, streams Streams, sides Sides) iter.Seq2[Difference, error] {
	return func(yield func(Difference, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		source, stopSource := iter.Pull2(ordered("source", ahead(ctx, streams.Source)))
		target, stopTarget := iter.Pull2(ordered("target", ahead(ctx, streams.Target)))
		pairs, stopPairs := iter.Pull2(streams.Pairs)
		defer stopPairs()
		defer stopTarget()
		defer stopSource()
		defer cancel()
		m := merger{sides: sides, source: head(source), target: head(target), pairs: pairs}
		m.run(yield)
	}
}

type merger struct {
	sides          Sides
	source, target *cursor
	pairs          func() (Pair, error, bool)
	pair           *Pair
	pairsDone      bool
}

func (m *merger) run(yield func(Difference, error) bool) {
	for {
		if err := errors.Join(m.source.err, m.target.err); err != nil {
			yield(Difference{}, err)
			return
		}
		if m.source.done && m.target.done {
			return
		}
		var d Difference
		order := m.source.compare(m.target)
		if order <= 0 {
			entry := m.source.listed.Entry
			d.Key, d.Kind, d.Source = m.source.key, entry.Kind, &entry
		}
		if order >= 0 {
			entry := m.target.listed.Entry
			d.Key, d.Kind, d.Target = m.target.key, entry.Kind, &entry
		}
		if d.Kind != store.KindFolder {
			pair, err := m.pairAt(d.Key)
			if err != nil {
				yield(Difference{}, err)
				return
			}
			d.Pair = pair
		}
		d.Verdict, d.Evidence = Judge(d.Source, d.Target, d.Pair, m.sides)
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

// pairAt returns the pair of a key, passing over those before it.
func (m *merger) pairAt(key store.Key) (*Pair, error) {
	for !m.pairsDone && (m.pair == nil || m.pair.Key < key) {
		pair, err, ok := m.pairs()
		if !ok {
			m.pairsDone, m.pair = true, nil
			return nil, nil
		}
		if err != nil {
			return nil, fmt.Errorf("could not read what is remembered: %w", err)
		}
		m.pair = &pair
	}
	if m.pair != nil && m.pair.Key == key {
		return m.pair, nil
	}
	return nil, nil
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
	if pair != nil && pair.Target.is(target) {
		switch {
		case pair.Source.is(source):
			return Same, ByPair
		case pair.Kept:
			return TargetChanged, ByPair
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
	if pair == nil && sameTime(source, target, sides) {
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
