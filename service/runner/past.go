package runner

import (
	"context"
	"sync"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/records"
)

// TreeAt returns the tree as it was at a time; as it is now, of the zero time.
func (r *Runner) TreeAt(at time.Time) *tree.Tree {
	if at.IsZero() {
		return r.tree
	}
	return &tree.Tree{Accounts: &pastAccounts{r, at}}
}

// pastAccounts are the accounts as they were at a time.
type pastAccounts struct {
	runner *Runner
	at     time.Time
}

// Names implements tree.Accounts.
func (p *pastAccounts) Names(ctx context.Context) ([]string, error) {
	return p.runner.tree.Accounts.Names(ctx)
}

// Open implements tree.Accounts.
func (p *pastAccounts) Open(ctx context.Context, name string) (tree.Account, error) {
	account, err := p.runner.tree.Accounts.Open(ctx, name)
	if err != nil {
		return account, err
	}
	account.Store, err = p.runner.asOf(ctx, name, account.Store, p.at)
	return account, err
}

// asOf returns an account's store as it was at a time.
func (r *Runner) asOf(ctx context.Context, account string, s store.Store, at time.Time) (store.Store, error) {
	known, err := r.historyOf(ctx, account, s)
	if err != nil {
		return nil, err
	}
	return view.AsOf(s, history.NewPast(known, at)), nil
}

// historyOf returns the history of an account, by its name. What is in the account and not in
// the records is read first.
func (r *Runner) historyOf(ctx context.Context, account string, s store.Store) (records.History, error) {
	id, err := r.accounts.ID(ctx, account)
	if err != nil {
		return records.History{}, err
	}
	if err := r.importHistory(ctx, account, id, s); err != nil {
		return records.History{}, err
	}
	return r.db.History(ctx, id)
}

// History finds an address, and the history of its account.
func (r *Runner) History(ctx context.Context, address store.Address) (located tree.Located, known records.History, err error) {
	if located, err = r.tree.Locate(ctx, address); err != nil {
		return located, known, err
	}
	known, err = r.historyOf(ctx, located.Name, located.Store)
	return located, known, err
}

// lookedFor is how long the list of parts in an account is believed.
const lookedFor = 10 * time.Minute

// imported is when the history in an account was last compared with the records.
type imported struct {
	mu sync.Mutex
	at time.Time
}

// importHistory imports the history of an account that the records do not know: from an
// earlier data folder, or in the layout of earlier versions.
func (r *Runner) importHistory(ctx context.Context, account, id string, s store.Store) error {
	one, _ := r.imports.LoadOrStore(id, &imported{})
	last := one.(*imported)
	last.mu.Lock()
	defer last.mu.Unlock()
	if time.Since(last.at) < lookedFor {
		return nil
	}
	known, err := r.db.History(ctx, id)
	if err != nil {
		return err
	}
	parts, err := history.Parts(ctx, s)
	if err != nil {
		return err
	}
	names := make([]string, len(parts))
	for i, part := range parts {
		names[i] = part.Name
	}
	there, err := known.Parts(ctx, names)
	if err != nil {
		return err
	}
	for _, part := range parts {
		if there[part.Name] {
			continue
		}
		count, missing := 0, 0
		var damaged []error
		err := r.db.ImportPart(ctx, account, part.Name, func(add func(int64, history.Change) error) (err error) {
			count, missing = 0, 0
			damaged, err = history.ReadPart(ctx, s, part, func(manifest int64, change history.Change) error {
				if count++; manifest == 0 {
					missing++
				}
				return add(manifest, change)
			})
			return err
		})
		if err != nil {
			return err
		}
		for _, err := range damaged {
			r.log.WarnContext(ctx, "a manifest of history is damaged; what it does not list is taken from the contents",
				"account", account, "error", err)
		}
		r.log.InfoContext(ctx, "read history that was in the account", "account", account, "part", part.Name, "changes", count,
			"without_a_manifest",
			missing)
	}
	last.at = time.Now()
	return nil
}

// jobOf is the name of a run's job; empty of a copy without one.
func jobOf(row records.Run) string {
	if row.Job == "copy-"+row.ID {
		return ""
	}
	return row.Job
}
