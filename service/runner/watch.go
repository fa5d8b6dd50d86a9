package runner

import (
	"context"
	"strings"
	"sync"
	"time"

	"deftheron/core/compare"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

const (
	// gather is how long further changes are waited for, after a first.
	gather = 150 * time.Millisecond
	// mostTouched is how many places are looked at by themselves; of more, all is.
	mostTouched = 2000
	// lasts is how long a run of a continuous job lasts, when it does not end
	// otherwise: the next one begins with a full comparison.
	lasts = 24 * time.Hour
	// afterFailures is the wait before all is looked at again where something has
	// failed, doubled up to mostAfterFailures.
	afterFailures, mostAfterFailures = 30 * time.Second, 15 * time.Minute
)

// watch gathers what changes at the ends of a continuous job, while its run goes on.
type watch struct {
	runner *Runner
	active *active
	begun  time.Time
	stop   <-chan struct{} // closed when the run is to end, having done all

	mu            sync.Mutex
	subscriptions []*subscription
	followed      map[int]bool // routes
	touched       map[transfer.TouchedPlace]bool
	all           bool
	since         time.Time // when the first was heard of
	some          chan struct{}
	failing       time.Duration
	// lookedAtAll says that the pass before looked at everything.
	lookedAtAll bool
}

// watchJob begins to follow the ends of a run's routes; nil where the job is not
// continuous.
func (r *Runner) watchJob(ctx context.Context, a *active, routes []transfer.Route, resumed bool) (*watch, error) {
	run := a.now().row
	if len(run.Places) > 0 {
		return nil, nil // of what has arrived alone
	}
	row, err := r.db.KeptJob(ctx, run.Job)
	if err != nil || !row.Spec.When.Continuous || row.Type == job.Migrate {
		return nil, nil // a job that was removed meanwhile is no longer followed
	}
	w := &watch{runner: r, active: a, begun: time.Now(), stop: a.stop, touched: map[transfer.TouchedPlace]bool{}, all: resumed,
		some: make(chan struct{}, 1)}
	for i, route := range routes {
		if route.Unopened != nil {
			continue // followed once it is open
		}
		if err := w.follow(ctx, i, route); err != nil {
			w.end()
			return nil, err
		}
	}
	if resumed {
		w.some <- struct{}{} // what has changed in the meantime, nobody has told
	}
	return w, nil
}

// follow begins to follow the ends of a route, by its number, unless it is followed.
func (w *watch) follow(ctx context.Context, i int, route transfer.Route) error {
	r, run := w.runner, w.active.now().row
	w.mu.Lock()
	known := w.followed[i]
	if w.followed == nil {
		w.followed = map[int]bool{}
	}
	w.followed[i] = true
	w.mu.Unlock()
	if known {
		return nil
	}
	ends := []transfer.Side{route.Source}
	if run.Rules.Type == plan.TwoWay {
		ends = append(ends, route.Target)
	}
	var subscriptions []*subscription
	for n, side := range ends {
		target := n == 1
		traits := side.Store.Traits()
		subscription, err := r.feeds.follow(ctx, side.Account, func(what heard) { w.hear(route, i, target, side, traits, what) })
		if err != nil {
			for _, one := range subscriptions {
				r.feeds.end(one)
			}
			w.mu.Lock()
			delete(w.followed, i) // it is tried again when the route is opened the next time
			w.mu.Unlock()
			return err
		}
		subscriptions = append(subscriptions, subscription)
	}
	w.mu.Lock()
	w.subscriptions = append(w.subscriptions, subscriptions...)
	w.mu.Unlock()
	return nil
}

func (w *watch) end() {
	w.mu.Lock()
	subscriptions := w.subscriptions
	w.mu.Unlock()
	for _, one := range subscriptions {
		w.runner.feeds.end(one)
	}
}

// hear takes in what an account tells of one end of a route.
func (w *watch) hear(route transfer.Route, number int, target bool, side transfer.Side, traits store.Traits, what heard) {
	w.mu.Lock()
	defer w.mu.Unlock()
	root := side.Root.AsFolder().Path
	relevant := what.all
	w.all = w.all || what.all
	for _, change := range what.changes {
		switch {
		case change.Gone && change.Place.Name == "", // only its id is told
			!change.Gone && change.Entry.Kind == store.KindFolder && change.Place.ID != "": // it may have been elsewhere
			w.all, relevant = true, true
			continue
		}
		path := change.Place.Folder.Path.Child(change.Place.Name)
		if strings.HasPrefix(string(root), string(path)) {
			w.all, relevant = true, true // what is followed lies in it
			continue
		}
		below, ok := strings.CutPrefix(string(path), string(root))
		if !ok || store.Ours(change.Place.Folder.Path, change.Place.Name) || isOurs(path) {
			continue
		}
		relevant = true
		if !change.Since.IsZero() && (w.since.IsZero() || change.Since.Before(w.since)) {
			w.since = change.Since
		}
		w.touched[transfer.TouchedPlace{Route: number, Target: target, Path: store.Path(below)}] = true
		if !change.Gone && change.Place.ID != "" { // it may have been at another place
			w.touchMoved(route, number, target, change.Entry, traits)
		}
	}
	if len(w.touched) > mostTouched {
		w.all = true
	}
	if relevant {
		if w.since.IsZero() {
			w.since = time.Now()
		}
		select {
		case w.some <- struct{}{}:
		default:
		}
	}
}

// isOurs reports whether a path is in our own folder.
func isOurs(path store.Path) bool {
	return strings.HasPrefix(string(path), store.OwnFolder+"/")
}

// touchMoved touches where content that has come to a place was known to be.
func (w *watch) touchMoved(route transfer.Route, number int, target bool, entry store.Entry, traits store.Traits) {
	mark := compare.MarkOf(entry)
	if mark == "" {
		return
	}
	origin, err := w.runner.db.Find(w.runner.ctx, route.Scope, mark, target)
	if err != nil || origin == nil {
		return
	}
	// Find tells where it is at the other side.
	below, name := origin.Key.Split(store.KindFile)
	w.touched[transfer.TouchedPlace{Route: number, Target: !target, Path: below.Child(name)}] = true
}

// again waits for what is to be looked at next; see transfer.Options.Again.
func (w *watch) again(ctx context.Context, passed transfer.PassResult) (transfer.Touched, bool) {
	w.mu.Lock()
	if w.lookedAtAll {
		for _, one := range w.subscriptions {
			w.runner.feeds.busy(one, passed.Items > 0)
		}
	}
	if passed.Failed == 0 {
		w.failing = 0
	} else {
		w.failing = min(mostAfterFailures, max(afterFailures, w.failing*2))
	}
	var again <-chan time.Time
	if w.failing > 0 {
		timer := time.NewTimer(w.failing)
		defer timer.Stop()
		again = timer.C
	}
	w.mu.Unlock()
	// While it waits, others may move.
	w.active.watching.Store(true)
	defer w.active.watching.Store(false)
	w.active.moving.Store(false)
	w.runner.limiter.give()
	all, ok := w.await(ctx, again)
	if !ok || w.runner.limiter.take(ctx, w.active.share.Weight) != nil {
		return transfer.Touched{}, false
	}
	w.active.moving.Store(true)
	if all {
		return transfer.Touched{All: true}, true
	}
	return w.take(), true
}

// await waits until there is something to be looked at, or all is, as something had
// failed; ok false ends the run.
func (w *watch) await(ctx context.Context, again <-chan time.Time) (all, ok bool) {
	over := time.NewTimer(time.Until(w.begun.Add(lasts)))
	defer over.Stop()
	select {
	case <-w.some:
		return false, retry.Sleep(ctx, gather) == nil
	case <-again:
		return true, true
	case <-over.C:
	case <-w.stop:
	case <-ctx.Done():
	}
	return false, false
}

// lag is how long the first change waits to be looked at.
func (w *watch) lag(now time.Time) time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.since.IsZero() {
		return 0
	}
	return now.Sub(w.since)
}

// take takes what was touched.
func (w *watch) take() transfer.Touched {
	w.mu.Lock()
	defer w.mu.Unlock()
	touched := transfer.Touched{All: w.all}
	w.lookedAtAll = w.all
	if !touched.All {
		for place := range w.touched {
			touched.Places = append(touched.Places, place)
		}
	}
	w.all, w.since = false, time.Time{}
	clear(w.touched)
	return touched
}

// keepGoing keeps a run of a continuous job going, until ctx ends; that run then ends
// as soon as it has done what it was doing.
func (c *scheduler) keepGoing(ctx context.Context, row records.Job) {
	r, begun := c.runner, time.Now()
	for ctx.Err() == nil {
		wait := time.Second
		if open, err := r.db.OpenRunOf(ctx, row.Name); err == nil {
			r.mu.Lock()
			a := r.active[open.ID]
			r.mu.Unlock()
			if a != nil {
				select {
				case <-a.ended:
				case <-ctx.Done():
				}
			}
		} else if last, err := r.db.LastRun(ctx, row.Name); err == nil && last.State == run.Cancelled && last.EndedAt != nil &&
			last.EndedAt.After(begun) {
			// Who cancels it does not mean to have it begun again.
			if err := r.SuspendJob(ctx, row.Name, true); err != nil && ctx.Err() == nil {
				r.log.ErrorContext(ctx, "could not suspend a job whose run was cancelled", "job", row.Name, "error", err)
			}
		} else if now, err := r.db.KeptJob(ctx, row.Name); err == nil {
			if _, err := r.startJob(ctx, now, "continuously", ""); err != nil && ctx.Err() == nil {
				r.log.InfoContext(ctx, "a continuous job cannot continue now", "job", row.Name, "error", err)
				wait = afterFailures
			}
			if last, err := r.db.LastRun(ctx, row.Name); err == nil && last.State == run.Failed && last.EndedAt != nil {
				wait = afterFailures
			}
		}
		_ = retry.Sleep(ctx, wait)
	}
}
