package arrival

import (
	"context"
	"time"

	"deftheron/core/store"
)

// batch is how many arrivals are recorded or forgotten at a time.
const batch = 500

// Scan compares the whole source with the records. New entries get the state new, and the
// records of missing ones are removed. It returns how many arrivals are new or changed.
func (s Source) Scan(ctx context.Context, records Records, new State) (total int, err error) {
	var changed, gone []Incoming
	flush := func(least int) error {
		if len(changed) > least {
			if err := records.SaveIncoming(ctx, changed); err != nil {
				return err
			}
			total += len(changed)
			changed = changed[:0]
		}
		if len(gone) > least {
			if err := records.ForgetIncoming(ctx, gone); err != nil {
				return err
			}
			gone = gone[:0]
		}
		return nil
	}
	recorded := recorded{source: s, records: records}
	err = s.Each(ctx, "", func(now Found) error {
		before, passed, err := recorded.at(ctx, now.Key)
		if err != nil {
			return err
		}
		gone = append(gone, passed...)
		if after, ok := s.seen(before, now, new); ok {
			changed = append(changed, after)
		}
		return flush(batch)
	})
	if err != nil {
		return total, err // what was not listed is not gone
	}
	for {
		rest, err := recorded.rest(ctx, batch)
		if err != nil {
			return total, err
		}
		if gone = append(gone, rest...); len(rest) == 0 {
			err := flush(0)
			return total, err
		}
		if err := flush(batch); err != nil {
			return total, err
		}
	}
}

// LookAt compares the entries at a path and below it with the records.
func (s Source) LookAt(ctx context.Context, records Records, path store.Path) error {
	var changed []Incoming
	err := s.Each(ctx, path, func(now Found) error {
		before, known, err := records.Incoming(ctx, s.Job, s.Route, now.Key)
		if err != nil {
			return err
		}
		var recorded *Incoming
		if known {
			recorded = &before
		}
		if after, ok := s.seen(recorded, now, Resting); ok {
			changed = append(changed, after)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return records.SaveIncoming(ctx, changed)
}

// seen returns the new record of an entry that was found; false if it does not change. new is
// the state of entries without a record.
func (s Source) seen(before *Incoming, now Found, new State) (after Incoming, ok bool) {
	if before == nil {
		return s.incoming(now, new), true
	}
	if before.Mark == now.mark {
		return *before, false
	}
	after = s.incoming(now, Resting)
	after.Run = before.Run
	return after, true
}

func (s Source) incoming(now Found, state State) Incoming {
	return Incoming{Job: s.Job, Route: s.Route, Key: now.Key, Mark: now.mark, Since: time.Now(), State: state, Size: now.Size}
}

// Announce records that an entry is complete, and returns its record. The record does not
// change if the entry is already ready, or taken, with the same content: each arrives once.
func (s Source) Announce(ctx context.Context, records Records, now Found) (Incoming, error) {
	before, known, err := records.Incoming(ctx, s.Job, s.Route, now.Key)
	if err != nil {
		return Incoming{}, err
	}
	if known && before.Mark == now.mark && (before.State == Taken || before.State == Ready) {
		return before, nil
	}
	one := s.incoming(now, Ready)
	one.Run = before.Run
	return one, records.SaveIncoming(ctx, []Incoming{one})
}

// Ripen looks up once more the arrivals of a job that have rested for long enough: an unchanged
// one is ready, a missing one is removed, and any other rests again. It returns the wait until the
// next one has rested, or a negative value if none rests. The sources are in the order of the routes.
func Ripen(ctx context.Context, records Records, job string, sources []Source, rest time.Duration) (time.Duration, error) {
	for {
		resting, err := records.IncomingIn(ctx, job, Resting, batch)
		if err != nil {
			return 0, err
		}
		now, looked := time.Now(), 0
		for _, one := range resting {
			if wait := one.Since.Add(rest).Sub(now); wait > 0 {
				return wait, nil
			}
			if one.Route >= len(sources) {
				continue
			}
			looked++
			if err := sources[one.Route].ripen(ctx, records, one, rest); err != nil {
				return 0, err
			}
		}
		if looked == 0 { // what was looked at may rest again
			return -1, nil
		}
	}
}

func (s Source) ripen(ctx context.Context, records Records, one Incoming, rest time.Duration) error {
	there := false
	err := s.Each(ctx, PathOf(one.Key), func(now Found) error {
		if now.Key == one.Key { // else a folder has the name of the file now
			there, one = true, one.see(now.mark, now.Size, time.Now(), rest)
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case !there:
		return records.ForgetIncoming(ctx, []Incoming{one})
	}
	return records.SaveIncoming(ctx, []Incoming{one})
}

// recorded reads the records of a source, in the order of keys.
type recorded struct {
	source  Source
	records Records
	page    []Incoming
	after   *store.Key
	done    bool
}

func (r *recorded) head(ctx context.Context) (*Incoming, error) {
	const page = 1000
	if len(r.page) == 0 && !r.done {
		var err error
		if r.page, err = r.records.IncomingAfter(ctx, r.source.Job, r.source.Route, r.after, page); err != nil {
			return nil, err
		}
		r.done = len(r.page) < page
	}
	if len(r.page) == 0 {
		return nil, nil
	}
	return &r.page[0], nil
}

func (r *recorded) next() Incoming {
	one := r.page[0]
	r.page, r.after = r.page[1:], &one.Key
	return one
}

// at returns the record of a key, or nil, and the records of the keys before it that were skipped.
func (r *recorded) at(ctx context.Context, key store.Key) (known *Incoming, passed []Incoming, err error) {
	for {
		head, err := r.head(ctx)
		if err != nil || head == nil || head.Key > key {
			return nil, passed, err
		}
		one := r.next()
		if one.Key == key {
			return &one, passed, nil
		}
		passed = append(passed, one)
	}
}

// rest returns the next of the remaining records; none at the end.
func (r *recorded) rest(ctx context.Context, most int) (rest []Incoming, err error) {
	for len(rest) < most {
		head, err := r.head(ctx)
		if err != nil || head == nil {
			return rest, err
		}
		rest = append(rest, r.next())
	}
	return rest, nil
}
