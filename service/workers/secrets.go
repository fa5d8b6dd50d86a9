package workers

import (
	"context"
	"time"

	"deftheron/core/store"
	"deftheron/provider/site"
)

// kept is an account whose secret workers were given.
type kept struct {
	account Account
	site    string
}

// mostKept is in how many states an account may be open at workers at once: as it is, as it was
// while what used it ends, and as it is tried.
const mostKept = 4

// keep remembers where the secret of an account is kept that a worker gets. w.mu is held.
func (w *Workers) keep(account Account, at string) {
	if account.Secrets == nil {
		return
	}
	all := w.secrets[account.ID]
	for _, one := range all {
		if one.account.Generation == account.Generation {
			return
		}
	}
	if len(all) >= mostKept {
		all = all[1:]
	}
	w.secrets[account.ID] = append(all, kept{account, at})
}

// Forget forgets where the secret of an account is kept that is not linked.
func (w *Workers) Forget(account string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.secrets, account)
}

// saveSecret saves a secret that replaces the one which a worker was given.
func (w *Workers) saveSecret(worker string, data []byte) error {
	asked, err := site.Decode[site.NewSecret](data)
	if err != nil {
		return err
	}
	secrets, err := w.keptFor(worker, asked.Account, asked.Generation)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(w.ctx, time.Minute)
	defer cancel()
	return secrets.Save(ctx, asked.Old, asked.New)
}

// keptFor returns where the secret of an account is kept that a worker was given.
func (w *Workers) keptFor(worker, account, generation string) (store.Secrets, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := w.there[worker]
	for _, one := range w.secrets[account] {
		if p != nil && one.account.Generation == generation && one.site == p.site && one.account.Secrets != nil {
			return one.account.Secrets, nil
		}
	}
	return nil, store.Errorf(store.ErrRefused, "the account is not one of this worker's")
}

// token answers a worker whose secret has ended.
func (w *Workers) token(worker string, data []byte) site.Token {
	asked, err := site.Decode[site.AskToken](data)
	var secrets store.Secrets
	if err == nil {
		secrets, err = w.keptFor(worker, asked.Account, asked.Generation)
	}
	if err != nil {
		return site.TokenRefused(err)
	}
	ctx, cancel := context.WithTimeout(w.ctx, time.Minute)
	defer cancel()
	secret, err := secrets.Load(ctx)
	if err != nil {
		return site.TokenRefused(err)
	}
	w.mu.Lock()
	p := w.there[worker]
	w.mu.Unlock()
	if p == nil {
		return site.TokenRefused(store.Errorf(store.ErrTryAgain, "the worker is not there"))
	}
	sealed, err := seal(p, secret)
	if err != nil {
		return site.TokenRefused(err)
	}
	return site.Token{Sealed: sealed}
}
