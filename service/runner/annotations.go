package runner

import (
	"context"
	"fmt"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/annotations"
	"deftheron/service/records"
)

// carryAnnotations copies the tags and comments of the sources to the transferred files; asked
// is false if the rules do not ask for it.
func (r *Runner) carryAnnotations(ctx context.Context, row records.Run, routes []transfer.Route) (total annotations.Carried, asked bool,
	err error) {
	if !row.Rules.Annotations || r.Annotations == nil {
		return total, false, nil
	}
	for _, route := range routes {
		if route.Back || route.Unopened != nil {
			continue
		}
		carried, err := r.Annotations.Carry(ctx, route, "the job "+row.Job, row.Rules.Clear, func(key store.Key) (store.Key, error) {
			pair, err := r.db.Pair(ctx, route.Scope, key)
			if err == nil && pair != nil && pair.To != "" {
				return pair.To, nil
			}
			return key, err
		})
		if err != nil {
			return total, true, err
		}
		total.Add(carried)
	}
	return total, true, nil
}

// certifiedAnnotations carries tags and comments over for a certificate; nil if the job
// does not.
func (r *Runner) certifiedAnnotations(ctx context.Context, row records.Run, routes []transfer.Route) (*contract.CertifiedAnnotations,
	error) {
	total, asked, err := r.carryAnnotations(ctx, row, routes)
	if err != nil || !asked {
		return nil, err
	}
	return &contract.CertifiedAnnotations{Entries: total.Entries, Tags: total.Tags, Comments: total.Comments, Missing: total.Missing}, nil
}

// carriedAnnotations carries tags and comments over after a run, or a pass of it. They are
// no files: that they could not be is an event of the run, and not its end.
func (r *Runner) carriedAnnotations(ctx context.Context, row records.Run, routes []transfer.Route) {
	total, _, err := r.carryAnnotations(ctx, row, routes)
	switch {
	case err != nil && ctx.Err() == nil:
		r.log.ErrorContext(ctx, "the tags and comments of a run's files could not be carried over", "run", row.ID, "error", err)
		r.note(ctx, row, records.EventAnnotations, "not carried over: "+err.Error())
	case total.Added > 0:
		words := some(total.Tags, "tag") + ", " + some(total.Comments, "comment")
		if total.Missing > 0 {
			words += fmt.Sprintf("; of %d at the source there is nothing at the target", total.Missing)
		}
		r.note(ctx, row, records.EventAnnotations, words)
	}
}

// carryingAfter carries tags and comments over after each pass of a continuous job.
func (r *Runner) carryingAfter(row records.Run, routes []transfer.Route,
	again func(context.Context, transfer.PassResult) (transfer.Touched, bool),
) func(context.Context, transfer.PassResult) (transfer.Touched, bool) {
	return func(ctx context.Context, passed transfer.PassResult) (transfer.Touched, bool) {
		if passed.Items > 0 {
			r.carriedAnnotations(ctx, row, routes)
		}
		return again(ctx, passed)
	}
}

// Unlocked has continuous jobs look again at an entry whose lock has ended.
func (r *Runner) Unlocked(entry store.Address) {
	r.mu.Lock()
	watches := make([]*active, 0, len(r.active))
	for _, a := range r.active {
		watches = append(watches, a)
	}
	r.mu.Unlock()
	for _, a := range watches {
		if state := a.now(); state.watch != nil {
			state.watch.lookAgain(state.row, entry)
		}
	}
}

// lookAgain touches an entry if one of the routes leads to it.
func (w *watch) lookAgain(row records.Run, entry store.Address) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, route := range row.Routes {
		for n, text := range []string{route.From, route.To} {
			root, err := store.ParseAddress(text)
			target := n == 1
			if err != nil || !target && row.Rules.Type != plan.TwoWay {
				continue
			}
			root.Folder = false
			if entry.Contains(root) && len(entry.Steps) <= len(root.Steps) {
				w.all = true
			} else if root.Contains(entry) {
				var path store.Path
				for _, step := range entry.Steps[len(root.Steps):] {
					path = path.Child(step.Name)
				}
				w.touched[transfer.TouchedPlace{Route: i, Target: target, Path: path}] = true
			} else {
				continue
			}
			select {
			case w.some <- struct{}{}:
			default:
			}
		}
	}
}
