package declared

import (
	"cmp"
	"context"
	"sync"
	"time"

	"deftheron/core/store"
)

// batchTime is how long a removal waits for others that go with it.
const batchTime = 5 * time.Millisecond

// batches gathers removals that come together into one request.
type batches struct {
	mu   sync.Mutex
	open *batch
}

// batch is one that is being gathered.
type batch struct {
	asked []any
	ctx   context.Context
	done  chan struct{}
	errs  []error
}

// remove joins a batch and returns what became of this one of it.
func (b *batches) remove(ctx context.Context, a *account, in scope) error {
	most := cmp.Or(a.definition.Remove.Batch.Most, 100)
	b.mu.Lock()
	mine := b.open
	if mine == nil {
		// Not ended by whoever came first: others wait for it as well.
		mine = &batch{done: make(chan struct{}), ctx: context.WithoutCancel(ctx)}
		b.open = mine
		go func() {
			timer := time.NewTimer(batchTime)
			defer timer.Stop()
			<-timer.C
			b.send(a, mine)
		}()
	}
	index := len(mine.asked)
	mine.asked = append(mine.asked, map[string]any(in))
	if len(mine.asked) >= most {
		b.open = nil // it is full; the next one begins another
	}
	b.mu.Unlock()
	select {
	case <-mine.done:
		return mine.errs[index]
	case <-ctx.Done():
		return store.Errorf(store.ErrOutcomeUnknown, "the removal was given up before its answer came: %w", ctx.Err())
	}
}

func (b *batches) send(a *account, batch *batch) {
	b.mu.Lock()
	if b.open == batch {
		b.open = nil
	}
	b.mu.Unlock()
	ctx, cancel := context.WithTimeout(batch.ctx, 2*time.Minute)
	defer cancel()
	batch.errs = a.removeBatch(ctx, batch.asked)
	close(batch.done)
}

// removeBatch sends one request for all and gives each its outcome.
func (a *account) removeBatch(ctx context.Context, asked []any) []error {
	d := a.definition.Remove.Batch
	errs := make([]error, len(asked))
	fail := func(err error) []error {
		for i := range errs {
			errs[i] = err
		}
		return errs
	}
	in := a.fixed()
	in["batch"] = asked
	got, err := a.do(ctx, "removing", &Operation{Step: d.Step}, in, doing{changes: true})
	if err != nil {
		return fail(err)
	}
	count := 0
	err = d.Each.each(ctx, got.input(in), got.body, func(value any) bool {
		if count >= len(errs) {
			count++
			return false
		}
		errs[count] = a.batchOutcome(ctx, d, value, got, asked[count].(map[string]any))
		count++
		return true
	})
	if err != nil {
		return fail(err)
	}
	if count != len(errs) {
		return fail(store.Errorf(store.ErrOutcomeUnknown, "%d removals were asked for in one request, and %d answers came", len(errs), count))
	}
	return errs
}

func (a *account) batchOutcome(ctx context.Context, d *Batch, value any, got *answer, in map[string]any) error {
	input := got.input(scope(in))
	input.Value = value
	status, err := d.Status.run(ctx, input, nil)
	if err != nil {
		return err
	}
	n, _ := intOf(status)
	failed, err := d.Failed.run(ctx, input, n >= 400)
	if err != nil || !truth(failed) {
		return err
	}
	body, err := d.Body.run(ctx, input, value)
	if err != nil {
		return err
	}
	one := &answer{status: int(n), headers: map[string]any{}, header: got.header, url: got.url, body: body}
	return a.failure(ctx, &outgoing{operation: "removing", url: got.url, in: scope(in)}, one)
}
