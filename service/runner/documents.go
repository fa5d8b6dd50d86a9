package runner

import (
	"context"
	"slices"
	"strings"

	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/core/view"
	"deftheron/service/records"
)

// openAs opens a route's accounts, with the documents of its sources as files.
func (r *Runner) openAs(ctx context.Context, rows []records.Route, rules plan.Rules) ([]transfer.Route, error) {
	routes, err := r.open(ctx, rows)
	asFiles(routes, rules)
	return routes, err
}

// asFiles shows the documents of routes' sources as files.
func asFiles(routes []transfer.Route, rules plan.Rules) {
	for i := range routes {
		routes[i].Source.Store = view.Exports(routes[i].Source.Store, rules.Documents)
	}
}

// expand makes of a route whose source is a document one for each format that
// it is exported as.
func (r *Runner) expand(ctx context.Context, rows []records.Route, rules plan.Rules) ([]records.Route, error) {
	opened, err := r.open(ctx, rows)
	if err != nil {
		return nil, err
	}
	var all []records.Route
	for i, row := range rows {
		entry, err := opened[i].Source.Store.Stat(ctx, opened[i].Source.Root)
		kind, ok := store.ExportsOf(opened[i].Source.Store, entry)
		if err != nil || !ok { // what is not there is found by who looks for it
			all = append(all, row)
			continue
		}
		for _, format := range rules.Documents.Formats(kind) {
			from, to := opened[i].Source.Address, opened[i].Target.Address
			one := records.Route{From: from.Parent().Child(store.ExportName(entry.Name, format)).String(),
				To: to.Parent().Child(store.ExportName(to.Name(), format)).String()}
			one.Scope = row.Scope + "\n" + format
			all = append(all, one)
		}
	}
	return all, nil
}

// checkDocuments holds a rule for documents against what the sources offer.
func checkDocuments(routes []transfer.Route, choice view.ExportFormats) error {
	offered := map[string][]string{}
	for _, route := range routes {
		for _, kind := range store.DocumentKindsOf(route.Source.Store) {
			for _, format := range kind.Formats {
				offered[kind.Class] = append(offered[kind.Class], format.Name)
			}
		}
	}
	if len(offered) == 0 {
		return nil
	}
	for class, formats := range choice {
		for _, format := range formats {
			if !slices.Contains(offered[class], format) {
				slices.Sort(offered[class])
				return remedy.Errorf("documents of the class %s cannot be exported as %q; there are %s", class, format,
					strings.Join(slices.Compact(offered[class]), ", "))
			}
		}
	}
	return nil
}
