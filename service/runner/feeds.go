package runner

import (
	"context"
	"sync"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// Of an account that tells what has changed, it is asked so often whether it has, where
// it cannot wait with its answer; where it tells nothing, all is looked at so often,
// the less the longer nothing changes.
const (
	askEvery   = 500 * time.Millisecond
	askIdle    = 1500 * time.Millisecond
	busyFor    = time.Minute // after a change
	lookEvery  = 3 * time.Second
	lookIdle   = 2 * time.Minute
	waitAtMost = 50 * time.Second
	afterError = 10 * time.Second
)

// heard is what a feed tells: changes, or that anything may have changed.
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
	// following says that what changes from now on will be told, even if the next
	// answer of the account is long in coming.
	following bool
}

// subscription is a job that follows an account.
type subscription struct {
	feed  *feed
	tell  func(heard)
	ready chan struct{} // closed when what changes from then on is told
	once  sync.Once
}

// follow has changes of an account told until the subscription is ended. It returns
// when those from now on are told.
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

// busy says that something had changed when all was looked at, or had not.
func (f *feeds) busy(s *subscription, changed bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s.feed.idle = min(lookIdle, s.feed.idle*2); changed {
		s.feed.idle = lookEvery
	}
}

// begin says that what changes from now on will be told. Where that was so before,
// anything may have changed in between.
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

// run asks an account what has changed, until the feed is ended.
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
