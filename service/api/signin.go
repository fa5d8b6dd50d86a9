package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/service/access"
)

func (s *Server) registerSessions(api huma.API) {
	add(api, http.MethodPost, "/session", "start-session", "Sign in to the console", http.StatusNoContent, s.startSession, small)
	add(api, http.MethodGet, "/session/ways", "sign-in-ways", "The ways to sign in to the console", http.StatusOK, s.signInWays)
	add(api, http.MethodDelete, "/session", "end-session", "Sign out of the console", http.StatusNoContent, s.endSession)
	add(api, http.MethodPost, "/session/confirmation", "confirm-session", "Sign in again in a session that goes on", http.StatusNoContent,
		s.confirmSession, small)
	add(api, http.MethodPost, "/signin-links", "make-signin-link", "Create a sign-in link for the console", http.StatusCreated, s.makeLink)
	add(api, http.MethodGet, "/whoami", "whoami", "Who makes the request", http.StatusOK, s.whoami)
	add(api, http.MethodGet, "/sessions", "list-sessions", "List the sessions of the console", http.StatusOK, s.listSessions)
	add(api, http.MethodDelete, "/sessions", "end-sessions", "End all other sessions", http.StatusNoContent, s.endSessions)
	add(api, http.MethodDelete, "/sessions/{id}", "end-one-session", "End a session", http.StatusNoContent, s.endOneSession)
	add(api, http.MethodPost, "/token/rotation", "rotate-token", "Replace the owner's token", http.StatusOK, s.rotateToken)
}

func (s *Server) startSession(ctx context.Context, in *body[contract.SignIn]) (*cookieOutput, error) {
	var session string
	var expires time.Time
	var err error
	switch asked := in.Body; {
	case asked.Token != "":
		session, expires, err = s.Access.Exchange(ctx, asked.Token, visitor(ctx))
	case asked.Name != "" && asked.Password != "":
		session, expires, err = s.Access.SignIn(ctx, asked.Name, asked.Password, asked.Code, visitor(ctx))
	default:
		return nil, &contract.Problem{Status: http.StatusUnprocessableEntity, Title: http.StatusText(http.StatusUnprocessableEntity),
			Detail: "There is nothing to sign in with.", Remedy: "Give the token of a sign-in link, or a name and a password."}
	}
	if err != nil {
		return nil, s.notProved(ctx, in.Body, err)
	}
	s.record(ctx, access.Event{Person: s.personOfSession(ctx, session), Action: "sign-in", Subject: in.Body.Name, Outcome: "done"})
	return &cookieOutput{s.cookie(session, expires)}, nil
}

// personOfSession returns the user of a new session.
func (s *Server) personOfSession(ctx context.Context, session string) access.Person {
	who, err := s.Access.Who(ctx, session)
	if err != nil {
		s.Log.WarnContext(ctx, "could not read a new session", "error", err)
	}
	return who
}

// notProved puts into words why a sign-in failed.
func (s *Server) notProved(ctx context.Context, asked contract.SignIn, err error) error {
	unauthorized := contract.Problem{Status: http.StatusUnauthorized, Title: http.StatusText(http.StatusUnauthorized)}
	switch {
	case errors.Is(err, access.ErrCodeNeeded):
		unauthorized.Cause = contract.CauseCodeNeeded
		unauthorized.Detail = "A one-time code is needed too."
		unauthorized.Remedy = "Enter the code that your authenticator app shows, or a recovery code."
		return &unauthorized
	case !errors.Is(err, access.ErrNotSignedIn):
		return err
	case asked.Token != "":
		unauthorized.Detail = "This sign-in link was used already, is older than 15 minutes, or its maker signed out."
		unauthorized.Remedy = "Get a new link in a terminal: heron signin --console."
	default:
		unauthorized.Detail = "The name, the password or the code is not right."
		unauthorized.Remedy = "Try again, or ask an owner of the service for a sign-in link."
	}
	return s.signInFailed(ctx, asked.Name, &unauthorized)
}

func (s *Server) endSession(ctx context.Context, _ *none) (*cookieOutput, error) {
	return &cookieOutput{s.cookie("", s.Access.Now())}, s.Access.End(ctx, person(ctx))
}

// confirmSession makes a session fresh again by a sign-in: a link of the same user, or the
// password.
func (s *Server) confirmSession(ctx context.Context, in *body[contract.SignIn]) (*none, error) {
	who := person(ctx)
	if who.Kind != access.KindSession {
		return &none{}, nil
	}
	var err error
	if in.Body.Token != "" {
		err = s.Access.ConfirmByLink(ctx, who, in.Body.Token)
	} else {
		err = s.Access.Confirm(ctx, who, in.Body.Password, in.Body.Code)
	}
	if err != nil {
		in.Body.Name = who.Name
		return nil, s.notProved(ctx, in.Body, err)
	}
	return &none{}, nil
}

func (s *Server) makeLink(ctx context.Context, _ *none) (*body[contract.SigninLink], error) {
	return &body[contract.SigninLink]{s.linkFor(person(ctx).User, person(ctx))}, nil
}

// linkFor makes a link that signs a user in once, and is void when the sign-in of who asks ends.
func (s *Server) linkFor(user string, by access.Person) contract.SigninLink {
	token, expires := s.Access.NewLink(user, by.TokenID)
	base := s.BaseURL
	if s.Public != "" {
		base = s.Public
	}
	return contract.SigninLink{URL: base + "/signin#" + token, Expires: expires}
}

func (s *Server) whoami(ctx context.Context, _ *none) (*body[contract.Whoami], error) {
	who := person(ctx)
	row, err := s.DB.User(ctx, who.User)
	if err != nil {
		return nil, err
	}
	shown := contract.Whoami{User: who.Name, Role: string(who.Role), Kind: who.Kind, Grants: []contract.Grant{},
		Fresh: who.Fresh(s.Access.Now()), Codes: len(row.TOTP) > 0, Password: row.Password != "", Instance: s.Instance, Version: s.Version}
	if who.Role != access.Owner {
		granted, err := s.Access.Grants(ctx, who.User)
		if err != nil {
			return nil, err
		}
		shown.Grants = grantsOf(granted)
	}
	return &body[contract.Whoami]{shown}, nil
}

// names are the names of all users by id.
func (s *Server) names(ctx context.Context) (map[string]string, error) {
	users, err := s.DB.Users(ctx)
	names := map[string]string{}
	for _, user := range users {
		names[user.ID] = user.Name
	}
	return names, err
}

// listSessions lists one's own sessions; an owner sees those of all users.
func (s *Server) listSessions(ctx context.Context, _ *none) (*body[[]contract.Session], error) {
	kept, err := s.Access.Sessions(ctx)
	if err != nil {
		return nil, err
	}
	names, err := s.names(ctx)
	sessions, who := []contract.Session{}, person(ctx)
	for _, one := range kept {
		if who.Role != access.Owner && one.User != who.User {
			continue
		}
		sessions = append(sessions, contract.Session{
			ID: one.ID, User: names[one.User], Started: one.CreatedAt, Seen: one.SeenAt, Ends: one.ExpiresAt, From: one.From, Client: one.Client,
			Current: one.ID == who.TokenID,
		})
	}
	return &body[[]contract.Session]{sessions}, err
}

type endSessionsInput struct {
	Everybody bool `query:"everybody" doc:"Those of all users; an owner may ask for it."`
}

func (s *Server) endSessions(ctx context.Context, in *endSessionsInput) (*none, error) {
	who := person(ctx)
	user := who.User
	if in.Everybody {
		if who.Role != access.Owner {
			return nil, s.refusal(permission{role: access.Owner}, who)
		}
		user = ""
	}
	return nil, s.Access.EndSessions(ctx, user, who.TokenID)
}

type sessionPath struct {
	ID string `path:"id"`
}

func (s *Server) endOneSession(ctx context.Context, in *sessionPath) (*none, error) {
	sessions, err := s.Access.Sessions(ctx)
	if err != nil {
		return nil, err
	}
	who := person(ctx)
	for _, one := range sessions {
		if one.ID == in.ID && (who.Role == access.Owner || one.User == who.User) {
			return nil, s.Access.EndSession(ctx, in.ID)
		}
	}
	return nil, &contract.Problem{Status: http.StatusNotFound, Title: "Not Found", Detail: "There is no session " + in.ID + ".",
		Remedy: "Check the list of sessions.", Commands: []string{"heron token list"}}
}

func (s *Server) rotateToken(ctx context.Context, _ *none) (*body[contract.NewToken], error) {
	token, err := s.Access.Rotate(ctx, s.Data, person(ctx).TokenID)
	if err != nil {
		return nil, err
	}
	s.Log.InfoContext(ctx, "the owner's token was replaced", "by", byOf(person(ctx)))
	return &body[contract.NewToken]{contract.NewToken{Token: token}}, nil
}
