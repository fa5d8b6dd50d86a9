package client

import (
	"context"
	"net/http"
	"net/url"

	"deftheron/contract"
)

// Paces returns the limits on rates.
func (c *Client) Paces(ctx context.Context) (paces contract.Paces, err error) {
	return paces, c.call(ctx, http.MethodGet, "/pace", nil, nil, &paces)
}

// SetPace changes the limits of an account, or with an empty name of everything.
func (c *Client) SetPace(ctx context.Context, account string, pace contract.Pace) error {
	path := "/pace"
	if account != "" {
		path = "/accounts/" + url.PathEscape(account) + "/pace"
	}
	return c.call(ctx, http.MethodPut, path, nil, pace, nil)
}

// SetRunPace changes the limits of a run, while it moves.
func (c *Client) SetRunPace(ctx context.Context, id string, pace contract.Pace) error {
	return c.call(ctx, http.MethodPut, "/runs/"+url.PathEscape(id)+"/pace", nil, pace, nil)
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

// Release lets a run go on that is held for a person.
func (c *Client) Release(ctx context.Context, id string, decided contract.Release) error {
	return c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/release", nil, decided, nil)
}
