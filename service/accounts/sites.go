package accounts

import (
	"cmp"
	"context"
	"time"

	"github.com/google/uuid"

	"deftheron/core/bandwidth"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/provider/declared"
	"deftheron/provider/site"
	"deftheron/service/messages"
	"deftheron/service/records"
	"deftheron/service/workers"
)

// Sites are the networks that only workers reach.
type Sites interface {
	// Resolve returns the site for the name of a site or of a worker. It also returns the id
	// of a worker if the account is a folder of its machine.
	Resolve(ctx context.Context, name string, ofMachine bool) (site, worker string, err error)
	// At calls the workers of a site, or one of them, for an account.
	At(site, worker string, account workers.Account) site.Caller
	// Forget forgets the secret of an account, by its id, that is not linked.
	Forget(account string)
}

// forgetSecret ends the access of workers to the secret of an account that is not linked.
func (a *Accounts) forgetSecret(id string) {
	if a.Sites != nil {
		a.Sites.Forget(id)
	}
}

// placeAtSite says in the row of an account where it is linked at: a site, or a worker of it.
func (a *Accounts) placeAtSite(ctx context.Context, provider store.Provider, at string, row *records.Account) error {
	if at == "" {
		return nil
	}
	wrong := func(reason string) error { return &store.OptionError{Option: "at", Reason: reason} }
	switch {
	case a.Sites == nil:
		return wrong("this service has no workers; create one first")
	case baseAddress(provider, row.Options) != "":
		return wrong("an account in a folder of another one is where that one is; leave out the site")
	}
	_, ofMachine := provider.(store.Restrictable)
	var err error
	row.Site, row.Worker, err = a.Sites.Resolve(ctx, at, ofMachine)
	if err != nil {
		return store.Concerns(err, "at")
	}
	return nil
}

// openAtSite opens an account through a worker.
func (a *Accounts) openAtSite(ctx context.Context, provider store.Provider, row records.Account, opening store.Opening) (
	store.Store, error) {
	if a.Sites == nil {
		return nil, noSite(row)
	}
	at, err := a.openingAt(ctx, provider, row, opening)
	if err != nil {
		return nil, err
	}
	caller := a.Sites.At(row.Site, row.Worker, workers.Account{ID: row.ID, Generation: at.Generation, Secrets: at.Secrets,
		Limiters: a.limitersOf(row.ID)})
	return site.Open(ctx, caller, row.Provider, at)
}

// tokens are secrets that are good for a short time.
type tokens struct{ lender store.TokenLender }

// lentSecrets returns the tokens that a worker gets in place of a secret; nil where it needs that.
func lentSecrets(ctx context.Context, lender store.TokenLender) (store.Secrets, error) {
	if lender == nil {
		return nil, nil
	}
	token, err := lender.LendToken(ctx)
	if err != nil || token == nil {
		return nil, err
	}
	return tokens{lender}, nil
}

// Load implements store.Secrets.
func (t tokens) Load(ctx context.Context) ([]byte, error) { return t.lender.LendToken(ctx) }

// Save implements store.Secrets: the holder of a token does not renew it.
func (tokens) Save(context.Context, []byte, []byte) error {
	return store.Errorf(store.ErrRefused, "the service renews the sign-in of this account itself")
}

// generation returns what tells an account as it is now from what it was, for workers: they keep it open
// until it is another.
func (a *Accounts) generation(id string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.generations[id] == "" {
		a.generations[id] = uuid.NewString()
	}
	return a.generations[id]
}

// openingAt returns the parameters with which a worker opens an account.
func (a *Accounts) openingAt(ctx context.Context, provider store.Provider, row records.Account,
	opening store.Opening) (site.Opening, error) {
	at := site.Opening{Opening: opening, ID: row.ID, Generation: uuid.NewString(), Network: row.Site,
		CertificateEnds: func(ends time.Time) { a.certificateEnds(row.ID, ends) }}
	if row.Worker != "" {
		at.Network += "/" + row.Worker
	}
	if len(row.Secret) == 0 && row.SignedIn == "" {
		at.Secrets = nil
	}
	if one, ok := provider.(*declared.Provider); ok && !one.Definition().Shipped {
		definition, err := a.db.Definition(ctx, row.Provider)
		if err != nil {
			return at, err
		}
		at.Definition = []byte(definition.Text)
	}
	return at, nil
}

// reach returns a provider as it is asked of an account that need not be open: by the service, or by the
// workers of the account's site. P is an ability that the provider has.
func reach[P any](ctx context.Context, a *Accounts, provider store.Provider, row records.Account,
	opening store.Opening) (able P, err error) {
	if row.Site == "" {
		return provider.(P), nil
	}
	if a.Sites == nil {
		return able, noSite(row)
	}
	at, err := a.openingAt(ctx, provider, row, opening)
	if err != nil {
		return able, err
	}
	at.ID, at.Secrets = cmp.Or(row.ID, at.Generation), opening.Secrets
	caller := a.Sites.At(row.Site, row.Worker, workers.Account{ID: at.ID, Generation: at.Generation})
	return any(away{provider, site.NewRemote(caller, row.Provider, at)}).(P), nil
}

// noSite is the error of an account at a site that a service without workers has.
func noSite(row records.Account) error {
	return messages.With(remedy.Errorf("/%s is at the site %s, which no worker of this service is at; create one", row.Name, row.Site),
		"heron worker create NAME --site "+row.Site)
}

// away is a provider whose requests the workers of a site make. It has all abilities; the caller
// must check first that the provider has them.
type away struct {
	store.Provider
	remote site.Remote
}

// ResourceOption implements store.ResourceLister.
func (w away) ResourceOption() string { return w.Provider.(store.ResourceLister).ResourceOption() }

// ListResources implements store.ResourceLister.
func (w away) ListResources(ctx context.Context, _ store.Opening) ([]store.Resource, error) {
	return w.remote.ListResources(ctx)
}

// IdentityOption implements store.IdentityProber.
func (w away) IdentityOption() string { return w.Provider.(store.IdentityProber).IdentityOption() }

// ProbeIdentity implements store.IdentityProber.
func (w away) ProbeIdentity(ctx context.Context, _ store.Opening) (value, words string, err error) {
	return w.remote.ProbeIdentity(ctx)
}

// ConsentWays implements store.Consenter.
func (w away) ConsentWays(options map[string]string) []store.ConsentWay {
	return w.Provider.(store.Consenter).ConsentWays(options)
}

// BeginConsent implements store.Consenter.
func (w away) BeginConsent(ctx context.Context, _ store.Opening, asking store.ConsentAsking) (store.Consent, error) {
	return w.remote.BeginConsent(ctx, asking)
}

// EndConsent implements store.Consenter.
func (w away) EndConsent(ctx context.Context, _ store.Opening, begun store.Consent, answer store.ConsentAnswer) ([]byte, error) {
	return w.remote.EndConsent(ctx, begun, answer)
}

// Revoke implements store.Revoker.
func (w away) Revoke(ctx context.Context, _ store.Opening) error { return w.remote.Revoke(ctx) }

// CheckForWorkers returns why workers may not have an account, for any run.
func (a *Accounts) CheckForWorkers(ctx context.Context, name string) error {
	row, err := a.row(ctx, name)
	if err != nil {
		return err
	}
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return err
	}
	_, ofMachine := provider.(store.Restrictable)
	switch {
	case ofMachine && row.Site == "":
		return store.Errorf(store.ErrRefused, "/%s is a folder of the machine of the service, which no worker reaches", name)
	case baseAddress(provider, row.Options) != "":
		return store.Errorf(store.ErrRefused, "/%s is in another account, and only the service has its key", name)
	case row.SignedIn != "":
		return store.Errorf(store.ErrRefused, "/%s shares the sign-in of another account, which stays with the service", name)
	}
	return nil
}

// ForWorkers returns an account as workers open it for runs; false if none may: an account that is in
// another, shares its sign-in, or is a folder of this machine.
func (a *Accounts) ForWorkers(ctx context.Context, name string) (reached workers.Reached, ok bool, err error) {
	row, err := a.row(ctx, name)
	if err != nil || a.Sites == nil || row.Suspended {
		return reached, false, err
	}
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return reached, false, err
	}
	if a.CheckForWorkers(ctx, name) != nil {
		return reached, false, nil
	}
	account, err := a.Open(ctx, name)
	if err != nil {
		return reached, false, err
	}
	opening := a.openingFor(provider, row, account.Gate, &secrets{accounts: a, linking: row})
	at, err := a.openingAt(ctx, provider, row, opening)
	if err != nil {
		return reached, false, err
	}
	at.Generation = a.generation(row.ID)
	if lent, err := lentSecrets(ctx, account.Tokens); err != nil {
		return reached, false, err
	} else if lent != nil {
		at.Secrets, at.Lent = lent, true
	}
	reached = workers.Reached{Provider: row.Provider, Opening: at, Site: row.Site, Worker: row.Worker, Gate: account.Gate,
		Account: workers.Account{ID: row.ID, Generation: at.Generation, Secrets: at.Secrets, Limiters: a.limitersOf(row.ID)}}
	if !row.ReadOnly && a.Watcher != nil {
		reached.Watcher = a.Watcher(row.ID)
	}
	return reached, true, nil
}

func (a *Accounts) limitersOf(id string) []*bandwidth.Limiter {
	return []*bandwidth.Limiter{&a.limits.overall, a.limits.limiter(id)}
}
