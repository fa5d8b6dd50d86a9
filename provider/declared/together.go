package declared

import (
	"context"
	"sync"
	"time"

	"deftheron/core/store"
)

// Whether an entry of a name is in a folder is asked before and after each file that is
// written there, where the service does not check it by itself. Asked for by one, it is
// found by its name. Asked for by several at once, one listing of the folder answers all
// of them, as long as it has no more than one page.

const (
	// togetherTime is how long the first waits for others.
	togetherTime = 15 * time.Millisecond
	// largeTime is how long a folder counts as one of several pages.
	largeTime = 5 * time.Minute
	// mostLarge is how many such folders are remembered.
	mostLarge = 1000
)

// together gathers who looks for names in one folder.
type together struct {
	mu    sync.Mutex
	open  map[store.Path]*looking
	large map[store.Path]time.Time // until when
}

// looking are those that wait for one listing.
type looking struct {
	names []string
	done  chan struct{}
	found map[string][]found
	err   error
	alone bool // each has to look by itself
}

// named is account.named, together with others.
func (t *together) named(ctx context.Context, a *account, folder store.Folder, name string) ([]found, error) {
	t.mu.Lock()
	if now := a.opening.Now(); now.Before(t.large[folder.Path]) || folder.ID != "" {
		t.mu.Unlock()
		return a.named(ctx, folder, name)
	}
	mine := t.open[folder.Path]
	if mine == nil {
		mine = &looking{done: make(chan struct{})}
		if t.open == nil {
			t.open = map[store.Path]*looking{}
		}
		t.open[folder.Path] = mine
		// Not ended by whoever came first: others wait for it as well.
		lasting := context.WithoutCancel(ctx)
		time.AfterFunc(togetherTime, func() { t.look(lasting, a, folder, mine) })
	}
	mine.names = append(mine.names, name)
	t.mu.Unlock()
	select {
	case <-mine.done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if mine.alone {
		return a.named(ctx, folder, name)
	}
	return mine.found[name], mine.err
}

// look lists the folder for all that wait.
func (t *together) look(ctx context.Context, a *account, folder store.Folder, mine *looking) {
	defer close(mine.done)
	t.mu.Lock()
	delete(t.open, folder.Path) // those that come from now on want what is there later
	names := mine.names
	t.mu.Unlock()
	if mine.alone = len(names) == 1; mine.alone {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	mine.found = map[string][]found{}
	seen, page := 0, a.definition.page()
	for one, err := range a.children(ctx, folder) {
		if err != nil {
			mine.err = err
			return
		}
		if seen++; seen > page && a.definition.List.Next != nil {
			mine.alone = true
			t.mu.Lock()
			if t.large == nil || len(t.large) >= mostLarge {
				t.large = map[store.Path]time.Time{}
			}
			t.large[folder.Path] = a.opening.Now().Add(largeTime)
			t.mu.Unlock()
			return
		}
		for _, name := range names {
			if a.sameName(one.Name, name) {
				mine.found[name] = append(mine.found[name], one)
			}
		}
	}
	for _, all := range mine.found {
		sortFound(all)
	}
}
