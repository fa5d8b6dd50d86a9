// Package stream keeps units of work in a stream of NATS JetStream: of the message server that the
// service embeds, or of one outside.
package stream

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"deftheron/core/lease"
)

// Options are what a stream is opened with.
type Options struct {
	// Name is of letters, digits and hyphens, and of this service alone.
	Name string
	// Lasts is how long a unit is held unless it is renewed; 0 is lease.Lasts.
	Lasts time.Duration
	// Replicas is on how many servers of a cluster the stream is kept; 0 is 1.
	Replicas int
}

// Queue is a lease.Queue. One process takes from it.
type Queue struct {
	js      jetstream.JetStream
	stream  jetstream.Stream
	options Options

	mu        sync.Mutex
	consumers map[string]jetstream.Consumer // by pool
	held      map[*held]bool
}

const (
	// mostBytes is how much the stream holds: units name rows, and there are few more than takers.
	mostBytes = 64 << 20
	// answerTime is how long the server may take to answer, and offerTime to keep a unit.
	answerTime, offerTime = 10 * time.Second, 5 * time.Second
	// pollTime is how long a request for a unit waits at the server, and brokenWait how long it is waited
	// after one that failed, at most brokenFor.
	pollTime, brokenWait, brokenFor = 2 * time.Second, 250 * time.Millisecond, 15 * time.Second
)

// Open opens the stream of a service, empty: what was offered before is not the truth any more.
func Open(ctx context.Context, connection *nats.Conn, options Options) (*Queue, error) {
	if options.Lasts == 0 {
		options.Lasts = lease.Lasts
	}
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	js, err := jetstream.New(connection)
	if err != nil {
		return nil, err
	}
	if err := js.DeleteStream(ctx, options.Name); err != nil && !errors.Is(err, jetstream.ErrStreamNotFound) {
		return nil, fmt.Errorf("delete the stream of the last start: %w", err)
	}
	kept, err := js.CreateStream(ctx, jetstream.StreamConfig{
		Name: options.Name, Subjects: []string{options.Name + ".*"}, Retention: jetstream.WorkQueuePolicy, Discard: jetstream.DiscardNew,
		MaxBytes: mostBytes, MaxMsgSize: lease.MostBytes + 1<<10, Replicas: max(1, options.Replicas),
	})
	if err != nil {
		return nil, fmt.Errorf("create the stream of units: %w", err)
	}
	return &Queue{js: js, stream: kept, options: options, consumers: map[string]jetstream.Consumer{}, held: map[*held]bool{}}, nil
}

// Close deletes the stream.
func (q *Queue) Close(ctx context.Context) error { return q.js.DeleteStream(ctx, q.options.Name) }

// Offer implements lease.Queue.
func (q *Queue) Offer(ctx context.Context, pool string, unit []byte) error {
	if len(unit) > lease.MostBytes {
		return lease.ErrTooLarge
	}
	ctx, cancel := context.WithTimeout(ctx, offerTime)
	defer cancel()
	_, err := q.js.Publish(ctx, q.options.Name+"."+pool, unit)
	var refused *jetstream.APIError
	if errors.As(err, &refused) && isFull(refused.ErrorCode) {
		err = fmt.Errorf("%w: %w", lease.ErrFull, err)
	}
	return err
}

// isFull reports whether a code of JetStream's says that nothing more is stored.
func isFull(code jetstream.ErrorCode) bool {
	const (
		insufficientResources = 10023
		memoryExceeded        = 10028
		storageExceeded       = 10047
		storeFailed           = 10077
	)
	return code == insufficientResources || code == memoryExceeded || code == storageExceeded || code == storeFailed
}

// consumer returns what takes from a pool.
func (q *Queue) consumer(ctx context.Context, pool string) (jetstream.Consumer, error) {
	q.mu.Lock()
	known := q.consumers[pool]
	q.mu.Unlock()
	if known != nil {
		return known, nil
	}
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	made, err := q.stream.CreateOrUpdateConsumer(ctx, jetstream.ConsumerConfig{
		Durable: pool, FilterSubject: q.options.Name + "." + pool, AckPolicy: jetstream.AckExplicitPolicy, AckWait: q.options.Lasts,
		MaxAckPending: -1, InactiveThreshold: time.Hour,
	})
	if err != nil {
		return nil, err
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.consumers[pool] = made
	return made, nil
}

// Take implements lease.Queue. The error comes from ctx, or from a server that has not answered for some
// time.
func (q *Queue) Take(ctx context.Context, pool string) (lease.Lease, error) {
	var since time.Time // it has been failing
	for {
		taken, err := q.next(ctx, pool)
		switch {
		case taken != nil:
			return taken, nil
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err == nil:
			since = time.Time{}
			continue
		case since.IsZero():
			since = time.Now()
		case time.Since(since) > brokenFor:
			return nil, err
		}
		q.mu.Lock()
		delete(q.consumers, pool) // the server may have lost it
		q.mu.Unlock()
		select {
		case <-time.After(brokenWait):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// next asks for a unit once; nil where there is none.
func (q *Queue) next(ctx context.Context, pool string) (*held, error) {
	from, err := q.consumer(ctx, pool)
	if err != nil {
		return nil, err
	}
	type answer struct {
		message jetstream.Msg
		err     error
	}
	answers := make(chan answer, 1)
	go func() {
		message, err := from.Next(jetstream.FetchMaxWait(pollTime))
		answers <- answer{message, err}
	}()
	select {
	case got := <-answers:
		if none := errors.Is(got.err, nats.ErrTimeout) || errors.Is(got.err, jetstream.ErrNoMessages); none && q.js.Conn().IsConnected() {
			return nil, nil
		}
		if got.err != nil {
			return nil, got.err
		}
		return q.hold(pool, got.message), nil
	case <-ctx.Done():
		go func() { // a unit that comes too late is for somebody else
			if got := <-answers; got.err == nil {
				_ = got.message.Nak()
			}
		}()
		return nil, ctx.Err()
	}
}

// held is a lease.
type held struct {
	queue   *Queue
	pool    string
	message jetstream.Msg
	attempt int
	number  uint64    // of the unit in the stream
	until   time.Time // Queue.mu guards it
}

func (q *Queue) hold(pool string, message jetstream.Msg) *held {
	h := &held{queue: q, pool: pool, message: message, attempt: 1}
	if about, err := message.Metadata(); err == nil {
		h.attempt, h.number = int(about.NumDelivered), about.Sequence.Stream
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	now := time.Now()
	for other := range q.held { // what nobody has ended, and what the server has given to this one
		if now.After(other.until) || other.number == h.number {
			delete(q.held, other)
		}
	}
	h.until = now.Add(q.options.Lasts)
	q.held[h] = true
	return h
}

// Unit implements lease.Lease.
func (h *held) Unit() []byte { return h.message.Data() }

// Attempt implements lease.Lease.
func (h *held) Attempt() int { return h.attempt }

// still reports whether the lease has not ended, and ends it if wanted.
func (h *held) still(end bool) error {
	h.queue.mu.Lock()
	defer h.queue.mu.Unlock()
	if !h.queue.held[h] || time.Now().After(h.until) {
		delete(h.queue.held, h)
		return lease.ErrLost
	}
	if end {
		delete(h.queue.held, h)
	} else {
		h.until = time.Now().Add(h.queue.options.Lasts)
	}
	return nil
}

// Renew implements lease.Lease.
func (h *held) Renew(context.Context) error {
	if err := h.still(false); err != nil {
		return err
	}
	return h.message.InProgress()
}

// Done implements lease.Lease. The server is not waited for: a word that it does not get has the unit
// come again, which whoever takes it knows to be done.
func (h *held) Done(context.Context) error {
	if err := h.still(true); err != nil {
		return err
	}
	return h.message.Ack()
}

// Return implements lease.Lease.
func (h *held) Return(context.Context) error {
	if err := h.still(true); err != nil {
		return err
	}
	return h.message.Nak()
}

// Drop implements lease.Queue.
func (q *Queue) Drop(ctx context.Context, pool string) error {
	q.mu.Lock()
	for h := range q.held {
		if h.pool == pool {
			delete(q.held, h)
		}
	}
	delete(q.consumers, pool)
	q.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	err := q.stream.Purge(ctx, jetstream.WithPurgeSubject(q.options.Name+"."+pool))
	if gone := q.stream.DeleteConsumer(ctx, pool); gone != nil && !errors.Is(gone, jetstream.ErrConsumerNotFound) {
		err = errors.Join(err, gone)
	}
	if errors.Is(err, jetstream.ErrStreamNotFound) {
		return nil
	}
	return err
}
