package runner

import (
	"context"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/names"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// prepared is a copy or a job whose routes were resolved, located and checked, each once.
type prepared struct {
	spec   job.Spec // of a job
	rules  plan.Rules
	rows   []records.Route
	routes []transfer.Route // of the same order
}

// InputError is a request that is wrong in itself.
type InputError struct{ error }

// NewInputError marks an error as one of the request.
func NewInputError(err error) error { return &InputError{err} }

// Unwrap returns what is wrong.
func (e *InputError) Unwrap() error { return e.error }

// asInput marks an error that has no kind as one of the request.
func asInput(err error) error {
	if err != nil && store.KindOf(err) == nil {
		return &InputError{err}
	}
	return err
}

// prepareCopy checks a request before anything is changed.
func (r *Runner) prepareCopy(ctx context.Context, request contract.Copy) (p prepared, err error) {
	if p.rules, err = request.Settings.ReadCopy(); err != nil {
		return p, &InputError{err}
	}
	from, to, err := endsOf(request)
	if err != nil {
		return p, asInput(err)
	}
	if err := r.addCopies(ctx, &p, from, to); err != nil {
		return p, err
	}
	if err := checkDocuments(p.routes, p.rules.Documents); err != nil {
		return p, &InputError{err}
	}
	asFiles(p.routes, p.rules)
	for _, route := range p.routes {
		if err := transfer.Check(ctx, route); err != nil {
			return p, err
		}
	}
	return p, r.checkKept(ctx, p.rules, false, p.routes)
}

// addCopies adds the routes from each source to each folder.
func (r *Runner) addCopies(ctx context.Context, p *prepared, from, to []store.Address) error {
	taken := map[string]string{}
	for _, into := range to {
		folder, err := r.locate(ctx, into)
		if err != nil {
			return asInput(err)
		}
		for _, address := range from {
			source, err := r.locate(ctx, address)
			if err != nil {
				return asInput(err)
			}
			target, err := targetOf(ctx, source, folder, p.rules)
			if err != nil {
				return asInput(err)
			}
			at := target.Address.String()
			if other, twice := taken[at]; twice && p.rules.As == "" {
				return asInput(remedy.Errorf("%s and %s would both become %s; copy them to different folders", other, address, at))
			}
			taken[at] = address.String()
			if err := r.addCopy(ctx, p, source, target); err != nil {
				return err
			}
		}
	}
	return nil
}

// endsOf reads the addresses of a request.
func endsOf(request contract.Copy) (from, to []store.Address, err error) {
	for _, text := range append([]string{request.To}, request.Also...) {
		address, err := store.ParseAddress(text)
		if err != nil {
			return nil, to, err
		}
		if address.IsRoot() {
			return nil, to, remedy.Errorf("the target / is the root of all accounts; name an account to copy to, as in /desk")
		}
		to = append(to, address)
	}
	if len(request.From) == 0 {
		return nil, to, remedy.New("there is no source; name at least one address to copy from")
	}
	for _, text := range request.From {
		address, err := store.ParseAddress(text)
		if err != nil {
			return nil, to, err
		}
		if address.IsRoot() {
			return nil, to, remedy.Errorf("the source / is the root of all accounts; name the accounts to copy from, as in /desk")
		}
		from = append(from, address)
	}
	return from, to, nil
}

// addCopy adds the route between two ends; of a document, one for each format in which it is
// exported.
func (r *Runner) addCopy(ctx context.Context, p *prepared, source, target transfer.Side) error {
	row, route, err := r.between(ctx, source, target)
	if err != nil {
		return asInput(err)
	}
	entry, err := source.Store.Stat(ctx, source.Root)
	kind, ok := store.ExportsOf(source.Store, entry)
	if err != nil || !ok { // a missing source is reported by transfer.Check
		p.rows, p.routes = append(p.rows, row), append(p.routes, route)
		return nil
	}
	for _, format := range p.rules.Documents.Formats(kind) {
		one := transfer.Route{Source: sibling(source, store.ExportName(entry.Name, format)),
			Target: sibling(target, store.ExportName(target.Address.Name(), format)), Scope: row.Scope + "\n" + format}
		p.rows = append(p.rows, records.Route{From: one.Source.Address.String(), To: one.Target.Address.String(), Scope: one.Scope})
		p.routes = append(p.routes, one)
	}
	return nil
}

// targetOf returns the target of a source: its name in the folder, or a name made by a template
// below the folder.
func targetOf(ctx context.Context, source, folder transfer.Side, rules plan.Rules) (transfer.Side, error) {
	if rules.As == "" {
		return child(folder, nameIn(source, folder, rules.Names)), nil
	}
	template, err := names.ParseTemplate(rules.As)
	if err != nil {
		return folder, err
	}
	entry, err := source.Store.Stat(ctx, source.Root)
	if err != nil || entry.Kind == store.KindFolder { // a missing source is reported by transfer.Check
		return folder, nil
	}
	for _, step := range template.For(source.Account, time.Now()).Expand(names.File{Name: entry.Name, Modified: entry.Modified}) {
		folder = child(folder, step)
	}
	return folder, nil
}

// nameIn returns the name of a source in a folder: its own, unless the account of the folder
// cannot hold that.
func nameIn(source, folder transfer.Side, naming plan.Naming) string {
	name := source.Address.Name()
	if n := len(source.Address.Steps); n > 0 && source.Address.Steps[n-1].ID != "" {
		name = source.Root.Name
	}
	if naming == plan.RefuseNames {
		return name
	}
	home := names.For(source.Store.Traits()).Home(source.Root.Folder.Path, name)
	translated, err := names.For(folder.Store.Traits()).Put(folder.Root.AsFolder().Path, home)
	if err != nil {
		return name // the plan refuses it, and says why
	}
	return translated
}

// child returns the entry with a name in a folder.
func child(folder transfer.Side, name string) transfer.Side {
	return named(folder, folder.Address.Child(name), folder.Root.AsFolder().Ref(name))
}

// sibling returns the entry with a name beside a side.
func sibling(side transfer.Side, name string) transfer.Side {
	return named(side, side.Address.Parent().Child(name), side.Root.Folder.Ref(name))
}

func named(side transfer.Side, address store.Address, place store.Ref) transfer.Side {
	side.Address, side.Root = address, place
	if plain, ok := address.Place(); ok {
		side.Root = plain
	}
	return side
}

// Scope names two places by the ids of their accounts, so that their records stay when an
// account is renamed.
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

// between returns the route between two ends.
func (r *Runner) between(ctx context.Context, source, target transfer.Side) (records.Route, transfer.Route, error) {
	scope, err := r.Scope(ctx, source.Address, target.Address)
	return records.Route{From: source.Address.String(), To: target.Address.String(), Scope: scope},
		transfer.Route{Source: source, Target: target, Scope: scope}, err
}

// open opens the accounts of routes as recorded.
func (r *Runner) open(ctx context.Context, rows []records.Route) ([]transfer.Route, error) {
	var routes []transfer.Route
	for _, row := range rows {
		from, to, err := addressesOf(job.Route{From: row.From, To: row.To})
		if err != nil {
			return nil, err
		}
		route := transfer.Route{Scope: row.Scope, Contents: row.Contents}
		if route.Source, err = r.locate(ctx, from); err != nil {
			return nil, err
		}
		if route.Target, err = r.locate(ctx, to); err != nil {
			return nil, err
		}
		routes = append(routes, route)
	}
	return routes, nil
}

// addressesOf reads the addresses of a route.
func addressesOf(route job.Route) (from, to store.Address, err error) {
	if from, err = store.ParseAddress(route.From); err != nil {
		return from, to, err
	}
	to, err = store.ParseAddress(route.To)
	return from, to, err
}

// locate opens the account of an address.
func (r *Runner) locate(ctx context.Context, address store.Address) (transfer.Side, error) {
	located, err := r.tree.Locate(ctx, address)
	return transfer.Side{
		Account: located.Name, Address: address, Store: located.Store, Gate: located.Gate, Root: located.Place,
	}, err
}
