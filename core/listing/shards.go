package listing

import (
	"context"
	"iter"
	"strings"
	"sync"

	"deftheron/core/store"
)

const (
	// shardAfter is how many entries of a flat listing show that it is large.
	shardAfter = 4_000
	// shardsAhead is how many folders are listed at once then, and shardBatch
	// how many entries of each are handed on together; three such batches of
	// each are held at most.
	shardsAhead = 4
	shardBatch  = 1_000
	// shardFolders is how many entries the folder itself may hold: where there
	// are more, looking for its folders would take as long as the listing.
	shardFolders = 2_000
)

// flatList is Capabilities.ListFlat.
type flatList func(ctx context.Context, folder store.Folder) iter.Seq2[store.Listed, error]

// sharded yields a flat listing. One that turns out to be large goes on side by
// side: each folder of the first level that is still to come is listed flat by
// itself, up to shardsAhead at once, and delivered in order. Its goroutines have
// ended when it returns.
func sharded(ctx context.Context, s store.Store, list flatList, folder store.Folder) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		var ahead *shards
		defer func() {
			cancel()
			ahead.wait()
		}()
		n, first, of := 0, "", store.KindFolder
		for listed, err := range list(ctx, folder) {
			if err != nil {
				yield(listed, err)
				return
			}
			top, kind := firstLevel(listed)
			if ahead != nil && (top != first || kind != of) {
				break // what follows is with the shards
			}
			if !yield(listed, nil) {
				return
			}
			if n++; n == shardAfter {
				first, of = top, kind
				ahead = newShards(ctx, s, list, folder, store.KeyOf("", top, kind), kind)
			}
		}
		ahead.deliver(ctx, yield)
	}
}

// firstLevel is the name, and the kind, of what lies in the folder listed and is or
// holds an entry.
func firstLevel(listed store.Listed) (string, store.Kind) {
	if listed.Below == "" {
		return listed.Name, listed.Kind
	}
	return listed.Below.Names()[0], store.KindFolder
}

// shards are what is still to come of the first level.
type shards struct {
	entries []store.Entry
	listed  []chan shardPage // of the folders among them, in order
	ended   chan struct{}
}

// shardPage is a stretch of a shard, and what ended it.
type shardPage struct {
	listed []store.Listed
	err    error
}

// newShards finds what comes after a key in the folder, and begins to list it. It
// is nil where there is nothing to win by it.
func newShards(ctx context.Context, s store.Store, list flatList, folder store.Folder, after store.Key, kind store.Kind) *shards {
	a := &shards{ended: make(chan struct{})}
	n := 0
	var folders []store.Entry
	for entry, err := range Sorted(ctx, s, folder) {
		if n++; err != nil || n > shardFolders {
			return nil // the flat listing goes on, and says what is wrong
		}
		if store.CompareKeys(store.KeyOf("", entry.Name, entry.Kind), entry.Kind, after, kind) <= 0 {
			continue
		}
		a.entries = append(a.entries, entry)
		if entry.Kind == store.KindFolder {
			folders = append(folders, entry)
			a.listed = append(a.listed, make(chan shardPage, 1))
		}
	}
	if len(folders) < 2 {
		return nil
	}
	next := make(chan int)
	go func() {
		defer close(a.ended)
		var group sync.WaitGroup
		for range min(shardsAhead, len(folders)) {
			group.Go(func() {
				for i := range next {
					listShard(ctx, list, folder, folders[i], a.listed[i])
				}
			})
		}
		for i := range folders {
			select {
			case next <- i:
			case <-ctx.Done():
			}
		}
		close(next)
		group.Wait()
	}()
	return a
}

// listShard lists one folder of the first level. That it has gone meanwhile makes
// the listing one to be asked for again: it says nothing about what was in it.
func listShard(ctx context.Context, list flatList, folder store.Folder, entry store.Entry, to chan<- shardPage) {
	defer close(to)
	below := string(store.Path("").Child(entry.Name))
	var page shardPage
	hand := func() bool {
		select {
		case to <- page:
			page = shardPage{}
			return true
		case <-ctx.Done():
			return false
		}
	}
	for listed, err := range list(ctx, entry.Folder(folder)) {
		if store.KindOf(err) == store.ErrNotFound {
			err = store.Errorf(store.ErrTryAgain, "the folder /%s went while it was listed", strings.TrimSuffix(string(folder.Path)+below, "/"))
		}
		if page.err = err; err != nil {
			break
		}
		listed.Below = store.Path(below + string(listed.Below))
		if page.listed = append(page.listed, listed); len(page.listed) == shardBatch && !hand() {
			return
		}
	}
	hand()
}

// deliver yields the shards, each after its folder; nil has none.
func (a *shards) deliver(ctx context.Context, yield func(store.Listed, error) bool) {
	if a == nil {
		return
	}
	next := 0
	for _, entry := range a.entries {
		if !yield(store.Listed{Entry: entry}, nil) {
			return
		}
		if entry.Kind != store.KindFolder {
			continue
		}
		for page := range a.listed[next] {
			for _, listed := range page.listed {
				if !yield(listed, nil) {
					return
				}
			}
			if page.err != nil {
				yield(store.Listed{}, page.err)
				return
			}
		}
		if err := ctx.Err(); err != nil { // a shard may have been cut short
			yield(store.Listed{}, err)
			return
		}
		next++
	}
}

func (a *shards) wait() {
	if a != nil {
		<-a.ended
	}
}
