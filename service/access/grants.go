package access

import (
	"context"
	"errors"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
)

// Grants returns the grants of a user, with the places that they are for. Those on accounts that
// are gone are left out.
func (a *Access) Grants(ctx context.Context, user string) (shown []Grant, err error) {
	given, err := a.DB.Grants(ctx, user)
	if err != nil {
		return nil, err
	}
	names, err := a.accountNames(ctx)
	for _, one := range given {
		if address, ok := addressOf(one, names); ok {
			shown = append(shown, Grant{Address: address, Role: Role(one.Role)})
		}
	}
	return shown, err
}

// checkGrant returns the record of a grant for a user, or an error if it is invalid.
func (a *Access) checkGrant(ctx context.Context, user records.User, grant Grant) (records.Grant, error) {
	if grant.Role == Owner || !grant.Role.Valid() {
		return records.Grant{}, remedy.Errorf("a grant cannot have the role %q; choose viewer or operator", grant.Role)
	}
	if Role(user.Role) == Owner {
		return records.Grant{}, store.Errorf(store.ErrRefused, "%s is an owner and sees everything; grants are for operators and viewers",
			user.Name)
	}
	return a.grantOf(ctx, user.ID, grant)
}

// SetGrant gives a user a role on a place.
func (a *Access) SetGrant(ctx context.Context, user records.User, grant Grant) error {
	row, err := a.checkGrant(ctx, user, grant)
	if err != nil {
		return err
	}
	if err := a.DB.SetGrant(ctx, row); err != nil {
		return err
	}
	a.regranted(ctx, user.ID)
	return nil
}

// GrantLinked gives a user who linked an account the role of an operator on it, unless the user
// sees everything.
func (a *Access) GrantLinked(ctx context.Context, user string, account records.Account) error {
	row, err := a.DB.User(ctx, user)
	if errors.Is(err, records.ErrNotFound) || err == nil && Role(row.Role) == Owner {
		return nil
	}
	if err == nil {
		err = a.DB.SetGrant(ctx, records.Grant{User: user, Account: account.ID, Role: string(Operator)})
	}
	a.Forget()
	return err
}

// RemoveGrant takes a user's role on a place away.
func (a *Access) RemoveGrant(ctx context.Context, user records.User, address store.Address) error {
	row, err := a.grantOf(ctx, user.ID, Grant{Address: address})
	if err != nil {
		return err
	}
	removed, err := a.DB.RemoveGrant(ctx, row)
	if err == nil && !removed {
		err = store.Errorf(store.ErrNotFound, "%s has no grant on %s; check the user's grants", user.Name, address)
	}
	if err != nil {
		return err
	}
	a.regranted(ctx, user.ID)
	return nil
}

// grantOf returns a grant as it is kept: by the account's id, so that it stays when the account
// is renamed.
func (a *Access) grantOf(ctx context.Context, user string, grant Grant) (records.Grant, error) {
	row := records.Grant{User: user, Role: string(grant.Role)}
	if grant.Address.IsRoot() {
		return row, nil
	}
	for _, step := range grant.Address.Steps {
		if step.ID != "" {
			return row, remedy.Errorf("a grant is on a folder by its name; %s names one by an id", grant.Address)
		}
	}
	account, err := a.DB.Account(ctx, grant.Address.Account)
	if errors.Is(err, records.ErrNotFound) {
		return row, store.Errorf(store.ErrNotFound, "there is no account %s; check the list of accounts", grant.Address.Account)
	}
	grant.Address.Folder = false
	row.Account, row.Folder = account.ID, grant.Address.String()[len("/"+account.Name):]
	return row, err
}
