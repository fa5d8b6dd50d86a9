package accounts

import (
	"context"
	"slices"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// sees reports whether the scope of a context shows anything of an account.
func sees(ctx context.Context, name string) bool {
	return tree.Sees(ctx, store.Address{Account: name}) != tree.Hidden
}

// Visible returns the accounts that the scope of a context shows, completely or in part.
func (a *Accounts) Visible(ctx context.Context) ([]records.Account, error) {
	rows, err := a.db.Accounts(ctx)
	return slices.DeleteFunc(slices.Clone(rows), func(row records.Account) bool { return !sees(ctx, row.Name) }), err
}

// Whole returns the accounts that the scope of a context shows whole.
func (a *Accounts) Whole(ctx context.Context) ([]records.Account, error) {
	rows, err := a.db.Accounts(ctx)
	return slices.DeleteFunc(slices.Clone(rows), func(row records.Account) bool {
		return tree.Sees(ctx, store.Address{Account: row.Name}) != tree.Seen
	}), err
}
