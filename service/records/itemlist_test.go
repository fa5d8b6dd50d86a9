package records_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// TestFindItems compares pages of every filter with all items, filtered one by one.
func TestFindItems(t *testing.T) {
	db := open(t, t.TempDir())
	run := addRun(t, db, "found")
	const n = 45_000 // more than two steps of a search
	states := []transfer.State{transfer.Waiting, transfer.Done, transfer.Skipped, transfer.Failed}
	causes := map[transfer.State]plan.Cause{transfer.Failed: plan.CauseFault, transfer.Skipped: plan.CauseSame}
	var items []transfer.Item
	for seq := int64(1); seq <= n; seq++ {
		one := item(seq, fmt.Sprintf("folder%d/file_%05d", seq%7, seq), plan.Create)
		one.State = states[seq*seq%11%4]
		one.Cause = causes[one.State]
		one.Route = int(seq % 2)
		if seq%5 == 0 {
			one.To = store.Key(fmt.Sprintf("Elsewhere/file_%05d", seq))
		}
		items = append(items, one)
	}
	if err := db.Enqueue(t.Context(), run.ID, items); err != nil {
		t.Fatal(err)
	}
	below := func(route int, prefix string) []records.ItemFolder {
		return []records.ItemFolder{{Route: route, Prefix: store.Path(prefix)}}
	}
	for _, filter := range []records.ItemFilter{
		{}, {State: transfer.Failed}, {State: transfer.Waiting}, {State: transfer.Done}, {Cause: plan.CauseFault},
		{Cause: plan.CauseSame, State: transfer.Skipped},
		{Cause: plan.CauseFault, State: transfer.Done}, {Text: "FILE_44"}, {Text: "elsewhere"}, {Text: "e_0", State: transfer.Failed},
		{Text: "%"}, {Text: "none of them"}, {Below: below(1, "folder3/")}, {Below: below(0, ""), Cause: plan.CauseSame},
		{Below: []records.ItemFolder{{Route: 0, AtTarget: true, Prefix: "Elsewhere/"}}}, {Below: []records.ItemFolder{}}, {Action: plan.Ask},
		{Action: plan.Create, State: transfer.Waiting, Text: "folder6"},
	} {
		var want, got []int64
		for _, one := range items {
			if takes(filter, one) {
				want = append(want, one.Seq)
			}
		}
		for after := int64(0); ; {
			page, next, err := db.FindItems(t.Context(), run.Number, filter, after, 1000)
			if err != nil {
				t.Fatal(err)
			}
			for _, one := range page {
				got = append(got, one.Seq)
			}
			if after = next; next == 0 {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%+v finds %d items, want %d", filter, len(got), len(want))
		}
	}
}

// takes is what a filter means.
func takes(f records.ItemFilter, item transfer.Item) bool {
	if f.State != "" && item.State != f.State || f.Cause != "" && item.Cause != f.Cause || f.Action != "" && item.Action != f.Action {
		return false
	}
	to := item.To
	if to == "" {
		to = item.Key
	}
	if f.Text != "" && !strings.Contains(strings.ToLower(string(item.Key)), strings.ToLower(f.Text)) &&
		!strings.Contains(strings.ToLower(string(item.To)), strings.ToLower(f.Text)) {
		return false
	}
	return f.Below == nil || slices.ContainsFunc(f.Below, func(folder records.ItemFolder) bool {
		at := item.Key
		if folder.AtTarget {
			at = to
		}
		return folder.Route == item.Route && strings.HasPrefix(string(at), string(folder.Prefix))
	})
}

// TestDecideItems keeps a decision for those alone that wait for one.
func TestDecideItems(t *testing.T) {
	db := open(t, t.TempDir())
	run := addRun(t, db, "asked")
	asked, other, done := item(1, "asked", plan.Ask), item(2, "other", plan.Replace), item(3, "done", plan.Ask)
	done.State = transfer.Done
	if err := db.Enqueue(t.Context(), run.ID, []transfer.Item{asked, other, done}); err != nil {
		t.Fatal(err)
	}
	if err := db.Judge(t.Context(), run.ID, 3, nil, nil); err != nil {
		t.Fatal(err)
	}
	check := func(wantDecided bool, want plan.ConflictRule) {
		t.Helper()
		decided, err := db.HasDecided(t.Context(), run.Number)
		waiting, wrong := db.Claim(t.Context(), run.ID, plan.PhaseWrite, 0, 10)
		if err != nil || wrong != nil || decided != wantDecided || len(waiting) != 2 || waiting[0].Decision != want || waiting[1].Decision != "" {
			t.Errorf("decided %v, %v; waiting %+v, %v", decided, err, waiting, wrong)
		}
	}
	check(false, "")
	if n, err := db.DecideItems(t.Context(), run.Number, []int64{1, 2, 3, 4}, plan.Newer); err != nil || n != 1 {
		t.Errorf("decided %d, %v; want 1", n, err)
	}
	check(true, plan.Newer)
	if n, err := db.DecideItems(t.Context(), run.Number, []int64{1}, ""); err != nil || n != 1 {
		t.Errorf("took back %d, %v", n, err)
	}
	check(false, "")
}
