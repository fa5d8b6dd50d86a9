package jq

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"

	"deftheron/core/remedy"
)

// The bounds of matching, which is linear in both (RE2).
const (
	longestPattern = 1 << 10
	longestMatched = 64 << 10
)

// patterns are kept compiled, up to a number.
var patterns = struct {
	sync.Mutex
	byText map[string]*regexp.Regexp
}{byText: map[string]*regexp.Regexp{}}

const mostPatterns = 256

func compiled(pattern, flags any) (*regexp.Regexp, error) {
	text, ok := pattern.(string)
	f, _ := flags.(string)
	if !ok || len(text) > longestPattern {
		return nil, fmt.Errorf("a regular expression is a string of at most %d bytes", longestPattern)
	}
	text = strings.ReplaceAll(text, "(?<", "(?P<")
	if f != "" {
		if strings.Trim(f, "is") != "" {
			return nil, remedy.Errorf("the flags %q are not known; there are g, i and s", f)
		}
		text = "(?" + f + ")" + text
	}
	patterns.Lock()
	defer patterns.Unlock()
	if re := patterns.byText[text]; re != nil {
		return re, nil
	}
	re, err := regexp.Compile(text)
	if err != nil {
		return nil, err
	}
	if len(patterns.byText) >= mostPatterns {
		clear(patterns.byText)
	}
	patterns.byText[text] = re
	return re, nil
}

func matched(in any) (string, error) {
	text, ok := in.(string)
	if !ok || len(text) > longestMatched {
		return "", fmt.Errorf("a regular expression is compared with strings of at most %d KiB, not %s", longestMatched>>10, kindOf(in))
	}
	return text, nil
}

// matches matches a pattern against a text: once, or with the flag g as often as
// possible. found is as from regexp's FindAllStringSubmatchIndex.
func matches(b *budget, in, pattern, flags any, all bool) (text string, re *regexp.Regexp, found [][]int, err error) {
	if text, err = matched(in); err != nil {
		return "", nil, nil, err
	}
	f, _ := flags.(string)
	if re, err = compiled(pattern, strings.ReplaceAll(f, "g", "")); err != nil {
		return "", nil, nil, err
	}
	times := 1
	if all || strings.Contains(f, "g") {
		times = -1
	}
	found = re.FindAllStringSubmatchIndex(text, times)
	if !b.charge(2*len(text) + len(found)*(96+128*(1+re.NumSubexp()))) {
		return "", nil, nil, ErrBounds
	}
	return text, re, found, nil
}

// group is the text of group i of a match: nil where it took no part.
func group(text string, span []int, i int) any {
	if span[2*i] < 0 {
		return nil
	}
	return text[span[2*i]:span[2*i+1]]
}

// named are the named groups of a match.
func named(re *regexp.Regexp, text string, span []int) map[string]any {
	object := map[string]any{}
	for i, name := range re.SubexpNames() {
		if name != "" {
			object[name] = group(text, span, i)
		}
	}
	return object
}

// matching makes a function of jq that gives something for each match.
func matching(all bool, of func(re *regexp.Regexp, text string, span []int) any) func(b *budget, in any, args []any) any {
	return func(b *budget, in any, args []any) any {
		text, re, found, err := matches(b, in, args[0], args[1], all)
		if err != nil {
			return err
		}
		values := make([]any, len(found))
		for i, span := range found {
			values[i] = of(re, text, span)
		}
		return values
	}
}

// scanned is a match's text, or where the pattern has groups, their texts.
func scanned(re *regexp.Regexp, text string, span []int) any {
	if re.NumSubexp() == 0 {
		return group(text, span, 0)
	}
	texts := make([]any, re.NumSubexp())
	for i := range texts {
		texts[i] = group(text, span, i+1)
	}
	return texts
}

// described is a match as jq describes it; offsets and lengths are in
// characters.
func described(re *regexp.Regexp, text string, span []int) any {
	part := func(i int) map[string]any {
		value := group(text, span, i)
		if value == nil {
			return map[string]any{"offset": -1, "length": 0, "string": nil}
		}
		return map[string]any{
			"offset": utf8.RuneCountInString(text[:span[2*i]]),
			"length": utf8.RuneCountInString(value.(string)),
			"string": value,
		}
	}
	whole := part(0)
	groups := make([]any, re.NumSubexp())
	for i := range groups {
		one := part(i + 1)
		one["name"] = nil
		if name := re.SubexpNames()[i+1]; name != "" {
			one["name"] = name
		}
		groups[i] = one
	}
	whole["captures"] = groups
	return whole
}

// tested reports whether a pattern fits.
func tested(b *budget, in any, args []any) any {
	_, _, found, err := matches(b, in, args[0], args[1], false)
	if err != nil {
		return err
	}
	return len(found) > 0
}

// pieces takes a text apart at its matches: what stands between as strings, the
// matches as objects of their named groups, which is what sub and gsub replace.
func pieces(all bool) func(b *budget, in any, args []any) any {
	return func(b *budget, in any, args []any) any {
		text, re, found, err := matches(b, in, args[0], args[1], all)
		if err != nil {
			return err
		}
		parts := make([]any, 0, 2*len(found)+1)
		at := 0
		for _, span := range found {
			parts = append(parts, text[at:span[0]], named(re, text, span))
			at = span[1]
		}
		return append(parts, text[at:])
	}
}
