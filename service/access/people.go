package access

import (
	"context"
	"errors"
	"regexp"
	"time"

	"github.com/google/uuid"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// ErrCodeNeeded is the error if a password is right, and a one-time code is needed as well.
var ErrCodeNeeded = errors.New("a one-time code is needed")

var userName = regexp.MustCompile(`^[a-z0-9][a-z0-9._@-]{0,63}$`)

// CheckUserName returns an error if the name of a user is invalid.
func CheckUserName(name string) error {
	if !userName.MatchString(name) {
		return remedy.Errorf("%q cannot be a user's name; use 1 to 64 lower-case letters, digits, dots, hyphens, underscores and @", name)
	}
	return nil
}

// CheckRole returns an error unless there is such a role.
func CheckRole(role string) error {
	if !Role(role).Valid() {
		return remedy.Errorf("there is no role %q; choose viewer, operator or owner", role)
	}
	return nil
}

// personOf returns who holds a token or a session. ErrNotSignedIn if the user is gone or disabled.
func (a *Access) personOf(ctx context.Context, row records.Token) (Person, error) {
	user, err := a.DB.User(ctx, row.User)
	if errors.Is(err, records.ErrNotFound) || err == nil && user.Disabled {
		return Person{}, ErrNotSignedIn
	}
	if err != nil {
		return Person{}, err
	}
	person := Person{TokenID: row.ID, Kind: row.Kind, User: user.ID, Name: user.Name, Role: Role(user.Role), Token: row.Name,
		Scopes: row.Scopes}
	if row.ConfirmedAt != nil {
		person.Confirmed = *row.ConfirmedAt
	}
	if person.Scope, err = a.scope(ctx, user); err != nil {
		return Person{}, err
	}
	if len(row.Grants) > 0 {
		names, err := a.accountNames(ctx)
		if err != nil {
			return Person{}, err
		}
		person.Narrowed = true
		person.Scope, person.Role = narrowed(person.Scope, scopeOf(Operator, row.Grants, names)), lower(person.Role, Operator)
	}
	return person, nil
}

// scope returns the part of the tree that a user sees.
func (a *Access) scope(ctx context.Context, user records.User) (tree.Scope, error) {
	if Role(user.Role) == Owner {
		return nil, nil
	}
	given, err := a.DB.Grants(ctx, user.ID)
	if err != nil {
		return nil, err
	}
	names, err := a.accountNames(ctx)
	return scopeOf(Role(user.Role), given, names), err
}

// accountNames returns the names of the accounts by id.
func (a *Access) accountNames(ctx context.Context) (map[string]string, error) {
	rows, err := a.DB.Accounts(ctx)
	names := map[string]string{}
	for _, row := range rows {
		names[row.ID] = row.Name
	}
	return names, err
}

// ScopeOf returns the part of the tree that a user sees now, for work in the user's name: nothing
// if the user is removed or disabled.
func (a *Access) ScopeOf(ctx context.Context, user string) (tree.Scope, error) {
	row, err := a.DB.User(ctx, user)
	if errors.Is(err, records.ErrNotFound) || err == nil && row.Disabled {
		return grants{}, nil
	}
	if err != nil {
		return nil, err
	}
	return a.scope(ctx, row)
}

// SignIn begins a session of a user with a password, and a one-time code if the user has them.
// ErrNotSignedIn if one of them is wrong, whichever; ErrCodeNeeded if only the code is missing.
func (a *Access) SignIn(ctx context.Context, name, password, code string, by Visitor) (session string, expires time.Time, err error) {
	user, err := a.prove(ctx, name, password, code)
	if err != nil {
		return "", time.Time{}, err
	}
	return a.begin(ctx, user.ID, by)
}

// prove returns the user of a name if the password, and the code, are the user's.
func (a *Access) prove(ctx context.Context, name, password, code string) (records.User, error) {
	user, err := a.DB.UserNamed(ctx, name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return user, err
	}
	if !a.matches(password, user.Password) || user.Disabled {
		return user, ErrNotSignedIn
	}
	if len(user.TOTP) == 0 {
		return user, nil
	}
	if code == "" {
		return user, ErrCodeNeeded
	}
	a.codes.Lock()
	defer a.codes.Unlock()
	if user, err = a.DB.User(ctx, user.ID); err != nil { // as the code before left it
		return user, err
	}
	good, err := a.checkCode(ctx, user, code)
	if err == nil && !good {
		err = ErrNotSignedIn
	}
	return user, err
}

// Confirm makes a session fresh again with its user's password, and one-time code. It returns the
// errors of SignIn.
func (a *Access) Confirm(ctx context.Context, person Person, password, code string) error {
	user, err := a.prove(ctx, person.Name, password, code)
	if err == nil && user.ID != person.User {
		err = ErrNotSignedIn
	}
	if err != nil {
		return err
	}
	return a.Freshen(ctx, person)
}

// ConfirmByLink makes a session fresh again with a one-time link of the same user.
func (a *Access) ConfirmByLink(ctx context.Context, person Person, token string) error {
	if user, ok := a.take(token); !ok || user != person.User {
		return ErrNotSignedIn
	}
	return a.Freshen(ctx, person)
}

// Freshen keeps that the user of a session has signed in again.
func (a *Access) Freshen(ctx context.Context, person Person) error {
	defer a.Forget()
	return a.DB.ConfirmToken(ctx, person.TokenID, a.Now())
}

// Forget empties the cache of tokens, after a change of users, grants, or the names of
// accounts.
func (a *Access) Forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	clear(a.known)
}

// AddUser adds a user with grants. Nothing is added if one of the grants is wrong.
func (a *Access) AddUser(ctx context.Context, name, role, password string, granted ...Grant) (records.User, error) {
	user := records.User{ID: uuid.NewString(), Name: name, Role: role, Recovery: []string{}, CreatedAt: a.Now()}
	if err := errors.Join(CheckUserName(name), CheckRole(role)); err != nil {
		return user, err
	}
	if password != "" {
		if err := CheckPassword(name, password); err != nil {
			return user, err
		}
		user.Password = a.hashPassword(password)
	}
	rows := make([]records.Grant, len(granted))
	for i, grant := range granted {
		var err error
		if rows[i], err = a.checkGrant(ctx, user, grant); err != nil {
			return user, err
		}
	}
	err := a.DB.AddUser(ctx, &user)
	if errors.Is(err, records.ErrTaken) {
		return user, store.Errorf(store.ErrExists, "there is already a user %s; choose another name", name)
	}
	for _, row := range rows {
		if err == nil {
			err = a.DB.SetGrant(ctx, row)
		}
	}
	return user, err
}

// UserChange is a change of a user; nil fields stay.
type UserChange struct {
	Role     *string
	Password *string // empty: none
	Disabled *bool
}

// ChangeUser changes a user. A new password, and being disabled, end the user's sessions but the
// one of an id.
func (a *Access) ChangeUser(ctx context.Context, user records.User, change UserChange, but string) (records.User, error) {
	var columns []string
	if change.Role != nil {
		if err := CheckRole(*change.Role); err != nil {
			return user, err
		}
		user.Role, columns = *change.Role, append(columns, "role")
	}
	if change.Disabled != nil {
		user.Disabled, columns = *change.Disabled, append(columns, "disabled")
	}
	if user.ID == records.OwnerID && (Role(user.Role) != Owner || user.Disabled) {
		return user, store.Errorf(store.ErrRefused, "the user owner holds the owner's token and stays an owner; disable other users instead")
	}
	if change.Password != nil {
		user.Password = ""
		if *change.Password != "" {
			if err := CheckPassword(user.Name, *change.Password); err != nil {
				return user, err
			}
			user.Password = a.hashPassword(*change.Password)
		}
		columns = append(columns, "password")
	}
	if len(columns) == 0 {
		return user, nil
	}
	if err := a.DB.SaveUser(ctx, user, columns...); err != nil {
		return user, err
	}
	if change.Password != nil || user.Disabled {
		if err := a.EndSessions(ctx, user.ID, but); err != nil {
			return user, err
		}
	}
	a.regranted(ctx, user.ID)
	return user, nil
}

// RemoveUser removes a user, with sessions, tokens and grants.
func (a *Access) RemoveUser(ctx context.Context, user records.User) error {
	if user.ID == records.OwnerID {
		return store.Errorf(store.ErrRefused, "the user owner holds the owner's token and cannot be removed; replace the token instead")
	}
	tokens, err := a.DB.TokensOf(ctx, user.ID, a.Now())
	if err != nil {
		return err
	}
	if err := a.DB.RemoveUser(ctx, user.ID); err != nil {
		return err
	}
	for _, token := range tokens {
		a.ended(token.ID)
	}
	a.regranted(ctx, user.ID)
	return nil
}

// regranted applies changed grants of a user, in the cache and in open streams: the streams end,
// and their clients connect again with the new grants.
func (a *Access) regranted(ctx context.Context, user string) {
	a.Forget()
	if tokens, err := a.DB.TokensOf(ctx, user, a.Now()); err == nil {
		for _, token := range tokens {
			a.ended(token.ID)
		}
	}
	if a.Regranted != nil {
		a.Regranted(user)
	}
}

// TokenRequest describes a new token for programs.
type TokenRequest struct {
	Name    string
	Scopes  []string
	Grants  []Grant
	Expires *time.Time
}

// NewToken makes a token for programs in the name of a user, which is shown this once.
func (a *Access) NewToken(ctx context.Context, user string, asked TokenRequest) (token string, row records.Token, err error) {
	row = records.Token{Kind: KindToken, User: user, Name: asked.Name, Scopes: asked.Scopes, Grants: []records.Grant{},
		ExpiresAt: asked.Expires}
	if row.Scopes == nil {
		row.Scopes = []string{}
	}
	for _, grant := range asked.Grants {
		one, err := a.grantOf(ctx, "", grant)
		if err != nil {
			return "", row, err
		}
		row.Grants = append(row.Grants, one)
	}
	token = secret()
	return token, row, a.add(ctx, token, &row)
}

// TokensFor returns the tokens for programs of a user; of all users if the id is empty.
func (a *Access) TokensFor(ctx context.Context, user string) (tokens []records.Token, err error) {
	all, err := a.DB.Tokens(ctx, KindToken, a.Now())
	for _, one := range all {
		if user == "" || one.User == user {
			tokens = append(tokens, one)
		}
	}
	return tokens, err
}

// PlacesOf returns the places that a token's grants are for.
func (a *Access) PlacesOf(ctx context.Context, token records.Token) (places []Grant, err error) {
	names, err := a.accountNames(ctx)
	for _, one := range token.Grants {
		if address, ok := addressOf(one, names); ok {
			places = append(places, Grant{Address: address, Role: Role(one.Role)})
		}
	}
	return places, err
}
