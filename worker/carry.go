package worker

import (
	"context"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/provider/site"
)

const (
	// UsualParallel is how many contents a worker copies at once by default.
	UsualParallel = 16
	// payAtOnce is for how many bytes a worker asks at once.
	payAtOnce = 1 << 20
	// askTime is how long the service may take to answer.
	askTime = 90 * time.Second
)

// carry copies a unit.
func (r *run) carry(ctx context.Context, u site.Carriage) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer r.whileConnected(cancel)()
	purse := r.purseOf(u.Run, u.SourceID, u.TargetID)
	return r.carrier.Carry(ctx, transfer.Carriage{
		Unit: u.Unit, Source: u.Source, Target: u.Target, Done: u.Done, Pay: purse.pay,
	})
}

// whileConnected gives what is copied up when the connection to the service ends: others get the unit then.
func (r *run) whileConnected(cancel context.CancelFunc) (stop func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.units++
	number := r.units
	r.carrying[number] = cancel
	return func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.carrying, number)
	}
}

// disconnected is called when the connection to the service has ended.
func (r *run) disconnected() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, cancel := range r.carrying {
		cancel()
	}
}

// gateOf returns the gate of an account, which the service lends.
func (r *run) gateOf(account string) *gate.Gate {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.gates[account] == nil {
		r.gates[account] = gate.Borrow(account, 16, func(ctx context.Context, report gate.Report) (gate.Loan, error) {
			lent, err := ask[site.AskLoan, site.Lent](ctx, r, site.SaysLoan, site.AskLoan{Account: account, Report: report})
			if err == nil {
				err = lent.Err()
			}
			return lent.Loan, err
		})
	}
	return r.gates[account]
}

// ask sends the service a question and waits for the answer.
func ask[Q site.AskLoan | site.AskPay | site.AskToken, A site.Lent | site.Paid | site.Token](ctx context.Context, r *run, what string,
	question Q) (answer A, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	message, err := r.bus.RequestWithContext(ctx, site.FromSubject(r.keys.ID, what), site.Encode(question))
	if err != nil {
		return answer, store.Errorf(store.ErrTryAgain, "the service did not answer: %w", err)
	}
	return site.Decode[A](message.Data)
}

// purse is what may be moved between two accounts for a run.
type purse struct {
	run  *run
	asks site.AskPay

	turn chan struct{} // holds who looks into it
	left int           // bytes
	free time.Time     // nothing has to be paid until then
	used time.Time
}

// pursesLast is how long a purse is kept that nobody uses.
const pursesLast = time.Minute

func (r *run) purseOf(run, source, target string) *purse {
	r.mu.Lock()
	defer r.mu.Unlock()
	asks := site.AskPay{Run: run, Source: source, Target: target, Bytes: payAtOnce}
	for other, one := range r.purses {
		if other != asks && time.Since(one.used) > pursesLast {
			delete(r.purses, other)
		}
	}
	one := r.purses[asks]
	if one == nil {
		one = &purse{run: r, asks: asks, turn: make(chan struct{}, 1)}
		r.purses[asks] = one
	}
	one.used = time.Now()
	return one
}

// pay is transfer.Carriage.Pay.
func (p *purse) pay(ctx context.Context, n int) (int, error) {
	select {
	case p.turn <- struct{}{}:
		defer func() { <-p.turn }()
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	for p.left == 0 && time.Now().After(p.free) {
		paid, err := ask[site.AskPay, site.Paid](ctx, p.run, site.SaysPay, p.asks)
		if err == nil {
			err = paid.Err()
		}
		if err != nil {
			return 0, err
		}
		p.left, p.free = paid.Bytes, time.Now().Add(paid.Free)
		if paid.Free > 0 {
			p.left = 0
		}
	}
	if p.left == 0 {
		return n, nil
	}
	n = min(n, p.left)
	p.left -= n
	return n, nil
}
