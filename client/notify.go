package client

import (
	"context"
	"net/http"

	"deftheron/contract"
)

// Notifications returns the settings of notifications.
func (c *Client) Notifications(ctx context.Context) (settings contract.Notifications, err error) {
	return settings, c.call(ctx, http.MethodGet, "/notifications/settings", nil, nil, &settings)
}

// SetNotifications changes the settings of notifications; an omitted secret stays.
func (c *Client) SetNotifications(ctx context.Context, settings contract.Notifications) error {
	return c.call(ctx, http.MethodPut, "/notifications/settings", nil, settings, nil)
}

// TestNotifications sends a word by every way, to try them.
func (c *Client) TestNotifications(ctx context.Context) (tested contract.NotifyTest, err error) {
	return tested, c.call(ctx, http.MethodPost, "/notifications/test", nil, nil, &tested)
}

// NotificationList returns the latest notifications, sent or waiting.
func (c *Client) NotificationList(ctx context.Context) ([]contract.Notification, error) {
	var list contract.NotificationList
	err := c.call(ctx, http.MethodGet, "/notifications", nil, nil, &list)
	return list.Notifications, err
}
