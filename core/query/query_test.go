package query_test

import (
	"strings"
	"testing"

	"deftheron/core/query"
)

// TestParse reads queries of every form, and says where one is wrong.
func TestParse(t *testing.T) {
	for _, c := range []struct{ text, match, parts, wrong string }{
		{text: `permit AND weir`, match: `("permit" AND "weir")`, parts: `"permit" AND "weir"`},
		{text: `permit weir`, match: `("permit" AND "weir")`, parts: `"permit" AND "weir"`},
		{text: `"River Tolle" OR weir*`, match: `("River Tolle" OR "weir"*)`},
		{text: `permit NOT (draft OR old)`, match: `("permit" NOT ("draft" OR "old"))`},
		{text: `a OR b c NOT d`, match: `("a" OR ("b" AND ("c" NOT "d")))`},
		{text: `or and not`, match: `("or" AND "and" AND "not")`},
		{text: `2026-11.csv`, match: `"2026-11.csv"`, parts: `"2026-11.csv"`},
		{text: `a"b`, wrong: "character 2 is not closed"},
		{text: `++ weir`, match: `"weir"`},
		{text: `+++`, match: ``, parts: `"+++"`},
		{text: `ab`, match: `"ab"`},
		{text: ``, wrong: "empty"},
		{text: `  * `, wrong: "empty"},
		{text: `NOT weir`, wrong: "character 1: a word is missing before NOT"},
		{text: `weir AND`, wrong: "a word is missing after AND"},
		{text: `weir )`, wrong: "character 6: ) closes nothing"},
		{text: `(weir`, wrong: "not closed"},
		{text: `weir AND OR x`, wrong: `character 10: a word is missing before OR`},
		{text: strings.Repeat("(", 30) + "x" + strings.Repeat(")", 30), wrong: "deep"},
		{text: strings.Repeat("x ", 60), wrong: "60 words"},
		{text: strings.Repeat("x", 2000), wrong: "2000 bytes"},
		{text: "\xff", wrong: "not UTF-8"},
	} {
		q, err := query.Parse(c.text)
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%q: %v, want %q", c.text, err, c.wrong)
			}
			continue
		}
		parts, _ := q.Parts()
		if err != nil || q.Match() != c.match || parts != c.parts {
			t.Errorf("%q: %s and %s, %v; want %s and %s", c.text, q.Match(), parts, err, c.match, c.parts)
		}
	}
}

// TestExcerpt shows the terms in their place, whatever their case and accents.
func TestExcerpt(t *testing.T) {
	text := strings.Repeat("Water flows. ", 50) + "The Permit for the río Tólle was given." + strings.Repeat(" More flows.", 50)
	found := query.Excerpt(text, []string{"tolle", "permit"}, 80)
	if len(found) != 5 || found[1] != "Permit" || found[3] != "Tólle" || len(strings.Join(found, "")) > 100 {
		t.Errorf("%q", found)
	}
	if found := query.Excerpt(text, []string{"nothing"}, 80); found != nil {
		t.Errorf("%q", found)
	}
	if found := query.Excerpt("ab", []string{"ab"}, 80); len(found) != 3 || found[1] != "ab" {
		t.Errorf("%q", found)
	}
}

// FuzzParse reads anything; what it accepts has balanced quotation marks and parentheses.
func FuzzParse(f *testing.F) {
	for _, text := range []string{`a AND b`, `"a b" OR (c NOT d*)`, "“x” ())", "\x00 AND é*"} {
		f.Add(text, "some text with a b and é")
	}
	f.Fuzz(func(t *testing.T, text, in string) {
		q, err := query.Parse(text)
		if err != nil {
			return
		}
		if match := q.Match(); strings.Count(match, `"`)%2 != 0 || strings.Contains(match, "\x00") {
			t.Errorf("%q becomes %s", text, match)
		}
		whole := strings.Join(query.Excerpt(in, q.Terms(), 50), "")
		if len(whole) > 3*len(in)+3 {
			t.Errorf("an excerpt of %q is %q", in, whole)
		}
	})
}
