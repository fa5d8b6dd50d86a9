package runner

import (
	"context"

	"deftheron/core/job"
	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// everyFolder, as the last step of a source, stands for each folder there is at the time of
// a run: a member of an organisation who joins later is included, and what was copied of one
// who left stays as it is.
const everyFolder = "*"

// eachFolder returns the routes with those that end in /* replaced by one for each folder.
// starting says that the folders of the last run count if they cannot be listed now.
func (r *Runner) eachFolder(ctx context.Context, spec job.Spec, rules plan.Rules, starting bool) ([]job.Route, error) {
	var routes []job.Route
	for _, one := range spec.Routes {
		from, to, err := addressesOf(one)
		if err != nil {
			return nil, err
		}
		if len(from.Steps) == 0 || from.Steps[len(from.Steps)-1] != (store.Step{Name: everyFolder}) {
			routes = append(routes, one)
			continue
		}
		found, err := r.foldersOf(ctx, from.Parent(), to, rules)
		if starting && (store.KindOf(err) == store.ErrTryAgain || store.WaitsForPerson(err)) {
			found, err = r.foldersBefore(ctx, spec.Name, from.Parent(), err)
		}
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			return nil, store.Errorf(store.ErrNotFound, "there is no folder in %s; look at what is there", from.Parent())
		}
		routes = append(routes, found...)
	}
	return routes, nil
}

// foldersOf returns a route for each folder in a folder.
func (r *Runner) foldersOf(ctx context.Context, parent, to store.Address, rules plan.Rules) (routes []job.Route, err error) {
	in, err := r.locate(ctx, parent)
	if err != nil {
		return nil, err
	}
	target, err := r.locate(ctx, to)
	if err != nil {
		return nil, err
	}
	folder := in.Root.AsFolder()
	for entry, err := range listing.Sorted(ctx, in.Store, folder) {
		if err != nil {
			return nil, err
		}
		if entry.Kind != store.KindFolder || store.Ours(folder.Path, entry.Name) {
			continue
		}
		source := child(in, entry.Name)
		routes = append(routes, job.Route{From: source.Address.String(), To: to.Child(nameIn(source, target, rules.Names)).String()})
	}
	return routes, nil
}

// foldersBefore are the routes that the last run had for the folders in a folder. why is the
// error where there was none.
func (r *Runner) foldersBefore(ctx context.Context, name string, parent store.Address, why error) (routes []job.Route, err error) {
	last, err := r.db.LastRun(ctx, name)
	if err != nil {
		return nil, why
	}
	for _, one := range last.Routes {
		from, err := store.ParseAddress(one.From)
		if err == nil && len(from.Steps) == len(parent.Steps)+1 && from.Parent().String() == parent.String() {
			routes = append(routes, job.Route{From: one.From, To: one.To})
		}
	}
	if len(routes) == 0 {
		return nil, why
	}
	return routes, nil
}
