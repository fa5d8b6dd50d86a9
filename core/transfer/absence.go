package transfer

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
)

// The routes of a run are independent. If the account of one is away, or waits for a
// person, its queued items stay queued while the other routes are done. Then the run
// waits for the accounts that are away, and does the rest when they are back. An account
// that waits for a person holds the run, but only when everything else is done.

// usualWithin is how long a run waits for accounts that are away, unless its rules set it.
const usualWithin = 2 * time.Hour

// longestWait is the longest interval between two attempts to reach an account that is away.
const longestWait = 30 * time.Second

// absence is a route that cannot be worked on for now.
type absence struct {
	account string
	since   time.Time
	reason  stopReason
	person  bool // it waits for a person
}

// Away is an account that a run waits for.
type Away struct {
	Account string     `json:"account"`
	Since   time.Time  `json:"since"`
	Until   time.Time  `json:"until"`
	Why     string     `json:"why"`
	Cause   plan.Cause `json:"cause"`
}

// routeStates holds the states of a run's routes, by their numbers. A route that leads
// back shares the state of the route before it.
type routeStates struct {
	mu     sync.Mutex
	absent map[int]*absence
	// begun holds the routes that are prepared, and listed those that are queued completely.
	begun, listed map[int]bool
	places        map[int]*position // how far the listing of this pass came
	// whole holds the routes that are listed completely, whatever has changed.
	whole  map[int]bool
	probes map[string]*probe // by account
}

type probe struct {
	at  time.Time
	err error
}

// forward is the number of the route that a route leads back of, or its own.
func (r *Run) forward(i int) int {
	if r.Routes[i].Back {
		return i - 1
	}
	return i
}

// number returns the number of a route among the routes that do not lead back.
func (r *Run) number(i int) (n int) {
	for _, route := range r.Routes[:i] {
		if !route.Back {
			n++
		}
	}
	return n
}

// absentOf returns why a route is left alone; nil where it is not.
func (r *Run) absentOf(i int) *absence {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	return r.states.absent[r.forward(i)]
}

// mayTake reports whether an item can be worked on: its route is there, and where it
// overwrites something or removes, all of the route was listed.
func (r *Run) mayTake(item *Item) bool {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	i := r.forward(item.Route)
	return r.states.absent[i] == nil && (r.states.listed[i] || item.Action.Phase(item.Kind) == plan.PhaseCreate)
}

func (r *Run) isListed(i int) bool {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	return r.states.listed[i]
}

func (r *Run) setListed(i int, listed bool) {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	r.states.listed[i] = listed
	if !listed {
		delete(r.states.places, i)
	}
}

// placeOf is how far the listing of a route came in this pass.
func (r *Run) placeOf(i int) *position {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	if r.states.places[i] == nil {
		r.states.places[i] = &position{}
	}
	return r.states.places[i]
}

// leaveRoute leaves a route alone, where an error says that one of its accounts is away,
// or waits for a person. It reports whether it does.
func (r *Run) leaveRoute(ctx context.Context, i int, err error) bool {
	if err == nil || ctx.Err() != nil {
		return false
	}
	i = r.forward(i)
	one := &absence{since: time.Now(), reason: stopReason{cause: plan.CauseOf(err), why: err.Error()}}
	switch {
	case store.WaitsForPerson(err):
		one.person = true
	case store.KindOf(err) == store.ErrTryAgain:
		side, why := r.isAway(ctx, r.Routes[i])
		if why == nil {
			return false
		}
		one.account, one.reason = side.Account, stopReason{cause: plan.CauseOf(why), why: why.Error()}
	default:
		return false
	}
	r.states.mu.Lock()
	known := r.states.absent[i] != nil
	if !known {
		r.states.absent[i] = one
	}
	r.states.mu.Unlock()
	if !known {
		r.Log.Warn("a route is suspended for now", "run", r.ID, "source", r.Routes[i].Source.Address.String(), "target",
			r.Routes[i].Target.Address.String(), "why", one.reason.why)
		r.showAway()
	}
	return true
}

// isAway looks whether an account of a route does not answer at all, and returns which,
// and why. What it finds holds for a second.
func (r *Run) isAway(ctx context.Context, route Route) (Side, error) {
	for _, side := range []Side{route.Source, route.Target} {
		r.states.mu.Lock()
		known := r.states.probes[side.Account]
		r.states.mu.Unlock()
		if known == nil || time.Since(known.at) > time.Second {
			probing, cancel := context.WithTimeout(ctx, longestWait)
			// Of the start some stores tell without asking.
			_, err := side.Store.Stat(probing, store.At(store.OwnFolder).As(store.KindFolder))
			if errors.Is(err, context.DeadlineExceeded) {
				err = store.Errorf(store.ErrTryAgain, "/%s did not answer within %v: %w", side.Account, longestWait, err)
			}
			cancel()
			known = &probe{time.Now(), err}
			if ctx.Err() != nil {
				return side, nil
			}
			r.states.mu.Lock()
			r.states.probes[side.Account] = known
			r.states.mu.Unlock()
		}
		if kind := store.KindOf(known.err); kind == store.ErrTryAgain || kind == store.ErrOutcomeUnknown || store.WaitsForPerson(known.err) {
			return side, known.err
		}
	}
	return Side{}, nil
}

// isThere reports whether the accounts of a route answer.
func (r *Run) isThere(ctx context.Context, i int) bool {
	_, err := r.isAway(ctx, r.Routes[i])
	return err == nil
}

// WaitsWithin returns how long a run with these rules waits for accounts that are away.
func WaitsWithin(rules plan.Rules) time.Duration {
	if rules.Within > 0 {
		return rules.Within
	}
	return usualWithin
}

func (r *Run) within() time.Duration { return WaitsWithin(r.Rules) }

// awaitRoutes waits until an account that is away is back, and reports whether one is. If
// it reports false, the time is over and the run must end; or the run waits for persons
// alone, and must be held.
func (r *Run) awaitRoutes(ctx context.Context) bool {
	for wait := r.Retry.After(2); ; wait = min(2*wait, longestWait) {
		returned := r.comeback()
		r.states.mu.Lock()
		var away []int
		var first *absence
		for i, one := range r.states.absent {
			if !one.person {
				away = append(away, i)
			}
			if first == nil || one.since.Before(first.since) {
				first = one
			}
		}
		r.states.mu.Unlock()
		slices.Sort(away)
		switch {
		case first == nil:
			return false
		case len(away) == 0:
			r.leave(first.reason)
			return false
		}
		for _, i := range away {
			if r.comesBack(ctx, i) {
				return true
			}
			r.states.mu.Lock()
			one := r.states.absent[i]
			r.states.mu.Unlock()
			if one != nil && !one.person && time.Since(one.since) > r.within() {
				r.planErr = store.Errorf(store.ErrTryAgain, "%s and %s could not be worked on for %v: %s", r.Routes[i].Source.Address,
					r.Routes[i].Target.Address, r.within(), one.reason.why)
				return false
			}
		}
		timer := time.NewTimer(max(wait, time.Millisecond))
		select {
		case <-timer.C:
		case <-returned:
			timer.Stop()
		case <-ctx.Done():
			timer.Stop()
			return false
		}
	}
}

// comeback returns a channel that is closed when accounts may be back; nil if nobody says so.
func (r *Run) comeback() <-chan struct{} {
	if r.Returned == nil {
		return nil
	}
	return r.Returned()
}

// comesBack looks whether the accounts of a route answer again.
func (r *Run) comesBack(ctx context.Context, i int) bool {
	r.states.mu.Lock()
	r.states.probes = map[string]*probe{}
	r.states.mu.Unlock()
	var err error
	if r.Open != nil {
		var opened Route
		if opened, err = r.Open(ctx, r.number(i)); err == nil {
			r.reopen(i, opened)
		}
	}
	if err == nil {
		_, err = r.isAway(ctx, r.Routes[i])
	}
	r.states.mu.Lock()
	one := r.states.absent[i]
	switch {
	case err == nil:
		delete(r.states.absent, i)
	case one != nil:
		one.reason = stopReason{cause: plan.CauseOf(err), why: err.Error()}
		one.person = store.WaitsForPerson(err)
	}
	r.states.mu.Unlock()
	r.showAway()
	if err == nil {
		r.Log.Info("a route continues", "run", r.ID, "source", r.Routes[i].Source.Address.String(), "target",
			r.Routes[i].Target.Address.String())
	}
	return err == nil
}

// reopen replaces the accounts of a route by those that are open now.
func (r *Run) reopen(i int, opened Route) {
	r.change(i, func(route, first *Route) {
		if route != first {
			route.Source, route.Target = first.Target, first.Source
			return
		}
		route.Unopened = nil
		route.Source.Store, route.Source.Gate = opened.Source.Store, opened.Source.Gate
		route.Target.Store, route.Target.Gate = opened.Target.Store, opened.Target.Gate
	})
}

// change changes a route, and after it the one that leads back, if there is one. first is
// the route itself.
func (r *Run) change(i int, how func(route, first *Route)) {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	how(&r.Routes[i], &r.Routes[i])
	if i+1 < len(r.Routes) && r.Routes[i+1].Back {
		how(&r.Routes[i+1], &r.Routes[i])
	}
}

// routesNow returns the routes as they are open now. It is safe to call while one of them is
// opened again.
func (r *Run) routesNow() []Route {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	return slices.Clone(r.Routes)
}

// someAbsent reports whether any route is left alone.
func (r *Run) someAbsent() bool {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	return len(r.states.absent) > 0
}

// showAway shows in the progress which accounts the run waits for.
func (r *Run) showAway() {
	r.states.mu.Lock()
	defer r.states.mu.Unlock()
	var away []Away
	for i, one := range r.states.absent {
		account := one.account
		if account == "" {
			account = fmt.Sprintf("%s or %s", r.Routes[i].Source.Account, r.Routes[i].Target.Account)
		}
		shown := Away{Account: account, Since: one.since, Why: one.reason.why, Cause: one.reason.cause}
		if !one.person {
			shown.Until = one.since.Add(r.within())
		}
		away = append(away, shown)
	}
	slices.SortFunc(away, func(a, b Away) int { return a.Since.Compare(b.Since) })
	r.progress.away.Store(&away)
}
