package client

import (
	"context"
	"net/http"
	"net/url"

	"deftheron/contract"
)

func workerPath(name, rest string) string { return "/workers/" + url.PathEscape(name) + rest }

// Workers returns the workers, by name.
func (c *Client) Workers(ctx context.Context) (all []contract.Worker, err error) {
	return all, c.call(ctx, http.MethodGet, "/workers", nil, nil, &all)
}

// CreateWorker creates a worker and the code with which it joins.
func (c *Client) CreateWorker(ctx context.Context, worker contract.NewWorker) (code contract.WorkerCode, err error) {
	return code, c.call(ctx, http.MethodPost, "/workers", nil, worker, &code)
}

// NewWorkerCode creates another code for a worker. Keys that it had end.
func (c *Client) NewWorkerCode(ctx context.Context, name string) (code contract.WorkerCode, err error) {
	return code, c.call(ctx, http.MethodPost, workerPath(name, "/code"), nil, nil, &code)
}

// ChangeWorker renames a worker, or has it take nothing new.
func (c *Client) ChangeWorker(ctx context.Context, name string, change contract.WorkerChange) (worker contract.Worker, err error) {
	return worker, c.call(ctx, http.MethodPatch, workerPath(name, ""), nil, change, &worker)
}

// WorkerSharing returns who copies where workers can.
func (c *Client) WorkerSharing(ctx context.Context) (sharing contract.WorkerSharing, err error) {
	return sharing, c.call(ctx, http.MethodGet, "/worker-sharing", nil, nil, &sharing)
}

// SetWorkerSharing changes who copies where workers can.
func (c *Client) SetWorkerSharing(ctx context.Context, sharing contract.WorkerSharing) error {
	return c.call(ctx, http.MethodPut, "/worker-sharing", nil, sharing, nil)
}

// RemoveWorker removes a worker and returns the accounts whose secrets it may have had.
func (c *Client) RemoveWorker(ctx context.Context, name string) (removed contract.WorkerRemoved, err error) {
	return removed, c.call(ctx, http.MethodDelete, workerPath(name, ""), nil, nil, &removed)
}

// JoinWorker joins as a worker, with a code in place of a sign-in.
func (c *Client) JoinWorker(ctx context.Context, joining contract.JoinWorker) (joined contract.JoinedWorker, err error) {
	return joined, c.call(ctx, http.MethodPost, "/worker/join", nil, joining, &joined)
}
