package transfer

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/compare"
	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// attempt is one try at one item.
type attempt struct {
	*Run
	item   *Item
	try    int
	route  Route
	flight *flight
	// from, where it is not nil, is read in place of the item's own place: nothing
	// of such a transfer is kept to be gone on with.
	from *store.Ref
	// chosen says that a rule has chosen the source's content, whatever the target
	// holds.
	chosen bool
	// digest is the BLAKE3 hash of what was sent or read, if the rules ask for it.
	digest string
	// keeping is where the write of this try keeps the old content.
	keeping *version
	// carriage is what it is part of, in another process than the run; nil in the run's own.
	carriage *Carriage
}

// uploads keeps how far files in parts have come.
type uploads interface {
	SaveUpload(ctx context.Context, run string, seq int64, upload Upload) error
	SavePart(ctx context.Context, run string, seq int64, part store.Part) error
	LoadUpload(ctx context.Context, run string, seq int64) (Upload, bool, error)
	DropUpload(ctx context.Context, run string, seq int64) error
}

func (a *attempt) uploads() uploads {
	if a.from != nil {
		return notKept{}
	}
	return a.Records
}

// notKept keeps nothing.
type notKept struct{}

func (notKept) SaveUpload(context.Context, string, int64, Upload) error   { return nil }
func (notKept) SavePart(context.Context, string, int64, store.Part) error { return nil }
func (notKept) DropUpload(context.Context, string, int64) error           { return nil }
func (notKept) LoadUpload(context.Context, string, int64) (Upload, bool, error) {
	return Upload{}, false, nil
}

// runLane processes items until there are none. There are as many lanes as items move at
// once; an item that only waits leaves its lane to others.
func (r *Run) runLane(ctx context.Context, f *feeder) {
	for {
		f.free.Add(1)
		lane := <-f.vacant
		f.free.Add(-1)
		large := f.large
		if lane >= r.Lanes/2 { // the small are not to wait for the large either
			large = nil
		}
		item := f.next(large)
		if item == nil || ctx.Err() != nil {
			f.vacant <- lane
			if item == nil {
				return
			}
			f.pending.Done()
			continue
		}
		left := false
		r.process(ctx, item, 1, func() {
			if left = r.idling.TryAcquire(1); !left {
				return
			}
			if f.free.Load() == 0 {
				r.lanes.Go(func() { r.runLane(ctx, f) })
			}
			f.vacant <- lane
		})
		if left {
			r.idling.Release(1)
		} else {
			f.vacant <- lane
		}
	}
}

// mostIdle is how many items may wait for their disk beside those in the lanes.
const mostIdle = 500

// next is the next item of a lane, one of the largest before any other; nil at the end.
func (f *feeder) next(large <-chan *Item) *Item {
	select {
	case item := <-large:
		return item
	default:
	}
	select {
	case item := <-large:
		return item
	case item := <-f.work:
		return item
	}
}

// process tries an item until it has ended or the run is interrupted. The wait
// before another try is spent in the lane: where everything fails, nothing is
// asked more often for it. free is called when the item only waits, and needs no lane.
func (r *Run) process(ctx context.Context, item *Item, try int, free func()) {
	free = sync.OnceFunc(free)
	pending := &r.feederOf(item).pending
	if r.takesTurns(item) {
		size := item.Size // of which it entered; another may be found
		defer func() { r.identical.leave(size, item.Seq) }()
	}
	begun := time.Now()
	for {
		ending, wait := r.once(ctx, item, try, free)
		if ending == nil && wait == stays { // in the records, waiting
			pending.Done()
			return
		}
		within := r.Retry.Within == 0 || time.Since(begun)+wait <= r.Retry.Within
		if ending != nil && ending.again && try < r.Retry.Tries && within {
			ending = nil
		}
		if ctx.Err() != nil && ending == nil {
			pending.Done()
			return
		}
		if ending != nil {
			(&attempt{Run: r, item: item, route: r.Routes[item.Route]}).end(ctx, ending, try)
			return
		}
		try++
		r.progress.retries.Add(1)
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			pending.Done()
			return
		}
	}
}

// end ends an item that was handed out.
func (a *attempt) end(ctx context.Context, ending *Ending, tries int) {
	ending.Attempts = tries
	a.settleHistory(ctx, ending)
	a.progress.ended(a.item, *ending)
	a.endings <- *ending
	a.feederOf(a.item).pending.Done()
}

// complete adds to the ending of a try that went well what it is of.
func (a *attempt) complete(ending *Ending) *Ending {
	a.feederOf(a.item).full.Store(0)
	if ending.State == Done && ending.Cause == plan.CauseNone && a.item.To != "" && a.Rules.Translated(a.item.Key, a.item.To) {
		ending.Cause = plan.CauseTranslated
	}
	ending.Seq, ending.Route, ending.Ended = a.item.Seq, a.item.Route, time.Now()
	return ending
}

// once makes one try. It returns an ending, or how long to wait for the next.
func (r *Run) once(ctx context.Context, item *Item, try int, free func()) (*Ending, time.Duration) {
	if !r.mayTake(item) || r.feederOf(item).full.Load() >= full {
		return nil, stays
	}
	if r.takesTurns(item) { // before it takes what those before it may need
		end, err := r.identical.turn(ctx, item)
		if err != nil {
			return nil, 0
		}
		defer end()
	}
	route := r.Routes[item.Route]
	a := attempt{Run: r, item: item, try: try, route: route}
	if try == 1 {
		r.takeSettled(item)
	}
	asked := time.Now()
	held, release, err := gate.ReserveBoth(ctx, route.Source.Gate, route.Target.Gate)
	if err != nil {
		return nil, 0
	}
	defer release()
	started := time.Now()
	r.progress.waits.slots.Add(int64(started.Sub(asked)))
	worked := sync.OnceFunc(func() { r.progress.waits.worked.Add(int64(time.Since(started))) })
	defer worked()
	a.flight = r.progress.takeOff(route.Source, item)
	defer r.progress.land(a.flight)
	ending, err := a.do(store.WithIdle(held, func() {
		a.flight.idle.Store(true)
		worked()
		release()
		free()
	}))
	if err == nil {
		if route.Contents != "" && ending.Held == nil {
			a.keepContent(ending)
		}
		return a.complete(ending), 0
	}
	if ctx.Err() != nil {
		return nil, 0
	}
	if errors.Is(err, errAsks) {
		r.leave(stopReason{cause: plan.CauseAsk, why: "both sides had changed, and the job asks a person which to keep"})
		return nil, stays
	}
	return a.failed(held, err)
}

// failed decides by the kind of an error whether the item is tried again, has
// ended, or stops the run.
func (a *attempt) failed(ctx context.Context, err error) (*Ending, time.Duration) {
	var source compare.SourceError
	fromSource := errors.As(err, &source)
	cause := plan.CauseOf(err)
	if errors.Is(err, store.ErrVerification) {
		cause = plan.CauseVerification
	}
	ending := &Ending{
		Seq: a.item.Seq, Route: a.item.Route, State: Failed, Cause: cause, Why: strings.TrimRight(err.Error(), "."), Ended: time.Now(),
	}
	var held *annotation.HeldError
	if errors.As(err, &held) { // it is taken once the lock has ended
		ending.State = Skipped
		return ending, 0
	}
	switch kind := store.KindOf(err); kind {
	case store.ErrNotFound:
		if fromSource {
			ending.State = Skipped
			return ending, 0
		}
		ending.Cause = plan.CauseFault // a folder of the target vanished under the write
	case store.ErrExists:
		if a.mayWait() {
			return nil, stays
		}
		return ending, 0
	case store.ErrRefused, store.ErrNameRefused, store.ErrTooLarge, store.ErrUnsupported:
		if fromSource && a.isNoFile(ctx) {
			ending.State, ending.Cause, ending.Why = Skipped, plan.CauseNotAFile, ""
		}
		return ending, 0
	case store.ErrSignInExpired, store.ErrSuspended:
		// Nothing is wrong with the item: it waits until the account works again.
		a.leaveRoute(ctx, a.item.Route, err)
		return nil, stays
	case store.ErrTryAgain:
		if a.try > 1 && a.leaveRoute(ctx, a.item.Route, err) {
			return nil, stays
		}
	case store.ErrNoSpace:
		// Nothing is wrong with the item: it waits until there is space. A
		// smaller one may still fit; three in a row say that none will.
		a.leave(stopReason{cause: cause, why: err.Error()})
		if a.feederOf(a.item).full.Add(1) >= full && len(a.feeders) == 1 {
			a.hold(cause, err.Error()) // else the other targets go on first
		}
		return nil, stays
	}
	if a.try < a.Retry.Tries {
		a.Log.Debug("an item is retried", "run", a.ID, "item", a.route.SourceAddress(*a.item), "try", a.try, "error", err)
	}
	ending.again = true
	return ending, max(store.Wait(err), a.Retry.After(a.try+1))
}

// isNoFile reports whether the source is no file any more, but a link or something else
// without content of its own.
func (a *attempt) isNoFile(ctx context.Context) bool {
	entry, err := a.route.Source.Store.Stat(ctx, a.source())
	return err == nil && entry.Kind == store.KindOther
}

// full is after how many items in a row without space no more are tried.
const full = 3

// errAsks says that a conflict waits for a person.
var errAsks = errors.New("a person decides")

// stays, in place of a wait, leaves an item waiting when the run is held.
const stays = -1

// do carries the item's action out.
func (a *attempt) do(ctx context.Context) (*Ending, error) {
	if err := a.findKept(ctx); err != nil {
		return nil, err
	}
	switch a.item.Action {
	case plan.MakeFolder:
		return a.makeFolder(ctx)
	case plan.Ask:
		if a.conflictRules().Conflict == plan.AskPerson {
			return nil, errAsks
		}
		return a.look(ctx) // somebody has decided; what is there may be another by now
	case plan.Look:
		return a.look(ctx)
	case plan.Beside:
		return a.beside(ctx, a.item.Target)
	case plan.Replace:
		return a.replace(ctx)
	case plan.Recheck:
		return a.recheck(ctx)
	case plan.Remove:
		return a.remove(ctx)
	case plan.Clear:
		return a.clearOne(ctx)
	}
	if a.route.Contents != "" {
		return a.createOnce(ctx, a.create)
	}
	return a.create(ctx)
}

func (a *attempt) source() store.Ref {
	if a.from != nil {
		return *a.from
	}
	place := a.route.Source.place(a.item.Key, a.item.Kind)
	place.ID = a.item.SourceID
	return place
}

func (a *attempt) target() store.Ref { return a.route.Target.place(a.item.to(), a.item.Kind) }

// write moves the content to a place under a condition, verifies it, and returns
// the ending with its pair. Where the condition did not hold, or nobody knows
// what became of the write, it looks again.
func (a *attempt) write(ctx context.Context, place store.Ref, condition store.Condition) (*Ending, error) {
	if err := a.folders.ensure(ctx, a.route.Target, place.Folder.Path); err != nil {
		if store.KindOf(err) == store.ErrExists {
			return nil, store.Errorf(store.ErrExists, "a file is at the target where the folder of %s is needed", place)
		}
		return nil, err
	}
	written, verification, err := a.moveContent(ctx, place, condition)
	var source compare.SourceError
	switch {
	case err == nil:
		ending := &Ending{State: Done, Verification: verification, Moved: max(0, written.Size), Pair: a.pairWith(written.Entry, verification)}
		if a.keeping != nil {
			a.item.version = a.keeping
		}
		a.changed(ctx, ending, place)
		return ending, nil
	case errors.As(err, &source):
		if store.KindOf(err) == store.ErrChanged && a.try > 1 {
			return a.writeGrowing(ctx, place, condition, err)
		}
		if store.KindOf(err) == store.ErrChanged {
			return nil, a.refresh(ctx, err)
		}
		return nil, err
	case store.KindOf(err) == store.ErrNotFound:
		a.folders.forget()
		return nil, err
	case store.KindOf(err) == store.ErrExists, store.KindOf(err) == store.ErrChanged, store.KindOf(err) == store.ErrOutcomeUnknown:
		return a.lookAgain(ctx, place, err)
	}
	return nil, err
}

// refresh looks up the source again, for the next attempt.
func (a *attempt) refresh(ctx context.Context, changed error) error {
	entry, err := a.route.Source.Store.Stat(ctx, a.source())
	if err != nil {
		return compare.NewSourceError(err)
	}
	a.progress.resize(a.item, entry.Size)
	a.item.Source, a.item.Size = compare.RememberedOf(entry), entry.Size
	a.item.Mark, a.item.Origin = compare.MarkOf(entry), nil
	return changed
}
