package accounts

import (
	"context"
	"errors"
	"strings"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/provider/declared"
	"deftheron/service/records"
)

// LoadDefinitions adds the provider definitions that were added to this service
// before. One that this version does not understand any more is left out, and
// said.
func (a *Accounts) LoadDefinitions(ctx context.Context) error {
	rows, err := a.db.Definitions(ctx)
	for _, row := range rows {
		definition, wrong := declared.Load(row.Name+".yaml", []byte(row.Text))
		if wrong != nil {
			a.log.ErrorContext(ctx, "a provider definition cannot be used", "definition", row.Name, "error", wrong)
			continue
		}
		a.mu.Lock()
		a.providers[row.Name] = declared.New(definition)
		a.mu.Unlock()
	}
	return err
}

// AddDefinition adds a provider definition, or replaces one that was added
// before. What is wrong with it is a *declared.Problem.
func (a *Accounts) AddDefinition(ctx context.Context, where, text string) (*declared.Provider, error) {
	definition, err := declared.Load(where, []byte(text))
	if err != nil {
		return nil, err
	}
	if before, err := a.Provider(definition.Name); err == nil {
		if known, ok := before.(*declared.Provider); !ok || known.Definition().Shipped {
			return nil, store.Errorf(store.ErrExists, "the provider %s is part of the program; give yours another name", definition.Name)
		}
	}
	provider := declared.New(definition)
	if err := a.keepRegistration(ctx, provider); err != nil {
		return nil, err
	}
	if err := a.db.PutDefinition(ctx, &records.Definition{Name: definition.Name, Text: text, CreatedAt: time.Now()}); err != nil {
		return nil, err
	}
	a.mu.Lock()
	a.providers[definition.Name] = provider
	a.mu.Unlock()
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if row.Provider == definition.Name { // opened again, as it says now
			a.mu.Lock()
			delete(a.open, row.ID)
			a.mu.Unlock()
		}
	}
	a.log.InfoContext(ctx, "added a provider definition", "definition", definition.Name)
	return provider, nil
}

// keepRegistration drops the app registration for a definition that sends secrets
// elsewhere than the one before did: it was given for that.
func (a *Accounts) keepRegistration(ctx context.Context, provider *declared.Provider) error {
	before, err := a.Provider(provider.Name())
	if err != nil || store.SecretOrigins(before, nil) == store.SecretOrigins(provider, nil) {
		return nil
	}
	if _, err := a.db.Registration(ctx, provider.Name()); errors.Is(err, records.ErrNotFound) {
		return nil
	}
	a.log.WarnContext(ctx, "the app registration was removed, because the definition names another service", "provider", provider.Name())
	return a.db.RemoveRegistration(ctx, provider.Name())
}

// RemoveDefinition forgets a definition that no account uses.
func (a *Accounts) RemoveDefinition(ctx context.Context, name string) error {
	known, err := a.Provider(name)
	if err != nil {
		return store.Errorf(store.ErrNotFound, "%w", err)
	}
	if added, ok := known.(*declared.Provider); !ok || added.Definition().Shipped {
		return store.Errorf(store.ErrRefused, "the provider %s is part of the program, and stays", name)
	}
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		return err
	}
	var used []string
	for _, row := range rows {
		if row.Provider == name {
			used = append(used, row.Name)
		}
	}
	if len(used) > 0 {
		return store.Errorf(store.ErrRefused, "the provider %s is used by %s; unlink that first", name, strings.Join(used, ", "))
	}
	// Its app registration first: another definition of the name is not to get it.
	if err := errors.Join(a.db.RemoveRegistration(ctx, name), a.db.RemoveDefinition(ctx, name)); err != nil {
		return err
	}
	a.mu.Lock()
	delete(a.providers, name)
	a.mu.Unlock()
	return nil
}

// Trial are the parameters of a trial of a definition.
type Trial struct {
	Provider *declared.Provider
	Options  map[string]string
	Start    string
	Secret   string
}

// TrialOpening returns the parameters with which a trial's account is opened.
func (a *Accounts) TrialOpening(trial Trial) (store.Opening, error) {
	if len(trial.Secret) == 0 && byConsent(trial.Provider, trial.Options) {
		return store.Opening{}, store.Errorf(store.ErrRefused, "accounts of this definition are linked by consent; agree to the trial first")
	}
	options, err := store.CheckOptions(trial.Provider, trial.Options, trial.Secret != "")
	if err != nil {
		return store.Opening{}, err
	}
	start, err := parseStart(trial.Start)
	if err != nil {
		return store.Opening{}, err
	}
	row := records.Account{Name: "trial", Options: options, Start: start}
	return a.openingFor(trial.Provider, row, gate.New("trial", 8, 16), &heldSecret{now: []byte(trial.Secret)}), nil
}
