// Package metrics tells how the service is doing, to what reads metrics in the
// Prometheus formats.
package metrics

import (
	"context"
	"log/slog"
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"deftheron/core/gate"
	"deftheron/service/accounts"
	"deftheron/service/runner"
)

// Sources are what is told about.
type Sources struct {
	Runs interface{ Stats() runner.Stats }
	// Accounts are the figures of all accounts.
	Accounts func(context.Context) ([]accounts.Figures, error)
	Log      *slog.Logger
	Version  string
	// Workers are the states of all workers, by name.
	Workers func(context.Context) (map[string]string, error)
	// Gates are those of the accounts that are open, by name.
	Gates func() map[string]*gate.Gate
}

// Handler answers with the metrics as they are.
func Handler(sources Sources) http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{sources})
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{DisableCompression: true})
}

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("heron_"+name, help, labels, nil)
}

var (
	runs       = describe("runs", "Runs that have not ended, by state.", "state")
	runsEnded  = describe("runs_ended_total", "Runs that have ended since the service started, by state.", "state")
	itemsEnded = describe("items_ended_total", "Items that have ended since the service started, by state.", "state")
	movedBytes = describe("moved_bytes_total", "Bytes that runs transferred since the service started.")
	rate       = describe("rate_bytes_per_second", "Rate of all runs now.")
	retries    = describe("item_retries_total", "Tries of items beyond their first, since the service started.")
	jobLag     = describe("job_lag_seconds", "How long the oldest change waits that a continuous job has heard of and not looked at.",
		"job")
	requests = describe("account_requests_total", "Requests to an account.", "account")
	slowed   = describe("account_slowed_total", "Requests to an account that it answered by asking to slow down.", "account")
	waited   = describe("account_waited_seconds_total", "How long requests and transfers have waited for their turn at an account.",
		"account")
	requestsAtOnce = describe("account_requests_at_once", "How many requests at once an account is given now.", "account")
	accountState   = describe("account_state", "1 for the state of an account: linked, unreachable, sign-in-expired or suspended.",
		"account", "state")
	spaceUsed  = describe("account_space_used_bytes", "Used space of an account, as of the last check.", "account")
	spaceTotal = describe("account_space_total_bytes", "Used and free space of an account, as of the last check; missing if it has no limit.",
		"account")
	workerState = describe("worker_state", "1 for the state of a worker: waiting, expired, connected, draining, offline or outdated.",
		"worker", "state")
	info = describe("info", "1, with the version of the program.", "version")
)

// collector reads the statistics for each answer.
type collector struct{ Sources }

// Describe implements prometheus.Collector.
func (collector) Describe(to chan<- *prometheus.Desc) {
	for _, one := range []*prometheus.Desc{
		runs, runsEnded, itemsEnded, movedBytes, rate, retries, jobLag, requests, slowed, waited, requestsAtOnce,
		accountState, spaceUsed, spaceTotal, info,
	} {
		to <- one
	}
}

// Collect implements prometheus.Collector.
func (c collector) Collect(to chan<- prometheus.Metric) {
	gauge := func(of *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(of, prometheus.GaugeValue, value, labels...)
	}
	counter := func(of *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(of, prometheus.CounterValue, value, labels...)
	}
	figures := c.Runs.Stats()
	for state, n := range figures.Open {
		gauge(runs, float64(n), string(state))
	}
	for state, n := range figures.Ended {
		counter(runsEnded, float64(n), string(state))
	}
	for state, n := range figures.Items {
		counter(itemsEnded, float64(n), state)
	}
	counter(movedBytes, float64(figures.Moved))
	gauge(rate, figures.Rate)
	counter(retries, float64(figures.Retries))
	for job, lag := range figures.Lag {
		gauge(jobLag, lag.Seconds(), job)
	}
	for account, gate := range c.Gates() {
		stats := gate.Stats()
		counter(requests, float64(stats.Requests), account)
		counter(slowed, float64(stats.Slowed), account)
		counter(waited, stats.Waited.Seconds(), account)
		gauge(requestsAtOnce, stats.Limit, account)
	}
	gauge(info, 1, c.Version)
	workers, err := c.Workers(context.Background())
	if err != nil {
		c.Log.Error("the metrics lack the workers", "error", err)
	}
	for name, state := range workers {
		gauge(workerState, 1, name, state)
	}
	linked, err := c.Accounts(context.Background())
	if err != nil {
		c.Log.Error("the metrics lack the accounts", "error", err)
	}
	for _, account := range linked {
		gauge(accountState, 1, account.Name, string(account.State))
		if account.Space.Used >= 0 {
			gauge(spaceUsed, float64(account.Space.Used), account.Name)
		}
		if account.Space.Total > 0 {
			gauge(spaceTotal, float64(account.Space.Total), account.Name)
		}
	}
}
