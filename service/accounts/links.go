package accounts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"deftheron/core/store"
	"deftheron/service/messages"
	"deftheron/service/records"
)

type byKey struct{}

// By returns a context in which events of accounts are recorded as done by who.
func By(ctx context.Context, who string) context.Context {
	return context.WithValue(ctx, byKey{}, who)
}

type userKey struct{}

// ByUser returns a context in which a user, by their id, links accounts and changes files.
func ByUser(ctx context.Context, user string) context.Context {
	return context.WithValue(ctx, userKey{}, user)
}

// UserOf is the user in whose name something is done; empty if it is not known.
func UserOf(ctx context.Context) string {
	user, _ := ctx.Value(userKey{}).(string)
	return user
}

// byService is the author of events that no user caused.
const byService = "the service"

// happened keeps what happened to a link.
func (a *Accounts) happened(ctx context.Context, row records.Account, what, why string) {
	by, _ := ctx.Value(byKey{}).(string)
	if by == "" {
		by = byService
	}
	event := records.LinkEvent{Account: row.ID, Name: row.Name, At: time.Now(), What: what, By: by, Why: why, Settings: row.Settings(),
		Mark: row.Mark}
	if err := a.db.AddLinkEvent(context.WithoutCancel(ctx), &event); err != nil {
		a.log.ErrorContext(ctx, "could not record an event of an account", "account", row.Name, "what", what, "error", err)
	}
}

// forget has an account opened again when it is needed next.
func (a *Accounts) forget(id string) {
	a.mu.Lock()
	opened, ok := a.open[id]
	delete(a.open, id)
	delete(a.checked, id)
	delete(a.generations, id)
	a.epochs[id]++
	within := a.dependents[id]
	delete(a.dependents, id)
	a.mu.Unlock()
	for _, other := range within { // first: what they have not written goes through this one
		a.forget(other)
	}
	if ok { // what still uses it is given a moment to end
		time.AfterFunc(closeAfter, func() { _ = store.Close(opened.Store) })
	}
}

// closeAfter is how long connections of an account stay that is opened again.
const closeAfter = time.Minute

// pinned returns the options, with those that were learned of the place, such as a host key.
func pinned(options map[string]string, s store.Store) map[string]string {
	learned := store.PinnedOf(s)
	if len(learned) == 0 {
		return options
	}
	all := maps.Clone(options)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, learned)
	return all
}

// suspended is the error for a suspended account.
func suspended(name string) error {
	return messages.With(store.Errorf(store.ErrSuspended, "/%s is suspended; resume it", name), "heron account resume "+name)
}

// SetSearch says what of an account is searched.
func (a *Accounts) SetSearch(ctx context.Context, name, search string) (records.Account, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return row, err
	}
	row.Search = search
	if err := a.db.SaveAccount(ctx, row, "Search"); err != nil {
		return row, err
	}
	a.Changed()
	return row, nil
}

// Suspend takes an account out of the tree and out of use. Nothing is forgotten;
// runs that use it are held until it is resumed.
func (a *Accounts) Suspend(ctx context.Context, name string) error {
	return a.setSuspended(ctx, name, true)
}

// Resume takes an account that is suspended into use again.
func (a *Accounts) Resume(ctx context.Context, name string) error {
	return a.setSuspended(ctx, name, false)
}

func (a *Accounts) setSuspended(ctx context.Context, name string, suspend bool) error {
	row, err := a.row(ctx, name)
	if err != nil || row.Suspended == suspend {
		return err
	}
	row.Suspended = suspend
	err = a.WithRunsPaused(ctx, name, func() error {
		if err := a.db.SaveAccount(ctx, row, "Suspended"); err != nil {
			return err
		}
		a.forget(row.ID)
		return nil
	})
	if err != nil {
		return err
	}
	what := records.Suspended
	if !suspend {
		what = records.Resumed
	}
	a.happened(ctx, row, what, "")
	a.log.InfoContext(ctx, what+" an account", "account", name)
	a.Changed()
	if !suspend {
		a.Reauthorized(name)
	}
	return nil
}

// Rename gives an account another name; the addresses of jobs and runs follow.
func (a *Accounts) Rename(ctx context.Context, name, to string) (records.Account, error) {
	row, err := a.row(ctx, name)
	if err != nil || name == to {
		return row, err
	}
	if err := store.CheckAccountName(to); err != nil {
		return row, err
	}
	within, err := a.Within(ctx, name)
	if err != nil {
		return row, err
	}
	err = a.WithRunsPaused(ctx, name, func() error {
		err := a.db.RenameAccount(ctx, row.ID, name, to)
		if errors.Is(err, records.ErrTaken) {
			return Taken(to)
		}
		if err == nil {
			a.forget(row.ID)
			err = a.follow(ctx, within, name, to)
		}
		return err
	})
	if err != nil {
		return row, err
	}
	row.Name = to
	a.happened(ctx, row, records.LinkRenamed, "it was called "+name)
	a.log.InfoContext(ctx, "renamed an account", "account", to, "before", name)
	a.Changed()
	return row, nil
}

// Edit is a change of an account in place. Fields that are nil stay.
type Edit struct {
	Options  map[string]string // those that change; an empty value takes one away
	Start    *string
	ReadOnly *bool
	Secret   string
	Files    map[string]string
	// Anyway changes it though it seems to be another place then.
	Anyway bool
}

// ErrOtherPlace is the error if an account would lead to another place with its new
// settings, and this was not confirmed.
var ErrOtherPlace = errors.New("another place")

// Edit changes an account in place, after it was opened with the new settings. The error
// is ErrOtherPlace if it would be another storage, unless this is confirmed.
func (a *Accounts) Edit(ctx context.Context, name string, edit Edit) (records.Account, Found, error) {
	before, err := a.row(ctx, name)
	if err != nil {
		return before, Found{}, err
	}
	row, keeps, err := a.edited(ctx, before, edit)
	if err != nil {
		return before, Found{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*openTime)
	defer cancel()
	other := otherOrigin{}
	if _, err := keeps.Load(ctx); errors.As(err, &other) {
		a.happened(ctx, before, records.LinkRefused, differences(before, row, edit)+", without the secret")
		a.log.WarnContext(ctx, "a change of an account to another server was refused, because it had no secret", "account", name)
		return before, Found{}, store.Errorf(store.ErrRefused, "%w; give it together with the change, in a terminal with --secret-file FILE",
			other)
	}
	if err := a.samePlace(ctx, before, row, keeps, edit.Anyway); err != nil {
		return before, Found{}, err
	}
	opened, err := a.openRow(ctx, row, keeps)
	if err != nil {
		return before, Found{}, err
	}
	defer store.Close(opened.Store)
	found, err := look(ctx, opened.Store)
	if err != nil {
		return before, Found{}, err
	}
	resealing, err := a.setRecipients(ctx, opened.Store, before, row)
	if err != nil {
		return before, Found{}, err
	}
	row.Options = pinned(row.Options, opened.Store)
	row.Owner, row.Mark = cmp.Or(found.Owner, row.Owner), mark(ctx, opened.Store)
	columns := []string{"Options", "Start", "ReadOnly", "Owner", "Mark"}
	if keeps, ok := keeps.(*heldSecret); ok {
		columns = append(columns, "Secret", "SignedIn")
		secret, err := keeps.Load(ctx)
		if err != nil {
			return before, Found{}, err
		}
		row.Secret, row.SignedIn = a.sealer.Seal(purpose(row.ID), secret), ""
		row.Origin = a.originOf(row)
		columns = append(columns, "Origin")
	}
	lasting := context.WithoutCancel(ctx)
	err = a.WithRunsPaused(lasting, name, func() error {
		if err := a.db.SaveAccount(lasting, row, columns...); err != nil {
			return err
		}
		a.forget(row.ID)
		return nil
	})
	if err != nil {
		return before, Found{}, err
	}
	a.happened(ctx, row, records.LinkChanged, differences(before, row, edit))
	a.Noticed(name, nil)
	a.log.InfoContext(ctx, "changed an account", "account", name)
	a.Changed()
	a.Reauthorized(name)
	if resealing {
		err = a.Reseal(lasting, name, false)
	}
	return row, found, err
}

// edited returns an account with its new settings, and its secret.
func (a *Accounts) edited(ctx context.Context, before records.Account, edit Edit) (records.Account, store.Secrets, error) {
	provider, err := a.Provider(before.Provider)
	if err != nil {
		return before, nil, err
	}
	row := before
	given := maps.Clone(before.Options)
	if given == nil {
		given = map[string]string{}
	}
	for name, value := range edit.Options {
		if value == "" {
			delete(given, name)
		} else {
			given[name] = value
		}
	}
	if row.Options, err = store.CheckOptions(provider, given, before.Secret != nil || before.SignedIn != "" || edit.Secret != ""); err != nil {
		return before, nil, err
	}
	if edit.Start != nil {
		if row.Start, err = parseStart(*edit.Start); err != nil {
			return before, nil, err
		}
	}
	if edit.ReadOnly != nil {
		row.ReadOnly = *edit.ReadOnly
	}
	if err := checkFiles(provider, edit.Files); err != nil {
		return before, nil, err
	}
	if edit.Secret == "" && len(edit.Files) == 0 {
		return row, &secrets{accounts: a, linking: row}, a.checkWritable(row)
	}
	if byConsent(provider, row.Options) {
		return before, nil, messages.With(store.Errorf(store.ErrRefused, "/%s was linked by consent; reauthorize it", before.Name),
			"heron account reauthorize "+before.Name)
	}
	return row, &heldSecret{now: a.renewed(ctx, before, edit.Secret, edit.Files).Bytes()}, nil
}

// differences says what an edit changed, in words, without a secret.
func differences(before, after records.Account, edit Edit) string {
	var parts []string
	names := map[string]bool{}
	for name := range before.Options {
		names[name] = true
	}
	for name := range after.Options {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if was, is := before.Options[name], after.Options[name]; was != is {
			parts = append(parts, fmt.Sprintf("%s %s in place of %s", name, cmp.Or(is, "none"), cmp.Or(was, "none")))
		}
	}
	if before.Start != after.Start {
		parts = append(parts, fmt.Sprintf("start %s in place of %s", cmp.Or(after.Start, "none"),
			cmp.Or(before.Start, "none")))
	}
	if before.ReadOnly != after.ReadOnly {
		parts = append(parts, map[bool]string{true: "to be read only", false: "to be written to"}[after.ReadOnly])
	}
	if edit.Secret != "" || len(edit.Files) > 0 {
		parts = append(parts, "a new secret")
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}

// ended reports whether an id belongs to an account that was unlinked.
func (a *Accounts) ended(ctx context.Context, id string) bool {
	events, err := a.db.LinkEvents(ctx, id)
	return err == nil && len(events) > 0 && events[len(events)-1].What == records.Unlinked
}

// History returns the events of an account, oldest first: of the account that has the
// name, otherwise of the one that had it last. An empty name means all accounts.
func (a *Accounts) History(ctx context.Context, name string) ([]records.LinkEvent, error) {
	if name == "" {
		return a.db.LinkEvents(ctx, "")
	}
	row, err := a.db.Account(ctx, name)
	id := row.ID
	if errors.Is(err, records.ErrNotFound) {
		id, err = a.db.LinkedAs(ctx, name)
	}
	if errors.Is(err, records.ErrNotFound) {
		return nil, messages.With(store.Errorf(store.ErrNotFound, "no account was ever called %q; check the history of all accounts", name),
			"heron account history")
	}
	if err != nil {
		return nil, err
	}
	return a.db.LinkEvents(ctx, id)
}

// leaveSignIn handles the sign-in of an account that is unlinked: another account that
// shares it keeps it; a sign-in that no other account uses is revoked.
func (a *Accounts) leaveSignIn(ctx context.Context, row records.Account) error {
	if row.SignedIn != "" {
		return nil
	}
	sharing, err := a.db.SharingSignIn(ctx, row.ID)
	if err != nil {
		return err
	}
	if len(sharing) == 0 {
		a.revoke(ctx, row)
		return nil
	}
	keeps := &secrets{accounts: a, linking: row}
	unlock, err := keeps.Lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	secret, err := keeps.Load(ctx)
	if err != nil {
		return err
	}
	heir := sharing[0].ID
	return a.db.HandSignIn(ctx, row.ID, heir, a.sealer.Seal(purpose(heir), secret))
}
