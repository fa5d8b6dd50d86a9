package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
)

func (s *Server) registerSessions(api huma.API) {
	add(api, http.MethodGet, "/sessions", "list-sessions", "List the sessions of the console", http.StatusOK, s.listSessions)
	add(api, http.MethodDelete, "/sessions", "end-sessions", "End all other sessions", http.StatusNoContent, s.endSessions)
	add(api, http.MethodDelete, "/sessions/{id}", "end-one-session", "End a session", http.StatusNoContent, s.endOneSession)
	add(api, http.MethodPost, "/token/rotation", "rotate-token", "Replace the owner's token", http.StatusOK, s.rotateToken)
}

func (s *Server) listSessions(ctx context.Context, _ *none) (*body[[]contract.Session], error) {
	kept, err := s.Access.Sessions(ctx)
	sessions := []contract.Session{}
	for _, one := range kept {
		sessions = append(sessions, contract.Session{
			ID: one.ID, Started: one.CreatedAt, Seen: one.SeenAt, Ends: one.ExpiresAt, From: one.From, Client: one.Client,
			Current: one.ID == person(ctx).TokenID,
		})
	}
	return &body[[]contract.Session]{sessions}, err
}

func (s *Server) endSessions(ctx context.Context, _ *none) (*none, error) {
	return nil, s.Access.EndSessions(ctx, person(ctx).TokenID)
}

type sessionPath struct {
	ID string `path:"id"`
}

func (s *Server) endOneSession(ctx context.Context, in *sessionPath) (*none, error) {
	sessions, err := s.Access.Sessions(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range sessions {
		if one.ID == in.ID {
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
	s.Log.Info("the owner's token was replaced", "by", byOf(person(ctx)))
	return &body[contract.NewToken]{contract.NewToken{Token: token}}, nil
}
