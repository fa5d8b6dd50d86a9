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
		err := a.checkStart(ctx, row, opened.Store)
		if store.KindOf(err) != store.ErrReplaced {
			return opened, nil
		}
		a.log.WarnContext(ctx, "an account is opened again", "account", name, "error", err)
		a.forget(row.ID)
		epoch++
	}
	// Not cancelled with the request that came first: others may wait too.
	opening := a.opening.DoChan(fmt.Sprint(row.ID, " ", epoch), func() (any, error) {
		opened, err := a.openRow(tree.WithScope(context.WithoutCancel(ctx), nil), row, &secrets{accounts: a, linking: row})
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
			go a.goOnSealing(tree.WithScope(context.WithoutCancel(ctx), nil), row.Name, opened.Store)
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

// siteChecked is how long it is believed of an account at a site that its start is still the same: to
// ask costs a round trip.
const siteChecked = 5 * time.Second

// checkStart returns an error of the kind store.ErrReplaced if the start of an account that is open is
// another folder now.
func (a *Accounts) checkStart(ctx context.Context, row records.Account, s store.Store) error {
	if row.Site == "" {
		return store.Check(ctx, s)
	}
	a.mu.Lock()
	lately := time.Since(a.checked[row.ID]) < siteChecked
	a.mu.Unlock()
	if lately {
		return nil
	}
	err := store.Check(ctx, s)
	if err == nil {
		a.mu.Lock()
		a.checked[row.ID] = time.Now()
		a.mu.Unlock()
	}
	return err
}

// openRow opens an account with the secret that keeps has of it.
func (a *Accounts) openRow(ctx context.Context, row records.Account, keeps store.Secrets) (tree.Account, error) {
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return tree.Account{}, fmt.Errorf("the provider %q of the account %s is not known to this version", row.Provider, row.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	opening, base := a.openingOf(ctx, provider, row, keeps)
	var opened store.Store
	err = retry.Patiently(ctx, func() error {
		if row.Site != "" {
			opened, err = a.openAtSite(ctx, provider, row, opening)
		} else {
			opened, err = provider.Open(ctx, opening)
		}
		return err
	})
	if err != nil {
		if slow := late(ctx, row.Name, openTime); slow != nil {
			err = slow
		}
		return tree.Account{}, err
	}
	lender, _ := opened.(store.TokenLender)
	if row.ReadOnly {
		opened = view.ReadOnly(opened, row.Name)
	} else if a.Watcher != nil {
		opened = view.Watched(opened, a.Watcher(row.ID))
	}
	return tree.Account{Name: row.Name, Store: opened, Gate: base.gate, Tokens: lender}, nil
}

// openingOf returns the parameters with which a provider opens an account, and the account's
// gate: an account inside another one shares the gate of that.
func (a *Accounts) openingOf(ctx context.Context, provider store.Provider, row records.Account, keeps store.Secrets) (store.Opening,
	*base) {
	in := &base{accounts: a, of: row, gate: gate.New(row.ID, 16, 64)}
	if address := baseAddress(provider, row.Options); address != "" {
		in.open(ctx, address)
	}
	opening := a.openingFor(provider, row, in.gate, keeps)
	opening.Uploads = &uploads{accounts: a, account: row.ID}
	opening.Notes = notes{a.db, row.ID}
	opening.Base = in.get
	return opening, in
}

// make makes the place of an account that is about to be linked, where its provider does
// that, see store.Maker; and looks whether it may be written to, where its provider can tell.
func (a *Accounts) make(ctx context.Context, row records.Account, keeps store.Secrets, try bool) (made bool, err error) {
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return false, err
	}
	maker, ok := provider.(store.Maker)
	if !ok || row.Site != "" {
		return false, a.checkWritable(row)
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	opening, _ := a.openingOf(ctx, provider, row, keeps)
	return maker.Make(ctx, opening, try)
}
