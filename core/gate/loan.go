package gate

import (
	"context"
	"time"

	"golang.org/x/time/rate"

	"deftheron/core/store"
)

// A gate is lent to other processes that send requests to the same account. Without a learned rate a
// loan lets a process send for a second. With one it holds slots: the moments at which requests may be
// sent, taken from the slots of the account, so that the requests of all processes follow each other as the
// requests of one would. With the next loan a process reports how its requests ended, and the gate learns from
// them as from its own. Each process is also given how many requests may go at once. A process that is cut off
// spends what it was lent, and no more.

// Report holds the counts of a borrower since its last report, and what it asks for.
type Report struct {
	Accepted, Refused int
	// Unknown counts requests whose result is unknown.
	Unknown int
	// Wait is how long the provider asked to send nothing; 0 if it did not.
	Wait time.Duration
	// Waiting are requests that wait to be sent.
	Waiting int
}

// Loan is a part of a gate.
type Loan struct {
	AtOnce float64 // requests
	// Slots is how many requests may be sent: the first after First, and the others Every. Without a rate
	// to keep to it is negative: any may be, for the time of For.
	Slots        int
	First, Every time.Duration
	// Ahead is how many slots a borrower may have ahead: it asks for more when it has half as many.
	Ahead int
	For   time.Duration
	Pause time.Duration // in which nothing is sent
	Rate  float64       // of the account, in requests a second; 0 has no limit
}

const (
	// loanLasts is how long a loan holds. A borrower that has not asked for three times as long counts for
	// none.
	loanLasts = time.Second
	// unheard is how long a borrower may send at first, before the lender has answered.
	unheard = 5 * time.Second
	// slotsLast is for how long the slots last that all have together.
	slotsLast = 400 * time.Millisecond
)

// loans are the loans of one gate. Gate.mu guards them.
type loans struct {
	others map[string]time.Time // when borrowers have asked last
	own    int                  // slots that requests of this process wait for
	freed  chan struct{}        // closed when there are fewer
}

// Lend takes the report of a borrower and lends it a part of the gate.
func (g *Gate) Lend(to string, report Report) Loan {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	if g.loans.others == nil {
		g.loans.others = map[string]time.Time{}
	}
	g.loans.others[to] = now
	g.forgetBorrowers(now)
	g.takeIn(report, now)
	loan := Loan{AtOnce: max(1, g.limit), Pause: max(0, g.until.Sub(now)), For: loanLasts, Slots: -1}
	if limit := g.limiter.Limit(); limit != rate.Inf {
		loan.Rate, loan.Ahead = float64(limit), g.slotsEach()
		loan.Slots = min(report.Waiting, loan.Ahead)
		loan.First, loan.Every = g.reserve(now, loan.Slots), time.Duration(float64(time.Second)/float64(limit))
		loan.For = max(loanLasts, loan.First+time.Duration(loan.Slots)*loan.Every+loanLasts)
	}
	return loan
}

// forgetBorrowers forgets those that have not asked for some time. g.mu is held.
func (g *Gate) forgetBorrowers(now time.Time) {
	for name, at := range g.loans.others {
		if now.Sub(at) > 3*loanLasts {
			delete(g.loans.others, name)
		}
	}
	g.learner.late = len(g.loans.others) > 0
}

// reserve takes slots and returns when the first is. g.mu is held.
func (g *Gate) reserve(now time.Time, slots int) (first time.Duration) {
	for i := range slots { // the limiter lets one go at a time
		if wait := g.limiter.ReserveN(now, 1).DelayFrom(now); i == 0 {
			first = wait
		}
	}
	return first
}

// slotsEach is how many slots each process may have ahead. g.mu is held.
func (g *Gate) slotsEach() int {
	return max(2, int(float64(g.limiter.Limit())*slotsLast.Seconds()/float64(1+len(g.loans.others))))
}

// takeIn learns from the requests of a borrower. g.mu is held.
func (g *Gate) takeIn(report Report, now time.Time) {
	g.requests += int64(report.Accepted + report.Refused + report.Unknown)
	g.slowed += int64(report.Refused)
	if report.Wait > 0 && now.Add(report.Wait).After(g.until) {
		g.until = now.Add(report.Wait)
	}
	if report.Accepted+report.Refused > 0 {
		g.learner.sent(now)
	}
	for range report.Accepted {
		g.learnRate(false)
	}
	for range report.Refused {
		g.learnRate(true)
	}
	switch {
	case report.Refused+report.Unknown > 0:
		g.lower()
	case report.Accepted > 0:
		g.raise(report.Accepted)
	}
}

// turn waits until a request of this process may have a slot: while others have a part, it has no more
// of them than each of those.
func (g *Gate) turn(ctx context.Context) (end func(), err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.loans.others) == 0 {
		return func() {}, nil
	}
	g.forgetBorrowers(g.now())
	for len(g.loans.others) > 0 && g.limiter.Limit() != rate.Inf && g.loans.own >= g.slotsEach() {
		freed := g.loans.freed
		g.mu.Unlock()
		select {
		case <-freed:
			g.mu.Lock()
		case <-ctx.Done():
			g.mu.Lock()
			return nil, ctx.Err()
		}
	}
	if g.loans.freed == nil {
		g.loans.freed = make(chan struct{})
	}
	g.loans.own++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.loans.own--
		close(g.loans.freed)
		g.loans.freed = make(chan struct{})
	}, nil
}

// Borrow returns a gate whose limits another process lends: ask sends it a report and returns the loan.
// It begins with start requests at once.
func Borrow(name string, start int, ask func(ctx context.Context, report Report) (Loan, error)) *Gate {
	g := New(name, start, start)
	now := time.Now()
	g.borrowed = &borrowed{ask: ask, until: now.Add(unheard), renew: now, came: make(chan struct{})}
	return g
}

// borrowed is the loan of a gate. Gate.mu guards it.
type borrowed struct {
	ask     func(ctx context.Context, report Report) (Loan, error)
	report  Report
	waiting int

	until  time.Time // anything may be sent until then, if there are no slots to keep to
	slots  []time.Time
	bound  bool // there are
	ahead  int  // how many there may be
	taken  int  // by requests that wait for them
	renew  time.Time
	asking bool
	failed error         // of the last question
	came   chan struct{} // closed when an answer came
}

// isShort reports whether there are few slots ahead. Gate.mu is held.
func (b *borrowed) isShort() bool { return b.bound && len(b.slots)+b.taken <= b.ahead/2 }

// saw counts how a request ended. Gate.mu is held.
func (g *Gate) saw(kind error) {
	b := g.borrowed
	switch kind {
	case store.ErrSlowDown:
		b.report.Refused++
		b.renew = time.Time{}
		g.renewLoan() // the others learn of it at once
	case store.ErrOutcomeUnknown:
		b.report.Unknown++
	default: // the provider has answered
		b.report.Accepted++
	}
}

// borrow waits until the loan lets a request be sent.
func (g *Gate) borrow(ctx context.Context) error {
	b := g.borrowed
	if b == nil {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	b.waiting++
	defer func() { b.waiting-- }()
	for {
		now := g.now()
		if !now.Before(b.renew) || b.isShort() {
			g.renewLoan()
		}
		if !b.bound && now.Before(b.until) {
			return nil
		}
		if len(b.slots) > 0 {
			slot := b.slots[0]
			b.slots = b.slots[1:]
			b.taken++
			err := g.sleep(ctx, slot.Sub(now))
			if b.taken--; b.waiting > 1 && b.isShort() {
				g.renewLoan() // who waits does not look
			}
			return err
		}
		if b.failed != nil && !b.asking && now.After(b.until) {
			failed := b.failed
			b.failed = nil // who comes next asks again
			return store.Errorf(store.ErrTryAgain, "the service does not say how many requests may be sent: %w", failed)
		}
		if !b.bound {
			g.renewLoan()
		}
		came := b.came
		g.mu.Unlock()
		select {
		case <-came:
			g.mu.Lock()
		case <-ctx.Done():
			g.mu.Lock()
			return ctx.Err()
		}
	}
}

// sleep waits without g.mu, which is held before and after it.
func (g *Gate) sleep(ctx context.Context, wait time.Duration) error {
	if wait <= 0 {
		return nil
	}
	g.mu.Unlock()
	defer g.mu.Lock()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// renewLoan asks for the next loan, unless that is being done. g.mu is held.
func (g *Gate) renewLoan() {
	b := g.borrowed
	if b.asking {
		return
	}
	b.asking = true
	report := b.report
	report.Wait, report.Waiting = max(0, g.until.Sub(g.now())), b.waiting
	b.report, b.renew = Report{}, g.now().Add(loanLasts/2)
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		loan, err := b.ask(ctx, report)
		g.mu.Lock()
		defer g.mu.Unlock()
		b.asking, b.failed = false, err
		close(b.came)
		b.came = make(chan struct{})
		if err != nil { // what was seen is reported with the next one
			b.report.Accepted += report.Accepted
			b.report.Refused += report.Refused
			b.report.Unknown += report.Unknown
			return
		}
		g.takeLoan(loan)
	}()
}

// takeLoan keeps to a loan from now on. g.mu is held.
func (g *Gate) takeLoan(loan Loan) {
	b, now := g.borrowed, g.now()
	b.until = now.Add(loan.For)
	b.bound, b.ahead = loan.Slots >= 0, loan.Ahead
	if !b.bound {
		b.slots = nil
	}
	for i := range max(0, loan.Slots) {
		b.slots = append(b.slots, now.Add(loan.First+time.Duration(i)*loan.Every))
	}
	g.limit, g.most = loan.AtOnce, max(1, loan.AtOnce)
	if until := now.Add(loan.Pause); loan.Pause > 0 && until.After(g.until) {
		g.until = until
	}
	g.lentRate = loan.Rate
	g.wake()
}
