package jq

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
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
		if strings.Trim(f, "ixs") != "" {
			return nil, fmt.Errorf("the flags %q are not known; there are i and s", f)
		}
		text = "(?" + strings.ReplaceAll(f, "x", "") + ")" + text
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
		return "", fmt.Errorf("a regular expression is held against strings of at most %d KiB, not %s", longestMatched>>10, kindOf(in))
	}
	return text, nil
}

func match(in, pattern, flags any) any {
	text, err := matched(in)
	if err != nil {
		return err
	}
	re, err := compiled(pattern, flags)
	if err != nil {
		return err
	}
	return re.MatchString(text)
}

func replace(b *budget, in, pattern, by any, times int) any {
	text, err := matched(in)
	if err != nil {
		return err
	}
	re, err := compiled(pattern, "")
	if err != nil {
		return err
	}
	with, ok := by.(string)
	if !ok {
		return fmt.Errorf("a match is replaced by a string, not %s", kindOf(by))
	}
	found := re.FindAllStringIndex(text, times)
	if !b.charge(len(text) + len(found)*(len(with)+40)) {
		return ErrBounds
	}
	var out strings.Builder
	at := 0
	for _, span := range found {
		out.WriteString(text[at:span[0]])
		out.WriteString(with)
		at = span[1]
	}
	out.WriteString(text[at:])
	return out.String()
}

func capture(b *budget, in, pattern any) any {
	text, err := matched(in)
	if err != nil {
		return err
	}
	re, err := compiled(pattern, "")
	if err != nil {
		return err
	}
	if !b.charge(2*len(text) + 64*re.NumSubexp()) {
		return ErrBounds
	}
	found := re.FindStringSubmatch(text)
	if found == nil {
		return nil
	}
	object := map[string]any{}
	for i, name := range re.SubexpNames() {
		if name != "" {
			object[name] = found[i]
		}
	}
	return object
}

// scan is every match: its text, or where the pattern has groups, their texts.
func scan(b *budget, in, pattern any) any {
	text, err := matched(in)
	if err != nil {
		return err
	}
	re, err := compiled(pattern, "")
	if err != nil {
		return err
	}
	found := re.FindAllStringSubmatch(text, -1)
	if !b.charge(2*len(text) + len(found)*(48+24*re.NumSubexp())) {
		return ErrBounds
	}
	all := make([]any, len(found))
	for i, groups := range found {
		if len(groups) == 1 {
			all[i] = groups[0]
			continue
		}
		texts := make([]any, len(groups)-1)
		for j, group := range groups[1:] {
			texts[j] = group
		}
		all[i] = texts
	}
	return all
}
