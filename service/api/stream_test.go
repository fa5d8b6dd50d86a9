package api

import (
	"testing"

	"deftheron/contract"
)

// TestProgressOfRuns sends a stream the progress of the runs that it asked for, and always the
// rate and the ids of all.
func TestProgressOfRuns(t *testing.T) {
	progress := contract.Progress{Rate: 5, Running: []string{"a", "b"}, Runs: []contract.Run{{ID: "a"}, {ID: "b"}}}
	for runs, want := range map[string]int{"": 2, "all": 2, "none": 0, "a": 1, "c": 0} {
		got, ok := ofRuns(progress, runs).(contract.Progress)
		if !ok || len(got.Runs) != want || len(got.Running) != 2 || got.Rate != 5 {
			t.Errorf("asked for %q: %+v, want %d runs", runs, got, want)
		}
	}
	if len(progress.Runs) != 2 {
		t.Error("the event of the other streams was changed")
	}
	if ofRuns("something else", "none") != "something else" {
		t.Error("another event was changed")
	}
}
