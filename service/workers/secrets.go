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

// saveSecret saves a secret that replaces the one which a worker was given.
func (w *Workers) saveSecret(worker string, data []byte) error {
	asked, err := site.Decode[site.NewSecret](data)
	if err != nil {
		return err
	}
	var secrets store.Secrets
	w.mu.Lock()
	p := w.there[worker]
	for _, one := range w.secrets[asked.Account] {
		if p != nil && one.account.Generation == asked.Generation && one.site == p.site {
			secrets = one.account.Secrets
		}
	}
	w.mu.Unlock()
	if secrets == nil {
		return store.Errorf(store.ErrRefused, "the account is not one of this worker's")
	}
	ctx, cancel := context.WithTimeout(w.ctx, time.Minute)
	defer cancel()
	return secrets.Save(ctx, asked.Old, asked.New)
}
