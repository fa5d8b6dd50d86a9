// Package sharing carries the share lists and owners of a migration's source over to its
// target, by a table of who is who. [Carry] does it after the transfer; a [Surveyor] tells
// beforehand what it would come to. Neither ever takes a right away, and neither shares an
// entry of the target that is not the one of the source alone.
package sharing

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// Right is what a person of a share list has: a [store.ShareLevel], or one of these.
type Right string

// The other rights.
const (
	RightOwner Right = "owner"
	RightLink  Right = "link" // which whoever knows a link has
)

// Finding is a right that was not carried over, or carried over as a lesser one.
type Finding struct {
	Address string // at the source
	Target  string
	Kind    store.Kind
	Person  string // empty of a link
	Becomes string // who it is at the target; empty if the table does not say
	Right   Right
	Cause   plan.Cause
}

// Tally counts what was carried over.
type Tally struct {
	Entries int64 // of the sources that have a share list
	Carried int64 // rights that are at the target, those that were there before included
	Lesser  int64 // rights that the target has as lesser ones
	Missing int64 // rights that the target does not have
	Why     []ByCause
}

// ByCause counts findings of one cause.
type ByCause struct {
	Cause plan.Cause
	Items int64
}

func (t *Tally) add(found outcome) {
	t.Entries++
	t.Carried += found.carried
	for _, one := range found.findings {
		if IsLesser(one.Cause) {
			t.Lesser++
		} else {
			t.Missing++
		}
		i := slices.IndexFunc(t.Why, func(why ByCause) bool { return why.Cause == one.Cause })
		if i < 0 {
			i, t.Why = len(t.Why), append(t.Why, ByCause{Cause: one.Cause})
		}
		t.Why[i].Items++
	}
}

// IsLesser reports whether a finding's right was carried over as a lesser one.
func IsLesser(cause plan.Cause) bool {
	return cause == plan.CauseLevelLowered || cause == plan.CauseOwnerEdits
}

// together is how many entries are looked at and shared at once, and batch how many are held.
const (
	together = 8
	batch    = 128
)

// Carry gives the people of the sources' share lists the same rights at the targets, and
// calls each with every right that could not be given as it was, in the order of
// [transfer.ShareLists]. What is there already stays: it can be broken off and repeated.
// Errors end it only if they concern all entries, such as an expired sign-in.
func Carry(ctx context.Context, routes []transfer.Route, rules plan.Rules, began time.Time, memory transfer.Memory, people job.People,
	each func(Finding) error) (tally Tally, err error) {
	c := &carrying{routes: routes, people: people, known: map[string]bool{}, owners: make([]string, len(routes))}
	for i, route := range routes {
		if c.owners[i], err = store.OwnerOf(ctx, route.Source.Store); err != nil {
			return tally, err
		}
	}
	var waiting []transfer.ShareListed
	flush := func() error {
		found := make([]outcome, len(waiting))
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(together)
		for i, one := range waiting {
			group.Go(func() (err error) {
				found[i], err = c.entry(ctx, one)
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		waiting = waiting[:0]
		for _, one := range found {
			if one.none {
				continue
			}
			tally.add(one)
			for _, finding := range one.findings {
				if err := each(finding); err != nil {
					return err
				}
			}
		}
		return nil
	}
	err = transfer.ShareLists(ctx, routes, rules, began, memory, func(one transfer.ShareListed) error {
		if waiting = append(waiting, one); len(waiting) < batch {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	return tally, err
}

// carrying is what all entries have in common.
type carrying struct {
	routes []transfer.Route
	people job.People
	owners []string // of the sources' accounts

	mu    sync.Mutex
	known map[string]bool // by route's target account and person
}

// outcome is what became of one entry.
type outcome struct {
	carried  int64
	findings []Finding
	none     bool // the entry is gone, or has no share list any more
}

// entry carries the share list of one entry over.
func (c *carrying) entry(ctx context.Context, one transfer.ShareListed) (outcome, error) {
	e := &entry{carrying: c, listed: one, route: c.routes[one.Route]}
	if e.route.Target.Root.IsStart() && one.Item.Key == "" && one.Cause == plan.CauseNone {
		e.listed.Cause = plan.CauseShowsMore // what comes to the account later would be shared too
	}
	list, err := readList(ctx, e.route.Source.Store, one.Source)
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return outcome{none: true}, nil
	case fatal(ctx, err):
		return outcome{}, err
	case err != nil:
		e.find("", "", "", plan.CauseSharesUnread)
		return e.outcome, nil
	}
	if list.Owner != "" && strings.EqualFold(list.Owner, c.owners[one.Route]) {
		if _, named := c.people.Becomes(list.Owner); !named {
			list.Owner = "" // whoever migrates owns the target's entry too
		}
	}
	if list.Owner == "" && len(list.People)+list.Links == 0 {
		return outcome{none: true}, nil
	}
	for range list.Links {
		e.find("", "", RightLink, plan.CauseShareLink)
	}
	rights := e.rights(list)
	if len(rights) == 0 {
		return e.outcome, nil
	}
	return e.outcome, e.carry(ctx, rights)
}

// entry is one that is carried over.
type entry struct {
	*carrying
	outcome
	listed transfer.ShareListed
	route  transfer.Route
}

// right is one that a person is to have.
type right struct {
	person, becomes string
	right           Right
}

func (e *entry) find(person, becomes string, what Right, cause plan.Cause) {
	e.findings = append(e.findings, Finding{Address: e.route.SourceAddress(e.listed.Item), Target: e.route.TargetAddress(e.listed.Item, ""),
		Kind: e.listed.Item.Kind, Person: person, Becomes: becomes, Right: what, Cause: cause})
}

// rights are those that the table has somebody for. Owners come last: who has given an
// entry away may not share it any more.
func (e *entry) rights(list store.ShareList) (rights []right) {
	all := make([]right, 0, len(list.People)+1)
	for _, one := range list.People {
		all = append(all, right{person: one.Person, right: Right(one.Level)})
	}
	if list.Owner != "" {
		all = append(all, right{person: list.Owner, right: RightOwner})
	}
	for _, one := range all {
		becomes, named := e.people.Becomes(one.person)
		one.becomes = becomes
		switch {
		case !named:
			e.find(one.person, "", one.right, plan.CausePersonMissing)
		case becomes == "":
			e.find(one.person, "", one.right, plan.CausePersonLeft)
		case e.listed.Cause != plan.CauseNone:
			e.find(one.person, becomes, one.right, e.listed.Cause)
		default:
			rights = append(rights, one)
		}
	}
	return rights
}

// carry gives rights at the target.
func (e *entry) carry(ctx context.Context, rights []right) error {
	sharing := e.route.Target.Store.Capabilities().Sharing
	if sharing == nil {
		for _, one := range rights {
			e.find(one.person, one.becomes, one.right, plan.CauseNoSharing)
		}
		return nil
	}
	there, err := readList(ctx, e.route.Target.Store, e.listed.Target)
	if fatal(ctx, err) {
		return err
	}
	for _, one := range rights {
		cause := plan.CauseOf(err)
		if err == nil {
			var failed error
			if cause, failed = e.give(ctx, sharing, &there, one); fatal(ctx, failed) {
				return failed
			}
		}
		if cause == plan.CauseNone {
			e.carried++
			continue
		}
		e.find(one.person, one.becomes, one.right, cause)
	}
	return nil
}

// give gives one right, and returns why it could not be given as it is. The error is why
// the target refused.
func (e *entry) give(ctx context.Context, sharing store.Sharing, there *store.ShareList, one right) (plan.Cause, error) {
	if strings.EqualFold(there.Owner, one.becomes) {
		return plan.CauseNone, nil
	}
	known, err := e.knows(ctx, sharing, one.becomes)
	switch {
	case err != nil:
		return plan.CauseOf(err), err
	case !known:
		return plan.CausePersonUnknown, nil
	case one.right != RightOwner:
		return e.share(ctx, sharing, there, one.becomes, store.ShareLevel(one.right))
	}
	err = again(ctx, func() error { return sharing.SetOwner(ctx, e.listed.Target, one.becomes) })
	if err == nil {
		there.Owner = one.becomes
		return plan.CauseNone, nil
	}
	if kind := store.KindOf(err); kind != store.ErrRefused && kind != store.ErrUnsupported {
		return plan.CauseOf(err), err
	}
	cause, err := e.share(ctx, sharing, there, one.becomes, store.ShareEdit)
	if cause == plan.CauseNone {
		cause = plan.CauseOwnerEdits
	}
	return cause, err
}

// share shares the target's entry with a person, at the level or the next lower one.
func (e *entry) share(ctx context.Context, sharing store.Sharing, there *store.ShareList, person string,
	wanted store.ShareLevel) (plan.Cause, error) {
	level, ok := lowered(wanted, sharing.ShareLevels())
	if !ok {
		return plan.CauseNoLevel, nil
	}
	cause := plan.CauseNone
	if level != wanted {
		cause = plan.CauseLevelLowered
	}
	has := slices.ContainsFunc(there.People, func(one store.SharedWith) bool {
		return strings.EqualFold(one.Person, person) && rank(one.Level) >= rank(level)
	})
	if has {
		return cause, nil
	}
	with := store.SharedWith{Person: person, Level: level}
	if err := again(ctx, func() error { return sharing.Share(ctx, e.listed.Target, with) }); err != nil {
		return plan.CauseOf(err), err
	}
	there.People = append(there.People, with)
	return cause, nil
}

// knows reports whether the target's provider knows a person; each is looked up once.
func (e *entry) knows(ctx context.Context, sharing store.Sharing, person string) (known bool, err error) {
	key := e.route.Target.Account + "\x00" + person
	e.mu.Lock()
	known, asked := e.known[key]
	e.mu.Unlock()
	if asked {
		return known, nil
	}
	err = again(ctx, func() error {
		known, err = sharing.KnowsPerson(ctx, person)
		return err
	})
	if err == nil {
		e.mu.Lock()
		e.known[key] = known
		e.mu.Unlock()
	}
	return known, err
}

// readList reads a share list. An account without any has listed none.
func readList(ctx context.Context, s store.Store, ref store.Ref) (list store.ShareList, err error) {
	sharing := s.Capabilities().Sharing
	if sharing == nil {
		return list, store.Errorf(store.ErrUnsupported, "the account has no share lists")
	}
	err = again(ctx, func() error {
		list, err = sharing.ShareList(ctx, ref)
		return err
	})
	return list, err
}

// lowered returns the highest of the levels that is not above the wanted one.
func lowered(wanted store.ShareLevel, levels []store.ShareLevel) (store.ShareLevel, bool) {
	for _, level := range slices.Backward(levels) {
		if rank(level) <= rank(wanted) {
			return level, true
		}
	}
	return "", false
}

func rank(level store.ShareLevel) int { return slices.Index(store.ShareLevels, level) }

// again does what may be repeated, until it goes well or cannot.
func again(ctx context.Context, do func() error) error {
	return retry.Policy{First: 500 * time.Millisecond, Longest: 30 * time.Second, Tries: 12, Within: 5 * time.Minute,
		May: func(err error) bool { return retry.MayPass(err) || store.KindOf(err) == store.ErrOutcomeUnknown }}.Do(ctx, do)
}

// fatal reports whether an error concerns all entries.
func fatal(ctx context.Context, err error) bool {
	return err != nil && (ctx.Err() != nil || store.WaitsForPerson(err) || store.KindOf(err) == store.ErrTryAgain ||
		store.KindOf(err) == store.ErrReplaced)
}
