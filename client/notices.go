package client

import (
	"context"
	"net/http"

	"deftheron/contract"
)

// Notices returns who is told what, and when.
func (c *Client) Notices(ctx context.Context) (settings contract.Notices, err error) {
	return settings, c.call(ctx, http.MethodGet, "/notices/settings", nil, nil, &settings)
}

// SetNotices changes who is told what; a secret that is left away stays.
func (c *Client) SetNotices(ctx context.Context, settings contract.Notices) error {
	return c.call(ctx, http.MethodPut, "/notices/settings", nil, settings, nil)
}

// TestNotices sends a word by every way, to try them.
func (c *Client) TestNotices(ctx context.Context) (tested contract.NoticeTest, err error) {
	return tested, c.call(ctx, http.MethodPost, "/notices/test", nil, nil, &tested)
}

// NoticeList returns the latest words that were, or are to be, sent.
func (c *Client) NoticeList(ctx context.Context) ([]contract.Notice, error) {
	var list contract.NoticeList
	err := c.call(ctx, http.MethodGet, "/notices", nil, nil, &list)
	return list.Notices, err
}
