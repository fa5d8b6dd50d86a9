package declared

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"deftheron/core/store"
)

// A service that does not check by itself whether a name is free is asked before and after
// each file that is written. One file's name is found by a request of its own. The names
// of several files of one folder are found in one listing, if that takes fewer requests.

const (
	// gatherTime is how long the first look waits for others.
	gatherTime = 15 * time.Millisecond
	// gatherTimeLarge is how long it waits in a folder of several pages, if its file only
	// waits for it.
	gatherTimeLarge = 500 * time.Millisecond
	// namesAPage is how many names for each page of a folder end the wait early: a
	// listing then takes a twentieth of a request for each.
	namesAPage = 20
	// largeTime is how long the number of a folder's pages is believed.
	largeTime = 5 * time.Minute
	// mostLarge is how many such folders are remembered.
	mostLarge = 1000
	// listTime is how long one listing may take.
	listTime = 2 * time.Minute
)

// together gathers the looks for names in one folder.
type together struct {
	mu    sync.Mutex
	open  map[store.Path]*looking
	large map[store.Path]pages
}

// pages is how many pages the listing of a folder had.
type pages struct {
	number int
	until  time.Time
}

// looking are looks that wait for one listing.
type looking struct {
	names []string
	full  func()          // ends the wait for more names
	ended <-chan struct{} // closed by full
	done  chan struct{}
	found map[string][]found
	err   error
	alone bool // each has to look by itself
}

// pagesOf returns how many pages a folder has: 1 if that is not known. t.mu is held.
func (t *together) pagesOf(folder store.Path, now time.Time) int {
	if known := t.large[folder]; now.Before(known.until) {
		return known.number
	}
	return 1
}

// isLarge reports whether a folder is known to have several pages.
func (t *together) isLarge(folder store.Folder, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.pagesOf(folder.Path, now) > 1
}

// setPages remembers how many pages a folder has.
func (t *together) setPages(folder store.Path, number int, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if number <= 1 {
		delete(t.large, folder)
		return
	}
	if t.large == nil || len(t.large) >= mostLarge {
		t.large = map[store.Path]pages{}
	}
	t.large[folder] = pages{number, now.Add(largeTime)}
}

// named is account.named, together with others. idle says that the file of the name
// needs nothing but the answer, so that others may take its turn.
func (t *together) named(ctx context.Context, a *account, folder store.Folder, name string, idle bool) ([]found, error) {
	idle = idle && store.CanIdle(ctx)
	t.mu.Lock()
	number := t.pagesOf(folder.Path, a.opening.Now())
	if folder.ID != "" || number > 1 && !idle && a.definition.Find != nil {
		t.mu.Unlock()
		return a.named(ctx, folder, name)
	}
	mine := t.open[folder.Path]
	if mine == nil {
		waiting, full := context.WithCancel(context.Background())
		mine = &looking{full: full, ended: waiting.Done(), done: make(chan struct{})}
		if t.open == nil {
			t.open = map[store.Path]*looking{}
		}
		t.open[folder.Path] = mine
		wait := gatherTime
		if number > 1 && idle {
			wait = gatherTimeLarge
		}
		// The listing outlives the look that came first: others wait for it as well.
		go t.look(context.WithoutCancel(ctx), a, folder, mine, wait)
	}
	if mine.names = append(mine.names, name); number > 1 && len(mine.names) >= namesAPage*number {
		mine.full()
	}
	t.mu.Unlock()
	if idle {
		store.Idle(ctx)
	}
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
func (t *together) look(ctx context.Context, a *account, folder store.Folder, mine *looking, wait time.Duration) {
	defer close(mine.done)
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-mine.ended:
	}
	mine.full()
	t.mu.Lock()
	delete(t.open, folder.Path) // a look that comes from now on needs a later listing
	wanted, number := mine.names, t.pagesOf(folder.Path, a.opening.Now())
	t.mu.Unlock()
	if mine.alone = a.definition.Find != nil && len(wanted) <= number; mine.alone {
		return
	}
	// Those that wait may hold every turn of the account's.
	ctx, cancel := context.WithTimeout(a.opening.Gates().Admit(ctx), listTime)
	defer cancel()
	mine.found = map[string][]found{}
	fold := cases.Fold()
	folded := func(name string) string { return fold.String(norm.NFC.String(name)) } // as far as any service goes
	asked := make(map[string][]string, len(wanted))
	for _, name := range wanted {
		if key := folded(name); !slices.Contains(asked[key], name) {
			asked[key] = append(asked[key], name)
		}
	}
	seen, page := 0, a.definition.page()
	for one, err := range a.children(ctx, folder) {
		if err != nil {
			mine.err = err
			return
		}
		seen++
		if a.definition.List.Next != nil && seen > page*len(wanted) && a.definition.Find != nil {
			// Finding each by itself takes fewer requests.
			mine.alone = true
			t.setPages(folder.Path, len(wanted)+1, a.opening.Now())
			return
		}
		for _, name := range asked[folded(one.Name)] {
			if a.sameName(one.Name, name) {
				mine.found[name] = append(mine.found[name], one)
			}
		}
	}
	if a.definition.List.Next != nil {
		t.setPages(folder.Path, (seen+page-1)/page, a.opening.Now())
	}
	for _, all := range mine.found {
		sortFound(all)
	}
}
