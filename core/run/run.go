// Package run is the life of a run: its states, what can happen to it in each of them,
// and what becomes of it then. [Next] alone decides a state; [Actions] and [Needs] tell
// what people can do, and have to do, about a run.
package run

import (
	"fmt"
	"slices"

	"deftheron/core/plan"
)

// State is the state of a run, as the records keep it and clients see it.
type State string

// The states of a run.
const (
	Queued  State = "queued"  // waits for its turn, or for an account
	Running State = "running" // works; over restarts of the service too
	Paused  State = "paused"  // until somebody resumes it, or the hours of its job begin
	Held    State = "held"    // until a person has decided, or what it lacks is there again

	Done      State = "done"
	Partial   State = "partial" // some of its items failed
	Failed    State = "failed"
	Cancelled State = "cancelled"
)

// Open are the states of a run that has not ended.
func Open() []State { return []State{Queued, Running, Paused, Held} }

// Ended reports whether a run in the state does no more unless it is tried again.
func (s State) Ended() bool { return s == Done || s == Partial || s == Failed || s == Cancelled }

// Waits reports whether a run in the state waits for somebody, and nothing works on it.
func (s State) Waits() bool { return s == Paused || s == Held }

// Event is what happens to a run.
type Event string

// What people ask for, or the timetable of a job does.
const (
	Pause   Event = "pause"
	Resume  Event = "resume"
	Approve Event = "approve" // what it was held for is right
	Cancel  Event = "cancel"  // it works on until it has left nothing half done
	Retry   Event = "retry"   // what failed, or was left
)

// What comes of the work itself.
const (
	Begin     Event = "begin"      // its accounts are open
	Await     Event = "await"      // none of its accounts answers for now
	Hold      Event = "hold"       // it cannot go on without a person
	Complete  Event = "complete"   // all was done
	FallShort Event = "fall-short" // all was tried, and some of it failed
	Fail      Event = "fail"
	End       Event = "end" // it was cancelled, and has ended
)

// working are the events of a run that is worked on. The service may stop in between:
// that changes no state, and the run begins again when the service does.
var working = map[Event]State{
	Begin: Running, Await: Queued, Pause: Paused, Hold: Held,
	Complete: Done, FallShort: Partial, Fail: Failed, End: Cancelled,
}

// asleep are the transitions of a run that nothing works on. A cancelled run is worked on
// once more, to remove what it left half done.
var asleep = map[Event]State{Resume: Queued, Cancel: Queued}

var next = map[State]map[Event]State{
	Queued:    with(working, Cancel, Queued),
	Running:   with(working, Cancel, Running),
	Paused:    with(asleep, Pause, Paused),
	Held:      with(asleep, Approve, Queued),
	Done:      {},
	Partial:   {Retry: Queued},
	Failed:    {Retry: Queued},
	Cancelled: {Retry: Queued},
}

func with(events map[Event]State, event Event, state State) map[Event]State {
	all := map[Event]State{event: state}
	for one, after := range events {
		all[one] = after
	}
	return all
}

// Next returns the state of a run after an event. The error is a [*NotPossible] where the
// event cannot happen in the state.
func Next(state State, event Event) (State, error) {
	after, ok := next[state][event]
	if !ok {
		return state, &NotPossible{state, event}
	}
	return after, nil
}

// Before returns the states in which an event is possible, in the order of a life.
func Before(event Event) (states []State) {
	for _, state := range append(Open(), Done, Partial, Failed, Cancelled) {
		if _, ok := next[state][event]; ok {
			states = append(states, state)
		}
	}
	return states
}

// EventOf returns the event by which the work of a run leads to a state.
func EventOf(state State) (event Event, ok bool) {
	for event, after := range working {
		if after == state {
			return event, true
		}
	}
	return "", false
}

// NotPossible is the error of an event that cannot happen to a run in its state.
type NotPossible struct {
	State State
	Event Event
}

// Error implements error.
func (n *NotPossible) Error() string { return fmt.Sprintf("%s of a run that is %s", n.Event, n.State) }

// Actions returns what people can do about a run in a state, the most likely first;
// never nil.
func Actions(state State) []Event {
	actions := []Event{}
	for _, event := range []Event{Approve, Resume, Pause, Retry, Cancel} {
		if after, ok := next[state][event]; ok && (after != state || event == Cancel) {
			actions = append(actions, event)
		}
	}
	return actions
}

// Can reports whether people can do something about a run in a state.
func Can(state State, action Event) bool { return slices.Contains(Actions(state), action) }

// Need is what a held run needs before it can go on.
type Need string

// What a held run needs.
const (
	NeedsNothing  Need = ""
	NeedsApproval Need = "approval" // a safety limit was reached
	NeedsDecision Need = "decision" // both sides of some files had changed
	NeedsSpace    Need = "space"    // at the target; it continues when there is some
	NeedsAccount  Need = "account"  // an account has to be signed in to, or what is wrong with it mended
)

// Needs returns what a run in a state needs, which is held for a cause.
func Needs(state State, cause plan.Cause) Need {
	switch {
	case state != Held:
		return NeedsNothing
	case cause.IsSafety():
		return NeedsApproval
	case cause == plan.CauseAsk:
		return NeedsDecision
	case cause == plan.CauseNoSpace:
		return NeedsSpace
	}
	return NeedsAccount
}

// OfPerson reports whether a person has to decide, rather than something be mended.
func (n Need) OfPerson() bool { return n == NeedsApproval || n == NeedsDecision }
