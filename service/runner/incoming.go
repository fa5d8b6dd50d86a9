package runner

import (
	"context"
	"strings"
	"sync"
	"time"

	"deftheron/core/arrival"
	"deftheron/core/job"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// keeper looks for what arrives at the sources of a job, and has each transferred by a
// run of its own.
type keeper struct {
	runner *Runner
	job    records.Job
	spec   job.Spec
	taking job.Taking

	mu      sync.Mutex
	touched map[touchedArrival]bool
	all     bool
	wake    chan struct{}
	ended   chan struct{} // a run of the job has ended, and the next may begin
	// ready is what runs are made of, and was checked not long ago.
	ready   prepared
	checked time.Time
	// subscriptions are those to the accounts of the sources.
	subscriptions []*subscription
}

// touchedArrival is a path, below the source of a route, where something changed.
type touchedArrival struct {
	route int
	path  store.Path
}

// arrivalRetry is the wait before a source is opened, or arrivals are taken, again.
const arrivalRetry = 10 * time.Second

// lookingAgain is the retry policy of a failed search for arrivals.
var lookingAgain = retry.Policy{First: 2 * arrivalRetry, Longest: lookIdle}

// keepArrivals looks for arrivals of a job until ctx ends.
func (c *scheduler) keepArrivals(ctx context.Context, row records.Job) {
	spec := keptSpec(row)
	taking, err := spec.Arrivals.Read(spec.When.Arrival)
	if err != nil {
		c.runner.log.ErrorContext(ctx, "a job's arrivals cannot be read", "job", row.Name, "error", err)
		return
	}
	k := &keeper{runner: c.runner, job: row, spec: spec, taking: taking, touched: map[touchedArrival]bool{}, all: true,
		wake: make(chan struct{}, 1), ended: make(chan struct{}, 1)}
	c.mu.Lock()
	c.keepers[row.Name] = k
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.keepers[row.Name] == k {
			delete(c.keepers, row.Name)
		}
	}()
	defer func() {
		for _, one := range k.subscriptions {
			c.runner.feeds.end(one)
		}
	}()
	if k.follow(ctx) != nil {
		return // ctx has ended
	}
	for failures := 0; ctx.Err() == nil; {
		wait, err := k.look(ctx)
		if err == nil {
			failures = 0
			k.await(ctx, wait)
			continue
		}
		if ctx.Err() == nil {
			c.runner.log.WarnContext(ctx, "could not look for arrivals", "job", row.Name, "error", err)
		}
		k.hear(heard{all: true}, 0, "")
		failures++
		_ = retry.Sleep(ctx, max(lookingAgain.After(failures+1), store.Wait(err)))
	}
}

// follow has the changes of all sources told.
func (k *keeper) follow(ctx context.Context) error {
	for i, route := range k.spec.Routes {
		address, err := store.ParseAddress(route.From)
		if err != nil {
			return err
		}
		located, err := k.locate(ctx, address)
		if err != nil {
			return err
		}
		root := located.Root.AsFolder().Path
		one, err := k.runner.feeds.follow(ctx, address.Account, func(what heard) { k.hear(what, i, root) })
		if err != nil {
			return err
		}
		k.subscriptions = append(k.subscriptions, one)
	}
	return nil
}

// locate opens a source, as soon as its account can be opened.
func (k *keeper) locate(ctx context.Context, address store.Address) (transfer.Side, error) {
	for {
		located, err := k.runner.tree.Locate(ctx, address)
		if err == nil {
			return transfer.Side{Account: located.Name, Address: address, Store: located.Store, Gate: located.Gate, Root: located.Place}, nil
		}
		if retry.Sleep(ctx, arrivalRetry) != nil {
			return transfer.Side{}, ctx.Err()
		}
	}
}

// hear takes in what the account of a source tells.
func (k *keeper) hear(what heard, route int, root store.Path) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all = k.all || what.all
	for _, change := range what.changes {
		if change.Gone && change.Place.Name == "" {
			k.all = true // only its id is told
			continue
		}
		path := change.Place.Folder.Path.Child(change.Place.Name)
		if below, ok := strings.CutPrefix(string(path), string(root)); ok && below != "" && !isOurs(path) {
			k.touched[touchedArrival{route, store.Path(below)}] = true
		} else if strings.HasPrefix(string(root), string(path)) {
			k.all = true // the source lies in it
		}
	}
	if len(k.touched) > mostTouched {
		k.all = true
	}
	if k.all || len(k.touched) > 0 {
		k.nudge()
	}
}

// nudge has it look again.
func (k *keeper) nudge() {
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

// await waits until something was heard of, or for as long.
func (k *keeper) await(ctx context.Context, wait time.Duration) {
	var due <-chan time.Time
	if wait >= 0 {
		timer := time.NewTimer(wait)
		defer timer.Stop()
		due = timer.C
	}
	for {
		select {
		case <-k.ended:
			if err := k.begin(ctx); err != nil && ctx.Err() == nil {
				k.runner.log.WarnContext(ctx, "arrivals cannot be transferred now", "job", k.job.Name, "error", err)
				_ = retry.Sleep(ctx, max(arrivalRetry, store.Wait(err)))
				return
			}
			continue
		case <-k.wake:
			_ = retry.Sleep(ctx, gather)
		case <-due:
		case <-ctx.Done():
		}
		return
	}
}

// checkedFor is how long the parts of an arrival's run are not checked again: the run
// itself finds out what is missing.
const checkedFor = 30 * time.Second

// prepare is what the runs of arrivals are made of.
func (k *keeper) prepare(ctx context.Context) (prepared, error) {
	if time.Since(k.checked) < checkedFor {
		return k.ready, nil
	}
	row, err := k.runner.kept(ctx, k.job.Name)
	if err != nil {
		return prepared{}, err
	}
	k.ready, err = k.runner.checkJob(ctx, keptSpec(row), []job.Spec{keptSpec(row)}, false)
	if k.checked = time.Now(); err != nil {
		k.checked = time.Time{}
	}
	return k.ready, err
}

// look looks at the changed places, and starts runs for complete arrivals. It returns the
// wait until the next look; a negative value means until a change is reported.
func (k *keeper) look(ctx context.Context) (time.Duration, error) {
	k.mu.Lock()
	all, touched := k.all, k.touched
	k.all, k.touched = false, map[touchedArrival]bool{}
	k.mu.Unlock()
	sources, err := k.sources(ctx)
	if err != nil {
		return 0, err
	}
	if all {
		if err := k.scan(ctx, sources); err != nil {
			return 0, err
		}
	}
	for one := range touched {
		if !all && one.route < len(sources) {
			if err := sources[one.route].LookAt(ctx, k.runner.db, one.path); err != nil {
				return 0, err
			}
		}
	}
	next, err := arrival.Ripen(ctx, k.runner.db, k.job.ID, sources, k.taking.Rest)
	if err != nil {
		return 0, err
	}
	if err := k.begin(ctx); err != nil && ctx.Err() == nil {
		k.runner.log.WarnContext(ctx, "arrivals cannot be transferred now", "job", k.job.Name, "error", err)
		return max(arrivalRetry, store.Wait(err)), nil
	}
	return next, nil
}

// sources opens the sources again: their accounts may be others by now.
func (k *keeper) sources(ctx context.Context) (sources []arrival.Source, err error) {
	rules, err := k.spec.Read()
	if err != nil {
		return nil, err
	}
	row, err := k.runner.db.KeptJob(ctx, k.job.Name)
	if err != nil {
		return nil, err
	}
	routes, err := k.runner.openAs(ctx, row.Routes, rules)
	if err != nil {
		return nil, err
	}
	for i, route := range routes {
		sources = append(sources, sourceOf(row.ID, i, route.Source, rules.Filter, k.spec.When.Arrival))
	}
	return sources, nil
}

// scan lists all sources. Entries of the first scan are no arrivals.
func (k *keeper) scan(ctx context.Context, sources []arrival.Source) error {
	row, err := k.runner.db.KeptJob(ctx, k.job.Name)
	if err != nil {
		return err
	}
	state := arrival.Resting
	if row.WatchedAt == nil {
		state = arrival.There
	}
	for i, source := range sources {
		changed, err := source.Scan(ctx, k.runner.db, state)
		if err != nil {
			return err
		}
		if i < len(k.subscriptions) { // what tells no changes is looked at less, the longer there are none
			k.runner.feeds.busy(k.subscriptions[i], changed > 0)
		}
	}
	if row.WatchedAt == nil {
		return k.runner.db.Watched(ctx, row.ID, time.Now())
	}
	return nil
}

// begin starts runs for ready arrivals, a limited number at a time.
func (k *keeper) begin(ctx context.Context) error {
	for {
		open, err := k.runner.db.OpenRunsOf(ctx, k.job.Name)
		if err != nil || open >= k.taking.AtOnce {
			return err
		}
		room := k.taking.AtOnce - open
		ready, err := k.runner.db.IncomingIn(ctx, k.job.ID, arrival.Ready, room)
		if err != nil {
			return err
		}
		all := true
		for _, one := range ready {
			started := false
			p, err := k.prepare(ctx)
			if err == nil {
				started, err = k.runner.startArrival(ctx, k.job, p, one)
			}
			if err != nil {
				k.checked = time.Time{}
				return err
			}
			all = all && started
		}
		if all {
			return nil // the end of each calls for the next
		}
	}
}
