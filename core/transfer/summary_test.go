package transfer_test

import (
	"fmt"
	"slices"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/transfer"
)

// TestSummarize tells what a filter takes, with examples of each side, and how many requests
// the run is expected to make.
func TestSummarize(t *testing.T) {
	b := newBench(t)
	for i := range 12 {
		b.source.Put("taken", fmt.Sprintf("kept %02d.txt", i))
		b.source.Put("left out", "folder", fmt.Sprintf("scratch %02d.tmp", i))
	}
	b.source.Put("in a folder that is excluded", "build", "part.txt")
	b.target.Put("in the way", "copy", "old.txt")
	b.rules.Filter = plan.Filter{Exclude: []string{"*.tmp", "build/"}}
	summary, err := transfer.Summarize(t.Context(), []transfer.Route{b.route()}, b.rules, b.records, nil, func(int, plan.Step) {})
	if err != nil {
		t.Fatal(err)
	}
	if summary.Taken != (plan.Count{Items: 12, Bytes: 60}) || summary.Excluded.Items != 12 || summary.FoldersExcluded != 1 {
		t.Errorf("taken %+v, excluded %+v and %d folders", summary.Taken, summary.Excluded, summary.FoldersExcluded)
	}
	if len(summary.TakenFirst) != 10 || !slices.Contains(summary.TakenFirst, "/desk/kept 00.txt") {
		t.Errorf("examples of what is taken: %q", summary.TakenFirst)
	}
	if len(summary.ExcludedFirst) != 10 || !slices.Contains(summary.ExcludedFirst, "/desk/build") {
		t.Errorf("examples of what is excluded: %q", summary.ExcludedFirst)
	}
	if got := fmt.Sprint(summary.Requests); got != "map[archive:12 desk:12]" {
		t.Errorf("requests %s", got)
	}
	for _, one := range []struct {
		change func()
		want   string
	}{
		{func() { b.rules.Type = plan.Mirror }, "map[archive:13 desk:12]"}, // old.txt is removed
		{func() { b.rules.Type, b.rules.Filter = plan.CopyType, plan.Filter{Include: []string{"none"}} }, "map[]"},
	} {
		one.change()
		summary, err := transfer.Summarize(t.Context(), []transfer.Route{b.route()}, b.rules, b.records, nil, func(int, plan.Step) {})
		if got := fmt.Sprint(summary.Requests); err != nil || got != one.want {
			t.Errorf("requests %s, %v; want %s", got, err, one.want)
		}
	}
}
