package transfer

import (
	"cmp"
	"context"
	"slices"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/view"
)

// mostListed is how many names of each kind a summary lists.
const mostListed = 100

// Summary is what a run over some routes would do.
type Summary struct {
	plan.Totals
	// OverLimits says that the run would be held, and why; nil if it would not be.
	OverLimits *plan.OverLimits
	// Refused, Renamed and Removals list the first hundred: items that the target cannot
	// hold, names that are translated, files that are deleted.
	Refused  []Refused
	Renamed  []Renamed
	Removals []string
	Refusals []Refusals // by cause
	Exports  []Exported // by document and format
	// Missing are the targets that do not exist yet.
	Missing []string
	// LackOfSpace says that the target has too little space; empty if it has enough, or if
	// the space is unknown.
	LackOfSpace string
	Free        int64 // bytes at the first target; less than 0 if unknown
	// TakenFirst and ExcludedFirst are the addresses of the first files that a filter takes, and
	// of the first files and folders that it excludes.
	TakenFirst, ExcludedFirst []string
	// Requests are how many requests the run is expected to make, by account.
	Requests     map[string]int64
	Verification []Verifying
}

// Refused is an item that the target cannot hold.
type Refused struct {
	Address string
	Cause   plan.Cause
	Why     string
}

// Renamed is an item whose name is translated.
type Renamed struct{ Address, Target string }

// Refusals are the items that are refused for one cause.
type Refusals struct {
	Cause plan.Cause
	plan.Count
}

// Exported is a kind of documents that is exported in a format.
type Exported struct {
	Document, Format string
	Items            int64
}

// Verifying is how files written to an account are verified: at a Level, with the kind of hash
// that the account reports; Kind is empty if it reports none.
type Verifying struct {
	Account string
	Level   store.VerifyLevel
	Kind    store.HashKind
}

// Summarize computes what a run over the routes would do, as Plan does, and calls each with
// every step. It writes nothing but what store.Prepare may.
func Summarize(ctx context.Context, routes []Route, rules plan.Rules, memory Memory, places []TouchedPlace,
	each func(route int, step plan.Step)) (Summary, error) {
	s := summing{routes: routes, hasMoved: map[string]bool{}}
	s.Requests = map[string]int64{}
	var err error
	s.Totals, err = Plan(ctx, routes, rules, memory, places, PlanListener{Moved: s.moved, Filtered: s.filtered,
		Step: func(route int, step plan.Step) error {
			each(route, step)
			s.add(route, step)
			return nil
		}})
	if err != nil {
		return s.Summary, err
	}
	s.Removals = slices.DeleteFunc(s.Removals, func(address string) bool { return s.hasMoved[address] })
	s.Removals = s.Removals[:min(len(s.Removals), mostListed)]
	slices.SortFunc(s.Exports, func(a, b Exported) int {
		return cmp.Or(cmp.Compare(a.Document, b.Document), cmp.Compare(a.Format, b.Format))
	})
	slices.SortFunc(s.Refusals, func(a, b Refusals) int { return cmp.Compare(a.Cause, b.Cause) })
	s.OverLimits = rules.Safety.Holds(s.Totals)
	s.LackOfSpace = LackOfSpace(ctx, routes, s.Moving().Bytes)
	s.Free = -1
	if space, err := store.SpaceOf(ctx, routes[0].Target.Store); err == nil {
		s.Free = space.Free
	}
	s.Verification = verifications(routes, rules)
	s.Missing, err = missingTargets(ctx, routes)
	return s.Summary, err
}

// summing collects a summary while its steps are planned.
type summing struct {
	Summary
	routes   []Route
	hasMoved map[string]bool // of removals, whether the file has only moved
}

func (s *summing) add(number int, step plan.Step) {
	route, item := s.routes[number], Item{Key: step.Key, To: step.To, Kind: step.Kind}
	s.addRequests(route, step)
	if format := view.ExportedAs(step.Source); format != "" && step.Moves() {
		i := slices.IndexFunc(s.Exports, func(one Exported) bool { return one.Document == step.Source.Document && one.Format == format })
		if i < 0 {
			i = len(s.Exports)
			s.Exports = append(s.Exports, Exported{Document: step.Source.Document, Format: format})
		}
		s.Exports[i].Items++
	}
	if step.Moves() && step.Translated && len(s.Renamed) < mostListed {
		s.Renamed = append(s.Renamed, Renamed{Address: route.SourceAddress(item), Target: route.TargetAddress(item, "")})
	}
	// More than are listed: some may only have moved.
	if step.Action == plan.Remove && step.Kind != store.KindFolder && len(s.Removals) < 10*mostListed {
		address := removedAddress(route, step.Back, item)
		s.Removals = append(s.Removals, address)
		s.hasMoved[address] = false
	}
	if step.Action != plan.Refuse {
		return
	}
	i := slices.IndexFunc(s.Refusals, func(one Refusals) bool { return one.Cause == step.Cause })
	if i < 0 {
		i = len(s.Refusals)
		s.Refusals = append(s.Refusals, Refusals{Cause: step.Cause})
	}
	s.Refusals[i].Items++
	s.Refusals[i].Bytes += max(0, step.Source.Size)
	if len(s.Refused) < mostListed {
		s.Refused = append(s.Refused, Refused{Address: route.SourceAddress(item), Cause: step.Cause, Why: step.Why})
	}
}

// addRequests counts the requests of a step, if none fails: one to read a file and one to write
// it; for a file in parts one for each part, one to start and one to complete the upload; one
// for a copy inside the account, a folder or a removal.
func (s *summing) addRequests(route Route, step plan.Step) {
	from, to := route.Source, route.Target
	if step.Back {
		from, to = to, from
	}
	switch {
	case step.Action == plan.MakeFolder || step.Action == plan.Remove || step.Action == plan.Clear || step.Origin != nil:
		s.Requests[to.Account]++
	case step.Moves():
		s.Requests[from.Account]++
		s.Requests[to.Account]++
		if _, limits, ok := store.Parts(to.Store, step.Source.Size); ok {
			size := limits.Size(step.Source.Size)
			s.Requests[to.Account] += 1 + (step.Source.Size+size-1)/size
		}
	}
}

// filtered keeps examples of what a filter took and left out.
func (s *summing) filtered(number int, sieve *plan.Sieve) {
	address := func(listed store.Listed) string {
		return s.routes[number].SourceAddress(Item{Key: listed.Key(), Kind: listed.Kind})
	}
	for _, listed := range sieve.Examples.Taken {
		s.TakenFirst = append(s.TakenFirst, address(listed))
	}
	for _, listed := range sieve.Examples.Excluded {
		s.ExcludedFirst = append(s.ExcludedFirst, address(listed))
	}
}

// moved notes that a file is not removed but has moved. It is called after all steps of a
// route.
func (s *summing) moved(route int, back bool, at store.Key) {
	address := removedAddress(s.routes[route], back, Item{Key: at, Kind: store.KindFile})
	if _, listed := s.hasMoved[address]; listed {
		s.hasMoved[address] = true
	}
}

// removedAddress is the address of an item that is removed: at the target, or with back at
// the source.
func removedAddress(route Route, back bool, item Item) string {
	if back {
		return route.SourceAddress(item)
	}
	return route.TargetAddress(item, "")
}

// missingTargets returns the addresses of targets that do not exist yet.
func missingTargets(ctx context.Context, routes []Route) (missing []string, err error) {
	for _, route := range routes {
		_, err := route.Target.Store.Stat(ctx, route.Target.Root)
		switch address := route.Target.Address.String(); {
		case store.KindOf(err) == store.ErrNotFound && !slices.Contains(missing, address):
			missing = append(missing, address)
		case err != nil && store.KindOf(err) != store.ErrNotFound:
			return missing, err
		}
	}
	return missing, nil
}

// verifications returns how the files written to each target are verified.
func verifications(routes []Route, rules plan.Rules) (all []Verifying) {
	for _, route := range routes {
		one := Verifying{Account: route.Target.Account, Level: rules.Verification, Kind: route.Target.Store.Traits().VerificationKind}
		if !slices.Contains(all, one) {
			all = append(all, one)
		}
	}
	return all
}
