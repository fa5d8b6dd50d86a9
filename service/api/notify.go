package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/service/runner"
)

func (s *Server) registerNotifications(api huma.API) {
	add(api, http.MethodGet, "/notifications/settings", "show-notification-settings", "Show the notification settings", http.StatusOK,
		s.showNotifications)
	add(api, http.MethodPut, "/notifications/settings", "set-notification-settings", "Change the notification settings", http.StatusNoContent,
		s.setNotifications)
	add(api, http.MethodPost, "/notifications/test", "test-notifications", "Send a test notification by every channel", http.StatusOK,
		s.testNotifications)
	add(api, http.MethodGet, "/notifications", "list-notifications", "List the latest notifications", http.StatusOK, s.listNotices)
}

func (s *Server) showNotifications(ctx context.Context, _ *none) (*body[contract.Notifications], error) {
	settings, err := s.Notifications.Settings(ctx)
	return &body[contract.Notifications]{settings}, err
}

func (s *Server) setNotifications(ctx context.Context, in *body[contract.Notifications]) (*none, error) {
	if err := s.Notifications.Set(ctx, in.Body); err != nil {
		return nil, runner.NewInputError(err)
	}
	return &none{}, nil
}

func (s *Server) testNotifications(ctx context.Context, _ *none) (*body[contract.NotifyTest], error) {
	tested, err := s.Notifications.Test(ctx)
	return &body[contract.NotifyTest]{tested}, err
}

func (s *Server) listNotices(ctx context.Context, in *struct {
	Limit int `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}) (*body[contract.NotificationList], error) {
	list, err := s.Notifications.List(ctx, in.Limit)
	return &body[contract.NotificationList]{list}, err
}
