package accounts

import (
	"context"
	"errors"
	"sync"
	"time"

	"deftheron/core/store"
	"deftheron/service/records"
)

// State is how an account was when it was asked last.
type State struct {
	Name StateName
	// Why it is not "linked", in words.
	Err  error
	Seen time.Time // when it last answered; zero where it has not since the start
	kept time.Time // what of Seen is in the records
}

// seenEvery is how often it is kept that an account answers.
const seenEvery = time.Minute

// keep keeps what outlives a restart: when it answered last, and that its sign-in
// expired, or is accepted again.
func (a *Accounts) keep(id string, before, after State) {
	ctx := context.Background()
	if after.kept != before.kept {
		if err := a.db.SawAccount(ctx, id, after.kept); err != nil {
			a.log.Error("could not record when an account answered", "error", err)
		}
	}
	if before.Name == after.Name || after.Name == Unreachable || after.Name == Linked && before.Name == Unreachable {
		return
	}
	row, err := a.db.AccountByID(ctx, id)
	if err != nil {
		return
	}
	events, err := a.db.LinkEvents(ctx, id)
	if err != nil || len(events) == 0 {
		return
	}
	switch last := events[len(events)-1].What; {
	case after.Name == SignInExpired && last != records.SignInExpired:
		a.happened(ctx, row, records.SignInExpired, after.Err.Error())
		a.SignInExpiredNow(row.Name, after.Err)
	case after.Name == Linked && last == records.SignInExpired:
		a.happened(ctx, row, records.Reauthorized, "its sign-in is accepted again")
	}
}

// StateName is a state of an account in one word.
type StateName string

// The states of an account.
const (
	// Linked: it answers, or has not been asked yet.
	Linked StateName = "linked"
	// Unreachable: it cannot be reached for now.
	Unreachable StateName = "unreachable"
	// SignInExpired: it no longer accepts the sign-in.
	SignInExpired StateName = "sign-in-expired"
	// Suspended: a person took it out of use.
	Suspended StateName = "suspended"
)

// Noticed keeps how asking an account went, and says so where that is news.
func (a *Accounts) Noticed(name string, err error) {
	row, missing := a.db.Account(context.Background(), name)
	if missing == nil {
		a.observe(row.ID, err)
	}
}

func (a *Accounts) observe(id string, err error) {
	a.mu.Lock()
	before := a.states[id]
	after := State{Name: Linked, Seen: before.Seen}
	var unopened openError
	kind := store.KindOf(err)
	switch {
	case kind == store.ErrSignInExpired:
		after.Name, after.Err = SignInExpired, err
	case kind == store.ErrTryAgain, kind == store.ErrOutcomeUnknown, kind == store.ErrSlowDown, err != nil && kind == nil,
		errors.As(err, &unopened):
		after.Name, after.Err = Unreachable, err
	default: // whatever it said, it answered
		after.Seen = time.Now()
	}
	if after.Seen.Sub(before.kept) >= seenEvery {
		after.kept = after.Seen
	} else {
		after.kept = before.kept
	}
	a.states[id] = after
	a.mu.Unlock()
	a.keep(id, before, after)
	if before.Name != after.Name && (before.Name != "" || after.Name != Linked) {
		a.Changed()
	}
}

// openError marks an error as one of opening an account: whatever the reason, it
// is away then, unless its sign-in expired.
type openError struct{ error }

func (e openError) Unwrap() error { return e.error }

// late returns the error of an account that did not answer in time, or the error of ctx if
// that has ended; nil if neither is the case.
func late(ctx context.Context, name string, within time.Duration) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return store.Errorf(store.ErrTryAgain, "/%s did not answer within %v; check that its server runs and can be reached", name, within)
	}
	return ctx.Err()
}

// StateOf returns how an account was when it was asked last.
func (a *Accounts) StateOf(row records.Account) State {
	if row.Suspended {
		return State{Name: Suspended}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	state := a.states[row.ID]
	if state.Name == "" {
		state.Name = Linked
	}
	return state
}

// Figures are the figures of an account that need no request.
type Figures struct {
	Name  string
	State StateName
	Space store.Space // as of the last sample, an hour old at most while the account answers
}

// Figures returns the figures of all accounts.
func (a *Accounts) Figures(ctx context.Context) ([]Figures, error) {
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	figures := make([]Figures, len(rows))
	for i, row := range rows {
		figures[i] = Figures{Name: row.Name, State: a.StateOf(row).Name, Space: store.UnknownSpace}
		switch sample, err := a.db.LatestSpaceSample(ctx, row.ID); {
		case err == nil:
			figures[i].Space = store.Space{Used: sample.Used, Free: sample.Free, Total: sample.Total}
		case !errors.Is(err, records.ErrNotFound):
			return nil, err
		}
	}
	return figures, nil
}

// spaceTime is how long each account may take to tell its space, where all are
// asked: one that is away must not hold up the others.
const spaceTime = 5 * time.Second

// Space is the space of one account, or why it is not known.
type Space struct {
	Account string
	Space   store.Space
	Err     error
	gate    string // its name: accounts that have one are at one place
}

// Spaces asks all accounts at once for their space, and sums up what they tell:
// accounts that share their space count once. It leaves out those that the scope of the context
// does not show whole.
func (a *Accounts) Spaces(ctx context.Context) (each []Space, together store.Space, err error) {
	rows, err := a.Whole(ctx)
	if err != nil {
		return nil, store.UnknownSpace, err
	}
	each = make([]Space, len(rows))
	var group sync.WaitGroup
	for i, row := range rows {
		group.Go(func() {
			each[i] = Space{Account: row.Name, Space: store.UnknownSpace}
			if row.Suspended {
				return
			}
			each[i].Space, each[i].Err = a.space(ctx, row)
			each[i].gate = a.gateOf(row.ID)
		})
	}
	group.Wait()
	return each, sum(each), nil
}

func (a *Accounts) space(ctx context.Context, row records.Account) (store.Space, error) {
	ctx, cancel := context.WithTimeout(ctx, spaceTime)
	defer cancel()
	space := store.UnknownSpace
	opened, err := a.Open(ctx, row.Name)
	if err == nil {
		space, err = store.SpaceOf(ctx, opened.Store)
	}
	if err == nil && space == store.UnknownSpace { // it was not asked for anything, maybe
		err = answers(ctx, opened.Store)
	}
	unwritable := a.checkWritable(row)
	a.mu.Lock()
	a.unwritable[row.ID] = unwritable
	a.mu.Unlock()
	return space, a.settle(ctx, row, spaceTime, err)
}

// gateOf is the name of the gate of an account that is open; empty where it is not.
func (a *Accounts) gateOf(id string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if opened, ok := a.open[id]; ok && opened.Gate != nil {
		return opened.Gate.Name()
	}
	return ""
}

// settle keeps how asking an account within a time went, and returns its error.
func (a *Accounts) settle(ctx context.Context, row records.Account, within time.Duration, err error) error {
	if late := late(ctx, row.Name, within); late != nil {
		err = late
	}
	if !errors.Is(err, context.Canceled) {
		a.observe(row.ID, err)
	}
	return err
}

// answers asks an account for the first entry at its start.
func answers(ctx context.Context, s store.Store) error {
	for _, err := range s.List(ctx, store.Folder{}) {
		return err
	}
	return nil
}

func sum(each []Space) store.Space {
	together := store.UnknownSpace
	seen := map[string]bool{}
	add := func(total *int64, n int64) {
		if n >= 0 {
			*total = max(0, *total) + n
		}
	}
	for _, one := range each {
		volume := one.Space.Volume
		if volume == "" {
			volume = one.gate // of an account and those that are in it
		}
		if volume != "" {
			if seen[volume] {
				continue
			}
			seen[volume] = true
		}
		add(&together.Used, one.Space.Used)
		add(&together.Free, one.Space.Free)
		add(&together.Total, one.Space.Total)
	}
	return together
}
