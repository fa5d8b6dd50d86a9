package runner

import (
	"context"
	"strings"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// What is kept in history stays until its rules let it go, and what the target of an archive
// holds stays for good: nothing else deletes it through the service.

// CheckChange returns why nothing may be changed by hand at a place of an account: it is in
// history.
func CheckChange(address store.Address, place store.Ref) error {
	if isHistory(place.AsFolder().Path) {
		return store.Errorf(store.ErrRefused, "%s is part of history and cannot be changed by hand, because rules alone decide how "+
			"long versions are kept; change the rules of the job to delete them earlier", address)
	}
	return nil
}

// isHistory reports whether a path is the folder of history, or inside it.
func isHistory(path store.Path) bool {
	return strings.HasPrefix(string(path), string(store.HistoryFolder))
}

// CheckLoss returns an error if the entries at an address, or below it, may not be deleted or
// overwritten, because they are at the target of an archive.
func (r *Runner) CheckLoss(ctx context.Context, address store.Address) error {
	jobs, err := r.db.KeptJobs(ctx)
	if err != nil {
		return err
	}
	for _, row := range jobs {
		spec := keptSpec(row)
		why := "which accepts additions only"
		if !spec.History.Only {
			if !spec.LocksRuns() {
				continue
			}
			why = "which locks the files of its runs"
		}
		for _, route := range spec.Routes {
			target, err := store.ParseAddress(route.To)
			if err == nil && (target.Contains(address) || address.Contains(target)) {
				return store.Errorf(store.ErrRefused, "%s is the target of the job %s, %s, so nothing there can be "+
					"deleted or replaced; delete the job first, if that is no longer wanted", target, spec.Name, why)
			}
		}
	}
	return nil
}

// checkKept refuses routes that would write to history, or lose files at the target of an
// archive.
func (r *Runner) checkKept(ctx context.Context, rules plan.Rules, clears bool, routes []transfer.Route) error {
	for _, route := range routes {
		if isHistory(route.Target.Root.AsFolder().Path) {
			return CheckChange(route.Target.Address, route.Target.Root)
		}
		var at []store.Address
		if rules.Type.Removes() && !(rules.Type == plan.Mirror && !rules.At.IsZero()) || !rules.KeepsVersions() {
			at = append(at, route.Target.Address)
		}
		if rules.Type == plan.TwoWay || clears {
			at = append(at, route.Source.Address)
		}
		for _, address := range at {
			if err := r.CheckLoss(ctx, address); err != nil {
				return err
			}
		}
	}
	return nil
}
