// Package accounts keeps the linked accounts: it links and unlinks them, opens
// them when they are needed, and gives each its gate, its secret and its way to
// the network.
package accounts

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/singleflight"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/access"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// Accounts implements tree.Accounts.
type Accounts struct {
	db        *records.DB
	sealer    *access.Sealer
	providers map[string]store.Provider
	log       *slog.Logger
	// LinkedBy, if not nil, is called after a user linked an account.
	LinkedBy func(ctx context.Context, user string, row records.Account) error
	// Changed is called after an account was linked or unlinked.
	Changed func()
	// Watcher, if not nil, returns what decides about the changes of an account, by its id.
	Watcher func(id string) view.Watcher

	// Sites are the networks that only workers reach; nil if there are none.
	Sites Sites
	// Proxy is the way out to accounts; nil is that of the environment.
	Proxy func(*http.Request) (*url.URL, error)
	// Reauthorized is called after the sign-in of an account was made again, or it was
	// resumed.
	Reauthorized func(name string)
	// SignInExpiredNow is called when an account no longer accepts its sign-in.
	SignInExpiredNow func(name string, why error)
	// WithRunsPaused is called around a change of an account that is in use: it has what
	// uses it stop, and go on afterwards as the account is then.
	WithRunsPaused func(ctx context.Context, name string, change func() error) error

	opening     singleflight.Group
	limits      limits
	sealing     sealingTasks
	mu          sync.Mutex
	consents    consents
	open        map[string]tree.Account // by id
	epochs      map[string]int          // how often what is open was forgotten, by id
	states      map[string]State        // by id
	shared      map[string]*sync.Mutex  // sign-ins, by the id of the account that keeps them
	generations map[string]string       // tell the states of accounts apart for workers, by id
	// checked is when the start of accounts at sites was found the same, by id.
	checked map[string]time.Time
	// dependents are the accounts that are in others, by the ids of these.
	dependents map[string][]string
	// certificates are when those that servers show end, by id.
	certificates map[string]time.Time
	// unwritable are why folders of this machine cannot be written to, as of the last check, by id.
	unwritable map[string]error
}

// New returns the accounts of the records.
func New(db *records.DB, sealer *access.Sealer, providers []store.Provider, log *slog.Logger) *Accounts {
	a := &Accounts{
		db: db, sealer: sealer, providers: map[string]store.Provider{}, log: log,
		Changed: func() {}, Reauthorized: func(string) {}, SignInExpiredNow: func(string, error) {},
		WithRunsPaused: func(_ context.Context, _ string, change func() error) error { return change() }, open: map[string]tree.Account{},
		epochs: map[string]int{}, shared: map[string]*sync.Mutex{}, certificates: map[string]time.Time{}, unwritable: map[string]error{},
		states: map[string]State{}, dependents: map[string][]string{}, checked: map[string]time.Time{}, generations: map[string]string{},
	}
	for _, provider := range providers {
		a.providers[provider.Name()] = provider
	}
	return a
}

// Providers returns the kinds of places, by name.
func (a *Accounts) Providers() []store.Provider {
	a.mu.Lock()
	defer a.mu.Unlock()
	var providers []store.Provider
	for _, name := range slices.Sorted(maps.Keys(a.providers)) {
		providers = append(providers, a.providers[name])
	}
	return providers
}

func (a *Accounts) providerNames() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Sorted(maps.Keys(a.providers))
}

// Provider returns a kind of place by its name.
func (a *Accounts) Provider(name string) (store.Provider, error) {
	a.mu.Lock()
	provider, ok := a.providers[name]
	a.mu.Unlock()
	if !ok {
		return nil, remedy.Errorf("there is no provider %q; there are %s", name, strings.Join(a.providerNames(), ", "))
	}
	return provider, nil
}

// Link is what an account is linked with.
type Link struct {
	Provider string
	Name     string
	Options  map[string]string
	Start    string // below the account's start, as in an address
	Secret   string
	// Files are the contents of those that the provider asks for, such as a
	// private key, by the names of their options.
	Files    map[string]string
	ReadOnly bool
	// At is the site, or the worker, that reaches the account; empty for the service.
	At string
	// Again is the id of a link that has ended, whose history goes on.
	Again string

	consented bool   // the secret is what consent came to
	shared    string // the id of the account whose sign-in it is
	// Try has the account reached, and nothing kept of it.
	Try bool
}

// credential is what of a link is sealed.
func (l Link) credential() store.Credential {
	return store.Credential{Secret: l.Secret, Files: l.Files}
}

// checkFiles refuses files that the provider does not ask for.
func checkFiles(provider store.Provider, files map[string]string) error {
	for name, content := range files {
		known := slices.ContainsFunc(provider.Options(), func(option store.Option) bool { return option.File && option.Name == name })
		switch {
		case !known:
			return &store.OptionError{Option: name, Reason: "the provider " + provider.Name() + " takes no such file"}
		case len(content) > 64<<10:
			return &store.OptionError{Option: name, Reason: "the file is larger than 64 KiB, and cannot be what is meant; give the right one"}
		}
	}
	return nil
}

// check finds what is wrong with what an account is to be linked with, before
// anything is asked of anybody, and returns it as it will be kept.
func (a *Accounts) check(ctx context.Context, link Link) (records.Account, error) {
	if err := store.CheckAccountName(link.Name); err != nil {
		return records.Account{}, err
	}
	provider, err := a.Provider(link.Provider)
	if err != nil {
		return records.Account{}, err
	}
	if _, err := a.db.Account(ctx, link.Name); err == nil {
		return records.Account{}, Taken(link.Name)
	}
	options, err := store.CheckOptions(provider, link.Options, link.Secret != "" || link.shared != "")
	if err != nil {
		return records.Account{}, err
	}
	if err := checkFiles(provider, link.Files); err != nil {
		return records.Account{}, err
	}
	start, err := parseStart(link.Start)
	if err != nil {
		return records.Account{}, err
	}
	id := uuid.NewString()
	if link.Again != "" && a.ended(ctx, link.Again) {
		id = link.Again
	}
	row := records.Account{
		ID: id, SignedIn: link.shared, Name: link.Name, Provider: link.Provider, Options: options, Start: start, ReadOnly: link.ReadOnly,
		CreatedAt: time.Now(),
	}
	return row, a.placeAtSite(ctx, provider, link.At, &row)
}

// Found is what was found at an account.
type Found struct {
	Owner   string
	Space   store.Space
	Folders []string // the first of those at its start
	Areas   []string // that the sign-in leads to, where there are several
	New     bool     // the place was made, or would be
}

// Add links an account, after reaching it. The error says what is wrong and
// what to do.
func (a *Accounts) Add(ctx context.Context, link Link) (records.Account, Found, error) {
	row, err := a.check(ctx, link)
	if err != nil {
		return records.Account{}, Found{}, err
	}
	added, found, err := a.add(ctx, link, row)
	if err != nil || link.Try || added.ID != row.ID {
		a.forgetSecret(row.ID)
	}
	return added, found, err
}

// add links an account whose row was checked.
func (a *Accounts) add(ctx context.Context, link Link, row records.Account) (records.Account, Found, error) {
	if provider, err := a.Provider(link.Provider); err == nil && byConsent(provider, link.Options) && !link.consented && link.shared == "" {
		return records.Account{}, Found{}, messages.With(store.Errorf(store.ErrRefused,
			"accounts at %s are linked by consent; sign in there to agree", provider.Title()),
			"heron account link "+link.Provider+" "+link.Name)
	}
	if sealed := link.credential().Bytes(); len(sealed) > 0 {
		row.Secret = a.sealer.Seal(purpose(row.ID), sealed)
	}
	keeps := &secrets{accounts: a, linking: row, unkept: true}
	made, err := a.make(ctx, row, keeps, link.Try)
	if err != nil {
		return records.Account{}, Found{}, err
	}
	if made && link.Try {
		return row, Found{Space: store.UnknownSpace, New: true}, nil
	}
	opened, err := a.openRow(ctx, row, keeps)
	if err != nil {
		return records.Account{}, Found{}, err
	}
	looking, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	found, err := look(looking, opened.Store)
	if err != nil {
		_ = store.Close(opened.Store)
		return records.Account{}, Found{}, err
	}
	found.New = made
	if link.Try {
		if _, err := a.db.Account(ctx, link.Name); err == nil {
			return records.Account{}, Found{}, errors.Join(Taken(link.Name), store.Close(opened.Store))
		}
		row.Owner = found.Owner
		return row, found, store.Close(opened.Store)
	}
	row.Owner, row.Secret, row.Mark = found.Owner, keeps.now(), mark(looking, opened.Store)
	if id := a.again(ctx, row); id != row.ID && !link.consented && link.shared == "" {
		_ = store.Close(opened.Store) // it is opened as the one that it was
		link.Again = id
		return a.Add(ctx, link)
	}
	now := time.Now()
	row.SeenAt, row.Options = &now, pinned(row.Options, opened.Store)
	row.Origin = a.originOf(row)
	if err := a.db.AddAccount(ctx, &row); err != nil {
		if errors.Is(err, records.ErrTaken) {
			err = Taken(link.Name)
		}
		return records.Account{}, Found{}, err
	}
	a.mu.Lock()
	a.open[row.ID] = opened
	a.mu.Unlock()
	a.Noticed(row.Name, nil)
	a.happened(ctx, row, records.Linked, "")
	a.sample(ctx, row, found.Space, now)
	if a.LinkedBy != nil {
		if err := a.LinkedBy(ctx, UserOf(ctx), row); err != nil {
			a.log.ErrorContext(ctx, "the user who linked an account got no grant on it", "account", row.Name, "error", err)
		}
	}
	a.log.InfoContext(ctx, "linked an account", "account", row.Name, "provider", row.Provider)
	a.Changed()
	return row, found, nil
}

// Taken is the error of a name that another account has.
func Taken(name string) error {
	return remedy.Errorf("an account is called %q already; choose another name, or rename that one first", name)
}

// Check reaches an account again and returns what is found there now.
func (a *Accounts) Check(ctx context.Context, name string) (Found, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return Found{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	var found Found
	opened, err := a.Open(ctx, row.Name)
	if err == nil {
		found, err = look(ctx, opened.Store)
	}
	return found, a.settle(ctx, row, openTime, err)
}

// Remove unlinks an account. What is at the provider stays.
func (a *Accounts) Remove(ctx context.Context, name string) error {
	row, err := a.row(ctx, name)
	if err != nil {
		return err
	}
	if err := a.freeOfOthers(ctx, name); err != nil {
		return err
	}
	if err := a.leaveSignIn(ctx, row); err != nil {
		return err
	}
	if err := a.db.RemoveAccount(ctx, row); err != nil {
		return err
	}
	a.forget(row.ID)
	a.forgetSecret(row.ID)
	a.mu.Lock()
	delete(a.states, row.ID)
	a.mu.Unlock()
	a.happened(ctx, row, records.Unlinked, "")
	a.log.InfoContext(ctx, "unlinked an account", "account", name)
	a.Changed()
	return nil
}

// Names implements tree.Accounts: those that are suspended are out of the tree.
func (a *Accounts) Names(ctx context.Context) ([]string, error) {
	rows, err := a.db.Accounts(ctx)
	names := make([]string, 0, len(rows))
	for _, row := range rows {
		if !row.Suspended && sees(ctx, row.Name) {
			names = append(names, row.Name)
		}
	}
	return names, err
}

// ID returns the id of an account, which stays when its name does not.
func (a *Accounts) ID(ctx context.Context, name string) (string, error) {
	row, err := a.row(ctx, name)
	return row.ID, err
}

func (a *Accounts) row(ctx context.Context, name string) (records.Account, error) {
	row, err := a.db.Account(ctx, name)
	if err == nil && !sees(ctx, name) {
		row, err = records.Account{}, records.ErrNotFound
	}
	if errors.Is(err, records.ErrNotFound) {
		names, _ := a.Names(ctx)
		if len(names) == 0 {
			return row, messages.With(store.Errorf(store.ErrNotFound, "there is no account %q, as none is linked yet; link one", name),
				"heron account link PROVIDER NAME")
		}
		return row, store.Errorf(store.ErrNotFound, "there is no account %q; linked are %s", name, strings.Join(names, ", "))
	}
	return row, err
}
