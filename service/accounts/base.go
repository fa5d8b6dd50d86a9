package accounts

import (
	"context"
	"slices"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// base is the account that another one is in, such as a sealed place is.
type base struct {
	accounts *Accounts
	of       records.Account
	gate     *gate.Gate // of the base, if there is one
	located  tree.Located
	err      error
}

// baseAddress is the address that the options of an account lead to; empty where the
// account is in no other.
func baseAddress(provider store.Provider, options map[string]string) string {
	for _, option := range provider.Options() {
		if option.Address {
			return options[option.Name]
		}
	}
	return ""
}

// openingKey keeps the accounts that are being opened, each in the next.
type openingKey struct{}

// open opens the account that an address leads to.
func (b *base) open(ctx context.Context, text string) {
	address, err := store.ParseAddress(text)
	if err == nil && address.IsRoot() {
		err = store.Errorf(store.ErrRefused, "%q is no folder of an account; give one, such as /archive/vault", text)
	}
	if err != nil {
		b.err = &store.OptionError{Option: "in", Reason: err.Error()}
		return
	}
	chain, _ := ctx.Value(openingKey{}).([]string)
	if chain = append(slices.Clone(chain), b.of.Name); slices.Contains(chain, address.Account) {
		b.err = &store.OptionError{Option: "in", Reason: "/" + b.of.Name + " would be in itself; choose a folder of another account"}
		return
	}
	t := tree.Tree{Accounts: b.accounts}
	b.located, b.err = t.Locate(context.WithValue(ctx, openingKey{}, chain), address)
	if b.err == nil && !b.of.ReadOnly { // whoever links it writes there
		b.err = tree.CheckChange(ctx, address)
	}
	if b.err == nil {
		b.gate = b.located.Gate
		b.accounts.depends(b.gate.Name(), b.of.ID)
	}
}

// get implements store.Opening.Base.
func (b *base) get(context.Context, string) (store.Base, error) {
	if b.err != nil {
		return store.Base{}, b.err
	}
	if b.located.Store == nil {
		return store.Base{}, store.Errorf(store.ErrRefused, "the account %s names no folder of another account", b.of.Name)
	}
	return store.Base{Store: b.located.Store, Folder: b.located.Place.AsFolder().Path}, nil
}

// depends notes that an account has to be opened again when another one is: both by id.
func (a *Accounts) depends(on, id string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !slices.Contains(a.dependents[on], id) {
		a.dependents[on] = append(a.dependents[on], id)
	}
}

// Within returns the names of the accounts that are in folders of an account.
func (a *Accounts) Within(ctx context.Context, name string) (names []string, err error) {
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		provider, err := a.Provider(row.Provider)
		if err != nil {
			continue // of a version that knew it
		}
		if address, err := store.ParseAddress(baseAddress(provider, row.Options)); err == nil && address.Account == name {
			names = append(names, row.Name)
		}
	}
	return names, nil
}

// freeOfOthers returns an error if other accounts are in folders of the account to unlink.
func (a *Accounts) freeOfOthers(ctx context.Context, name string) error {
	names, err := a.Within(ctx, name)
	if err != nil || len(names) == 0 {
		return err
	}
	return messages.With(store.Errorf(store.ErrRefused, "the account %s is in a folder of /%s; unlink that first", names[0], name),
		"heron account unlink "+names[0])
}

// follow has the accounts that are in folders of one that was renamed find it again.
func (a *Accounts) follow(ctx context.Context, names []string, from, to string) error {
	for _, name := range names {
		row, err := a.row(ctx, name)
		if err != nil {
			return err
		}
		provider, err := a.Provider(row.Provider)
		if err != nil {
			return err
		}
		for _, option := range provider.Options() {
			address, err := store.ParseAddress(row.Options[option.Name])
			if !option.Address || err != nil || address.Account != from {
				continue
			}
			address.Account = to
			row.Options[option.Name] = address.String()
		}
		if err := a.db.SaveAccount(ctx, row, "Options"); err != nil {
			return err
		}
		a.forget(row.ID)
	}
	return nil
}

// notes keep short texts about an account in the records.
type notes struct {
	db      *records.DB
	account string
}

// Note implements store.Notes.
func (n notes) Note(ctx context.Context, name string) (string, error) {
	return n.db.AccountNote(ctx, n.account, name)
}

// SaveNote implements store.Notes.
func (n notes) SaveNote(ctx context.Context, name, text string) error {
	return n.db.SaveAccountNote(ctx, n.account, name, text)
}
