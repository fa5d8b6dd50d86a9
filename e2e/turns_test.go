package e2e

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
)

// TestTurnsOfRuns has runs wait for their turn, and begin by their priority.
func TestTurnsOfRuns(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("disk", to)
	writeFile(t, strings.Repeat("x", 2<<20), from, "large")
	writeFile(t, "small", from, "small")
	h.says("", 2, "not a priority", "copy", "/desk/small", "/disk/x", "--priority", "urgent")
	h.says("", 2, "<= 32", "bandwidth", "set", "--runs", "99")
	if out := h.must("bandwidth", "set", "--runs", "1"); !strings.Contains(out, "1 run at once") {
		t.Errorf("at once: %s", out)
	}
	begin := func(args ...string) string {
		t.Helper()
		var started contract.Started
		if err := json.Unmarshal([]byte(h.must(append([]string{"copy", "--detach", "--json"}, args...)...)), &started); err != nil {
			t.Fatal(err)
		}
		return started.Run
	}
	first := begin("/desk/large", "/disk/1", "--up", "200kB/s")
	h.until(first, "running")
	low := begin("/desk/small", "/disk/2", "--priority", "low")
	normal := begin("/desk/small", "/disk/3")
	high := begin("/desk/small", "/disk/4", "--priority", "high")
	raised := begin("/desk/small", "/disk/5", "--priority", "low")
	h.must("run", "priority", raised, "high")
	h.says("", 2, "low, normal, high", "run", "priority", raised, "most")
	time.Sleep(300 * time.Millisecond)
	for _, id := range []string{low, normal, high, raised} {
		if run, err := h.client().Run(t.Context(), id); err != nil || run.State != "queued" {
			t.Errorf("%+v, %v; it was to wait", run, err)
		}
	}
	h.must("run", "cancel", first, "--yes")
	var before time.Time
	for i, id := range []string{high, raised, normal, low} {
		h.until(id, "done")
		run, err := h.client().Run(t.Context(), id)
		if err != nil || run.Started.Before(before) {
			t.Errorf("the run that was to be %d. began at %v, and the one after it at %v (%v)", i+1, run.Started, before, err)
		}
		before = *run.Started
	}
	h.end(9)
	h.serve()
	if out := h.must("bandwidth", "show"); !strings.Contains(out, "1 run at once") {
		t.Errorf("after a restart: %s", out)
	}
}
