package client

import (
	"context"
	"net/http"
	"net/url"

	"deftheron/contract"
)

// ShareLinks returns one's own share links, or all for an owner.
func (c *Client) ShareLinks(ctx context.Context) (links []contract.ShareLink, err error) {
	return links, c.call(ctx, http.MethodGet, "/share-links", nil, nil, &links)
}

// MakeShareLink makes a link; its URL is returned this once.
func (c *Client) MakeShareLink(ctx context.Context, asked contract.NewShareLink) (made contract.MadeShareLink, err error) {
	return made, c.call(ctx, http.MethodPost, "/share-links", nil, asked, &made)
}

// ShareLink returns a link and its latest uses.
func (c *Client) ShareLink(ctx context.Context, id string) (link contract.UsedShareLink, err error) {
	return link, c.call(ctx, http.MethodGet, "/share-links/"+url.PathEscape(id), nil, nil, &link)
}

// RevokeShareLink ends a link at once.
func (c *Client) RevokeShareLink(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/share-links/"+url.PathEscape(id), nil, nil, nil)
}

// SetShareLinks switches share links on or off.
func (c *Client) SetShareLinks(ctx context.Context, on bool) (settings contract.ShareSettings, err error) {
	return settings, c.call(ctx, http.MethodPut, "/share-settings", nil, contract.ShareSettings{Enabled: on}, &settings)
}
