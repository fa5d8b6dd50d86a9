package survey_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/survey"
)

func TestTake(t *testing.T) {
	s := storetest.NewMemory()
	s.Put("same content", "a", "one.jpg")
	s.Put("same content", "b", "two.JPG")
	s.Put("same content", "b", "deep", "three.jpg")
	s.Put("", "empty.txt")
	s.Put("what: ", "b", "what: now?")
	s.Put("x", "Report.PDF")
	s.Put("y", "report.pdf")
	s.Put(strings.Repeat("z", 500), "b", "large.bin")
	s.Put("long", strings.Repeat("n", 300))
	s.Folder("nothing")
	s.Folder("b", "nothing either")
	target := &survey.Target{Traits: store.Traits{CaseIgnored: true, LargestFile: 400,
		Names: &store.NameRules{Keeper: "a share", Without: ":?", MostBytes: 255}}}
	now := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	r, err := survey.Take(t.Context(), s, store.Ref{}, target, plan.Filter{}, now, nil)
	if err != nil {
		t.Fatal(err)
	}
	for what, c := range map[string][2]any{
		"files":         {r.Files, int64(9)},
		"folders":       {r.Folders, int64(5)},
		"bytes":         {r.Bytes, int64(3*12 + 6 + 2 + 500 + 4)},
		"empty files":   {r.EmptyFiles, int64(1)},
		"empty folders": {r.EmptyFolders, int64(2)},
		"translated":    {r.Translated, int64(2)},
		"twins":         {r.Twins, int64(1)},
		"refused":       {r.Refused, int64(1)},
		"too large":     {r.TooLarge.Items, int64(1)},
		"repeated":      {r.Repeated, survey.Group{Items: 2, Bytes: 24}},
		"the largest":   {string(r.Largest[0].Key), "b/large.bin"},
		"the deepest":   {string(r.Deepest[0].Key), "b/deep/three.jpg"},
		"by type":       {fmt.Sprint(r.Types), "[{other 3 510} {pictures 3 36} {documents 3 2}]"},
		"by age":        {fmt.Sprint(r.Ages), "[{within a year 9 548}]"},
		"names":         {len(r.Names), 3},
	} {
		if c[0] != c[1] {
			t.Errorf("%s: %v, want %v", what, c[0], c[1])
		}
	}
	if len(r.Duplicates) != 1 || r.Duplicates[0].Items != 3 || len(r.Duplicates[0].Examples) != 3 {
		t.Errorf("duplicates: %+v", r.Duplicates)
	}
	filtered, err := survey.Take(t.Context(), s, store.Ref{}, target, plan.Filter{Exclude: []string{"*"}}, now, nil)
	if err != nil || filtered.Files != 0 {
		t.Errorf("with all left out: %+v, %v", filtered, err)
	}
	alone, err := survey.Take(t.Context(), s, store.At("b"), nil, plan.Filter{}, now, nil)
	if err != nil || alone.Files != 4 || alone.Translated != 0 || alone.Largest[0].Key != "large.bin" {
		t.Errorf("of a folder by itself: %+v, %v", alone, err)
	}
}

func TestTakeIsCompleteOrFails(t *testing.T) {
	s := storetest.NewMemory()
	s.Put("x", "a", "x")
	broken := storetest.NewFaulty(s, storetest.Fault{Op: storetest.OpList, Err: errors.New("broken")})
	if _, err := survey.Take(t.Context(), broken, store.Ref{}, nil, plan.Filter{}, time.Now(), nil); err == nil ||
		!strings.Contains(err.Error(), "not complete") {
		t.Errorf("a listing that fails: %v", err)
	}
}
