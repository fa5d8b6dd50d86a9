package runner

import (
	"context"
	"sync"
	"sync/atomic"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/transfer"
	"deftheron/service/records"
	"deftheron/service/workers"
)

// active is a run that has not ended. What changes of it is owned by one goroutine:
// everybody else asks for it, and has it changed, by do.
type active struct {
	id        string
	cancel    context.CancelCauseFunc
	bandwidth bandwidth.Limiter
	share     *gate.Share
	ended     chan struct{}
	// stop is closed when a run that goes on for good is to end.
	stop     chan struct{}
	stopOnce sync.Once
	watching atomic.Bool // it has done all, and waits for changes
	moving   atomic.Bool // it has one of the turns
	recorder atomic.Pointer[recorder]
	crew     atomic.Pointer[workers.Crew] // nil where no workers copy for it

	mail chan func(*runState)
	over chan struct{} // closed when nobody owns the state any more
	last runState      // as it was then
}

// runState is what changes of an active run.
type runState struct {
	row    records.Run
	run    *transfer.Run // nil until its accounts are open
	watch  *watch
	before transfer.Snapshot // what it had come to when it was taken up
	paused bool
	resume bool // it is to go on as soon as it is paused
	// pauseCause and pauseWhy say why the run is paused if no person paused it.
	pauseCause plan.Cause
	pauseWhy   string
	aside      bool // it stops for a change of an account, and goes on after that
}

// newActive returns a run whose state is owned until end is closed.
func newActive(row records.Run, cancel context.CancelCauseFunc, end <-chan struct{}) *active {
	a := &active{
		id: row.ID, cancel: cancel, ended: make(chan struct{}), stop: make(chan struct{}), share: gate.NewShare(row.Rules.Priority.Weight()),
		mail: make(chan func(*runState)), over: make(chan struct{}),
	}
	a.bandwidth.Set(row.Rules.Bandwidth)
	go a.own(runState{row: row}, end)
	return a
}

func (a *active) own(state runState, end <-chan struct{}) {
	defer close(a.over)
	for {
		select {
		case do := <-a.mail:
			do(&state)
		case <-end:
			a.last = state
			return
		}
	}
}

// do calls what with the state, and returns when that has returned. It must not be called
// from within what. Changes of a run that has ended are lost.
func (a *active) do(what func(*runState)) {
	done := make(chan struct{})
	select {
	case a.mail <- func(state *runState) {
		defer close(done)
		what(state)
	}:
		<-done
	case <-a.over:
		last := a.last
		what(&last)
	}
}

// now returns the state.
func (a *active) now() (state runState) {
	a.do(func(s *runState) { state = *s })
	return state
}
