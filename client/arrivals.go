package client

import (
	"context"
	"net/http"

	"deftheron/contract"
)

// Arrivals returns what arrived last for a job, the latest first.
func (c *Client) Arrivals(ctx context.Context, job string) ([]contract.Arrival, error) {
	var list contract.ArrivalList
	err := c.call(ctx, http.MethodGet, jobPath(job)+"/arrivals", nil, nil, &list)
	return list.Arrivals, err
}

// Announce announces an arrival that is complete.
func (c *Client) Announce(ctx context.Context, job, address string) (arrival contract.Arrival, err error) {
	return arrival, c.call(ctx, http.MethodPost, jobPath(job)+"/arrivals", nil, contract.Arrived{Address: address}, &arrival)
}

// TryArrival asks what the rule of a job would do with the latest real arrival, or with
// the one at an address.
func (c *Client) TryArrival(ctx context.Context, job, address string) (tried contract.TriedArrival, err error) {
	return tried, c.call(ctx, http.MethodPost, jobPath(job)+"/tries", nil, contract.TryingArrival{Address: address}, &tried)
}

// TryNewArrival asks the same of a job that is not made yet.
func (c *Client) TryNewArrival(ctx context.Context, job contract.JobSpec, address string) (tried contract.TriedArrival, err error) {
	return tried, c.call(ctx, http.MethodPost, "/jobs/tries", nil, contract.TryingArrival{Job: &job, Address: address}, &tried)
}
