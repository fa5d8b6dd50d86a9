package runner

import (
	"context"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/live"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// ItemFilter chooses items of a run; its zero value takes all.
type ItemFilter struct {
	State  transfer.State
	Cause  plan.Cause
	Action plan.Action
	Folder string // an address at the source or the target
	Text   string // in the path of the item
}

// Items returns a page of the items of a run that a filter takes, in order, after a seq, and the
// seq to go on after; 0 at the end. A page may have fewer than most, and still go on.
func (r *Runner) Items(ctx context.Context, id string, filter ItemFilter, after int64, most int) ([]contract.Item, int64, error) {
	run, err := r.db.Run(ctx, id)
	if err != nil {
		return nil, 0, err
	}
	routes := Addressed(run)
	chosen := records.ItemFilter{State: filter.State, Cause: filter.Cause, Action: filter.Action, Text: filter.Text}
	if filter.Folder != "" {
		if chosen.Below, err = foldersOf(id, routes, filter.Folder); err != nil {
			return nil, 0, err
		}
	}
	rows, next, err := r.db.FindItems(ctx, run.Number, chosen, after, most)
	if err != nil {
		return nil, 0, err
	}
	items := make([]contract.Item, len(rows))
	for i, row := range rows {
		items[i] = ItemOf(run.ID, row, routes)
	}
	return items, next, nil
}

// foldersOf are the folders of the routes of a run that a folder is or contains.
func foldersOf(id string, routes []transfer.Route, text string) (folders []records.ItemFolder, err error) {
	folder, err := store.ParseAddress(text)
	if err != nil {
		return nil, &InputError{err}
	}
	for i, route := range routes {
		for _, side := range []struct {
			address  store.Address
			atTarget bool
		}{{route.Source.Address, false}, {route.Target.Address, true}} {
			switch {
			case folder.Contains(side.address):
				folders = append(folders, records.ItemFolder{Route: i})
			case side.address.Contains(folder):
				var prefix store.Key
				for _, step := range folder.Steps[len(side.address.Steps):] {
					prefix = store.KeyOf(store.Path(prefix), step.Name, store.KindFolder)
				}
				folders = append(folders, records.ItemFolder{Route: i, AtTarget: side.atTarget, Prefix: store.Path(prefix)})
			}
		}
	}
	if len(folders) == 0 {
		return nil, &InputError{remedy.Errorf("%s is not a folder of the run %s; give one below its source or its target", text, id)}
	}
	return folders, nil
}

// Decide records a person's decision about items that wait for one, and returns the number of
// these items. They are executed when the run continues.
func (r *Runner) Decide(ctx context.Context, id string, decision contract.ItemDecision) (decided int64, err error) {
	row, _, err := r.find(ctx, id)
	switch {
	case err != nil:
		return 0, err
	case row.Needs() != run.NeedsDecision:
		return 0, refused(row, "it does not wait for a decision")
	}
	var rule plan.ConflictRule
	if decision.Conflict != "" {
		if rule, err = parseDecision(decision.Conflict); err != nil {
			return 0, err
		}
	}
	if decided, err = r.db.DecideItems(ctx, row.Number, decision.Items, rule); err != nil {
		return 0, err
	}
	r.hub.Publish(live.Runs, r.contract(row, nil))
	return decided, nil
}

// parseDecision parses a person's decision about a conflict.
func parseDecision(text string) (plan.ConflictRule, error) {
	rule, err := plan.ParseConflictRule(text)
	if err != nil || rule == plan.AskPerson {
		return "", &InputError{remedy.Errorf("%q is not a decision about conflicts; use keep-both, newer, source or target", text)}
	}
	return rule, nil
}

// Addressed are the routes of a run that can tell addresses, without opening accounts.
func Addressed(run records.Run) []transfer.Route {
	routes := make([]transfer.Route, len(run.Routes))
	for i, row := range run.Routes {
		routes[i].Source.Address, _ = store.ParseAddress(row.From)
		routes[i].Target.Address, _ = store.ParseAddress(row.To)
	}
	return transfer.Directions(run.Rules.Type, routes)
}

// ItemOf shows an item of a run, by its id, with the routes given.
func ItemOf(run string, row records.Item, routes []transfer.Route) contract.Item {
	remedy, _ := messages.RemedyOf(row.Cause, messages.Subject{Run: run})
	item := contract.Item{
		Seq: row.Seq, Action: string(row.Action), Kind: string(row.Kind), Size: row.Size, State: string(row.State), Cause: string(row.Cause),
		Meaning: messages.Of(row.Cause).Sentence, Remedy: remedy, Why: row.Why, Verification: row.Ending.Verification,
		Attempts: row.Ending.Attempts, Decision: string(row.Decision),
		Address: routes[row.Route].SourceAddress(row.Item), Target: routes[row.Route].TargetAddress(row.Item, row.Ending.Name),
	}
	if !row.Source.Modified.IsZero() {
		item.Modified = &row.Source.Modified
	}
	if row.Target.Revision != "" {
		item.Existing = &contract.ExistingFile{Size: row.Target.Size}
		if !row.Target.Modified.IsZero() {
			item.Existing.Modified = &row.Target.Modified
		}
	}
	if !row.Ending.Ended.IsZero() {
		item.Ended = &row.Ending.Ended
	}
	return item
}

// Each calls do with every item of a run in a state (empty: any), in order.
func (r *Runner) Each(ctx context.Context, id, state string, do func(contract.Item) error) error {
	const page = 2000
	for after := int64(0); ; {
		items, next, err := r.Items(ctx, id, ItemFilter{State: transfer.State(state)}, after, page)
		if err != nil {
			return err
		}
		for _, item := range items {
			if err := do(item); err != nil {
				return err
			}
		}
		if after = next; after == 0 {
			return nil
		}
	}
}
