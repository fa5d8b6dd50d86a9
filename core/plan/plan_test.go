package plan_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

func TestSteps(t *testing.T) {
	entry := func(name string, kind store.Kind, size int64) *store.Entry {
		return &store.Entry{Name: name, Kind: kind, Size: size}
	}
	folder := func(key string, there bool) compare.Difference {
		d := compare.Difference{Key: store.Key(key), Kind: store.KindFolder, Source: entry(key, store.KindFolder, 0), Verdict: compare.OnlySource}
		if there {
			d.Target, d.Verdict = entry(key, store.KindFolder, 0), compare.Same
		}
		return d
	}
	file := func(key string, verdict compare.Verdict, evidence compare.Evidence) compare.Difference {
		d := compare.Difference{Key: store.Key(key), Kind: store.KindFile, Source: entry(key, store.KindFile, 10), Verdict: verdict,
			Evidence: evidence}
		if verdict != compare.OnlySource {
			d.Target = entry(key, store.KindFile, 10)
		}
		return d
	}
	differences := []compare.Difference{
		folder("bad:/", false), file("bad:/x", compare.OnlySource, ""), folder("bad:/empty/", false),
		file("conflict", compare.TargetChanged, compare.BySize), folder("empty/", false), folder("full/", false), folder("full/inner/", false),
		file("full/inner/x", compare.OnlySource, ""), file("new", compare.OnlySource, ""), file("no:", compare.OnlySource, ""),
		file("no: longer new", compare.SourceChanged, compare.ByPair), file("same", compare.Same, compare.ByPair),
		file("same, found", compare.Same, compare.ByHash), folder("there/", true),
		{Key: "theirs", Kind: store.KindFile, Target: entry("theirs", store.KindFile, 1), Verdict: compare.OnlyTarget},
		file("unclear", compare.Unclear, ""), {Key: "z-link", Kind: store.KindOther, Source: entry("z-link", store.KindOther, 0),
			Verdict: compare.OnlySource},
		{Key: "z-sheet", Kind: store.KindDocument, Source: entry("z-sheet", store.KindDocument, -1), Verdict: compare.OnlySource},
		{Key: "zz-huge", Kind: store.KindFile, Source: entry("zz-huge", store.KindFile, 1000), Verdict: compare.OnlySource},
	}
	for i := range differences {
		if strings.Contains(string(differences[i].Key), ":") && differences[i].Target == nil {
			differences[i].Refused = fmt.Errorf("a colon")
		}
	}
	unchanged := 0
	planner := plan.Planner{
		LargestFile: 100,
		Unchanged:   func(compare.Difference) { unchanged++ },
	}
	var got []string
	var totals plan.Totals
	for step, err := range planner.Steps(func(yield func(compare.Difference, error) bool) {
		for _, d := range differences {
			if !yield(d, nil) {
				return
			}
		}
	}) {
		if err != nil {
			t.Fatal(err)
		}
		totals.Add(step)
		got = append(got, strings.TrimSpace(fmt.Sprint(step.Key, " ", step.Action, " ", step.Cause)))
	}
	want := []string{
		"bad:/x refuse name-refused", "bad:/empty/ refuse name-refused", "conflict keep-both", "empty/ make-folder", "full/inner/x create",
		"new create",
		"no: refuse name-refused", "no: longer new replace", "same, found remember", "unclear look", "z-link skip not-a-file",
		"z-sheet refuse document-without-export", "zz-huge refuse too-large",
	}
	if !slices.Equal(got, want) {
		t.Errorf("steps\n%q\nwant\n%q", got, want)
	}
	if unchanged != 1 || totals.Create.Items != 2 || totals.Refused.Items != 5 || totals.Conflicts() != 1 || totals.Moving().Items != 5 {
		t.Errorf("%d unchanged, totals %+v", unchanged, totals)
	}
}

func TestBesideName(t *testing.T) {
	at := time.Date(2026, 3, 4, 5, 6, 7, 0, time.FixedZone("", 3600))
	for _, c := range []struct {
		name string
		most int
		want string
	}{
		{"report.pdf", 255, "report (from desk 2026-03-04 04.06.07).pdf"},
		{"a.tar.gz", 255, "a.tar (from desk 2026-03-04 04.06.07).gz"},
		{"README", 255, "README (from desk 2026-03-04 04.06.07)"},
		{".bashrc", 255, ".bashrc (from desk 2026-03-04 04.06.07)"},
		{"éééé.txt", 41, "éé (from desk 2026-03-04 04.06.07).txt"},
	} {
		if got := plan.BesideName(c.name, "desk", at, 1, c.most); got != c.want || len(got) > c.most {
			t.Errorf("%q becomes %q, want %q", c.name, got, c.want)
		}
	}
}

func TestBesideNameCountsOn(t *testing.T) {
	if got := plan.BesideName("a.txt", "desk", time.Unix(0, 0), 2, 255); got != "a (from desk 1970-01-01 00.00.00) 2.txt" {
		t.Errorf("the second is called %q", got)
	}
}

// TestCauses holds that Causes has each cause once, and every error of a store one of them.
func TestCauses(t *testing.T) {
	all := map[plan.Cause]bool{}
	for _, cause := range plan.Causes() {
		if cause == plan.CauseNone || all[cause] {
			t.Errorf("%q is there twice, or is none", cause)
		}
		all[cause] = true
	}
	for _, err := range []error{
		store.ErrNotFound, store.ErrExists, store.ErrChanged, store.ErrRefused, store.ErrSignInExpired, store.ErrNoSpace, store.ErrNameRefused,
		store.ErrTooLarge, store.ErrSlowDown, store.ErrTryAgain, store.ErrOutcomeUnknown, store.ErrUnsupported, fmt.Errorf("odd"),
	} {
		if !all[plan.CauseOf(err)] {
			t.Errorf("%v has the cause %q, which is not one of them", err, plan.CauseOf(err))
		}
	}
}

func TestParseConflict(t *testing.T) {
	if conflict, err := plan.ParseConflictRule(""); err != nil || conflict != plan.KeepBoth {
		t.Errorf("the default is %q, %v", conflict, err)
	}
	if _, err := plan.ParseConflictRule("win"); err == nil {
		t.Error("an unknown rule was taken")
	}
}
