package runner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// routes makes routes of what is to be copied: each source under its own name.
func (r *Runner) routes(ctx context.Context, request contract.Copy) ([]records.Route, error) {
	to, err := store.ParseAddress(request.To)
	if err != nil {
		return nil, err
	}
	if to.IsRoot() {
		return nil, fmt.Errorf("the target / is the root of all accounts; name an account to copy to, as in /desk")
	}
	if len(request.From) == 0 {
		return nil, errors.New("there is no source; name at least one address to copy from")
	}
	names := map[string]string{}
	var routes []records.Route
	for _, text := range request.From {
		from, err := store.ParseAddress(text)
		if err != nil {
			return nil, err
		}
		if from.IsRoot() {
			return nil, fmt.Errorf("the source / is the root of all accounts; name the accounts to copy from, as in /desk")
		}
		name, err := r.nameOf(ctx, from)
		if err != nil {
			return nil, err
		}
		target := to.Child(name)
		if other, twice := names[target.String()]; twice {
			return nil, fmt.Errorf("%s and %s would both become %s; copy them to different folders", other, from, target)
		}
		names[target.String()] = from.String()
		route := records.Route{From: from.String(), To: target.String()}
		if route.Scope, err = r.Scope(ctx, from, target); err != nil {
			return nil, err
		}
		routes = append(routes, route)
	}
	return routes, nil
}

// nameOf is the name of what is at an address, which may name it by its id.
func (r *Runner) nameOf(ctx context.Context, address store.Address) (string, error) {
	if n := len(address.Steps); n == 0 || address.Steps[n-1].ID == "" {
		return address.Name(), nil
	}
	located, err := r.tree.Locate(ctx, address)
	return located.Place.Name, err
}

// Scope names two places by the accounts' ids, so that what is remembered of
// them stays when an account is renamed.
func (r *Runner) Scope(ctx context.Context, from, to store.Address) (string, error) {
	var parts []string
	for _, address := range []store.Address{from, to} {
		id, err := r.accounts.ID(ctx, address.Account)
		if err != nil {
			return "", err
		}
		parts = append(parts, id+strings.TrimPrefix(address.String(), "/"+address.Account))
	}
	return strings.Join(parts, "\n"), nil
}

// open opens a route's accounts.
func (r *Runner) open(ctx context.Context, rows []records.Route) ([]transfer.Route, error) {
	var routes []transfer.Route
	for _, row := range rows {
		route := transfer.Route{Scope: row.Scope}
		for text, side := range map[string]*transfer.Side{row.From: &route.Source, row.To: &route.Target} {
			address, err := store.ParseAddress(text)
			if err != nil {
				return nil, err
			}
			located, err := r.tree.Locate(ctx, address)
			if err != nil {
				return nil, err
			}
			*side = transfer.Side{
				Account: located.Name, Address: address, Store: located.Store, Gate: located.Gate, Root: located.Place,
			}
		}
		routes = append(routes, route)
	}
	return routes, nil
}

// prepare checks a request before anything is changed.
func (r *Runner) prepare(ctx context.Context, request contract.Copy) ([]records.Route, []transfer.Route, plan.Rules, error) {
	clash, err := plan.ParseClash(request.Clash)
	if err != nil {
		return nil, nil, plan.Rules{}, &InputError{err}
	}
	rules := plan.Rules{Clash: clash}
	if rules.Documents, err = plan.ParseDocuments(request.Documents); err != nil {
		return nil, nil, plan.Rules{}, &InputError{err}
	}
	rows, err := r.routes(ctx, request)
	if err != nil {
		return nil, nil, plan.Rules{}, &InputError{err}
	}
	if rows, err = r.expand(ctx, rows, rules); err != nil {
		return nil, nil, plan.Rules{}, err
	}
	routes, err := r.open(ctx, rows)
	if err != nil {
		return nil, nil, plan.Rules{}, err
	}
	if err := checkDocuments(routes, rules.Documents); err != nil {
		return nil, nil, plan.Rules{}, &InputError{err}
	}
	asFiles(routes, rules)
	for _, route := range routes {
		if err := transfer.Check(ctx, route); err != nil {
			return nil, nil, plan.Rules{}, err
		}
	}
	return rows, routes, rules, nil
}

// InputError is a request that cannot be meant.
type InputError struct{ error }

// Unwrap returns what is wrong.
func (e *InputError) Unwrap() error { return e.error }

// Plan computes what a copy would do.
func (r *Runner) Plan(ctx context.Context, request contract.Copy) (contract.Plan, error) {
	rows, routes, rules, err := r.prepare(ctx, request)
	if err != nil {
		return contract.Plan{}, err
	}
	const mostBlockers = 100
	blockers := []contract.Blocker{}
	exports := map[string]*contract.Exporting{}
	totals, err := transfer.Plan(ctx, routes, rules, transfer.Pairs(ctx, r.db), func(route int, step plan.Step) error {
		if format := store.ExportedAs(step.Source); format != "" && (step.Action == plan.Create || step.Action.Writes()) {
			mark := step.Source.Document + " " + format
			if exports[mark] == nil {
				exports[mark] = &contract.Exporting{Document: step.Source.Document, Format: format}
			}
			exports[mark].Items++
		}
		if step.Action == plan.Refuse && len(blockers) < mostBlockers {
			blockers = append(blockers, contract.Blocker{
				Address: routes[route].SourceAddress(transfer.Item{Key: step.Key, Kind: step.Kind}),
				Cause:   string(step.Cause), Why: step.Why, Remedy: step.Cause.Words().Remedy,
			})
		}
		return nil
	})
	if err != nil {
		return contract.Plan{}, err
	}
	result := planOf(totals)
	if why := transfer.LackOfSpace(ctx, routes, totals.Moving().Bytes); why != "" {
		// First, as it stands in the way of all.
		blockers = slices.Insert(blockers, 0, contract.Blocker{
			Address: "/" + routes[0].Target.Account, Cause: string(plan.CauseNoSpace), Why: why, Remedy: plan.CauseNoSpace.Words().Remedy,
		})
	}
	result.Blockers = blockers
	result.Exports = []contract.Exporting{}
	for _, mark := range slices.Sorted(maps.Keys(exports)) {
		result.Exports = append(result.Exports, *exports[mark])
	}
	for _, row := range rows {
		result.Routes = append(result.Routes, contract.Route{From: row.From, To: row.To})
	}
	return result, nil
}

func planOf(t plan.Totals) contract.Plan {
	count := func(c plan.Count) contract.Count { return contract.Count(c) }
	return contract.Plan{
		Create: count(t.Create), Replace: count(t.Replace), KeepBoth: count(t.KeepBoth), Look: count(t.Look), Left: count(t.Left),
		Folders: t.Folders.Items, Unchanged: count(t.Unchanged), Skipped: count(t.Skipped), Refused: count(t.Refused),
		Clashes: t.Clashes(), Moving: count(t.Moving()),
	}
}
