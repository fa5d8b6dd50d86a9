package workers

import (
	"errors"
	"time"

	"deftheron/core/store"
	"deftheron/provider/site"
	"deftheron/service/records"
)

const (
	// aliveEvery is how often a worker says that it is there, and aliveFor how long it counts as
	// there after that.
	aliveEvery = 3 * time.Second
	aliveFor   = 5 * aliveEvery
	// awayFor is how long a worker is gone before people are notified.
	awayFor = 5 * time.Minute
	// seenEvery is how often it is recorded that a worker was seen.
	seenEvery = time.Minute
)

// presence is a worker that is there. Workers.mu guards it.
type presence struct {
	id, name, site, recipient string
	draining                  bool
	said                      site.Alive
	at                        time.Time // when it said so
	recorded                  time.Time
	calls                     map[*call]bool
	// items counts the copies of the units that the worker has now.
	items int
}

// speaks reports whether the worker speaks the protocol of the service.
func (p *presence) speaks() bool { return p.said.Protocol == site.Protocol }

// alive takes in what a worker says of itself. What was said on a connection that has ended is
// late, and says nothing.
func (w *Workers) alive(id string, said site.Alive) {
	w.mu.Lock()
	if w.relays[said.Connection] == nil {
		w.mu.Unlock()
		return
	}
	p := w.there[id]
	if p != nil && p.said.Connection != said.Connection {
		w.mu.Unlock()
		w.leave(id, "it has connected again")
		w.arrive(id, said)
		return
	}
	if p == nil {
		w.mu.Unlock()
		w.arrive(id, said)
		return
	}
	p.said, p.at = said, w.now()
	lost := p.unanswered()
	record := w.now().Sub(p.recorded) > seenEvery
	if record {
		p.recorded = p.at
	}
	w.mu.Unlock()
	for _, one := range lost {
		one.fail(store.Errorf(store.ErrTryAgain, "the request to the worker %s was lost on the way", p.name))
	}
	if record {
		w.saw(id, said)
	}
}

// unanswered returns the requests that the worker has not named three times in a row: they did not reach
// it, or their answers were lost. Workers.mu is held.
func (p *presence) unanswered() (lost []*call) {
	answering := map[string]bool{}
	for _, token := range p.said.Requests {
		answering[token] = true
	}
	for one := range p.calls {
		if one.unnamed++; answering[one.token] || one.given.Load() {
			one.unnamed = 0
		}
		if one.unnamed > 2 { // the first may have been sent before the request came
			lost = append(lost, one)
		}
	}
	return lost
}

// arrive takes a worker for there.
func (w *Workers) arrive(id string, said site.Alive) {
	row, ok := w.saw(id, said)
	if !ok {
		return
	}
	w.mu.Lock()
	if w.there[id] == nil && w.relays[said.Connection] != nil {
		w.there[id] = &presence{id: id, name: row.Name, site: row.Site, recipient: row.Recipient, draining: row.Draining, said: said,
			at: w.now(), recorded: w.now(), calls: map[*call]bool{}}
		w.signal()
	}
	w.mu.Unlock()
	w.log.InfoContext(w.ctx, "a worker is connected", "worker", row.Name, "site", row.Site, "version", said.Version)
	w.Changed()
	w.Came()
}

// saw records that a worker was seen, and returns it; false if there is no such worker.
func (w *Workers) saw(id string, said site.Alive) (records.Worker, bool) {
	now := w.now()
	seen := records.Worker{ID: id, SeenAt: &now, Version: said.Version, System: said.System}
	w.mu.Lock()
	if relay := w.relays[said.Connection]; relay != nil {
		seen.Address = relay.from
	}
	w.mu.Unlock()
	row, err := w.db.SeeWorker(w.ctx, seen)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		w.log.WarnContext(w.ctx, "could not record that a worker was seen", "worker", id, "error", err)
	}
	return row, err == nil
}

// watch takes workers for gone that have not said for a while that they are there.
func (w *Workers) watch() {
	ticker := time.NewTicker(aliveEvery)
	defer ticker.Stop()
	away, look := map[string]time.Time{}, w.now()
	for {
		select {
		case <-w.ctx.Done():
			return
		case <-ticker.C:
		}
		w.mu.Lock()
		var silent []string
		for id, p := range w.there {
			if w.now().Sub(p.at) > aliveFor {
				silent = append(silent, id)
			}
		}
		w.mu.Unlock()
		for _, id := range silent {
			w.leave(id, "it has not been heard of")
		}
		if w.now().After(look) {
			look = w.now().Add(awayFor / 5)
			w.lookForAway(away)
		}
	}
}

// lookForAway tells of workers that have been gone for long, once each until they are back. away are
// those that are gone, with when that was noticed; the zero time if people were notified.
func (w *Workers) lookForAway(away map[string]time.Time) {
	all, err := w.List(w.ctx)
	if err != nil {
		return
	}
	for _, one := range all {
		since, gone := away[one.ID]
		switch {
		case one.State != Offline:
			delete(away, one.ID)
		case !gone:
			away[one.ID] = w.now()
		case !since.IsZero() && w.now().Sub(since) >= awayFor:
			away[one.ID] = time.Time{}
			w.Away(one.Name, one.Site, one.For)
		}
	}
}

// leave takes a worker for gone. What it was asked ends with an error.
func (w *Workers) leave(id, why string) {
	w.mu.Lock()
	p := w.there[id]
	delete(w.there, id)
	w.signal()
	var calls []*call
	if p != nil {
		for one := range p.calls {
			calls = append(calls, one)
		}
	}
	w.mu.Unlock()
	if p == nil {
		return
	}
	for _, one := range calls {
		one.fail(store.Errorf(store.ErrTryAgain, "the worker %s was lost: %s", p.name, why))
	}
	w.log.InfoContext(w.ctx, "a worker is gone", "worker", p.name, "why", why)
	w.Changed()
}

// gone forgets a connection that has ended, and the worker that was there through it.
func (w *Workers) gone(connection string) {
	w.mu.Lock()
	delete(w.relays, connection)
	var ids []string
	for id, p := range w.there {
		if p.said.Connection == connection {
			ids = append(ids, id)
		}
	}
	w.mu.Unlock()
	for _, id := range ids {
		w.leave(id, "its connection ended")
	}
}

// cutOff ends the connections of a worker, whose keys are good for nothing any more.
func (w *Workers) cutOff(id string) {
	w.mu.Lock()
	started := w.bus
	w.mu.Unlock()
	if started != nil {
		started.cutOff(id)
	}
	w.leave(id, "it was removed")
}
