package accounts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"deftheron/core/store"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// mend gives an account a new secret, after reaching it with that. Accounts that
// share its sign-in are mended with it.
func (a *Accounts) mend(ctx context.Context, row records.Account, secret []byte) (records.Account, Found, error) {
	held := &heldSecret{now: secret}
	opened, err := a.openRow(ctx, row, held)
	if err != nil {
		return row, Found{}, err
	}
	defer store.Close(opened.Store)
	found, err := look(ctx, opened.Store)
	if err != nil {
		return row, Found{}, err
	}
	if row.Owner != "" && found.Owner != "" && found.Owner != row.Owner {
		return row, Found{}, store.Errorf(store.ErrRefused,
			"this sign-in belongs to %s, and /%s was linked as %s; sign in as %s to mend it, or link the other as a new account",
			found.Owner, row.Name, row.Owner, row.Owner)
	}
	// What was renewed while it was reached is the secret now.
	if secret, err = held.Load(ctx); err != nil {
		return row, Found{}, err
	}
	keeper := cmp.Or(row.SignedIn, row.ID)
	if err := a.db.ReauthorizeAccount(ctx, keeper, a.sealer.Seal(purpose(keeper), secret), cmp.Or(found.Owner, row.Owner),
		a.originOf(row)); err != nil {
		return row, Found{}, err
	}
	mended, err := a.sharing(ctx, keeper)
	if err != nil {
		return row, Found{}, err
	}
	for _, one := range mended {
		a.forget(one.ID)
		a.Noticed(one.Name, nil)
		a.happened(ctx, one, records.Reauthorized, "")
		a.log.InfoContext(ctx, "reauthorized an account", "account", one.Name)
		a.Changed()
		a.Reauthorized(one.Name)
	}
	row, err = a.db.Account(ctx, row.Name)
	return row, found, err
}

// sharing are the accounts of one sign-in, the one that keeps it first.
func (a *Accounts) sharing(ctx context.Context, keeper string) ([]records.Account, error) {
	row, err := a.db.AccountByID(ctx, keeper)
	if err != nil {
		return nil, err
	}
	others, err := a.db.SharingSignIn(ctx, keeper)
	return append([]records.Account{row}, others...), err
}

// Reauthorize gives an account a new secret that is not a consent, and new files such as a
// private key; those that are not given stay, and one that is empty goes.
func (a *Accounts) Reauthorize(ctx context.Context, name, secret string, files map[string]string) (records.Account, Found, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return row, Found{}, err
	}
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return row, Found{}, err
	}
	if byConsent(provider, row.Options) {
		return row, Found{}, messages.With(store.Errorf(store.ErrRefused, "/%s was linked by consent; reauthorize it that way", name),
			"heron account reauthorize "+name)
	}
	if err := checkFiles(provider, files); err != nil {
		return row, Found{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	return a.mend(ctx, row, a.renewed(ctx, row, secret, files).Bytes())
}

// renewed returns the credential of an account with the given parts replaced.
func (a *Accounts) renewed(ctx context.Context, row records.Account, secret string, files map[string]string) store.Credential {
	before := store.Credential{}
	if sealed, err := (&secrets{accounts: a, linking: row}).Load(ctx); err == nil {
		before, _ = store.ParseCredential(sealed)
	}
	renewed := store.Credential{Secret: secret, Files: map[string]string{}}
	maps.Copy(renewed.Files, before.Files)
	for name, content := range files {
		renewed.Files[name] = content
		if content == "" {
			delete(renewed.Files, name)
		}
	}
	return renewed
}

// registration is one's own app registration for a provider; empty for none.
func (a *Accounts) registration(ctx context.Context, provider string) (id, secret string, err error) {
	kept, err := a.db.Registration(ctx, provider)
	if errors.Is(err, records.ErrNotFound) {
		return "", "", nil
	}
	if err != nil || kept.Secret == nil {
		return kept.ClientID, "", err
	}
	opened, err := a.sealer.Open("registration "+provider, kept.Secret)
	return kept.ClientID, string(opened), err
}

// Register keeps an app registration of one's own, to be used in place of the
// provider's default by all that is linked, or mended, from now on. An empty
// client id goes back to the default.
func (a *Accounts) Register(ctx context.Context, provider, clientID, secret string) error {
	known, err := a.Provider(provider)
	if err != nil {
		return err
	}
	if clientID == "" {
		return a.db.RemoveRegistration(ctx, provider)
	}
	if _, ok := known.(store.Consenter); !ok {
		return fmt.Errorf("accounts at %s need no app registration", known.Title())
	}
	row := records.Registration{Provider: provider, ClientID: clientID, CreatedAt: time.Now()}
	if secret != "" {
		row.Secret = a.sealer.Seal("registration "+provider, []byte(secret))
	}
	return a.db.PutRegistration(ctx, &row)
}

// RegisteredAs is the client id of one's own registration; empty for none.
func (a *Accounts) RegisteredAs(ctx context.Context, provider string) string {
	kept, err := a.db.Registration(ctx, provider)
	if err != nil {
		return ""
	}
	return kept.ClientID
}

// revokeTime is how long giving a sign-in back may take.
const revokeTime = 5 * time.Second

// revoke gives an account's sign-in back to its provider, which is not waited for
// longer than it takes: the account is unlinked either way.
func (a *Accounts) revoke(ctx context.Context, row records.Account) {
	provider, err := a.Provider(row.Provider)
	if err != nil || row.Secret == nil {
		return
	}
	if _, able := provider.(store.Revoker); !able {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, revokeTime)
	defer cancel()
	opening := a.openingFor(provider, row, consentGate(), &secrets{accounts: a, linking: row})
	revoker, err := reach[store.Revoker](ctx, a, provider, row, opening)
	if err == nil {
		err = revoker.Revoke(ctx, opening)
	}
	if err != nil {
		a.log.WarnContext(ctx, "the sign-in of an account could not be revoked", "account", row.Name, "error", err)
	}
}
