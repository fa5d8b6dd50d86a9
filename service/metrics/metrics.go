// Package metrics tells in the Prometheus text format (version 0.0.4) how the service is
// doing.
package metrics

import (
	"bytes"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"deftheron/core/store"
	"deftheron/service/runner"
)

// Sources are what is told about.
type Sources struct {
	Runs interface{ Figures() runner.Figures }
	// Gates are those of the accounts that are open, by name.
	Gates func() map[string]*store.Gate
}

// Handler answers with the metrics as they are.
func Handler(sources Sources) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		_, _ = w.Write(sources.text())
	})
}

// family is a metric with its samples.
type family struct {
	name, kind, help string
	label            string // "" for none
	samples          map[string]float64
}

func (s Sources) text() []byte {
	figures := s.Runs.Figures()
	one := func(value float64) map[string]float64 { return map[string]float64{"": value} }
	lag := map[string]float64{}
	for job, waits := range figures.Lag {
		lag[job] = waits.Seconds()
	}
	requests, slowed, waited, limit := map[string]float64{}, map[string]float64{}, map[string]float64{}, map[string]float64{}
	for name, gate := range s.Gates() {
		stats := gate.Stats()
		requests[name], slowed[name], waited[name], limit[name] = float64(stats.Requests), float64(stats.Slowed), stats.Waited.Seconds(), stats.Limit
	}
	var b bytes.Buffer
	for _, f := range []family{
		{"runs", "gauge", "Runs that have not ended, by state.", "state", floats(figures.Open)},
		{"runs_ended_total", "counter", "Runs that have ended since the service began, by state.", "state", floats(figures.Ended)},
		{"items_ended_total", "counter", "Items that have ended since the service began, by state.", "state", floats(figures.Items)},
		{"moved_bytes_total", "counter", "Bytes moved by runs since the service began.", "", one(float64(figures.Moved))},
		{"rate_bytes_per_second", "gauge", "The rate of all runs now.", "", one(figures.Rate)},
		{"item_retries_total", "counter", "Tries of items beyond their first, since the service began.", "", one(float64(figures.Retries))},
		{"job_lag_seconds", "gauge", "How long the oldest change that a continuous job has heard of waits to be looked at.", "job", lag},
		{"account_requests_total", "counter", "Requests to an account.", "account", requests},
		{"account_slowed_total", "counter", "Requests that an account answered with asking to slow down.", "account", slowed},
		{"account_waited_seconds_total", "counter", "How long requests and transfers have waited for their turn at an account.", "account", waited},
		{"account_requests_at_once", "gauge", "How many requests at once an account is given now.", "account", limit},
	} {
		f.write(&b)
	}
	return b.Bytes()
}

func floats(counts map[string]int64) map[string]float64 {
	values := map[string]float64{}
	for name, n := range counts {
		values[name] = float64(n)
	}
	return values
}

var escaped = strings.NewReplacer(`\`, `\\`, "\n", `\n`, `"`, `\"`)

func (f family) write(b *bytes.Buffer) {
	fmt.Fprintf(b, "# HELP heron_%s %s\n# TYPE heron_%s %s\n", f.name, f.help, f.name, f.kind)
	for _, value := range slices.Sorted(maps.Keys(f.samples)) {
		label := ""
		if f.label != "" {
			label = "{" + f.label + `="` + escaped.Replace(value) + `"}`
		}
		fmt.Fprintf(b, "heron_%s%s %s\n", f.name, label, strconv.FormatFloat(f.samples[value], 'g', -1, 64))
	}
}
