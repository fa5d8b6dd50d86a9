package gateway

import (
	"context"

	"deftheron/core/tree"
	"deftheron/core/view"
)

// Files returns accounts with documents as files in their default export format, and with names of
// their own for entries of one name.
func Files(accounts tree.Accounts) tree.Accounts { return asFiles{accounts} }

type asFiles struct{ tree.Accounts }

// Open implements tree.Accounts.
func (f asFiles) Open(ctx context.Context, name string) (tree.Account, error) {
	account, err := f.Accounts.Open(ctx, name)
	if err == nil {
		account.Store = view.Exports(account.Store, nil)
	}
	return account, err
}
