package runner

import (
	"context"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/names"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// routes makes routes of what is to be copied: each source under its own name.
func (r *Runner) routes(ctx context.Context, request contract.Copy, rules plan.Rules) ([]records.Route, error) {
	to, err := store.ParseAddress(request.To)
	if err != nil {
		return nil, err
	}
	if to.IsRoot() {
		return nil, remedy.Errorf("the target / is the root of all accounts; name an account to copy to, as in /desk")
	}
	if len(request.From) == 0 {
		return nil, remedy.New("there is no source; name at least one address to copy from")
	}
	taken := map[string]string{}
	var routes []records.Route
	for _, text := range request.From {
		from, err := store.ParseAddress(text)
		if err != nil {
			return nil, err
		}
		if from.IsRoot() {
			return nil, remedy.Errorf("the source / is the root of all accounts; name the accounts to copy from, as in /desk")
		}
		target, err := r.targetOf(ctx, from, to, rules)
		if err != nil {
			return nil, err
		}
		if other, twice := taken[target.String()]; twice && rules.As == "" {
			return nil, remedy.Errorf("%s and %s would both become %s; copy them to different folders", other, from, target)
		}
		taken[target.String()] = from.String()
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

// targetOf is what a source becomes: by its name in the folder that is copied to, or
// by the names that a template makes below it.
func (r *Runner) targetOf(ctx context.Context, from, to store.Address, rules plan.Rules) (store.Address, error) {
	if rules.As == "" {
		name, err := r.nameAt(ctx, from, to, rules.Names)
		return to.Child(name), err
	}
	template, err := names.ParseTemplate(rules.As)
	if err != nil {
		return to, err
	}
	located, err := r.tree.Locate(ctx, from)
	if err != nil {
		return to, err
	}
	entry, err := located.Store.Stat(ctx, located.Place)
	if err != nil || entry.Kind == store.KindFolder { // what is not there is found by who looks for it
		return to, nil
	}
	for _, step := range template.For(from.Account, time.Now()).Expand(names.File{Name: entry.Name, Modified: entry.Modified}) {
		to = to.Child(step)
	}
	return to, nil
}

// nameAt is the name that what is at an address is to have in a folder: its own,
// unless the account there cannot hold that.
func (r *Runner) nameAt(ctx context.Context, from, to store.Address, naming plan.Naming) (string, error) {
	name, err := r.nameOf(ctx, from)
	if err != nil || naming == plan.RefuseNames {
		return name, err
	}
	source, err := r.tree.Locate(ctx, from)
	if err != nil {
		return "", err
	}
	target, err := r.tree.Locate(ctx, to)
	if err != nil {
		return "", err
	}
	home := names.For(source.Store.Traits()).Home(source.Place.Folder.Path, name)
	translated, err := names.For(target.Store.Traits()).Put(target.Place.AsFolder().Path, home)
	if err != nil {
		return name, nil // which is refused with more words
	}
	return translated, nil
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
		address.Folder = false // a closing slash leads to the same place
		parts = append(parts, id+strings.TrimPrefix(address.String(), "/"+address.Account))
	}
	return strings.Join(parts, "\n"), nil
}

// open opens a route's accounts.
func (r *Runner) open(ctx context.Context, rows []records.Route) ([]transfer.Route, error) {
	var routes []transfer.Route
	for _, row := range rows {
		route := transfer.Route{Scope: row.Scope, Contents: row.Contents}
		var err error
		if route.Source, err = r.side(ctx, row.From); err != nil {
			return nil, err
		}
		if route.Target, err = r.side(ctx, row.To); err != nil {
			return nil, err
		}
		routes = append(routes, route)
	}
	return routes, nil
}

// side opens the account of an address.
func (r *Runner) side(ctx context.Context, text string) (transfer.Side, error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return transfer.Side{}, err
	}
	located, err := r.tree.Locate(ctx, address)
	return transfer.Side{
		Account: located.Name, Address: address, Store: located.Store, Gate: located.Gate, Root: located.Place,
	}, err
}

// prepare checks a request before anything is changed.
func (r *Runner) prepare(ctx context.Context, request contract.Copy) ([]records.Route, []transfer.Route, plan.Rules, error) {
	rules, err := request.Settings.ReadCopy()
	if err != nil {
		return nil, nil, plan.Rules{}, &InputError{err}
	}
	rows, err := r.routes(ctx, request, rules)
	if err != nil && store.KindOf(err) == nil {
		err = &InputError{err}
	}
	if err != nil {
		return nil, nil, plan.Rules{}, err
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

// NewInputError marks an error as one of the request.
func NewInputError(err error) error { return &InputError{err} }

// Unwrap returns what is wrong.
func (e *InputError) Unwrap() error { return e.error }

func planOf(t plan.Totals) contract.Plan {
	count := func(c plan.Count) contract.Count { return contract.Count(c) }
	return contract.Plan{
		Ask: count(t.Ask), Excluded: count(t.Excluded), FoldersExcluded: t.FoldersExcluded, Inside: count(t.Inside),
		Translated: count(t.Translated),
		Create:     count(t.Create), Replace: count(t.Replace), KeepBoth: count(t.KeepBoth), Look: count(t.Look), Left: count(t.Left),
		Twice: count(t.Twice), Alike: count(t.Alike), Folders: t.Folders.Items, Unchanged: count(t.Unchanged), Assumed: count(t.Assumed),
		Skipped: count(t.Skipped), Refused: count(t.Refused),
		Conflicts: t.Conflicts(), Moving: count(t.Moving()),
		Remove: count(t.Remove), FoldersRemoved: t.FoldersRemoved.Items, Moved: count(t.Moved), Back: count(t.Back), Older: count(t.Older),
	}
}
