package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"deftheron/contract"
)

// Past returns the history of an address, with at most so many versions or runs.
func (c *Client) Past(ctx context.Context, address string, most int) (shown contract.Past, err error) {
	query := url.Values{"address": {address}, "limit": {strconv.Itoa(most)}}
	return shown, c.call(ctx, http.MethodGet, "/history", query, nil, &shown)
}

// Restore starts a restore.
func (c *Client) Restore(ctx context.Context, restore contract.Restore) (started contract.Started, err error) {
	return started, c.call(ctx, http.MethodPost, "/restores", nil, restore, &started)
}

// PlanRestore returns what a restore would do.
func (c *Client) PlanRestore(ctx context.Context, restore contract.Restore) (plan contract.Plan, err error) {
	return plan, c.call(ctx, http.MethodPost, "/restores/plans", nil, restore, &plan)
}

// HistoryFreed tells what other rules for the versions of a job would delete now.
func (c *Client) HistoryFreed(ctx context.Context, job string, rules contract.HistoryRules) (freed contract.HistoryCount, err error) {
	return freed, c.call(ctx, http.MethodPost, "/jobs/"+url.PathEscape(job)+"/history/plans", nil, rules, &freed)
}

// ReadAt reads a file as it was at a time; the zero time is now.
func (c *Client) ReadAt(ctx context.Context, address string, at time.Time) (*Content, error) {
	query := url.Values{"address": {address}}
	setAt(query, "at", at)
	return c.read(ctx, query, 0)
}

func setAt(query url.Values, name string, at time.Time) {
	if !at.IsZero() {
		query.Set(name, at.UTC().Format(time.RFC3339Nano))
	}
}

// Rehearse begins a rehearsal.
func (c *Client) Rehearse(ctx context.Context, job string, rehearsal contract.NewRehearsal) (one contract.Rehearsal, err error) {
	return one, c.call(ctx, http.MethodPost, "/jobs/"+url.PathEscape(job)+"/rehearsals", nil, rehearsal, &one)
}

// Rehearsals returns the rehearsals of a job.
func (c *Client) Rehearsals(ctx context.Context, job string) (all contract.Rehearsals, err error) {
	return all, c.call(ctx, http.MethodGet, "/jobs/"+url.PathEscape(job)+"/rehearsals", nil, nil, &all)
}
