package runner

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/core/view"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// mostShown is how many blockers, and how many names, a plan lists.
const mostShown = 100

// Plan computes what a copy would do. It writes nothing.
func (r *Runner) Plan(ctx context.Context, request contract.Copy) (contract.Plan, error) {
	rows, routes, rules, err := r.prepare(ctx, request)
	if err != nil {
		return contract.Plan{}, err
	}
	return r.plan(ctx, rows, routes, rules)
}

func (r *Runner) plan(ctx context.Context, rows []records.Route, routes []transfer.Route, rules plan.Rules) (contract.Plan, error) {
	return r.planPlaces(ctx, prepared{rows: rows, routes: routes, rules: rules}, nil, func(int, plan.Step) {})
}

// planPlaces plans what is at some places, or everything where there are none. each is
// told of every step.
func (r *Runner) planPlaces(ctx context.Context, p prepared, places []transfer.TouchedPlace,
	each func(route int, step plan.Step)) (contract.Plan, error) {
	rows, routes, rules := p.rows, p.routes, p.rules
	l := planListing{routes: routes, blockers: []contract.Blocker{}, names: []contract.Renaming{}, removals: []string{},
		hasMoved: map[string]bool{}, exports: map[string]*contract.Exporting{}, refusals: map[plan.Cause]*contract.Refusal{}}
	totals, err := transfer.Plan(ctx, routes, rules, r.db, places, func(route int, step plan.Step) error {
		each(route, step)
		return l.step(route, step)
	}, l.moved)
	if err != nil {
		return contract.Plan{}, err
	}
	result := planOf(totals)
	l.removals = slices.DeleteFunc(l.removals, func(address string) bool { return l.hasMoved[address] })
	result.Removals, result.Type = l.removals[:min(len(l.removals), mostShown)], string(rules.Type)
	if overLimits := rules.Safety.Holds(totals); overLimits != nil {
		remedy, _ := messages.RemedyOf(overLimits.Cause, messages.Subject{})
		result.Held = &contract.Holding{Cause: string(overLimits.Cause), Why: overLimits.Why, Remedy: remedy}
	}
	result.Blockers, result.Names, result.Exports, result.Refusals = l.blockers, l.names, []contract.Exporting{}, []contract.Refusal{}
	sending := totals.Moving().Bytes - totals.Inside.Bytes
	if why := transfer.LackOfSpace(ctx, routes, totals.Moving().Bytes); why != "" {
		// First, as it stands in the way of all.
		result.Blockers = slices.Insert(result.Blockers, 0, contract.Blocker{
			Address: "/" + routes[0].Target.Account, Cause: string(plan.CauseNoSpace), Why: why, Remedy: messages.Of(plan.CauseNoSpace).Remedy,
		})
	}
	for _, mark := range slices.Sorted(maps.Keys(l.exports)) {
		result.Exports = append(result.Exports, *l.exports[mark])
	}
	for _, cause := range slices.Sorted(maps.Keys(l.refusals)) {
		result.Refusals = append(result.Refusals, *l.refusals[cause])
	}
	for _, row := range rows {
		result.Routes = append(result.Routes, contract.Route{From: row.From, To: row.To})
	}
	result.Free = -1
	if space, err := store.SpaceOf(ctx, routes[0].Target.Store); err == nil {
		result.Free = space.Free
	}
	if result.Makes, err = missing(ctx, routes); err != nil {
		return result, err
	}
	result.Verification = verifications(routes, rules)
	result.Seconds, result.Basis, err = r.estimate(ctx, rows, totals.Moving().Items, sending)
	return result, err
}

// planListing collects what a plan lists.
type planListing struct {
	routes   []transfer.Route
	blockers []contract.Blocker
	names    []contract.Renaming
	removals []string
	hasMoved map[string]bool // of removals, whether it has only moved
	exports  map[string]*contract.Exporting
	refusals map[plan.Cause]*contract.Refusal
}

func (l *planListing) step(route int, step plan.Step) error {
	item := transfer.Item{Key: step.Key, To: step.To, Kind: step.Kind}
	if format := view.ExportedAs(step.Source); format != "" && step.Moves() {
		mark := step.Source.Document + " " + format
		if l.exports[mark] == nil {
			l.exports[mark] = &contract.Exporting{Document: step.Source.Document, Format: format}
		}
		l.exports[mark].Items++
	}
	if step.Moves() && step.Translated && len(l.names) < mostShown {
		l.names = append(l.names, contract.Renaming{Address: l.routes[route].SourceAddress(item),
			Target: l.routes[route].TargetAddress(item, "")})
	}
	if step.Action == plan.Remove && step.Kind != store.KindFolder && len(l.removals) < 10*mostShown { // some of them may only have moved
		address := l.removed(route, step.Back, item)
		l.removals = append(l.removals, address)
		l.hasMoved[address] = false
	}
	if step.Action != plan.Refuse {
		return nil
	}
	if l.refusals[step.Cause] == nil {
		l.refusals[step.Cause] = &contract.Refusal{Cause: string(step.Cause), Meaning: messages.Of(step.Cause).Sentence}
	}
	l.refusals[step.Cause].Items++
	l.refusals[step.Cause].Bytes += max(0, step.Source.Size)
	if len(l.blockers) < mostShown {
		l.blockers = append(l.blockers, contract.Blocker{
			Address: l.routes[route].SourceAddress(item), Cause: string(step.Cause), Why: step.Why, Remedy: messages.Of(step.Cause).Remedy,
		})
	}
	return nil
}

// removed is the address of an item that is removed: at the target, or for back at the
// source.
func (l *planListing) removed(route int, back bool, item transfer.Item) string {
	if back {
		return l.routes[route].SourceAddress(item)
	}
	return l.routes[route].TargetAddress(item, "")
}

// moved notes what is not removed but has moved. It is told after all steps of a route.
func (l *planListing) moved(route int, back bool, at store.Key) {
	address := l.removed(route, back, transfer.Item{Key: at, Kind: store.KindFile})
	if _, listed := l.hasMoved[address]; listed {
		l.hasMoved[address] = true
	}
}

// missing are the targets that are not there yet.
func missing(ctx context.Context, routes []transfer.Route) ([]string, error) {
	all := []string{}
	for _, route := range routes {
		_, err := route.Target.Store.Stat(ctx, route.Target.Root)
		switch address := route.Target.Address.String(); {
		case store.KindOf(err) == store.ErrNotFound && !slices.Contains(all, address):
			all = append(all, address)
		case err != nil && store.KindOf(err) != store.ErrNotFound:
			return all, err
		}
	}
	return all, nil
}

// verifications says how what is written to each target is verified.
func verifications(routes []transfer.Route, rules plan.Rules) []contract.Verifying {
	all := []contract.Verifying{}
	for _, route := range routes {
		one := contract.Verifying{Account: route.Target.Account}
		kind := route.Target.Store.Traits().VerificationKind
		switch {
		case rules.Verification == store.VerifyByReading:
			one.How = "read back and compared with what was sent"
		case kind != "":
			one.How = fmt.Sprintf("the %s that the target reports is compared with that of the bytes sent", kind)
		case rules.Verification == store.VerifyBySize:
			one.How = "by size only, as requested"
		default:
			one.How = "read back, because the target reports no hash"
		}
		if !slices.Contains(all, one) {
			all = append(all, one)
		}
	}
	return all
}

// estimate tells by earlier runs between the same accounts, or else by their speed
// checks, how many seconds it may take; -1 where there is neither.
func (r *Runner) estimate(ctx context.Context, rows []records.Route, items, bytes int64) (float64, string, error) {
	if items == 0 {
		return 0, "nothing is to be moved", nil
	}
	accounts := changed(records.Run{Routes: rows})
	slices.Sort(accounts)
	accounts = slices.Compact(accounts)
	past, err := r.db.Runs(ctx, 0, 100)
	if err != nil {
		return -1, "", err
	}
	var seconds, moved, done float64
	runs := 0
	for _, run := range past {
		theirs := changed(run)
		slices.Sort(theirs)
		if run.StartedAt == nil || run.EndedAt == nil || run.Done < 10 || run.Interruptions > 0 ||
			!slices.Equal(slices.Compact(theirs), accounts) {
			continue
		}
		seconds += run.EndedAt.Sub(*run.StartedAt).Seconds()
		moved, done = moved+float64(run.Moved), done+float64(run.Done)
		if runs++; runs == 5 {
			break
		}
	}
	if seconds > 0.2 && moved > 0 {
		took := max(float64(bytes)/(moved/seconds), float64(items)/(done/seconds))
		if runs == 1 {
			return took, "the last run between these accounts", nil
		}
		return took, fmt.Sprintf("the last %d runs between these accounts", runs), nil
	}
	return r.estimateBySpeed(ctx, rows, items, bytes)
}

func (r *Runner) estimateBySpeed(ctx context.Context, rows []records.Route, items, bytes int64) (float64, string, error) {
	slowest, operations := 0.0, 0.0
	for _, row := range rows {
		for i, text := range []string{row.From, row.To} {
			address, err := store.ParseAddress(text)
			if err != nil {
				return -1, "", err
			}
			speeds, err := r.accounts.Speeds(ctx, address.Account, 1)
			if err != nil || len(speeds) == 0 {
				return -1, "", err
			}
			phase := speeds[0].Result.Read
			if i == 1 {
				phase = speeds[0].Result.Write
			}
			if rate := phase.Rate; rate > 0 && (slowest == 0 || rate < slowest) {
				slowest = rate
			}
			if rate := phase.Files; rate > 0 && (operations == 0 || rate < operations) {
				operations = rate
			}
		}
	}
	if slowest == 0 || operations == 0 {
		return -1, "", nil
	}
	// What is large moves at the one, and what is small at the other.
	return max(float64(bytes)/slowest, float64(items)/operations), "the accounts' last speed checks", nil
}
