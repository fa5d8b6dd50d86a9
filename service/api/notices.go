package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/service/runner"
)

func (s *Server) registerNotices(api huma.API) {
	add(api, http.MethodGet, "/notices/settings", "show-notice-settings", "Who is told what, and when", http.StatusOK, s.showNotices)
	add(api, http.MethodPut, "/notices/settings", "set-notice-settings", "Change who is told what; a secret that is left away stays", http.StatusNoContent, s.setNotices)
	add(api, http.MethodPost, "/notices/test", "test-notices", "Send a word by every way, to try them", http.StatusOK, s.testNotices)
	add(api, http.MethodGet, "/notices", "list-notices", "The latest words that were, or are to be, sent", http.StatusOK, s.listNotices)
}

func (s *Server) showNotices(ctx context.Context, _ *none) (*body[contract.Notices], error) {
	settings, err := s.Notices.Settings(ctx)
	return &body[contract.Notices]{settings}, err
}

func (s *Server) setNotices(ctx context.Context, in *body[contract.Notices]) (*none, error) {
	if err := s.Notices.Set(ctx, in.Body); err != nil {
		return nil, runner.NewInputError(err)
	}
	return &none{}, nil
}

func (s *Server) testNotices(ctx context.Context, _ *none) (*body[contract.NoticeTest], error) {
	tested, err := s.Notices.Test(ctx)
	return &body[contract.NoticeTest]{tested}, err
}

func (s *Server) listNotices(ctx context.Context, in *struct {
	Limit int `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}) (*body[contract.NoticeList], error) {
	list, err := s.Notices.List(ctx, in.Limit)
	return &body[contract.NoticeList]{list}, err
}
