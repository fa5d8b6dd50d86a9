package plan_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
)

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		lines []string
		path  string // a folder's ends in a slash
		want  bool
	}{
		{[]string{"*.tmp"}, "a.tmp", true},
		{[]string{"*.tmp"}, "a/b/c.tmp", true},
		{[]string{"*.tmp"}, "a.tmpx", false},
		{[]string{"build/"}, "build", false},
		{[]string{"build/"}, "a/build/", true},
		{[]string{"build/"}, "a/build/x/y", true},
		{[]string{"/build"}, "a/build", false},
		{[]string{"/build"}, "build", true},
		{[]string{"a/b"}, "x/a/b", false},
		{[]string{"a/b"}, "a/b", true},
		{[]string{"a/**/z"}, "a/z", true},
		{[]string{"a/**/z"}, "a/b/c/z", true},
		{[]string{"*.log", "!keep.log"}, "x/keep.log", false},
		{[]string{"logs/", "!logs/keep"}, "logs/keep", true}, // of a folder that matches, nothing is taken back
		{[]string{"# comment", ""}, "# comment", false},
		{[]string{`\#x`}, "#x", true},
		{[]string{`\!x`}, "!x", true},
		{[]string{"~$*"}, "a/~$doc.odt", true},
		{[]string{"{a,b}"}, "a", false},
		{[]string{"{a,b}"}, "{a,b}", true},
		{[]string{"[a-c]?"}, "bx", true},
		{[]string{"[!a-c]"}, "b", false},
		{[]string{"x  "}, "x", true},
		{[]string{"é*"}, "été", true},
	} {
		patterns, err := plan.ParsePatterns(c.lines)
		if err != nil {
			t.Error(err)
			continue
		}
		kind := store.KindFile
		if strings.HasSuffix(c.path, "/") {
			kind = store.KindFolder
		}
		below, name := store.Key(c.path).Split(kind)
		if got := patterns.Match(below, name, kind); got != c.want {
			t.Errorf("%q matches %q: %v, want %v", c.lines, c.path, got, c.want)
		}
	}
	for line, says := range map[string]string{"[a": "column 1", "ab[c": "column 3", `a\`: "column 2", "!": "names nothing",
		"/[x": "column 2"} {
		if _, err := plan.ParsePatterns([]string{"fine", line}); err == nil || !strings.Contains(err.Error(), says) ||
			!strings.Contains(err.Error(), "number 2") {
			t.Errorf("%q: %v, want it to say %q", line, err, says)
		}
	}
}

func FuzzPatterns(f *testing.F) {
	for _, line := range []string{"*.tmp", "!a/", "[a-z]", `\[`, "a/**/b", "{x}", "[]]", "[!", `\`} {
		f.Add(line, "a/b.tmp")
	}
	f.Fuzz(func(t *testing.T, line, path string) {
		patterns, err := plan.ParsePatterns([]string{line})
		if err != nil {
			return
		}
		below, name := store.Key(path).Split(store.KindFile)
		patterns.Match(below, name, store.KindFile)
	})
}

func listedFrom(t *testing.T, filter plan.Filter, entries ...store.Listed) (names []string, excluded plan.Count) {
	t.Helper()
	sieve, err := filter.Sieve(time.Date(2026, 6, 15, 0, 0, 0, 0, time.UTC))
	if err != nil {
		t.Fatal(err)
	}
	listing := func(yield func(store.Listed, error) bool) {
		for _, entry := range entries {
			if !yield(entry, nil) {
				return
			}
		}
	}
	for listed, err := range sieve.Of(listing) {
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, string(listed.Key()))
	}
	if sieve != nil {
		excluded = sieve.Excluded
	}
	return names, excluded
}

func TestFilter(t *testing.T) {
	file := func(key string, size int64, modified string) store.Listed {
		below, name := store.Key(key).Split(store.KindFile)
		at, _ := time.Parse(time.DateOnly, modified)
		return store.Listed{Below: below, Entry: store.Entry{Name: name, Kind: store.KindFile, Size: size, Modified: at}}
	}
	folder := func(key string) store.Listed {
		below, name := store.Key(key).Split(store.KindFolder)
		return store.Listed{Below: below, Entry: store.Entry{Name: name, Kind: store.KindFolder}}
	}
	all := []store.Listed{
		folder("build/"), file("build/x.o", 5, "2026-06-01"), folder("empty/"), folder("mixed/"), folder("mixed/inner/"),
		file("mixed/inner/a.jpg", 100, "2026-06-10"),
		file("mixed/z.tmp", 1, "2026-06-10"), folder("only-tmp/"), file("only-tmp/y.tmp", 2, "2020-01-01"),
		file("report.PDF", 2000, "2025-01-01"), file("sheet", -1, ""),
	}
	for _, c := range []struct {
		filter plan.Filter
		want   []string
		left   plan.Count
	}{
		{plan.Filter{}, []string{"build/", "build/x.o", "empty/", "mixed/", "mixed/inner/", "mixed/inner/a.jpg", "mixed/z.tmp", "only-tmp/",
			"only-tmp/y.tmp", "report.PDF", "sheet"}, plan.Count{}},
		{plan.Filter{Exclude: []string{"*.tmp", "build/"}},
			[]string{"empty/", "mixed/", "mixed/inner/", "mixed/inner/a.jpg", "report.PDF", "sheet"}, plan.Count{Items: 2, Bytes: 3}},
		{plan.Filter{Types: []string{"pictures", "documents"}}, []string{"mixed/", "mixed/inner/", "mixed/inner/a.jpg", "report.PDF"},
			plan.Count{Items: 4, Bytes: 8}},
		{plan.Filter{LargerThan: 4, SmallerThan: 2000}, []string{"build/", "build/x.o", "mixed/", "mixed/inner/", "mixed/inner/a.jpg", "sheet"},
			plan.Count{Items: 3, Bytes: 2003}},
		{plan.Filter{NewerThan: "30d", Exclude: []string{"*.o"}}, []string{"mixed/", "mixed/inner/", "mixed/inner/a.jpg", "mixed/z.tmp", "sheet"},
			plan.Count{Items: 3, Bytes: 2007}},
		{plan.Filter{OlderThan: "2026-01-01", Include: []string{"*.tmp"}}, []string{"only-tmp/", "only-tmp/y.tmp"},
			plan.Count{Items: 5, Bytes: 2106}},
	} {
		got, left := listedFrom(t, c.filter, all...)
		if !slices.Equal(got, c.want) || left.Items != c.left.Items {
			t.Errorf("%+v takes %q and leaves out %+v\nwant %q and %+v", c.filter, got, left, c.want, c.left)
		}
	}
}

func TestRulesThatContradict(t *testing.T) {
	for says, rules := range map[string]plan.Rules{
		"both larger":         {Filter: plan.Filter{LargerThan: 5, SmallerThan: 5}},
		"both newer":          {Filter: plan.Filter{NewerThan: "2026-01-02", OlderThan: "2026-01-02"}},
		"not a type of files": {Filter: plan.Filter{Types: []string{"video"}}},
		"neither a date":      {Filter: plan.Filter{NewerThan: "yesterday"}},
		"both to be left":     {Filter: plan.Filter{Include: []string{"a"}, Exclude: []string{"a"}}},
		"unknown field":       {As: "{when}/{name}"},
		"tries are not":       {Tries: 1000},
		"[ at column 1 that":  {Filter: plan.Filter{Include: []string{"[x"}}},
	} {
		if err := rules.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want it to say %q", rules, err, says)
		}
	}
	if err := (plan.Rules{As: "{name}", Tries: 3, Filter: plan.Filter{Types: []string{"film"}, NewerThan: "6mo"}}).Check(); err != nil {
		t.Error(err)
	}
}
