package listing

import (
	"container/heap"
	"context"
	"iter"
	"sync"

	"deftheron/core/retry"
	"deftheron/core/store"
)

const (
	// listers is how many folders are listed at once, at most; requests also pass
	// the account's gate.
	listers = 8
	// listedAhead is how many entries may be held before they are asked for:
	// while there are as many, no further folder is started.
	listedAhead = 16_000
	// folderAhead is how many entries of one folder are held ahead. A folder
	// with more is listed when it is its turn, without being held.
	folderAhead = 4_000
	// batch is how many entries of such a folder are read before the first of
	// them is delivered, so that the folders among them can be listed meanwhile.
	batch = 1_000
)

// walker lists a subtree depth first, in the order of keys. While entries are
// delivered, [listers] goroutines list the folders that will be needed next, the
// soonest first. It never holds more than listedAhead + listers × folderAhead
// entries, plus one folder's entries if the store lists in no order.
type walker struct {
	store store.Store
	how   Walk

	mu      sync.Mutex
	changed *sync.Cond // begun or held less, or ended
	soonest soonest
	held    int
	ended   bool
	running sync.WaitGroup
	started int
}

// branch is a folder of the walk.
type branch struct {
	folder store.Folder
	below  store.Path
	taken  bool          // by a lister, or by the delivery itself
	listed chan struct{} // closed when a lister is through with it

	// What a lister found; nothing where there was too much.
	entries  []store.Entry
	branches map[int]*branch // by the index of the entry
	err      error
	complete bool
}

// soonest is a heap of the branches that nobody has started, the one that is needed
// first at its top.
type soonest []*branch

func (s soonest) Len() int           { return len(s) }
func (s soonest) Less(i, j int) bool { return s[i].below < s[j].below }
func (s soonest) Swap(i, j int)      { s[i], s[j] = s[j], s[i] }
func (s *soonest) Push(x any)        { *s = append(*s, x.(*branch)) }
func (s *soonest) Pop() any {
	old := *s
	last := old[len(old)-1]
	old[len(old)-1] = nil
	*s = old[:len(old)-1]
	return last
}

// walk yields everything below a folder of a store that lists folder by folder, as
// [ListFlat] does. Its goroutines have ended when it returns.
func walk(ctx context.Context, s store.Store, folder store.Folder, how Walk) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		w := &walker{store: s, how: how}
		w.changed = sync.NewCond(&w.mu)
		defer func() {
			cancel()
			w.mu.Lock()
			w.ended = true
			w.mu.Unlock()
			w.changed.Broadcast()
			w.running.Wait()
		}()
		w.stream(ctx, &branch{folder: folder}, yield)
	}
}

// deliver yields what is in a branch: what a lister found, or else what is listed now.
func (w *walker) deliver(ctx context.Context, b *branch, yield func(store.Listed, error) bool) bool {
	w.mu.Lock()
	taken := b.taken
	b.taken = true
	w.mu.Unlock()
	if taken {
		<-b.listed
	}
	switch {
	case b.err != nil:
		yield(store.Listed{}, b.err)
		return false
	case b.complete:
		return w.entries(ctx, b, b.entries, b.branches, true, yield)
	}
	return w.stream(ctx, b, yield)
}

// entries yields entries of a branch, each folder followed by what is in it.
func (w *walker) entries(ctx context.Context, b *branch, entries []store.Entry, branches map[int]*branch, held bool,
	yield func(store.Listed, error) bool) bool {
	for i, entry := range entries {
		if held {
			w.release(1)
		}
		if !yield(store.Listed{Below: b.below, Entry: entry}, nil) {
			return false
		}
		if next := branches[i]; next != nil {
			delete(branches, i)
			if !w.deliver(ctx, next, yield) {
				return false
			}
		}
	}
	return true
}

// stream lists a branch and yields it in batches.
func (w *walker) stream(ctx context.Context, b *branch, yield func(store.Listed, error) bool) bool {
	entries := make([]store.Entry, 0, 16)
	for entry, err := range Sorted(ctx, w.store, b.folder) {
		if err != nil {
			if w.entries(ctx, b, entries, w.foresee(ctx, b, entries), false, yield) {
				yield(store.Listed{}, err)
			}
			return false
		}
		if store.Ours(b.folder.Path, entry.Name) {
			w.how.Ours(store.Listed{Below: b.below, Entry: entry})
			continue
		}
		if entries = append(entries, entry); len(entries) < batch {
			continue
		}
		if !w.entries(ctx, b, entries, w.foresee(ctx, b, entries), false, yield) {
			return false
		}
		entries = entries[:0]
	}
	return w.entries(ctx, b, entries, w.foresee(ctx, b, entries), false, yield)
}

// foresee returns the branches among entries of a branch, and leaves them to the
// listers.
func (w *walker) foresee(ctx context.Context, b *branch, entries []store.Entry) map[int]*branch {
	var branches map[int]*branch
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, entry := range entries {
		if entry.Kind != store.KindFolder || w.how.Leave != nil && w.how.Leave(store.Listed{Below: b.below, Entry: entry}) {
			continue
		}
		if branches == nil {
			branches = map[int]*branch{}
		}
		next := &branch{folder: entry.Folder(b.folder), below: b.below.Child(entry.Name), listed: make(chan struct{})}
		branches[i] = next
		heap.Push(&w.soonest, next)
	}
	for ; w.started < min(listers, len(w.soonest)); w.started++ {
		w.running.Go(func() { w.list(ctx) })
	}
	if branches != nil {
		w.changed.Broadcast()
	}
	return branches
}

// list lists one folder after the other ahead of the delivery, until it ends.
func (w *walker) list(ctx context.Context) {
	for b := w.next(); b != nil; b = w.next() {
		w.ahead(ctx, b)
		close(b.listed)
	}
}

// next takes the folder that is needed first, or returns nil at the end.
func (w *walker) next() *branch {
	w.mu.Lock()
	defer w.mu.Unlock()
	for !w.ended {
		for len(w.soonest) > 0 && w.soonest[0].taken {
			heap.Pop(&w.soonest)
		}
		if len(w.soonest) > 0 && w.held < listedAhead {
			b := heap.Pop(&w.soonest).(*branch)
			b.taken = true
			return b
		}
		w.changed.Wait()
	}
	return nil
}

// ahead lists a branch and holds its entries, unless there are too many.
func (w *walker) ahead(ctx context.Context, b *branch) {
	few := true
	entries, err := retry.Read(ctx, func() (entries []store.Entry, err error) {
		for entry, err := range w.store.List(ctx, b.folder) {
			if err != nil {
				return nil, err
			}
			if store.Ours(b.folder.Path, entry.Name) {
				w.how.Ours(store.Listed{Below: b.below, Entry: entry})
				continue
			}
			if few = len(entries) < folderAhead; !few {
				return nil, nil
			}
			entries = append(entries, entry)
		}
		return entries, nil
	})
	if b.err = err; err != nil || !few {
		return
	}
	if w.store.Traits().Order != store.OrderByKey {
		store.SortByKey(entries)
	}
	w.mu.Lock()
	w.held += len(entries)
	w.mu.Unlock()
	b.entries, b.branches, b.complete = entries, w.foresee(ctx, b, entries), true
}

func (w *walker) release(entries int) {
	w.mu.Lock()
	w.held -= entries
	wake := w.held < listedAhead && w.held+entries >= listedAhead
	w.mu.Unlock()
	if wake {
		w.changed.Broadcast()
	}
}
