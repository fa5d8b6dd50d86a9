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
	if err != nil {
		return routes, err
	}
	if err := r.asTheyWere(ctx, routes, rules); err != nil {
		return nil, err
	}
	asFiles(routes, rules)
	return routes, nil
}

// asTheyWere has the sources of routes be what they were at the time of the rules.
func (r *Runner) asTheyWere(ctx context.Context, routes []transfer.Route, rules plan.Rules) (err error) {
	if rules.At.IsZero() {
		return nil
	}
	for i := range routes {
		source := &routes[i].Source
		if source.Store, err = r.asOf(ctx, source.Account, source.Store, rules.At); err != nil {
			return err
		}
	}
	return nil
}

// asFiles shows the documents of routes' sources as files.
func asFiles(routes []transfer.Route, rules plan.Rules) {
	for i := range routes {
		routes[i].Source.Store = view.Exports(routes[i].Source.Store, rules.Documents)
	}
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
