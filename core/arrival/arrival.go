// Package arrival finds the files and folders that arrive at a source, and says when each is
// complete.
package arrival

import (
	"context"
	"time"

	"deftheron/core/store"
)

// State is how far an arrival has come.
type State string

// The states of an arrival.
const (
	// There: it was at the source before arrivals were looked for.
	There State = "there"
	// Resting: it may not be complete yet.
	Resting State = "resting"
	// Ready: it is complete, and waits for its run.
	Ready State = "ready"
	// Taken: a run was started for it.
	Taken State = "taken"
)

// Incoming is the record of a file or folder that arrived. The key of a folder ends with a
// slash.
type Incoming struct {
	Job   string // the id of the job
	Route int
	Key   store.Key // below the source of the route
	Mark  string    // tells one content from another
	Since time.Time // when it was first seen with this mark
	State State
	Run   string // the last run that was started for it
	Size  int64  // in bytes; of a folder, all files that match
}

// see returns the record after the entry was seen with a mark and a size. It is ready if
// its mark has not changed for the duration rest.
func (a Incoming) see(mark string, size int64, now time.Time, rest time.Duration) Incoming {
	a.Size = size
	if a.Mark != mark {
		a.Mark, a.Since, a.State = mark, now, Resting
		return a
	}
	if now.Sub(a.Since) >= rest {
		a.State = Ready
	}
	return a
}

// Records store arrivals.
type Records interface {
	// Incoming returns one arrival, and false if nothing is recorded of it.
	Incoming(ctx context.Context, job string, route int, key store.Key) (Incoming, bool, error)
	// IncomingAfter returns the arrivals of a route after a key (nil: from the first), in
	// the order of keys.
	IncomingAfter(ctx context.Context, job string, route int, after *store.Key, most int) ([]Incoming, error)
	// IncomingIn returns arrivals of a job in a state, the one that has waited longest first.
	IncomingIn(ctx context.Context, job string, state State, most int) ([]Incoming, error)
	SaveIncoming(ctx context.Context, all []Incoming) error
	ForgetIncoming(ctx context.Context, all []Incoming) error
}
