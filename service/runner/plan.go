package runner

import (
	"context"
	"slices"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// Plan computes what a copy would do. It writes nothing.
func (r *Runner) Plan(ctx context.Context, request contract.Copy) (contract.Plan, error) {
	p, err := r.prepareCopy(ctx, request)
	if err != nil {
		return contract.Plan{}, err
	}
	return r.plan(ctx, p)
}

func (r *Runner) plan(ctx context.Context, p prepared) (contract.Plan, error) {
	return r.planPlaces(ctx, p, nil, func(int, plan.Step) {})
}

// planPlaces plans some places, or everything if there are none. each is called with every
// step.
func (r *Runner) planPlaces(ctx context.Context, p prepared, places []transfer.TouchedPlace,
	each func(route int, step plan.Step)) (contract.Plan, error) {
	summary, err := transfer.Summarize(ctx, p.routes, p.rules, r.db, places, each)
	if err != nil {
		return contract.Plan{}, err
	}
	moving := summary.Moving()
	estimate, err := r.estimate(ctx, p.rows, moving.Items, moving.Bytes-summary.Inside.Bytes)
	if err != nil {
		return contract.Plan{}, err
	}
	shown := shownPlan(summary)
	shown.Type, shown.Seconds, shown.Basis = string(p.rules.Type), estimate.Seconds, messages.Basis(estimate)
	if summary.LackOfSpace != "" { // first, as nothing can be done before
		shown.Blockers = slices.Insert(shown.Blockers, 0, blocker(transfer.Refused{Address: "/" + p.routes[0].Target.Account,
			Cause: plan.CauseNoSpace, Why: summary.LackOfSpace}))
	}
	shown.Requests, shown.Ways = requestsOf(p.routes, summary.Requests), r.waysOf(ctx, p.routes)
	for _, row := range p.rows {
		shown.Routes = append(shown.Routes, contract.Route{From: row.From, To: row.To})
	}
	return shown, nil
}

// requestsOf are the requests that a run is expected to make, by account. Listing for the plan
// has asked every account something; one that counts no request then is on this machine.
func requestsOf(routes []transfer.Route, requests map[string]int64) []contract.AccountRequests {
	all := []contract.AccountRequests{}
	seen := map[string]bool{}
	for _, route := range routes {
		for _, side := range []transfer.Side{route.Source, route.Target} {
			if n := requests[side.Account]; n > 0 && !seen[side.Account] && side.Gate != nil && side.Gate.Stats().Requests > 0 {
				all = append(all, contract.AccountRequests{Account: side.Account, Requests: n})
			}
			seen[side.Account] = true
		}
	}
	return all
}

// shownPlan puts a summary into the words of the API.
func shownPlan(s transfer.Summary) contract.Plan {
	shown := planOf(s.Totals)
	shown.Removals, shown.Makes, shown.Free = append([]string{}, s.Removals...), append([]string{}, s.Missing...), s.Free
	shown.TakenFirst, shown.ExcludedFirst = append([]string{}, s.TakenFirst...), append([]string{}, s.ExcludedFirst...)
	shown.Blockers, shown.Names, shown.Exports = []contract.Blocker{}, []contract.Renaming{}, []contract.Exporting{}
	shown.Refusals, shown.Verification = []contract.Refusal{}, []contract.Verifying{}
	if s.OverLimits != nil {
		remedy, _ := messages.RemedyOf(s.OverLimits.Cause, messages.Subject{})
		shown.Held = &contract.Holding{Cause: string(s.OverLimits.Cause), Why: s.OverLimits.Why, Remedy: remedy}
	}
	for _, one := range s.Refused {
		shown.Blockers = append(shown.Blockers, blocker(one))
	}
	for _, one := range s.Renamed {
		shown.Names = append(shown.Names, contract.Renaming(one))
	}
	for _, one := range s.Exports {
		shown.Exports = append(shown.Exports, contract.Exporting(one))
	}
	for _, one := range s.Refusals {
		shown.Refusals = append(shown.Refusals, contract.Refusal{Cause: string(one.Cause), Meaning: messages.Of(one.Cause).Sentence,
			Items: one.Items, Bytes: one.Bytes})
	}
	for _, one := range s.Verification {
		shown.Verification = append(shown.Verification, contract.Verifying{Account: one.Account, How: messages.Verifying(one)})
	}
	return shown
}

func blocker(one transfer.Refused) contract.Blocker {
	return contract.Blocker{Address: one.Address, Cause: string(one.Cause), Why: one.Why, Remedy: messages.Of(one.Cause).Remedy}
}

func planOf(t plan.Totals) contract.Plan {
	count := func(c plan.Count) contract.Count { return contract.Count(c) }
	return contract.Plan{
		Ask: count(t.Ask), Excluded: count(t.Excluded), FoldersExcluded: t.FoldersExcluded, Inside: count(t.Inside),
		Translated: count(t.Translated), Taken: count(t.Taken),
		Create: count(t.Create), Replace: count(t.Replace), KeepBoth: count(t.KeepBoth), Look: count(t.Look), Left: count(t.Left),
		Twice: count(t.Twice), Alike: count(t.Alike), Folders: t.Folders.Items, Unchanged: count(t.Unchanged), Assumed: count(t.Assumed),
		Skipped: count(t.Skipped), Refused: count(t.Refused),
		Conflicts: t.Conflicts(), Moving: count(t.Moving()),
		Remove: count(t.Remove), FoldersRemoved: t.FoldersRemoved.Items, Moved: count(t.Moved), Back: count(t.Back), Older: count(t.Older),
	}
}

// estimate estimates how long it takes to transfer so many items and bytes: by earlier runs
// between the same accounts, or else by their speed checks.
func (r *Runner) estimate(ctx context.Context, rows []records.Route, items, bytes int64) (plan.Estimate, error) {
	if items == 0 {
		return plan.EstimateTime(0, 0, nil, nil), nil
	}
	accounts := accountsOf(rows)
	runs, _, err := r.db.FindRuns(ctx, records.RunFilter{}, 0, 100)
	if err != nil {
		return plan.Estimate{}, err
	}
	var past []plan.Past
	for _, run := range runs {
		if run.StartedAt != nil && run.EndedAt != nil && run.Interruptions == 0 && slices.Equal(accountsOf(run.Routes), accounts) {
			past = append(past, plan.Past{Took: run.EndedAt.Sub(*run.StartedAt), Bytes: run.Moved, Items: run.Done})
		}
	}
	rates, err := r.rates(ctx, rows)
	if err != nil {
		return plan.Estimate{}, err
	}
	return plan.EstimateTime(items, bytes, past, rates), nil
}

// accountsOf returns the accounts of some routes, each once, sorted.
func accountsOf(rows []records.Route) []string {
	accounts := changed(records.Run{Routes: rows})
	slices.Sort(accounts)
	return slices.Compact(accounts)
}

// rates are what the accounts of some routes read and wrote at their last speed checks; none
// if one of them was not checked.
func (r *Runner) rates(ctx context.Context, rows []records.Route) (rates []plan.Rates, err error) {
	for _, row := range rows {
		for i, text := range []string{row.From, row.To} {
			address, err := store.ParseAddress(text)
			if err != nil {
				return nil, err
			}
			speeds, err := r.accounts.Speeds(ctx, address.Account, 1)
			if err != nil || len(speeds) == 0 {
				return nil, err
			}
			phase := speeds[0].Result.Read
			if i == 1 {
				phase = speeds[0].Result.Write
			}
			rates = append(rates, plan.Rates{Bytes: phase.Rate, Items: phase.Files})
		}
	}
	return rates, nil
}
