package e2e

import (
	"io"
	"net/http"
	"strings"
	"syscall"
	"testing"

	"deftheron/servertest"
)

// TestMetrics looks at the metrics as Prometheus does: with sign-in, and at an address
// of their own.
func TestMetrics(t *testing.T) {
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("disk", to)
	writeFile(t, "twelve bytes", from, "logs", "a")
	h.must("job", "create", "logs", "--from", "/desk/logs", "--to", "/disk/logs", "--continuous")
	h.watching("logs")
	get := func(url, token string) (int, string) {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
		if err != nil {
			t.Fatal(err)
		}
		if token != "" {
			request.Header.Set("Authorization", "Bearer "+token)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(text)
	}
	if code, _ := get("http://"+h.listen+"/api/v1/metrics", ""); code != http.StatusUnauthorized {
		t.Errorf("without sign-in: %d", code)
	}
	code, text := get("http://"+h.listen+"/api/v1/metrics", h.token())
	for _, line := range []string{
		`heron_runs{state="running"} 1`, `heron_items_ended_total{state="done"} 1`, "heron_moved_bytes_total 12",
		`heron_job_lag_seconds{job="logs"} 0`,
		`heron_account_state{account="desk",state="linked"} 1`, `heron_account_space_used_bytes{account="desk"}`, `heron_info{version="`,
		`heron_account_waited_seconds_total{account="desk"}`, "# TYPE heron_moved_bytes_total counter", "heron_item_retries_total 0",
	} {
		if code != http.StatusOK || !strings.Contains(text, line) {
			t.Errorf("%d, without %q:\n%s", code, line, text)
		}
	}
	address := servertest.FreeAddress(t)
	h.end(syscall.SIGTERM)
	h.serve("--metrics", address)
	h.watching("logs")
	if code, text := get("http://"+address+"/metrics", ""); code != http.StatusOK || !strings.Contains(text, `heron_runs{state="running"} 1`) {
		t.Errorf("at an address of their own: %d\n%s", code, text)
	}
	if code, _ := get("http://"+address+"/api/v1/accounts", ""); code != http.StatusNotFound {
		t.Errorf("something else is there: %d", code)
	}
}
