package api

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/messages"
	"deftheron/service/records"
)

func (s *Server) registerPeople(api huma.API) {
	add(api, http.MethodGet, "/users", "list-users", "List the users", http.StatusOK, s.listUsers)
	add(api, http.MethodPost, "/users", "add-user", "Add a user", http.StatusCreated, s.addUser)
	add(api, http.MethodGet, "/users/{user}", "show-user", "One user", http.StatusOK, s.showUser)
	add(api, http.MethodPatch, "/users/{user}", "change-user", "Change the role, the password or the state of a user", http.StatusOK,
		s.changeUser)
	add(api, http.MethodDelete, "/users/{user}", "remove-user", "Remove a user, with sessions, tokens and grants", http.StatusNoContent,
		s.removeUser)
	add(api, http.MethodPut, "/users/{user}/grants", "set-grant", "Give a user a role on an account or a folder", http.StatusOK, s.setGrant)
	add(api, http.MethodDelete, "/users/{user}/grants", "remove-grant", "Take a user's role on an account or a folder away", http.StatusOK,
		s.removeGrant)
	add(api, http.MethodPost, "/users/{user}/signin-links", "make-user-link", "Create a sign-in link for a user", http.StatusCreated,
		s.makeUserLink)
	add(api, http.MethodPut, "/me/password", "set-password", "Change your own password", http.StatusNoContent, s.setPassword)
	add(api, http.MethodPost, "/me/codes", "new-codes", "Make a key for one-time codes", http.StatusCreated, s.newCodes)
	add(api, http.MethodPut, "/me/codes", "set-codes", "Sign in with one-time codes from now on", http.StatusOK, s.setCodes)
	add(api, http.MethodDelete, "/me/codes", "remove-codes", "Sign in without one-time codes", http.StatusNoContent, s.removeCodes)
	add(api, http.MethodGet, "/tokens", "list-tokens", "List the tokens for programs", http.StatusOK, s.listTokens)
	add(api, http.MethodPost, "/tokens", "make-token", "Make a token for programs", http.StatusCreated, s.makeToken)
	add(api, http.MethodDelete, "/tokens/{id}", "revoke-token", "Revoke a token for programs", http.StatusNoContent, s.revokeToken)
}

// UserPath names a user. It is exported, since the library looks for parameters in exported fields alone.
type UserPath struct {
	User string `path:"user" doc:"The user's name."`
}

// user returns a user by name.
func (s *Server) user(ctx context.Context, name string) (records.User, error) {
	row, err := s.DB.UserNamed(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		err = messages.With(store.Errorf(store.ErrNotFound, "there is no user %q; check the list of users", name), "heron user list")
	}
	return row, err
}

func grantsOf(granted []access.Grant) []contract.Grant {
	shown := []contract.Grant{}
	for _, one := range granted {
		shown = append(shown, contract.Grant{Address: one.Address.String(), Role: string(one.Role)})
	}
	return shown
}

// readGrants reads the grants of a request.
func readGrants(given []contract.Grant) (granted []access.Grant, err error) {
	for _, one := range given {
		grant, err := readGrant(one)
		if err != nil {
			return nil, err
		}
		granted = append(granted, grant)
	}
	return granted, nil
}

func readGrant(given contract.Grant) (access.Grant, error) {
	address, err := store.ParseAddress(given.Address)
	grant := access.Grant{Address: address, Role: access.Role(given.Role)}
	if err == nil && (!grant.Role.Valid() || grant.Role == access.Owner) {
		err = remedy.Errorf("a grant cannot have the role %q; choose viewer or operator", given.Role)
	}
	return grant, err
}

func (s *Server) userOf(ctx context.Context, row records.User) (contract.User, error) {
	keys, err := s.DB.Passkeys(ctx, row.ID)
	if err != nil {
		return contract.User{}, err
	}
	granted, err := s.Access.Grants(ctx, row.ID)
	shown := contract.User{Name: row.Name, Role: row.Role, Disabled: row.Disabled, Password: row.Password != "", Codes: len(row.TOTP) > 0,
		Recovery: len(row.Recovery), Passkeys: len(keys), Provider: row.Issuer, Grants: grantsOf(granted), Created: row.CreatedAt,
		Seen: row.SeenAt}
	return shown, err
}

func (s *Server) answerUser(ctx context.Context, row records.User, err error) (*body[contract.User], error) {
	if err != nil {
		return nil, err
	}
	shown, err := s.userOf(ctx, row)
	return &body[contract.User]{shown}, err
}

func (s *Server) listUsers(ctx context.Context, _ *none) (*body[[]contract.User], error) {
	rows, err := s.DB.Users(ctx)
	if err != nil {
		return nil, err
	}
	users := []contract.User{}
	for _, row := range rows {
		shown, err := s.userOf(ctx, row)
		if err != nil {
			return nil, err
		}
		users = append(users, shown)
	}
	return &body[[]contract.User]{users}, nil
}

func (s *Server) showUser(ctx context.Context, in *UserPath) (*body[contract.User], error) {
	row, err := s.user(ctx, in.User)
	return s.answerUser(ctx, row, err)
}

func (s *Server) addUser(ctx context.Context, in *body[contract.NewUser]) (*body[contract.User], error) {
	granted, err := readGrants(in.Body.Grants)
	if err != nil {
		return nil, err
	}
	row, err := s.Access.AddUser(ctx, in.Body.Name, in.Body.Role, in.Body.Password, granted...)
	return s.answerUser(ctx, row, err)
}

type changeUserInput struct {
	UserPath
	Body contract.UserChange
}

func (s *Server) changeUser(ctx context.Context, in *changeUserInput) (*body[contract.User], error) {
	row, err := s.user(ctx, in.User)
	if err != nil {
		return nil, err
	}
	change := in.Body
	row, err = s.Access.ChangeUser(ctx, row, access.UserChange{Role: change.Role, Password: change.Password, Disabled: change.Disabled},
		person(ctx).TokenID)
	if err == nil && change.NoCodes {
		err = s.Access.RemoveTOTP(ctx, row)
		row.TOTP, row.Recovery = nil, nil
	}
	return s.answerUser(ctx, row, err)
}

func (s *Server) removeUser(ctx context.Context, in *UserPath) (*none, error) {
	row, err := s.user(ctx, in.User)
	if err != nil {
		return nil, err
	}
	return &none{}, s.Access.RemoveUser(ctx, row)
}

type grantInput struct {
	UserPath
	Body contract.Grant
}

func (s *Server) setGrant(ctx context.Context, in *grantInput) (*body[contract.User], error) {
	row, err := s.user(ctx, in.User)
	if err != nil {
		return nil, err
	}
	grant, err := readGrant(in.Body)
	if err == nil {
		err = s.Access.SetGrant(ctx, row, grant)
	}
	return s.answerUser(ctx, row, err)
}

type removeGrantInput struct {
	UserPath
	Address string `query:"address" required:"true" doc:"The place of the grant."`
}

func (s *Server) removeGrant(ctx context.Context, in *removeGrantInput) (*body[contract.User], error) {
	row, err := s.user(ctx, in.User)
	if err != nil {
		return nil, err
	}
	address, err := store.ParseAddress(in.Address)
	if err == nil {
		err = s.Access.RemoveGrant(ctx, row, address)
	}
	return s.answerUser(ctx, row, err)
}

func (s *Server) makeUserLink(ctx context.Context, in *UserPath) (*body[contract.SigninLink], error) {
	row, err := s.user(ctx, in.User)
	if err == nil && row.Disabled {
		err = store.Errorf(store.ErrRefused, "the user %s is disabled and cannot sign in; enable the user first", row.Name)
	}
	return &body[contract.SigninLink]{s.linkFor(row.ID, person(ctx))}, err
}

func (s *Server) me(ctx context.Context) (records.User, error) {
	return s.DB.User(ctx, person(ctx).User)
}

func (s *Server) setPassword(ctx context.Context, in *body[contract.Password]) (*none, error) {
	row, err := s.me(ctx)
	if err != nil {
		return nil, err
	}
	_, err = s.Access.ChangeUser(ctx, row, access.UserChange{Password: &in.Body.Password}, person(ctx).TokenID)
	return &none{}, err
}

func (s *Server) newCodes(ctx context.Context, _ *none) (*body[contract.Codes], error) {
	row, err := s.me(ctx)
	if err != nil {
		return nil, err
	}
	key, address, err := s.Access.NewTOTP(row)
	return &body[contract.Codes]{contract.Codes{Key: key, Address: address}}, err
}

func (s *Server) setCodes(ctx context.Context, in *body[contract.CodesProof]) (*body[contract.RecoveryCodes], error) {
	row, err := s.me(ctx)
	if err != nil {
		return nil, err
	}
	recovery, err := s.Access.SetTOTP(ctx, row, in.Body.Key, in.Body.Code)
	return &body[contract.RecoveryCodes]{contract.RecoveryCodes{Codes: recovery}}, err
}

func (s *Server) removeCodes(ctx context.Context, _ *none) (*none, error) {
	row, err := s.me(ctx)
	if err != nil {
		return nil, err
	}
	return &none{}, s.Access.RemoveTOTP(ctx, row)
}

func (s *Server) showToken(ctx context.Context, row records.Token, names map[string]string) (contract.Token, error) {
	places, err := s.Access.PlacesOf(ctx, row)
	return contract.Token{ID: row.ID, Name: row.Name, User: names[row.User], Scopes: append([]string{}, row.Scopes...),
		Grants:  grantsOf(places),
		Created: row.CreatedAt, Expires: row.ExpiresAt, Seen: row.SeenAt}, err
}

// listTokens lists the caller's own tokens; an owner sees those of all users.
func (s *Server) listTokens(ctx context.Context, _ *none) (*body[[]contract.Token], error) {
	user := person(ctx).User
	if person(ctx).Role == access.Owner {
		user = ""
	}
	rows, err := s.Access.TokensFor(ctx, user)
	if err != nil {
		return nil, err
	}
	names, err := s.names(ctx)
	if err != nil {
		return nil, err
	}
	tokens := []contract.Token{}
	for _, row := range rows {
		shown, err := s.showToken(ctx, row, names)
		if err != nil {
			return nil, err
		}
		tokens = append(tokens, shown)
	}
	return &body[[]contract.Token]{tokens}, nil
}

// usualDays is the lifetime of a token, in days, unless the request gives one.
const usualDays = 90

func (s *Server) makeToken(ctx context.Context, in *body[contract.TokenRequest]) (*body[contract.MadeToken], error) {
	asked := in.Body
	for _, scope := range asked.Scopes {
		if !slices.Contains(scopes, scope) {
			return nil, remedy.Errorf("there is no scope %q; choose from %s", scope, strings.Join(scopes, ", "))
		}
	}
	granted, err := readGrants(asked.Grants)
	if err != nil {
		return nil, err
	}
	for _, grant := range granted { // no more than its user sees
		if err := tree.CheckSeen(ctx, grant.Address); err != nil {
			return nil, err
		}
	}
	if asked.Days == 0 {
		asked.Days = usualDays
	}
	expires := s.Access.Now().Add(time.Duration(asked.Days) * 24 * time.Hour)
	secret, row, err := s.Access.NewToken(ctx, person(ctx).User,
		access.TokenRequest{Name: asked.Name, Scopes: asked.Scopes, Grants: granted, Expires: &expires})
	if err != nil {
		return nil, err
	}
	shown, err := s.showToken(ctx, row, map[string]string{row.User: person(ctx).Name})
	return &body[contract.MadeToken]{contract.MadeToken{Token: shown, Secret: secret}}, err
}

func (s *Server) revokeToken(ctx context.Context, in *idInput) (*none, error) {
	user := person(ctx).User
	if person(ctx).Role == access.Owner {
		user = ""
	}
	rows, err := s.Access.TokensFor(ctx, user)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if row.ID == in.ID || row.Name == in.ID {
			return &none{}, s.Access.EndSession(ctx, row.ID)
		}
	}
	return nil, messages.With(store.Errorf(store.ErrNotFound, "there is no token %q; check the list of tokens", in.ID), "heron token list")
}
