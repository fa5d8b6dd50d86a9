package sharing

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// Survey says beforehand what carrying share lists over would come to.
type Survey struct {
	Entries    int64 // that have a share list
	Links      int64 // that anybody may use
	Unreadable int64 // share lists that the account may not read
	// People of the share lists, those of most entries first. If there are more than
	// job.MostPeople, More says so, and the others are left out.
	People []Surveyed
	More   bool
	// Supported reports whether the target has share lists.
	Supported bool
}

// Surveyed is a person of the share lists.
type Surveyed struct {
	Person string
	Shared int64 // entries that are shared with them
	Owns   int64 // entries with a share list that they own
	// Becomes is who they are at the target, as the table says, or as is proposed: who has
	// the same address there.
	Becomes  string
	Proposed bool
	// Cause says why nothing is carried over for them; CauseNone if it is.
	Cause plan.Cause
}

// Surveyor reads share lists. Add it entries, and End it.
type Surveyor struct {
	source  store.Store
	owner   string
	waiting []store.Ref
	people  map[string]*Surveyed
	taken   Survey
}

// NewSurveyor returns one for the entries of an account; nil if it has no share lists.
func NewSurveyor(ctx context.Context, source store.Store) (*Surveyor, error) {
	if source.Capabilities().Sharing == nil {
		return nil, nil
	}
	owner, err := store.OwnerOf(ctx, source)
	return &Surveyor{source: source, owner: owner, people: map[string]*Surveyed{}}, err
}

// Add reads the share list of an entry, several of them together.
func (s *Surveyor) Add(ctx context.Context, ref store.Ref) error {
	if s.waiting = append(s.waiting, ref); len(s.waiting) < batch {
		return nil
	}
	return s.flush(ctx)
}

func (s *Surveyor) flush(ctx context.Context) error {
	lists, errs := make([]store.ShareList, len(s.waiting)), make([]error, len(s.waiting))
	var group errgroup.Group
	group.SetLimit(together)
	for i, ref := range s.waiting {
		group.Go(func() error {
			lists[i], errs[i] = readList(ctx, s.source, ref)
			return nil
		})
	}
	_ = group.Wait() // the errors are in errs
	s.waiting = s.waiting[:0]
	for i, list := range lists {
		switch {
		case store.KindOf(errs[i]) == store.ErrNotFound:
		case fatal(ctx, errs[i]):
			return errs[i]
		case errs[i] != nil:
			s.taken.Entries++
			s.taken.Unreadable++
		default:
			s.count(list)
		}
	}
	return nil
}

func (s *Surveyor) count(list store.ShareList) {
	s.taken.Entries++
	s.taken.Links += int64(list.Links)
	for _, one := range list.People {
		if person := s.person(one.Person); person != nil {
			person.Shared++
		}
	}
	if list.Owner == "" || strings.EqualFold(list.Owner, s.owner) {
		return
	}
	if person := s.person(list.Owner); person != nil {
		person.Owns++
	}
}

// person returns the count of a person; nil if there are too many.
func (s *Surveyor) person(address string) *Surveyed {
	address = strings.ToLower(address)
	if s.people[address] == nil {
		if len(s.people) >= job.MostPeople {
			s.taken.More = true
			return nil
		}
		s.people[address] = &Surveyed{Person: address}
	}
	return s.people[address]
}

// End finds out who the people are at the target, which may be nil.
func (s *Surveyor) End(ctx context.Context, target store.Store, table job.People) (Survey, error) {
	if err := s.flush(ctx); err != nil {
		return s.taken, err
	}
	for _, one := range s.people {
		s.taken.People = append(s.taken.People, *one)
	}
	slices.SortFunc(s.taken.People, func(a, b Surveyed) int {
		return cmp.Or(cmp.Compare(b.Shared+b.Owns, a.Shared+a.Owns), strings.Compare(a.Person, b.Person))
	})
	if target == nil {
		return s.taken, nil
	}
	sharing := target.Capabilities().Sharing
	s.taken.Supported = sharing != nil
	return s.taken, Match(ctx, sharing, table, s.taken.People)
}

// Match says of each person who they are at the target: by the table, or, if it does not
// name them, by the same address. sharing is the target's; nil if it has no share lists.
func Match(ctx context.Context, sharing store.Sharing, table job.People, people []Surveyed) error {
	var group errgroup.Group
	group.SetLimit(together)
	for i := range people {
		one := &people[i]
		becomes, named := table.Becomes(one.Person)
		one.Becomes, one.Proposed, one.Cause = becomes, false, plan.CauseNone
		switch {
		case sharing == nil:
			one.Cause = plan.CauseNoSharing
			continue
		case named && becomes == "":
			one.Cause = plan.CausePersonLeft
			continue
		case !named:
			one.Cause, becomes = plan.CausePersonMissing, one.Person
		}
		group.Go(func() error {
			var known bool
			err := again(ctx, func() (err error) {
				known, err = sharing.KnowsPerson(ctx, becomes)
				return err
			})
			switch {
			case err != nil:
				return err
			case named && !known:
				one.Cause = plan.CausePersonUnknown
			case !named && known:
				one.Becomes, one.Proposed = becomes, true
			}
			return nil
		})
	}
	return group.Wait()
}

// Unknown returns who of a table is not known to a target's provider, in order.
func Unknown(ctx context.Context, sharing store.Sharing, table job.People) (unknown []string, err error) {
	var people []Surveyed
	for old, becomes := range table {
		if becomes != "" {
			people = append(people, Surveyed{Person: old})
		}
	}
	if err := Match(ctx, sharing, table, people); err != nil {
		return nil, err
	}
	for _, one := range people {
		if one.Cause == plan.CausePersonUnknown {
			unknown = append(unknown, one.Becomes)
		}
	}
	slices.Sort(unknown)
	return slices.Compact(unknown), nil
}
