package compare

import (
	"context"
	"fmt"
	"iter"

	"deftheron/core/store"
)

// readAhead is how many entries of a listing are held ready.
const readAhead = 2000

// cursor is the next entry of a listing.
type cursor struct {
	next   func() (store.Listed, error, bool)
	listed store.Listed
	key    store.Key
	done   bool
	err    error
}

func head(next func() (store.Listed, error, bool)) *cursor {
	c := &cursor{next: next}
	c.advance()
	return c
}

func (c *cursor) advance() {
	listed, err, ok := c.next()
	c.done, c.err = !ok, err
	if ok && err == nil {
		c.listed, c.key = listed, listed.Key()
	}
}

// compare orders two cursors; one that is done comes last.
func (c *cursor) compare(other *cursor) int {
	switch {
	case c.done:
		return 1
	case other.done:
		return -1
	}
	return store.CompareKeys(c.key, c.listed.Kind, other.key, other.listed.Kind)
}

// ordered ends a listing with an error where it is out of order: merged, it
// would show entries as missing that are there.
func ordered(side string, listing iter.Seq2[store.Listed, error]) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		var last store.Key
		var lastKind store.Kind
		first := true
		for listed, err := range listing {
			if err == nil {
				key := listed.Key()
				if !first && store.CompareKeys(last, lastKind, key, listed.Kind) >= 0 {
					err = store.Errorf(store.ErrRefused, "the %s lists %q after %q, which is out of order", side, key, last)
				}
				last, lastKind, first = key, listed.Kind, false
			}
			if !yield(listed, err) || err != nil {
				return
			}
		}
	}
}

// ahead reads a listing in a goroutine of its own, which has ended when the
// iteration has.
func ahead(ctx context.Context, listing Listing) iter.Seq2[store.Listed, error] {
	type result struct {
		listed store.Listed
		err    error
	}
	return func(yield func(store.Listed, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		results := make(chan result, readAhead)
		finished := make(chan struct{})
		defer func() {
			cancel()
			<-finished
		}()
		go func() {
			defer close(finished)
			defer close(results)
			for listed, err := range listing(ctx) {
				select {
				case results <- result{listed, err}:
				case <-ctx.Done():
					return
				}
			}
		}()
		for r := range results {
			if !yield(r.listed, r.err) {
				return
			}
		}
		if ctx.Err() != nil {
			yield(store.Listed{}, fmt.Errorf("the listing was stopped: %w", ctx.Err()))
		}
	}
}

// NoPairs is an empty memory.
func NoPairs(func(Pair, error) bool) {}

// OneFile is the listing of a single file. Its key is empty, because keys are relative
// to it.
func OneFile(entry *store.Entry) Listing {
	return func(context.Context) iter.Seq2[store.Listed, error] { return oneFile(entry) }
}

func oneFile(entry *store.Entry) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		if entry != nil {
			one := *entry
			one.Name = ""
			yield(store.Listed{Entry: one}, nil)
		}
	}
}

// OrEmpty takes a folder that is not there for an empty one: the target of a
// first run is made by it.
func OrEmpty(listing Listing) Listing {
	return func(ctx context.Context) iter.Seq2[store.Listed, error] {
		return func(yield func(store.Listed, error) bool) {
			first := true
			for listed, err := range listing(ctx) {
				if first && store.KindOf(err) == store.ErrNotFound {
					return
				}
				first = false
				if !yield(listed, err) {
					return
				}
			}
		}
	}
}
