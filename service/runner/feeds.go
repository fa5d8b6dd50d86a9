package runner

import (
	"context"
	"sync"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// An account that reports changes is asked at these intervals, if it cannot wait with its
// answer. An account that does not report changes is listed at these intervals, which grow
// while nothing changes.
const (
	askEvery   = 500 * time.Millisecond
	askIdle    = 1500 * time.Millisecond
	busyFor    = time.Minute // after a change
	lookEvery  = 3 * time.Second
	lookIdle   = 2 * time.Minute
	waitAtMost = 50 * time.Second
	afterError = 10 * time.Second
)

// heard is a message of a feed: changes, or that anything may have changed.
type heard struct {
	all     bool
	changes []store.Change
}

// feeds are the accounts whose changes are followed: each is asked by one goroutine,
// however many jobs there are on it.
type feeds struct {
	runner *Runner
	mu     sync.Mutex
	open   map[string]*feed // by account
}

type feed struct {
	account string
	cancel  context.CancelFunc
	heard   map[*subscription]bool
	idle    time.Duration // between two looks, where all has to be looked at
	// following is set if changes from now on will be reported, even if the next answer
	// of the account takes long.
	following bool
}

// subscription is a job that follows an account.
type subscription struct {
	feed  *feed
	tell  func(heard)
	ready chan struct{} // closed when what changes from then on is told
	once  sync.Once
}

// follow calls tell with the changes of an account until the subscription ends. It
// returns when all changes from now on will be reported.
func (f *feeds) follow(ctx context.Context, account string, tell func(heard)) (*subscription, error) {
	f.mu.Lock()
	one := f.open[account]
	if one == nil {
		feeding, cancel := context.WithCancel(f.runner.ctx)
		one = &feed{account: account, cancel: cancel, heard: map[*subscription]bool{}, idle: lookEvery}
		f.open[account] = one
		f.runner.group.Go(func() { f.run(feeding, one) })
	}
	s := &subscription{feed: one, tell: tell, ready: make(chan struct{})}
	one.heard[s] = true
	one.idle = lookEvery
	if one.following {
		s.once.Do(func() { close(s.ready) })
	}
	f.mu.Unlock()
	select {
	case <-s.ready:
		return s, nil
	case <-ctx.Done():
		f.end(s)
		return nil, ctx.Err()
	}
}

// end ends a subscription, and with the last the feed.
func (f *feeds) end(s *subscription) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(s.feed.heard, s)
	if len(s.feed.heard) == 0 {
		s.feed.cancel()
		if f.open[s.feed.account] == s.feed {
			delete(f.open, s.feed.account)
		}
	}
}

// busy records whether anything had changed at the last listing.
func (f *feeds) busy(s *subscription, changed bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s.feed.idle = min(lookIdle, s.feed.idle*2); changed {
		s.feed.idle = lookEvery
	}
}

// begin records that changes from now on will be reported. If that was so before, anything
// may have changed in between.
func (f *feeds) begin(one *feed) {
	f.mu.Lock()
	again := one.following
	one.following = true
	f.mu.Unlock()
	f.tell(one, heard{all: again})
}

func (f *feeds) tell(one *feed, what heard) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for s := range one.heard {
		s.once.Do(func() { close(s.ready) })
		if what.all || len(what.changes) > 0 {
			s.tell(what)
		}
	}
}

// run asks an account for changes until the feed ends.
func (f *feeds) run(ctx context.Context, one *feed) {
	cursor, lastChange := "", time.Now()
	for ctx.Err() == nil {
		opened, err := f.runner.accounts.Open(ctx, one.account)
		if err == nil && cursor == "" {
			var page store.ChangePage
			if page, err = store.Changes(ctx, opened.Store, store.Folder{}, ""); err == nil {
				cursor = page.Cursor
				f.begin(one)
				continue
			}
		}
		if store.KindOf(err) == store.ErrUnsupported {
			f.begin(one)
			f.mu.Lock()
			wait := one.idle
			f.mu.Unlock()
			_ = retry.Sleep(ctx, wait)
			continue
		}
		var page store.ChangePage
		asked := time.Now()
		if err == nil {
			page, err = store.AwaitChanges(ctx, opened.Store, store.Folder{}, cursor, waitAtMost)
		}
		switch {
		case ctx.Err() != nil:
			return
		case store.KindOf(err) == store.ErrChanged: // the cursor is no longer known
			cursor = ""
			continue
		case err != nil:
			f.runner.log.InfoContext(ctx, "the changes of an account cannot be followed now", "account", one.account, "error", err)
			f.tell(one, heard{}) // a job that waits goes on, and meets what is wrong
			_ = retry.Sleep(ctx, max(afterError, store.Wait(err)))
			continue
		}
		cursor = page.Cursor
		f.tell(one, heard{changes: page.Changes})
		if len(page.Changes) > 0 {
			lastChange = time.Now()
		}
		if took := time.Since(asked); !page.More && took < askEvery {
			wait := askIdle
			if time.Since(lastChange) < busyFor {
				wait = askEvery
			}
			_ = retry.Sleep(ctx, wait-took)
		}
	}
}
