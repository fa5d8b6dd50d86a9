package runner

import (
	"context"
	"time"

	"deftheron/core/files"
	"deftheron/core/history"
	"deftheron/core/job"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// ThinHistory removes from all accounts that can be written to the versions that no rule
// keeps at a moment, and lists in manifests what was not listed. One that is away has its
// turn the next time.
func (r *Runner) ThinHistory(ctx context.Context, now time.Time) {
	rows, err := r.db.Accounts(ctx)
	if err != nil {
		r.log.ErrorContext(ctx, "could not look for expired history", "error", err)
		return
	}
	for _, row := range rows {
		if row.Suspended || row.ReadOnly {
			continue
		}
		account, err := r.accounts.Open(ctx, row.Name)
		var gone records.HistoryCount
		if err == nil && !account.Store.Traits().ReadOnly {
			gone, err = r.thinAccount(ctx, account, now)
		}
		if gone.Versions > 0 {
			r.log.InfoContext(ctx, "deleted expired versions", "account", row.Name, "versions", gone.Versions, "bytes", gone.Bytes)
		}
		if err != nil && ctx.Err() == nil {
			r.log.WarnContext(ctx, "could not delete expired versions", "account", row.Name, "error", err)
		}
	}
}

// thinAccount thins the history of one account.
func (r *Runner) thinAccount(ctx context.Context, account tree.Account, now time.Time) (gone records.HistoryCount, err error) {
	known, err := r.historyOf(ctx, account.Name, account.Store)
	if err != nil {
		return gone, err
	}
	if _, err := history.WriteManifests(ctx, account.Store, account.Name, "", r.db); err != nil {
		return gone, err
	}
	rules, err := r.retentions(ctx)
	if err != nil {
		return gone, err
	}
	if gone, err = known.Doom(ctx, false, rules.thin(now)); err != nil {
		return gone, err
	}
	return gone, files.Sweep(ctx, account.Store, known)
}

// thinAfter thins the history of the accounts that a run has written to, a while after it has
// ended: not more often than once in thinEvery each.
func (r *Runner) thinAfter(accounts []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, name := range accounts {
		if r.thinning[name] || r.ctx.Err() != nil {
			continue
		}
		if r.thinning == nil {
			r.thinning = map[string]bool{}
		}
		r.thinning[name] = true
		r.group.Go(func() {
			waited := retry.Sleep(r.ctx, thinEvery)
			r.mu.Lock()
			delete(r.thinning, name)
			r.mu.Unlock()
			if waited != nil {
				return
			}
			account, err := r.accounts.Open(r.ctx, name)
			if err == nil && !account.Store.Traits().ReadOnly {
				_, err = r.thinAccount(r.ctx, account, time.Now())
			}
			if err != nil && r.ctx.Err() == nil {
				r.log.Warn("could not delete expired versions", "account", name, "error", err)
			}
		})
	}
}

// thinEvery is how long the versions of an account are left alone after a run.
const thinEvery = 5 * time.Minute

// retentions are the rules of each job, by name, and those of what has no job.
type retentions struct {
	jobs  map[string]history.Retention
	usual history.Retention
}

// forGood is how long what is kept for good is kept.
const forGood = 200 * 365 * 24 * time.Hour

func (r *Runner) retentions(ctx context.Context) (retentions, error) {
	rules := retentions{jobs: map[string]history.Retention{}, usual: history.Retention{All: r.KeepHistory}}
	if r.KeepHistory <= 0 {
		rules.usual.All = forGood
	}
	jobs, err := r.db.KeptJobs(ctx)
	for _, row := range jobs {
		spec := keptSpec(row)
		retention, err := spec.History.Keep.Read()
		switch {
		case err != nil:
			return rules, err
		case spec.History.Only:
			retention = history.Retention{All: forGood}
		case spec.History.Keep.IsZero():
			continue
		}
		rules.jobs[row.Name] = retention
	}
	return rules, err
}

// of returns the rules of a path's changes: those of the job that changed it last.
func (r retentions) of(changes []history.Change) history.Retention {
	last := &changes[len(changes)-1]
	if rules, ok := r.jobs[last.Job]; ok {
		return rules
	}
	if last.How == history.Superseded { // only a job's own rules delete what its runs have copied
		return history.Retention{All: forGood}
	}
	return r.usual
}

func (r retentions) thin(now time.Time) records.Thinner {
	return func(changes []history.Change, wanted func(*history.Change) (bool, error)) ([]history.Decision, error) {
		return r.of(changes).Thin(changes, now, wanted)
	}
}

// HistoryFreed returns what other rules for the versions of a job would remove now, of those
// that are kept at its targets.
func (r *Runner) HistoryFreed(ctx context.Context, name string, given job.History) (freed records.HistoryCount, err error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return freed, err
	}
	changed := keptSpec(row)
	changed.History = given
	if err := changed.Check(); err != nil {
		return freed, &InputError{err}
	}
	rules, err := r.retentions(ctx)
	if err != nil {
		return freed, err
	}
	delete(rules.jobs, name)
	if !given.Keep.IsZero() {
		if rules.jobs[name], err = given.Keep.Read(); err != nil {
			return freed, &InputError{err}
		}
	}
	seen := map[string]bool{}
	for _, route := range changed.Routes {
		address, err := store.ParseAddress(route.To)
		if err != nil || seen[address.Account] {
			continue
		}
		seen[address.Account] = true
		id, err := r.accounts.ID(ctx, address.Account)
		if err != nil {
			return freed, err
		}
		known, err := r.db.History(ctx, id)
		if err != nil {
			return freed, err
		}
		one, err := known.Doom(ctx, true, rules.thin(time.Now()))
		if err != nil {
			return freed, err
		}
		freed.Versions += one.Versions
		freed.Bytes += one.Bytes
	}
	return freed, nil
}
