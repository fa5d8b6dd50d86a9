package transfer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/run"
	"deftheron/core/store"
)

// ErrCancelled is the cause of a context that ends a run for good. A context
// that is cancelled for any other cause interrupts it, to be resumed.
var ErrCancelled = errors.New("the run was cancelled")

// ErrPaused is the cause of a context that interrupts a run until a person
// resumes it.
var ErrPaused = errors.New("the run was paused")

// Options are what a run is made of.
type Options struct {
	// ID of letters and digits, unique for ever.
	ID string
	// Resumed is set when the run was interrupted and now continues.
	Resumed bool
	Routes  []Route
	Rules   plan.Rules
	Records Records
	// Lanes is the number of items transferred in parallel; 0 takes the number
	// that the accounts' traits advise.
	Lanes int
	// Began is when the run was asked for: ages count from it, and templates
	// take their date from it. It is the same when the run is resumed.
	Began time.Time
	// Open, where it is not nil, opens the accounts of a route again, by its number in
	// Routes without those that lead back. Those of a route with Unopened are not
	// open yet.
	Open func(ctx context.Context, i int) (Route, error)
	// Approved says that a person has let the run go, whatever its safety says.
	Approved bool
	// Places limits the run to some places; empty means everything.
	Places []TouchedPlace
	// Again, if not nil, makes the run continuous: it gets the result of a pass, waits
	// until something has changed, and returns what to look at next; ok is false when
	// the run ends.
	Again func(ctx context.Context, passed PassResult) (touched Touched, ok bool)
	// Share is the run's part of accounts that others use as well; nil is one of
	// weight 1.
	Share *gate.Share
	// Bandwidth limits the run's rates; nil does not.
	Bandwidth *bandwidth.Limiter
	// Retry says how often an item is tried before it fails, and after what waits. Tries and Within
	// of 0 come from the rules, or are 5 tries without a limit; waits of 0 double from half a
	// second to thirty.
	Retry retry.Policy
	// HeadStart is how long the plan may run before bytes move to a target
	// that tells its space, so that a lack of it is found before anything
	// is changed; 0 is a tenth of a second.
	HeadStart time.Duration
	// Scratch is the folder that holds content of unknown size until it is sent, if the
	// target needs the size; empty means the system's temporary folder.
	Scratch string
	Log     *slog.Logger
	// Witnessed keeps a token at both ends of what is synced. It shows that the records,
	// or a place, were restored to an earlier state.
	Witnessed bool
	// Job is the name of the run's job; empty of none.
	Job string
	// Crew, if not nil, copies for the run in other processes.
	Crew Crew
	// Returned, if not nil, returns a channel that is closed when accounts that were away may be back: a run
	// that waits for one looks again at once.
	Returned func() <-chan struct{}
}

// Result is how a run ended.
type Result struct {
	// State is one that has ended, or run.Held; empty for a run that was interrupted.
	State run.State
	Cause plan.Cause
	Why   string
}

// Run is a run being carried out.
type Run struct {
	Options
	progress progress
	scopes   []string

	seq      int64
	folders  folderCache
	endings  chan Ending
	flush    chan chan struct{} // asks that all endings be written down
	feeders  []*feeder
	siblings map[int]int    // of routes, how many have its source
	lanes    sync.WaitGroup // and what feeds them
	idling   *semaphore.Weighted
	readings *readings     // of contents that go to several targets; nil where none does
	planned  chan struct{} // closed when all is enqueued, or never will be
	start    *start        // says when bytes may move
	planErr  error
	pass     int  // how often it has gone on
	lost     lost // what was removed lately
	states   routeStates
	// slowedBefore is how often the accounts were slowed down before the run.
	slowedBefore map[*gate.Gate]int64
	totals       plan.Totals // of this pass, over its rounds
	// whole holds the totals of the first pass, once it is planned.
	whole atomic.Pointer[plan.Totals]
	// before is what there was before the pass.
	before PassResult

	stop    context.CancelCauseFunc
	stopped atomic.Pointer[stopReason]
	// left is why some items are left waiting when all others have ended.
	left    atomic.Pointer[stopReason]
	broke   atomic.Bool // some write broke off
	inParts atomic.Bool // some file went in parts
	// wasResumed is set if the records may hold items that this process has not queued.
	// queued counts the items that it has queued, by phase, and largeQueued those of at
	// least Large bytes.
	wasResumed          bool
	queued, largeQueued [plan.Phases]atomic.Int64
	identical           *identical

	firstRemovals firstRemovals

	// carried is how many items are with the crew; crewFree says that there are fewer.
	carried  atomic.Int64
	crewFree chan struct{}
	samples  samples

	keeps
}

type stopReason struct {
	cause plan.Cause
	why   string
	held  bool // it can go on when that was mended
}

// errStopped ends the lanes when the run cannot go on.
var errStopped = errors.New("the run has to stop")

// New returns a run that has not started.
func New(options Options) *Run {
	options.Retry = retryOf(options)
	if options.Began.IsZero() {
		options.Began = time.Now()
	}
	if options.HeadStart == 0 {
		options.HeadStart = 100 * time.Millisecond
	}
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	if options.Lanes == 0 {
		options.Lanes = lanes(options.Routes)
	}
	if options.Share == nil {
		options.Share = gate.NewShare(1)
	}
	options.Routes = slices.Clone(Directions(options.Rules.Type, options.Routes)) // what becomes of them is the run's
	r := &Run{
		Options: options, wasResumed: options.Resumed, identical: newIdentical(), endings: make(chan Ending, 2*batch),
		flush: make(chan chan struct{}),
		keeps: keeps{fresh: map[store.Store]bool{}}, planned: make(chan struct{}), start: newStart(),
		idling: semaphore.NewWeighted(mostIdle), crewFree: make(chan struct{}, 1),
	}
	for _, route := range options.Routes {
		r.scopes = append(r.scopes, route.Scope)
	}
	r.siblings = siblings(options.Rules.Type, options.Routes)
	r.feeders = newFeeders(options, r.siblings != nil)
	if r.hasSiblings() {
		r.readings = newReadings(options.Scratch)
	}
	r.slowedBefore = map[*gate.Gate]int64{}
	for _, route := range options.Routes {
		for _, side := range []Side{route.Source, route.Target} {
			if side.Gate != nil {
				r.slowedBefore[side.Gate] = side.Gate.Stats().Slowed
			}
		}
	}
	r.states = routeStates{absent: map[int]*absence{}, begun: map[int]bool{}, listed: map[int]bool{}, places: map[int]*position{},
		probes: map[string]*probe{}, whole: map[int]bool{}}
	r.progress.init(options.Lanes)
	return r
}

// usualTries is how often an item is tried unless its rules say.
const usualTries = 5

func retryOf(options Options) retry.Policy {
	retry := options.Retry
	retry.Tries = cmp.Or(retry.Tries, options.Rules.Tries, usualTries)
	retry.Within = cmp.Or(retry.Within, options.Rules.Within)
	if retry.First == 0 && retry.Longest == 0 {
		retry.First, retry.Longest = 500*time.Millisecond, 30*time.Second
	}
	return retry
}

// ready is how many items stand ready for the lanes, so that none is idle while
// the next are fetched from the records.
const ready = 64

// batch is how many items are written to the records at once.
const batch = 500

// Execute carries the run out and returns when it has ended or ctx has. Every
// item has an end then, unless the run was interrupted.
func (r *Run) Execute(ctx context.Context) Result {
	ctx = gate.WithShare(ctx, r.Share)
	tally, err := r.prepare(ctx)
	if err != nil {
		return r.result(ctx, plan.CauseOf(err), err)
	}
	working, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	r.stop = stop
	defer r.removeCanaries(context.WithoutCancel(ctx))
	if err := r.beginRoutes(working); err != nil && r.stopped.Load() == nil {
		return r.result(ctx, plan.CauseOf(err), err)
	}

	// The ledger outlives the lanes, and writes down their last endings
	// even when the run is cancelled.
	var ledger sync.WaitGroup
	var ledgerErr error
	ledger.Go(func() { ledgerErr = r.keepLedger(ctx) })
	r.lanes.Go(func() {
		defer func() {
			for _, f := range r.feeders {
				close(f.work)
			}
		}()
		r.goThrough(working, tally)
	})
	for _, f := range r.feeders {
		for lane := range r.Lanes {
			f.vacant <- lane
			r.lanes.Go(func() { r.runLane(working, f) })
		}
	}
	r.lanes.Wait()
	r.readings.close()
	close(r.endings)
	ledger.Wait()
	if left := r.left.Load(); left != nil && ctx.Err() == nil {
		r.hold(left.cause, left.why)
	}
	err = errors.Join(r.planErr, ledgerErr)
	stays := int64(0)
	if r.Rules.Clear && err == nil && ctx.Err() == nil && r.stopped.Load() == nil && r.progress.failed.Load() == 0 {
		if stays, err = r.clear(ctx); err != nil {
			err = fmt.Errorf("everything is at the target, and the source could not be cleared: %w", err)
		}
	}
	result := r.result(ctx, causeOfPlan(err), err)
	if (r.Resumed || r.broke.Load()) && (result.State == run.Done || result.State == run.Partial) {
		// A server may start to write what was sent before the connection broke only
		// after the leftovers were removed.
		if err := r.clean(context.WithoutCancel(ctx)); err != nil {
			r.Log.Warn("could not look for leftovers", "run", r.ID, "error", err)
		}
	}
	if result.State == run.Done && stays > 0 {
		result = Result{State: run.Partial, Cause: plan.CauseStays, Why: plural(int(stays), "entry") +
			" changed or came since, or could not be verified, and " + stay(stays) + " at the source"}
	}
	return result
}

func stay(n int64) string {
	if n == 1 {
		return "stays"
	}
	return "stay"
}

// start tells when the transfers of a round may begin. The signal may arrive late, when
// the next round is already on its way.
type start struct {
	once  sync.Once
	begun chan struct{}
}

func newStart() *start { return &start{begun: make(chan struct{})} }

func (s *start) now() { s.once.Do(func() { close(s.begun) }) }

// leave says why an item is left waiting: a lack of space before a question.
func (r *Run) leave(reason stopReason) {
	if !r.left.CompareAndSwap(nil, &reason) && reason.cause != plan.CauseAsk {
		r.left.Store(&reason)
	}
}

// checkSpace stops the run if the target has too little space for what is planned.
func (r *Run) checkSpace(ctx context.Context) {
	if why := LackOfSpace(ctx, r.routesNow(), r.progress.bytes.Load()-r.progress.moved()); why != "" {
		r.hold(plan.CauseNoSpace, why)
	}
}

// halt ends the run before its time, with a cause.
func (r *Run) halt(cause plan.Cause, why string) { r.stopFor(stopReason{cause: cause, why: why}) }

// hold stops the run until a person has mended something.
func (r *Run) hold(cause plan.Cause, why string) {
	r.stopFor(stopReason{cause: cause, why: why, held: true})
}

func (r *Run) stopFor(reason stopReason) {
	cause, why := reason.cause, reason.why
	if r.stopped.CompareAndSwap(nil, &reason) {
		r.Log.Warn("the run must stop", "run", r.ID, "cause", cause, "why", why)
		r.stop(errStopped)
	}
}

// result returns how the run ended, after it has ended the items that still wait.
func (r *Run) result(ctx context.Context, cause plan.Cause, err error) Result {
	ended := context.WithoutCancel(ctx)
	result := Result{State: run.Done}
	rest, restCause := Failed, plan.CauseStopped
	stopped := r.stopped.Load()
	switch {
	case errors.Is(context.Cause(ctx), ErrCancelled):
		if r.Resumed {
			if err := r.clean(ended); err != nil {
				r.Log.Warn("could not delete leftovers", "run", r.ID, "error", err)
			}
		}
		result = Result{State: run.Cancelled, Cause: plan.CauseCancelled, Why: "it was cancelled by a person"}
		rest, restCause = Skipped, plan.CauseCancelled
	case ctx.Err() != nil:
		return Result{}
	case stopped != nil && stopped.held:
		return Result{State: run.Held, Cause: stopped.cause, Why: stopped.why}
	case stopped == nil && (store.WaitsForPerson(err) || store.KindOf(err) == store.ErrNoSpace):
		return Result{State: run.Held, Cause: plan.CauseOf(err), Why: err.Error()}
	case stopped != nil:
		result = Result{State: run.Failed, Cause: stopped.cause, Why: stopped.why}
	case err != nil:
		result = Result{State: run.Failed, Cause: cause, Why: err.Error()}
	}
	if err := r.abandonUploads(ended); err != nil {
		r.Log.Warn("could not cancel an upload", "run", r.ID, "error", err)
	}
	n, endErr := r.Records.EndRest(ended, r.ID, rest, restCause)
	if endErr != nil {
		return Result{State: run.Failed, Cause: plan.CauseFault, Why: endErr.Error()}
	}
	r.progress.rest(rest, n)
	if n > 0 { // what is skipped now is not to be moved any more
		if tally, err := r.Records.Tally(ended, r.ID); err == nil {
			r.progress.bytes.Store(tally.Bytes)
		}
	}
	if result.State == run.Done && r.progress.failed.Load() > 0 {
		result.State = run.Partial
		if r.progress.done.Load()+r.progress.unchanged.Load() == 0 {
			result.State = run.Failed
		}
		result.Why = plural(int(r.progress.failed.Load()), "item") + " failed"
	}
	// A continuous run copies locked files when their locks are gone.
	if locked := r.progress.locked.Load(); result.State == run.Done && locked > 0 && r.Again == nil {
		result = Result{State: run.Partial, Cause: plan.CauseLocked, Why: "somebody had locked " + plural(int(locked), "item")}
	}
	return result
}

// causeOfPlan says why a plan could not be made: a listing that broke off is a
// cause of its own.
func causeOfPlan(err error) plan.Cause {
	if gone := (rootGone{}); errors.As(err, &gone) {
		return plan.CauseRootGone
	}
	if cause := plan.CauseOf(err); cause != plan.CauseFault && cause != plan.CauseChanging {
		return cause
	}
	return plan.CauseListing
}
