package client

import (
	"context"
	"net/http"
	"net/url"

	"deftheron/contract"
)

// Bandwidths returns the limits on rates.
func (c *Client) Bandwidths(ctx context.Context) (limits contract.Bandwidths, err error) {
	return limits, c.call(ctx, http.MethodGet, "/bandwidth", nil, nil, &limits)
}

// SetBandwidth changes the limits of an account, or with an empty name of everything.
func (c *Client) SetBandwidth(ctx context.Context, account string, bandwidth contract.Bandwidth) error {
	path := "/bandwidth"
	if account != "" {
		path = "/accounts/" + url.PathEscape(account) + "/bandwidth"
	}
	return c.call(ctx, http.MethodPut, path, nil, bandwidth, nil)
}

// SetSiteBandwidth changes the limits of a site.
func (c *Client) SetSiteBandwidth(ctx context.Context, site string, bandwidth contract.Bandwidth) error {
	return c.call(ctx, http.MethodPut, "/sites/"+url.PathEscape(site)+"/bandwidth", nil, bandwidth, nil)
}

// SetRunBandwidth changes the limits of a run, while it moves.
func (c *Client) SetRunBandwidth(ctx context.Context, id string, bandwidth contract.Bandwidth) error {
	return c.call(ctx, http.MethodPut, "/runs/"+url.PathEscape(id)+"/bandwidth", nil, bandwidth, nil)
}

// SetPriority changes how a run stands to others.
func (c *Client) SetPriority(ctx context.Context, id, priority string) error {
	return c.call(ctx, http.MethodPut, "/runs/"+url.PathEscape(id)+"/priority", nil, contract.Priority{Priority: priority}, nil)
}

// AtOnce is how many runs move at once; SetAtOnce changes it.
func (c *Client) AtOnce(ctx context.Context) (int, error) {
	var kept contract.AtOnce
	err := c.call(ctx, http.MethodGet, "/runs-at-once", nil, nil, &kept)
	return kept.Runs, err
}

// SetAtOnce changes how many runs move at once.
func (c *Client) SetAtOnce(ctx context.Context, runs int) error {
	return c.call(ctx, http.MethodPut, "/runs-at-once", nil, contract.AtOnce{Runs: runs}, nil)
}

// Approve lets a held run continue.
func (c *Client) Approve(ctx context.Context, id string, decided contract.Approval) error {
	return c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/approve", nil, decided, nil)
}
