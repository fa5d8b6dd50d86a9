package run_test

import (
	"errors"
	"slices"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/run"
)

var states = append(run.Open(), run.Done, run.Partial, run.Failed, run.Cancelled)

var events = []run.Event{
	run.Pause, run.Resume, run.Approve, run.Cancel, run.Retry,
	run.Begin, run.Await, run.Hold, run.Complete, run.FallShort, run.Fail, run.End,
}

// TestNext holds each state and event to the state that follows; what is not in the table
// is not possible, and changes nothing.
func TestNext(t *testing.T) {
	type step struct {
		state run.State
		event run.Event
	}
	want := map[step]run.State{
		{run.Paused, run.Pause}: run.Paused, {run.Paused, run.Resume}: run.Queued, {run.Paused, run.Cancel}: run.Queued,
		{run.Held, run.Resume}: run.Queued, {run.Held, run.Approve}: run.Queued, {run.Held, run.Cancel}: run.Queued,
		{run.Partial, run.Retry}: run.Queued, {run.Failed, run.Retry}: run.Queued, {run.Cancelled, run.Retry}: run.Queued,
		{run.Queued, run.Cancel}: run.Queued, {run.Running, run.Cancel}: run.Running,
	}
	for _, state := range []run.State{run.Queued, run.Running} {
		want[step{state, run.Begin}], want[step{state, run.Await}] = run.Running, run.Queued
		want[step{state, run.Pause}], want[step{state, run.Hold}] = run.Paused, run.Held
		want[step{state, run.Complete}], want[step{state, run.FallShort}] = run.Done, run.Partial
		want[step{state, run.Fail}], want[step{state, run.End}] = run.Failed, run.Cancelled
	}
	for _, state := range states {
		for _, event := range events {
			got, err := run.Next(state, event)
			after, possible := want[step{state, event}]
			var not *run.NotPossible
			switch {
			case possible && (err != nil || got != after):
				t.Errorf("%s of %s leads to %s, %v; want %s", event, state, got, err, after)
			case !possible && (got != state || !errors.As(err, &not) || not.State != state || not.Event != event):
				t.Errorf("%s of %s is possible, and leads to %s, %v", event, state, got, err)
			}
			if slices.Contains(run.Before(event), state) != possible {
				t.Errorf("%s before %s is told wrong: %v", state, event, run.Before(event))
			}
		}
	}
}

// TestEveryStateEnds has each open state lead to an ended one, and every ended one but
// done back.
func TestEveryStateEnds(t *testing.T) {
	for _, first := range states {
		reached := map[run.State]bool{first: true}
		for range states {
			for state := range reached {
				for _, event := range events {
					if after, err := run.Next(state, event); err == nil {
						reached[after] = true
					}
				}
			}
		}
		if want := len(states); first != run.Done && len(reached) != want {
			t.Errorf("%s leads to %d states, want %d: %v", first, len(reached), want, reached)
		}
		if first == run.Done && len(reached) != 1 {
			t.Errorf("done leads on to %v", reached)
		}
		if open := slices.Contains(run.Open(), first); first.Ended() == open {
			t.Errorf("%s has ended: %v", first, first.Ended())
		}
	}
}

// TestActions says what people can do in each state.
func TestActions(t *testing.T) {
	for state, want := range map[run.State][]run.Event{
		run.Queued:    {run.Pause, run.Cancel},
		run.Running:   {run.Pause, run.Cancel},
		run.Paused:    {run.Resume, run.Cancel},
		run.Held:      {run.Approve, run.Resume, run.Cancel},
		run.Done:      nil,
		run.Partial:   {run.Retry},
		run.Failed:    {run.Retry},
		run.Cancelled: {run.Retry},
	} {
		if got := run.Actions(state); !slices.Equal(got, want) || got == nil {
			t.Errorf("of a run that is %s: %v, want %v", state, got, want)
		}
	}
	if run.Can(run.Done, run.Pause) || !run.Can(run.Held, run.Approve) {
		t.Error("what can be done is told wrong")
	}
}

// TestNeeds holds every cause to what a held run needs for it.
func TestNeeds(t *testing.T) {
	special := map[plan.Cause]run.Need{
		plan.CauseSafety: run.NeedsApproval, plan.CauseEmptied: run.NeedsApproval, plan.CauseRolledBack: run.NeedsApproval,
		plan.CauseAsk: run.NeedsDecision, plan.CauseNoSpace: run.NeedsSpace,
	}
	for _, cause := range plan.Causes() {
		want, ok := special[cause]
		if !ok {
			want = run.NeedsAccount
		}
		if got := run.Needs(run.Held, cause); got != want || got.OfPerson() != (want == run.NeedsApproval || want == run.NeedsDecision) {
			t.Errorf("held for %s needs %q, want %q", cause, got, want)
		}
		if got := run.Needs(run.Failed, cause); got != run.NeedsNothing {
			t.Errorf("failed for %s needs %q", cause, got)
		}
	}
}

// TestEventOf has the outcomes of work told as events.
func TestEventOf(t *testing.T) {
	for _, state := range []run.State{run.Held, run.Done, run.Partial, run.Failed, run.Cancelled} {
		event, ok := run.EventOf(state)
		if after, err := run.Next(run.Running, event); !ok || err != nil || after != state {
			t.Errorf("%s comes of %q, and that leads to %s, %v", state, event, after, err)
		}
	}
	if event, ok := run.EventOf("unheard of"); ok {
		t.Errorf("an unknown state comes of %q", event)
	}
}
