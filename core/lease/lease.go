// Package lease hands out units of work. A unit is offered to a pool. One taker at a time leases it
// from there, and another gets it if the first neither renews nor completes it in time.
//
// A queue is not the truth about the work: the caller that offers a unit knows what has to be done,
// and offers the unit again if the queue was lost. Two takers may get the same unit, if the first
// seemed lost: their work must allow that.
package lease

import (
	"context"
	"errors"
	"time"
)

// MostBytes is how large a unit may be: it names rows, and does not hold them.
const MostBytes = 4 << 10

// Lasts is how long a unit is held unless it is renewed.
const Lasts = 30 * time.Second

var (
	// ErrTooLarge is the error of a unit above MostBytes.
	ErrTooLarge = errors.New("the unit of work is larger than 4 KiB")
	// ErrLost is the error of a lease that has ended: another taker may have the unit.
	ErrLost = errors.New("the lease has ended")
	// ErrFull is the error of a queue that takes no more.
	ErrFull = errors.New("the queue of units is full")
)

// Queue holds units until they are done. All methods may be called from many goroutines.
type Queue interface {
	// Offer adds a unit at the end of a pool, whose name is of letters, digits and hyphens. ErrTooLarge,
	// or ErrFull; any other error says that it may have been added.
	Offer(ctx context.Context, pool string, unit []byte) error
	// Take waits for a unit of a pool and leases it: the oldest that nobody holds.
	Take(ctx context.Context, pool string) (Lease, error)
	// Drop forgets all units of a pool, those that are held too. That there is no such pool is no
	// error.
	Drop(ctx context.Context, pool string) error
}

// Lease is a unit that is held.
type Lease interface {
	// Unit returns what was offered. It must not be changed.
	Unit() []byte
	// Attempt is how often the unit was taken, with this time.
	Attempt() int
	// Renew holds the unit for Lasts from now on. ErrLost if the lease has ended.
	Renew(ctx context.Context) error
	// Done says that the unit is done: nobody gets it any more. ErrLost if the lease has ended.
	Done(ctx context.Context) error
	// Return gives the unit back before its time.
	Return(ctx context.Context) error
}
