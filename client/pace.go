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

// Release lets a run go on that is held for a person.
func (c *Client) Release(ctx context.Context, id string, decided contract.Release) error {
	return c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/release", nil, decided, nil)
}
