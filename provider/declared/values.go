package declared

import (
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"go.yaml.in/yaml/v3"

	"deftheron/provider/declared/jq"
	"deftheron/provider/declared/uritemplate"
)

// The values that a definition holds: expressions, templates, lines, patterns, durations and sizes. Each
// reads itself from YAML; expressions are compiled when all is read.

// UnmarshalYAML keeps the expression; it is compiled when all is read. A
// mapping or a sequence of expressions is the object or the array of them.
func (e *Expr) UnmarshalYAML(node *yaml.Node) error {
	e.line = node.Line
	source, err := sourceOf(node)
	e.source = source
	return err
}

func sourceOf(node *yaml.Node) (string, error) {
	switch node.Kind {
	case yaml.ScalarNode:
		if strings.TrimSpace(node.Value) == "" {
			return "", &Problem{Line: node.Line, Reason: "an expression is due here, and it is empty"}
		}
		return node.Value, nil
	case yaml.MappingNode:
		var parts []string
		for i := 0; i+1 < len(node.Content); i += 2 {
			value, err := sourceOf(node.Content[i+1])
			if err != nil {
				return "", err
			}
			parts = append(parts, fmt.Sprintf("%s: (%s)", strconv.Quote(node.Content[i].Value), value))
		}
		return "{" + strings.Join(parts, ", ") + "}", nil
	case yaml.SequenceNode:
		var parts []string
		for _, child := range node.Content {
			value, err := sourceOf(child)
			if err != nil {
				return "", err
			}
			parts = append(parts, "("+value+")")
		}
		return "[" + strings.Join(parts, ", ") + "]", nil
	}
	return "", &Problem{Line: node.Line, Reason: "an expression is due here"}
}

// Functions are jq functions for all expressions.
type Functions struct {
	text string
	line int
}

// UnmarshalYAML implements yaml.Unmarshaler.
func (f *Functions) UnmarshalYAML(node *yaml.Node) error {
	f.text, f.line = node.Value, node.Line
	if err := jq.CheckFunctions(f.text); err != nil {
		return &Problem{Line: node.Line, Field: "functions", Reason: "jq: " + err.Error()}
	}
	return nil
}

// Template is a URI template (RFC 6570).
type Template struct {
	*uritemplate.Template
}

// UnmarshalYAML implements yaml.Unmarshaler.
func (t *Template) UnmarshalYAML(node *yaml.Node) error {
	template, err := uritemplate.Parse(node.Value)
	if err != nil {
		return &Problem{Line: node.Line, Reason: fmt.Sprintf("%q is not a URI template (RFC 6570): %v", node.Value, err)}
	}
	for _, name := range template.Unescaped() {
		if last := name[strings.LastIndexByte(name, '.')+1:]; last == "path" || last == "name" || last == "names" {
			escaped := strings.TrimSuffix(name, last) + "escaped_path"
			return &Problem{Line: node.Line, Reason: fmt.Sprintf("{+%s} would leave reserved characters of names as they are, and requests "+
				"would go to other files; write {+%s}, which is escaped already, or {/names*}", name, escaped)}
		}
	}
	t.Template = template
	return nil
}

// Line is the first line of a request: METHOD and address.
type Line struct {
	Method  string
	Address Template
}

var method = regexp.MustCompile(`^[A-Z]{3,16}$`)

// UnmarshalYAML implements yaml.Unmarshaler.
func (l *Line) UnmarshalYAML(node *yaml.Node) error {
	name, address, ok := strings.Cut(strings.TrimSpace(node.Value), " ")
	address = strings.TrimSpace(address)
	if !ok || !method.MatchString(name) || address == "" {
		return &Problem{Line: node.Line, Field: "request",
			Reason: fmt.Sprintf("%q is not a request; write the method and the address, as in GET /files/{id}", node.Value)}
	}
	if !strings.HasPrefix(address, "/") && !strings.HasPrefix(address, "{") && !strings.HasPrefix(address, "http") {
		return &Problem{Line: node.Line, Field: "request",
			Reason: fmt.Sprintf("the address %q has to begin with / (it counts from base then), with {+…}, or with https://", address)}
	}
	l.Method = name
	return l.Address.UnmarshalYAML(&yaml.Node{Line: node.Line, Value: address})
}

// Pattern is a regular expression (RE2).
type Pattern struct{ *regexp.Regexp }

// UnmarshalYAML implements yaml.Unmarshaler.
func (p *Pattern) UnmarshalYAML(node *yaml.Node) error {
	re, err := regexp.Compile(node.Value)
	if err != nil {
		return &Problem{Line: node.Line, Reason: err.Error()}
	}
	p.Regexp = re
	return nil
}

// UnmarshalYAML implements yaml.Unmarshaler.
func (d *Duration) UnmarshalYAML(node *yaml.Node) error {
	read, err := time.ParseDuration(node.Value)
	if err != nil || read < 0 {
		return &Problem{Line: node.Line, Reason: fmt.Sprintf("%q is not a length of time; write it as 250ms, 1s or 10m", node.Value)}
	}
	*d = Duration(read)
	return nil
}

// UnmarshalYAML implements yaml.Unmarshaler.
func (s *Size) UnmarshalYAML(node *yaml.Node) error {
	read, err := humanize.ParseBytes(node.Value)
	if err != nil || read > 1<<62 {
		return &Problem{Line: node.Line, Reason: fmt.Sprintf("%q is not a number of bytes; write it as 262144, 256KiB or 5GiB", node.Value)}
	}
	*s = Size(read)
	return nil
}

// compileAll compiles every expression below a value.
func compileAll(value reflect.Value, field, functions string) error {
	switch value.Kind() {
	case reflect.Pointer:
		if !value.IsNil() {
			return compileAll(value.Elem(), field, functions)
		}
	case reflect.Slice:
		for i := range value.Len() {
			if err := compileAll(value.Index(i), fmt.Sprintf("%s[%d]", field, i), functions); err != nil {
				return err
			}
		}
	case reflect.Map:
		if value.Type().Elem() != reflect.TypeFor[Expr]() {
			return nil
		}
		for _, key := range value.MapKeys() {
			e := value.MapIndex(key).Interface().(Expr)
			if err := e.compile(under(field, key.String()), functions); err != nil {
				return err
			}
			value.SetMapIndex(key, reflect.ValueOf(e))
		}
	case reflect.Struct:
		if e, ok := value.Addr().Interface().(*Expr); ok {
			return e.compile(field, functions)
		}
		if scalars[value.Type()] {
			return nil
		}
		for i := range value.NumField() {
			name, rest, _ := strings.Cut(value.Type().Field(i).Tag.Get("yaml"), ",")
			if rest != "inline" {
				name = under(field, name)
			} else {
				name = field
			}
			if err := compileAll(value.Field(i), name, functions); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *Expr) compile(field, functions string) error {
	if e.source == "" {
		return nil
	}
	compiled, err := jq.Compile(e.source, functions)
	if err != nil {
		line := e.line
		var syntax *jq.SyntaxError
		if errors.As(err, &syntax) {
			line += syntax.Line
		}
		return &Problem{Line: line, Field: field, Reason: "jq: " + err.Error()}
	}
	e.Expr = compiled
	return nil
}
