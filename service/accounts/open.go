package accounts

import (
	"context"
	"fmt"
	"time"

	"deftheron/core/gate"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/records"
)

// openTime is how long an account may take to answer when it is opened.
const openTime = 20 * time.Second

// Open implements tree.Accounts.
func (a *Accounts) Open(ctx context.Context, name string) (tree.Account, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return tree.Account{}, err
	}
	if row.Suspended {
		return tree.Account{}, suspended(name)
	}
	a.mu.Lock()
	opened, ok := a.open[row.ID]
	epoch := a.epochs[row.ID]
	a.mu.Unlock()
	if ok {
		err := store.Check(ctx, opened.Store)
		if store.KindOf(err) != store.ErrReplaced {
			return opened, nil
		}
		a.log.Warn("an account is opened again", "account", name, "error", err)
		a.forget(row.ID)
		epoch++
	}
	// Not cancelled with the request that came first: others may wait too.
	opening := a.opening.DoChan(fmt.Sprint(row.ID, " ", epoch), func() (any, error) {
		opened, err := a.openRow(context.WithoutCancel(ctx), row, &secrets{accounts: a, linking: row})
		if err != nil {
			err = openError{err}
		}
		a.observe(row.ID, err)
		if err != nil {
			return nil, err
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.epochs[row.ID] == epoch { // nothing about it was changed in the meantime
			a.open[row.ID] = opened
		}
		return opened, nil
	})
	select {
	case result := <-opening:
		if result.Err != nil {
			return tree.Account{}, result.Err
		}
		return result.Val.(tree.Account), nil
	case <-ctx.Done():
		return tree.Account{}, store.Errorf(store.ErrTryAgain, "/%s did not answer in time; check that its server runs and can be reached: %w",
			name, ctx.Err())
	}
}

// openRow opens an account with the secret that keeps has of it.
func (a *Accounts) openRow(ctx context.Context, row records.Account, keeps store.Secrets) (tree.Account, error) {
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return tree.Account{}, fmt.Errorf("the provider %q of the account %s is not known to this version", row.Provider, row.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	passed := gate.New(row.ID, 16, 64)
	opening := a.openingFor(provider, row, passed, keeps)
	opening.Uploads = &uploads{accounts: a, account: row.ID}
	var opened store.Store
	err = retry.Patiently(ctx, func() error {
		opened, err = provider.Open(ctx, opening)
		return err
	})
	if err != nil {
		return tree.Account{}, err
	}
	if row.ReadOnly {
		opened = view.ReadOnly(opened, row.Name)
	}
	return tree.Account{Name: row.Name, Store: opened, Gate: passed}, nil
}
