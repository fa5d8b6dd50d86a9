package metrics

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/VictoriaMetrics/metricsql"
	"go.yaml.in/yaml/v3"

	"deftheron/core/gate"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/service/accounts"
	"deftheron/service/runner"
)

type figures struct{}

func (figures) Stats() runner.Stats {
	return runner.Stats{
		Open: map[run.State]int64{run.Running: 1, run.Held: 1}, Ended: map[run.State]int64{run.Failed: 1, run.Partial: 1},
		Items: map[string]int64{"done": 1}, Lag: map[string]time.Duration{"surveys": time.Second},
	}
}

// scraped are the names of the metrics, and the names of the labels of each with the values seen.
func scraped(t *testing.T) map[string]map[string][]string {
	t.Helper()
	answer := httptest.NewRecorder()
	Handler(Sources{
		Runs: figures{}, Version: "1", Log: slog.New(slog.DiscardHandler),
		Gates: func() map[string]*gate.Gate { return map[string]*gate.Gate{"desk": gate.New("desk", 1, 4)} },
		Workers: func(context.Context) (map[string]string, error) {
			return map[string]string{"gauge-house": "offline", "desk-pc": "outdated"}, nil
		},
		Accounts: func(context.Context) ([]accounts.Figures, error) {
			return []accounts.Figures{
				{Name: "desk", State: accounts.Unreachable, Space: store.Space{Used: 1, Free: 1, Total: 2}},
				{Name: "archive", State: accounts.SignInExpired, Space: store.UnknownSpace},
			}, nil
		},
	}).ServeHTTP(answer, httptest.NewRequest("GET", "/metrics", nil))
	metrics := map[string]map[string][]string{"up": {}}
	sample := regexp.MustCompile(`^(heron_\w+)(?:\{(.*)\})? `)
	label := regexp.MustCompile(`(\w+)="([^"]*)"`)
	for line := range strings.Lines(answer.Body.String()) {
		found := sample.FindStringSubmatch(line)
		if found == nil {
			continue
		}
		if metrics[found[1]] == nil {
			metrics[found[1]] = map[string][]string{}
		}
		for _, one := range label.FindAllStringSubmatch(found[2], -1) {
			metrics[found[1]][one[1]] = append(metrics[found[1]][one[1]], one[2])
		}
	}
	return metrics
}

// TestMetricsOfAccounts leaves out what an account does not report.
func TestMetricsOfAccounts(t *testing.T) {
	metrics := scraped(t)
	if got := metrics["heron_account_state"]["account"]; !slices.Equal(got, []string{"archive", "desk"}) {
		t.Errorf("states of %v", got)
	}
	if got := metrics["heron_account_space_used_bytes"]["account"]; !slices.Equal(got, []string{"desk"}) {
		t.Errorf("space of %v", got)
	}
}

// ofPrometheus are the labels that Prometheus adds.
var ofPrometheus = []string{"job", "instance"}

// TestMonitoring holds the expressions of the dashboard and of the alert rules to the metrics that
// there are, with their labels and the values of these.
func TestMonitoring(t *testing.T) {
	var rules struct {
		Groups []struct {
			Rules []struct {
				Alert, Expr, For string
				Annotations      struct{ Summary, Description string }
			}
		}
	}
	read(t, "prometheus-rules.yaml", yaml.Unmarshal, &rules)
	expressions := map[string]string{}
	for _, rule := range rules.Groups[0].Rules {
		expressions[rule.Alert] = rule.Expr
		if rule.Annotations.Summary == "" || rule.Annotations.Description == "" {
			t.Errorf("%s says nothing to people", rule.Alert)
		}
		if _, err := time.ParseDuration(rule.For); rule.For != "" && err != nil {
			t.Errorf("%s: %v", rule.Alert, err)
		}
	}
	var dashboard struct {
		Panels []struct {
			Title, Description string
			Targets            []struct{ Expr string }
		}
	}
	read(t, "grafana-dashboard.json", json.Unmarshal, &dashboard)
	for _, panel := range dashboard.Panels {
		if panel.Description == "" {
			t.Errorf("the panel %q says nothing of what it shows", panel.Title)
		}
		for _, target := range panel.Targets {
			expressions[panel.Title+": "+target.Expr] = strings.ReplaceAll(target.Expr, "$__rate_interval", "1m")
		}
	}
	metrics, seen := scraped(t), map[string]bool{}
	for name, expression := range expressions {
		parsed, err := metricsql.Parse(expression)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		metricsql.VisitAll(parsed, func(one metricsql.Expr) {
			if one, ok := one.(*metricsql.MetricExpr); ok {
				for _, wrong := range misses(metrics, one) {
					t.Errorf("%s: %s", name, wrong)
				}
				seen[one.LabelFilterss[0][0].Value] = true
			}
		})
	}
	for name := range metrics {
		if !seen[name] {
			t.Errorf("%s is on no dashboard and in no rule", name)
		}
	}
}

func read(t *testing.T, name string, decode func([]byte, any) error, into any) {
	t.Helper()
	data, err := os.ReadFile("../../packaging/monitoring/" + name)
	if err == nil {
		err = decode(data, into)
	}
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
}

// misses says what of a selector there is not.
func misses(metrics map[string]map[string][]string, selector *metricsql.MetricExpr) (wrong []string) {
	var name string
	for _, filter := range selector.LabelFilterss[0] {
		switch {
		case filter.Label == "__name__":
			if name = filter.Value; metrics[name] == nil {
				return []string{"there is no metric " + name}
			}
		case slices.Contains(ofPrometheus, filter.Label):
		case metrics[name][filter.Label] == nil:
			wrong = append(wrong, name+" has no label "+filter.Label)
		default:
			for value := range strings.SplitSeq(filter.Value, "|") {
				if !slices.Contains(metrics[name][filter.Label], value) {
					wrong = append(wrong, name+" is never of the "+filter.Label+" "+value)
				}
			}
		}
	}
	return wrong
}
