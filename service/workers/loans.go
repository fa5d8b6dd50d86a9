package workers

import (
	"context"
	"time"

	"github.com/nats-io/nats.go"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/provider/site"
)

const (
	// mostGates is of how many accounts parts of gates are lent.
	mostGates = 10_000
	// freeFor is for how long a worker need not ask while there is no limit.
	freeFor = 2 * time.Second
	// payTime is how long a worker may have to wait for its part of a limit.
	payTime = time.Minute
)

// lend has parts of the gate of an account be lent to workers: of the account's own gate, or of one for
// the workers alone if only they reach it, since what the service asks of it are their requests.
func (w *Workers) lend(account Reached) {
	if account.Site != "" || account.Gate == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.gates[account.ID] = account.Gate
}

// gateOf returns the gate of an account of which a worker wants a part. A worker that names an account
// which it does not have gets a part of nothing.
func (w *Workers) gateOf(worker, account string) (*gate.Gate, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := w.there[worker]
	if p == nil {
		return nil, store.Errorf(store.ErrTryAgain, "the worker is not there yet")
	}
	if g := w.gates[account]; g != nil && w.grants[account][worker] {
		return g, nil
	}
	name := p.site + " " + account
	if w.gates[name] == nil {
		if len(w.gates) >= mostGates {
			return nil, store.Errorf(store.ErrRefused, "the service lends parts of %d gates, and of no more", mostGates)
		}
		w.gates[name] = gate.New(account, 16, 64)
	}
	return w.gates[name], nil
}

// loan answers a worker that wants a part of a gate.
func (w *Workers) loan(message *nats.Msg) site.Lent {
	worker := senderOf(message.Subject)
	asked, err := site.Decode[site.AskLoan](message.Data)
	if err == nil {
		var of *gate.Gate
		if of, err = w.gateOf(worker, asked.Account); err == nil {
			return site.Lent{Loan: of.Lend(worker, bounded(asked.Report))}
		}
	}
	return site.LoanRefused(err)
}

// bounded bounds what a worker says that it has seen.
func bounded(report gate.Report) gate.Report {
	const most = 100_000
	for _, n := range []*int{&report.Accepted, &report.Refused, &report.Unknown, &report.Waiting} {
		*n = min(max(0, *n), most)
	}
	report.Wait = min(max(0, report.Wait), time.Hour)
	return report
}

// toll is a limit, and in which direction what a worker moves counts for it.
type toll struct {
	limiter   *bandwidth.Limiter
	direction bandwidth.Direction
}

// tolls are the limits that a worker of a site keeps to between two accounts of a run.
func (c *Crew) tolls(source, target, at string) (all []toll) {
	all = append(all, toll{c.limiter, bandwidth.Down}, toll{c.limiter, bandwidth.Up})
	for _, route := range c.routes {
		if route.Source.ID != source || route.Target.ID != target {
			continue
		}
		for _, limiter := range route.Source.Limiters {
			all = append(all, toll{limiter, bandwidth.Down})
		}
		for _, limiter := range route.Target.Limiters {
			all = append(all, toll{limiter, bandwidth.Up})
		}
		line := c.workers.SiteLimiter(at)
		if route.Source.Site != at {
			all = append(all, toll{line, bandwidth.Down})
		}
		if route.Target.Site != at {
			all = append(all, toll{line, bandwidth.Up})
		}
		break
	}
	return all
}

// pay waits until a worker may move bytes.
func (w *Workers) pay(worker string, data []byte) (site.Paid, error) {
	asked, err := site.Decode[site.AskPay](data)
	if err != nil {
		return site.Paid{}, err
	}
	w.mu.Lock()
	c, p := w.crews[asked.Run], w.there[worker]
	w.mu.Unlock()
	if c == nil || p == nil {
		return site.Paid{}, store.Errorf(store.ErrTryAgain, "the run has ended, or is interrupted")
	}
	n, limited := max(1, min(asked.Bytes, 4<<20)), false
	tolls := c.tolls(asked.Source, asked.Target, p.site)
	for _, one := range tolls {
		if !one.limiter.Rule().IsZero() {
			limited = true
			n = one.limiter.Most(one.direction, n)
		}
	}
	if !limited {
		return site.Paid{Bytes: n, Free: freeFor}, nil
	}
	ctx, cancel := context.WithTimeout(c.ctx, payTime)
	defer cancel()
	for _, one := range tolls {
		if err := one.limiter.Wait(ctx, one.direction, n); err != nil {
			return site.Paid{}, store.Errorf(store.ErrTryAgain, "no bytes may be moved now: %w", err)
		}
	}
	return site.Paid{Bytes: n}, nil
}
