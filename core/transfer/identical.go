package transfer

import (
	"context"
	"slices"
	"strings"
	"sync"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// HeldFile is a file of a target, by its content.
type HeldFile struct {
	// Scope is Route.Contents of where it is.
	Scope string
	Size  int64
	// Hash of the content, as KIND=HEXADECIMAL.
	Hash string
	// Path of the file from the account's start, and its revision there.
	Path     store.Path
	Revision string
}

// Contents keep which contents the targets of a run hold, where identical ones are to
// be there once.
type Contents interface {
	// HeldOfSize reports whether any file of a size is known.
	HeldOfSize(ctx context.Context, scope string, size int64) (bool, error)
	// HeldContent returns a file of a content; nil where none is known.
	HeldContent(ctx context.Context, scope string, size int64, hash string) (*HeldFile, error)
}

// identical finds files whose content the target already holds. Files of one size take
// turns in the order of the plan: of identical files the first stays, whichever lane is
// faster.
type identical struct {
	mu    sync.Mutex
	turns map[int64][]int64       // by size, the Seq of those that were handed out
	waits map[int64]chan struct{} // closed when the first of a size has changed
	// recent are those that may not be in the records yet.
	recent map[heldKey]HeldFile
	sizes  map[int64]int // how many of recent there are of a size
}

type heldKey struct {
	scope, hash string
	size        int64
}

func newIdentical() *identical {
	return &identical{turns: map[int64][]int64{}, waits: map[int64]chan struct{}{}, recent: map[heldKey]HeldFile{}, sizes: map[int64]int{}}
}

// takesTurns reports whether an item may be found to be there already.
func (r *Run) takesTurns(item *Item) bool {
	return item.Action == plan.Create && item.Kind != store.KindFolder && item.Size > 0 && r.Routes[item.Route].Contents != ""
}

// enter has an item wait for its turn, after those that have entered before.
func (i *identical) enter(item *Item) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.turns[item.Size] = append(i.turns[item.Size], item.Seq)
}

// turn waits until no file of the size that was handed out before is on its way. One that
// is tried once more comes after all others.
func (i *identical) turn(ctx context.Context, item *Item) (end func(), err error) {
	size, seq := item.Size, item.Seq
	for {
		i.mu.Lock()
		if !slices.Contains(i.turns[size], seq) {
			i.turns[size] = append(i.turns[size], seq)
		}
		if i.turns[size][0] == seq {
			i.mu.Unlock()
			return func() { i.leave(size, seq) }, nil
		}
		changed := i.waits[size]
		if changed == nil {
			changed = make(chan struct{})
			i.waits[size] = changed
		}
		i.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// leave ends an item's wait or turn.
func (i *identical) leave(size, seq int64) {
	i.mu.Lock()
	defer i.mu.Unlock()
	left := slices.DeleteFunc(i.turns[size], func(other int64) bool { return other == seq })
	if i.turns[size] = left; len(left) == 0 {
		delete(i.turns, size)
	}
	if changed := i.waits[size]; changed != nil {
		close(changed)
		delete(i.waits, size)
	}
}

func (i *identical) add(held HeldFile) {
	i.mu.Lock()
	defer i.mu.Unlock()
	key := heldKey{held.Scope, held.Hash, held.Size}
	if _, known := i.recent[key]; !known {
		i.sizes[held.Size]++
	}
	i.recent[key] = held
}

// written drops the files that are now in the records.
func (i *identical) written(all []HeldFile) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for _, held := range all {
		key := heldKey{held.Scope, held.Hash, held.Size}
		if kept, known := i.recent[key]; !known || kept != held {
			continue
		}
		delete(i.recent, key)
		if i.sizes[held.Size]--; i.sizes[held.Size] == 0 {
			delete(i.sizes, held.Size)
		}
	}
}

func (i *identical) of(scope string, size int64, hash string) (held *HeldFile, some bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if one, ok := i.recent[heldKey{scope, hash, size}]; ok {
		return &one, true
	}
	return nil, i.sizes[size] > 0
}

// createOnce creates a file, unless the target holds its content already. Empty files
// are created: their names are all that they are.
func (a *attempt) createOnce(ctx context.Context, create func(context.Context) (*Ending, error)) (*Ending, error) {
	if a.item.Size > 0 {
		if ending, err := a.duplicate(ctx); ending != nil || err != nil {
			return ending, err
		}
	}
	ending, err := create(ctx)
	if err == nil {
		a.keepContent(ending)
	}
	return ending, err
}

// keepContent remembers what an item has brought to the target.
func (a *attempt) keepContent(ending *Ending) {
	if ending.State != Done && ending.Cause != plan.CauseSame || ending.Pair == nil {
		return
	}
	place, written := a.target(), ending.Pair.Target
	if ending.Pair.Kept { // it is beside what was there
		return
	}
	verification, _, _ := strings.Cut(ending.Verification, " ")
	told, _, _ := strings.Cut(a.item.Mark, " ")
	for _, hash := range []string{verification, told} {
		if _, ok := store.ParseHash(hash); !ok || written.Size <= 0 || len(ending.Held) == 1 && ending.Held[0].Hash == hash {
			continue
		}
		held := HeldFile{Scope: a.route.Contents, Size: written.Size, Hash: hash, Path: place.Folder.Path.Child(place.Name),
			Revision: written.Revision}
		ending.Held = append(ending.Held, held)
		a.identical.add(held)
	}
}

// duplicate looks for the item's content at the target, and ends the item if it is there.
// The item is read only if the target has a file of its size and no reported hash decides.
func (a *attempt) duplicate(ctx context.Context) (*Ending, error) {
	told, _, _ := strings.Cut(a.item.Mark, " ")
	if _, ok := store.ParseHash(told); ok {
		if ending, err := a.sameAs(ctx, told, "told by the source"); ending != nil || err != nil {
			return ending, err
		}
	}
	_, some := a.identical.of(a.route.Contents, a.item.Size, "")
	if !some {
		var err error
		if some, err = a.Records.HeldOfSize(ctx, a.route.Contents, a.item.Size); err != nil || !some {
			return nil, err
		}
	}
	pair, err := a.Records.Pair(ctx, a.route.Scope, a.item.Key)
	if err != nil {
		return nil, err
	}
	if pair != nil && pair.Verification != "" && pair.Source.Revision != "" && pair.Source.Is(&store.Entry{Revision: a.item.Source.Revision}) {
		return a.sameAs(ctx, pair.Verification, "read before")
	}
	kind := a.verificationKind()
	if told, ok := store.ParseHash(told); ok && told.Kind == kind {
		return nil, nil // it was looked for
	}
	sum, size, err := store.ReadBack(ctx, a.route.Source.Store, a.source(), a.item.Source.Revision, kind)
	if err != nil {
		if store.KindOf(err) == store.ErrChanged {
			return nil, a.refresh(ctx, err)
		}
		return nil, compare.NewSourceError(err)
	}
	if size != a.item.Size {
		return nil, nil // its write finds that out
	}
	return a.sameAs(ctx, sum.String(), "read")
}

// isOverwritten reports whether this run is to overwrite a file of the target: its
// content does not stay.
func (a *attempt) isOverwritten(ctx context.Context, path store.Path) (bool, error) {
	for i, route := range a.Routes {
		root := route.Target.Root.AsFolder().Path
		rest, below := strings.CutPrefix(string(path), string(root))
		if route.Target.Account != a.route.Target.Account || !below {
			continue
		}
		key := store.Key(strings.TrimSuffix(rest, "/"))
		if leaves, err := a.Records.Overwriting(ctx, a.ID, i, key); leaves || err != nil {
			return leaves, err
		}
	}
	return false, nil
}

// sameAs ends the item where the target holds a file of its content, as it was when
// that was verified.
func (a *attempt) sameAs(ctx context.Context, hash, how string) (*Ending, error) {
	held, _ := a.identical.of(a.route.Contents, a.item.Size, hash)
	if held == nil {
		var err error
		if held, err = a.Records.HeldContent(ctx, a.route.Contents, a.item.Size, hash); err != nil || held == nil {
			return nil, err
		}
	}
	place := held.Path.Ref().As(store.KindFile)
	entry, err := a.route.Target.Store.Stat(ctx, place)
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return nil, nil
	case err != nil:
		return nil, err
	case !store.SameRevision(entry.Revision, held.Revision) || entry.Size >= 0 && entry.Size != held.Size:
		return nil, nil
	}
	if leaves, err := a.isOverwritten(ctx, held.Path); err != nil || leaves {
		return nil, err
	}
	address := store.MakeAddress(a.route.Target.Account, place)
	pair := &compare.Pair{Key: a.item.Key, Source: a.item.Source, Target: compare.RememberedOf(entry), Kept: true, Run: a.ID,
		Mark: a.item.Mark, Verification: hash}
	return &Ending{State: Skipped, Cause: plan.CauseDuplicate, Why: "the same as " + address.String(), Verification: hash + " (" + how + ")",
		Pair: pair}, nil
}
