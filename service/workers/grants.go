package workers

import (
	"context"
	"fmt"
	"time"

	"deftheron/core/store"
	"deftheron/provider/site"
	"deftheron/service/records"
)

// Grant lets a worker have the secrets of accounts that the service reaches, by their ids, so that it
// copies between them; or takes that back. What it is copying then is given up.
func (w *Workers) Grant(ctx context.Context, name string, accounts []records.Account, grant bool) (Worker, error) {
	row, err := w.row(ctx, name)
	if err != nil {
		return Worker{}, err
	}
	for _, account := range accounts {
		switch {
		case !grant:
			err = w.db.RevokeWorker(ctx, row.ID, account.ID)
		case account.Site == row.Site:
			err = store.Errorf(store.ErrRefused, "/%s is at the site %s, whose workers reach it already", account.Name, account.Site)
		case account.Site != "":
			err = store.Errorf(store.ErrRefused, "/%s is at the site %s, which only workers there reach", account.Name, account.Site)
		default:
			err = w.db.GrantWorker(ctx, row.ID, account.ID, w.now())
		}
		if err != nil {
			return Worker{}, err
		}
		w.log.InfoContext(ctx, "changed what a worker may have", "worker", name, "account", account.Name, "granted", grant)
	}
	if err := w.loadGrants(ctx); err != nil {
		return Worker{}, err
	}
	if !grant {
		w.closeAt(row.ID, accounts)
	}
	w.Changed()
	return w.shown(row), nil
}

// closeAt has a worker close accounts and forget their secrets. One that is not there has forgotten them
// with its process, or gives them up when it hears that it may not have them.
func (w *Workers) closeAt(worker string, accounts []records.Account) {
	w.mu.Lock()
	p := w.there[worker]
	var remotes []site.Remote
	for _, account := range accounts {
		for _, one := range w.secrets[account.ID] {
			if p != nil && one.site == p.site {
				remotes = append(remotes, site.NewRemote(w.At(p.site, worker, one.account), account.Provider,
					site.Opening{ID: account.ID, Generation: one.account.Generation}))
			}
		}
	}
	w.mu.Unlock()
	for _, remote := range remotes {
		w.group.Go(func() {
			ctx, cancel := context.WithTimeout(w.ctx, 30*time.Second)
			defer cancel()
			if err := remote.Close(ctx, worker); err != nil {
				w.log.DebugContext(ctx, "an account was not closed at a worker", "worker", worker, "error", err)
			}
		})
	}
}

// loadGrants reads which workers may have which accounts.
func (w *Workers) loadGrants(ctx context.Context) error {
	rows, err := w.db.WorkerGrants(ctx)
	if err != nil {
		return err
	}
	grants := map[string]map[string]bool{}
	for _, one := range rows {
		if grants[one.Account] == nil {
			grants[one.Account] = map[string]bool{}
		}
		grants[one.Account][one.Worker] = true
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.grants = grants
	w.signal()
	return nil
}

// granted returns the names of the accounts that a worker was granted.
func (w *Workers) granted(ctx context.Context, worker string) (names []string, err error) {
	rows, err := w.db.WorkerGrants(ctx)
	for _, one := range rows {
		if one.Worker == worker {
			names = append(names, one.Name)
		}
	}
	return names, err
}

// onlyName is under what it is kept that the service leaves copying to workers.
const onlyName = "only-workers"

// SetOnly has the service leave to workers what they can copy, or take its part again.
func (w *Workers) SetOnly(ctx context.Context, only bool) error {
	value := ""
	if only {
		value = "yes"
	}
	if err := w.db.SetMeta(ctx, onlyName, value); err != nil {
		return err
	}
	w.onlyWorkers.Store(only)
	w.log.InfoContext(ctx, "changed whether the service copies what workers can", "only workers", only)
	w.Changed()
	return nil
}

// Only reports whether the service leaves to workers what they can copy.
func (w *Workers) Only() bool { return w.onlyWorkers.Load() }

func (w *Workers) loadOnly(ctx context.Context) error {
	value, err := w.db.Meta(ctx, onlyName)
	w.onlyWorkers.Store(value != "")
	return err
}

// nameOf returns the name of a worker by its id; the id if it is not there.
func (w *Workers) nameOf(id string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if p := w.there[id]; p != nil {
		return p.name
	}
	return id
}

// Distrust implements transfer.Crew: the worker gets nothing more until a person says so.
func (c *Crew) Distrust(ctx context.Context, by string, why error) {
	w := c.workers
	w.mu.Lock()
	p := w.there[by]
	if p != nil {
		p.draining = true
		w.signal()
	}
	w.mu.Unlock()
	name := w.nameOf(by)
	reason := fmt.Sprintf("in the run %s: %v", c.run, why)
	w.log.ErrorContext(ctx, "a worker said that it had copied what it had not", "worker", name, "run", c.run, "error", why)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := w.db.SaveWorker(ctx, records.Worker{ID: by, Draining: true, Distrusted: reason}, "Draining", "Distrusted"); err != nil {
		w.log.ErrorContext(ctx, "could not record that a worker is not trusted", "worker", name, "error", err)
	}
	w.Distrusted(name, reason)
	w.Changed()
}
