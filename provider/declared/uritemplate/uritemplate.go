// Package uritemplate expands URI templates of RFC 6570, level 4, in UTF-8.
//
// [Parse] reads a template, [Template.Expand] fills it in. A value is a text, or a list
// of texts; associative arrays, which the standard has as well, have no use here. The
// examples that the standard publishes are in testdata.
package uritemplate

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Template is a template that was read.
type Template struct {
	raw   string
	parts []part
}

// part is literal text, or an expression.
type part struct {
	literal   string
	operator  operator
	variables []variable
}

// operator is how an expression is expanded (RFC 6570, appendix A).
type operator struct {
	first, separator string
	named            bool   // the name goes before the value
	ifEmpty          string // follows the name of an empty value
	reserved         bool   // reserved characters and triplets stay as they are
}

var operators = map[byte]operator{
	'+': {separator: ",", reserved: true},
	'#': {first: "#", separator: ",", reserved: true},
	'.': {first: ".", separator: "."},
	'/': {first: "/", separator: "/"},
	';': {first: ";", separator: ";", named: true},
	'?': {first: "?", separator: "&", named: true, ifEmpty: "="},
	'&': {first: "&", separator: "&", named: true, ifEmpty: "="},
}

// variable is a name with its modifier.
type variable struct {
	name    string
	most    int // characters of the value; 0 is all
	explode bool
}

// varname is a name (section 2.3).
var varname = regexp.MustCompile(`^(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})(?:\.?(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2}))*$`)

// Parse reads a template.
func Parse(text string) (*Template, error) {
	t := &Template{raw: text}
	for rest := text; rest != ""; {
		open := strings.IndexAny(rest, "{}")
		if open < 0 {
			t.parts = append(t.parts, part{literal: rest})
			break
		}
		if rest[open] == '}' {
			return nil, errors.New("a } has no { before it")
		}
		if open > 0 {
			t.parts = append(t.parts, part{literal: rest[:open]})
		}
		end := strings.IndexByte(rest, '}')
		if end < open {
			return nil, errors.New("a { has no } after it")
		}
		expression, err := parseExpression(rest[open+1 : end])
		if err != nil {
			return nil, err
		}
		t.parts = append(t.parts, expression)
		rest = rest[end+1:]
	}
	return t, nil
}

func parseExpression(text string) (part, error) {
	one := part{operator: operator{separator: ","}}
	if text == "" {
		return one, errors.New("{} names no variable")
	}
	if known, ok := operators[text[0]]; ok {
		one.operator, text = known, text[1:]
	} else if strings.IndexByte("=,!@|", text[0]) >= 0 {
		return one, fmt.Errorf("the operator %q is reserved (RFC 6570, section 2.2)", text[0])
	}
	for _, spec := range strings.Split(text, ",") {
		v := variable{}
		v.name, v.explode = strings.CutSuffix(spec, "*")
		if name, most, cut := strings.Cut(v.name, ":"); cut {
			n, err := strconv.Atoi(most)
			if err != nil || n < 1 || n > 9999 || v.explode {
				return one, fmt.Errorf("%q has no length from 1 to 9999 after the colon", spec)
			}
			v.name, v.most = name, n
		}
		if !varname.MatchString(v.name) {
			return one, fmt.Errorf("%q is not the name of a variable", v.name)
		}
		one.variables = append(one.variables, v)
	}
	return one, nil
}

// Raw returns the template as it was read.
func (t *Template) Raw() string { return t.raw }

// Names returns the names of the variables, each as often as it is used.
func (t *Template) Names() (names []string) {
	for _, one := range t.parts {
		for _, v := range one.variables {
			names = append(names, v.name)
		}
	}
	return names
}

// Unescaped returns the names of the variables in which reserved characters stay as
// they are.
func (t *Template) Unescaped() (names []string) {
	for _, one := range t.parts {
		for _, v := range one.variables {
			if one.operator.reserved {
				names = append(names, v.name)
			}
		}
	}
	return names
}

// Expand fills the template in. value returns a string, a []string, or nil for a
// variable that is not defined.
func (t *Template) Expand(value func(name string) any) string {
	var b strings.Builder
	for _, one := range t.parts {
		if one.variables == nil {
			escape(&b, one.literal, true)
			continue
		}
		between := one.operator.first
		for _, v := range one.variables {
			text, ok := one.operator.expand(v, value(v.name))
			if !ok {
				continue
			}
			b.WriteString(between)
			b.WriteString(text)
			between = one.operator.separator
		}
	}
	return b.String()
}

// expand returns the value of a variable, and false where it is not defined.
func (o operator) expand(v variable, value any) (string, bool) {
	switch value := value.(type) {
	case string:
		return o.text(v, value), true
	case []string:
		if len(value) == 0 {
			return "", false
		}
		return o.list(v, value), true
	}
	return "", false
}

func (o operator) text(v variable, value string) string {
	if v.most > 0 {
		value = prefix(value, v.most)
	}
	var b strings.Builder
	if o.named {
		b.WriteString(v.name)
		if value == "" {
			b.WriteString(o.ifEmpty)
			return b.String()
		}
		b.WriteByte('=')
	}
	escape(&b, value, o.reserved)
	return b.String()
}

func (o operator) list(v variable, values []string) string {
	var b strings.Builder
	between := ","
	if v.explode {
		between = o.separator
	} else if o.named {
		b.WriteString(v.name + "=")
	}
	for i, value := range values {
		if i > 0 {
			b.WriteString(between)
		}
		if v.explode && o.named {
			b.WriteString(o.text(variable{name: v.name}, value))
			continue
		}
		escape(&b, value, o.reserved)
	}
	return b.String()
}

// prefix returns the first characters of a text.
func prefix(text string, most int) string {
	for i := range text {
		if most == 0 {
			return text[:i]
		}
		most--
	}
	return text
}

const (
	unreserved = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~"
	reserved   = ":/?#[]@!$&'()*+,;="
)

// Escape returns a text in which every byte that is not unreserved is a triplet (RFC
// 3986, section 2.1).
func Escape(text string) string {
	var b strings.Builder
	escape(&b, text, false)
	return b.String()
}

// escape writes a text with its bytes, which are of UTF-8, as triplets where they have
// to be. With keep, reserved characters and triplets stay as they are.
func escape(b *strings.Builder, text string, keep bool) {
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case strings.IndexByte(unreserved, c) >= 0, keep && strings.IndexByte(reserved, c) >= 0:
			b.WriteByte(c)
			i++
		case keep && isTriplet(text[i:]):
			b.WriteString(text[i : i+3])
			i += 3
		default:
			_, size := utf8.DecodeRuneInString(text[i:])
			for _, one := range []byte(text[i : i+size]) {
				fmt.Fprintf(b, "%%%02X", one)
			}
			i += size
		}
	}
}

func isTriplet(text string) bool {
	if len(text) < 3 || text[0] != '%' {
		return false
	}
	_, err := strconv.ParseUint(text[1:3], 16, 8)
	return err == nil
}
