package declared

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"deftheron/core/remedy"
)

// Largest is the most bytes that a definition may have.
const Largest = 256 << 10

// Problem is a mistake in a definition, with its line.
type Problem struct {
	File   string
	Line   int
	Field  string
	Reason string
}

func (p *Problem) Error() string {
	var b strings.Builder
	switch {
	case p.Line > 0 && p.File != "":
		fmt.Fprintf(&b, "line %d of %s: ", p.Line, p.File)
	case p.Line > 0:
		fmt.Fprintf(&b, "line %d: ", p.Line)
	case p.File != "":
		b.WriteString("in " + p.File + ": ")
	}
	if p.Field != "" {
		b.WriteString(p.Field + ": ")
	}
	b.WriteString(p.Unwrap().Error())
	return b.String()
}

// Unwrap returns the reason, with its remedy.
func (p *Problem) Unwrap() error {
	if strings.Contains(p.Reason, "; ") {
		return remedy.New(p.Reason)
	}
	return remedy.New(p.Reason + "; correct it there")
}

// LoadFile reads a definition from a file.
func LoadFile(path string) (*Definition, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > Largest {
		return nil, &Problem{File: filepath.Base(path), Reason: fmt.Sprintf("it has %d bytes; a provider definition has at most %d", info.Size(),
			Largest)}
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Load(filepath.Base(path), text)
}

// Load reads a definition. where names it in errors, which are *Problem.
func Load(where string, text []byte) (*Definition, error) {
	definition, err := load(text)
	var problem *Problem
	if errors.As(err, &problem) {
		problem.File = where
		return nil, problem
	}
	if err != nil {
		return nil, &Problem{File: where, Reason: err.Error()}
	}
	definition.Source, definition.Where = string(text), where
	return definition, nil
}

func load(text []byte) (*Definition, error) {
	if len(text) > Largest {
		return nil, &Problem{Reason: fmt.Sprintf("it has %d bytes; a provider definition has at most %d", len(text), Largest)}
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, notYAML(err)
	}
	if len(root.Content) != 1 || root.Content[0].Kind != yaml.MappingNode {
		return nil, &Problem{Line: 1, Reason: "it is not a provider definition: it has to begin with definition: 1"}
	}
	if err := noAliases(&root); err != nil {
		return nil, err
	}
	if err := putShared(root.Content[0]); err != nil {
		return nil, err
	}
	if err := checkNode(root.Content[0], reflect.TypeFor[Definition](), ""); err != nil {
		return nil, err
	}
	definition := &Definition{}
	if err := root.Content[0].Decode(definition); err != nil {
		return nil, notYAML(err)
	}
	if definition.Format != 1 {
		return nil, &Problem{Line: lineOf(root.Content[0], "definition"), Field: "definition",
			Reason: fmt.Sprintf("version %d of the format is not known to this program; it knows 1", definition.Format)}
	}
	if err := compileAll(reflect.ValueOf(definition).Elem(), "", definition.Functions.text); err != nil {
		return nil, err
	}
	return definition, definition.check(root.Content[0])
}

var yamlLine = regexp.MustCompile(`(?s)^yaml: (?:unmarshal errors:\s*)?line (\d+): (.*)$`)

func notYAML(err error) error {
	var problem *Problem
	if errors.As(err, &problem) {
		return problem
	}
	if found := yamlLine.FindStringSubmatch(err.Error()); found != nil {
		line, _ := strconv.Atoi(found[1])
		return &Problem{Line: line, Reason: "it is not valid YAML: " + found[2]}
	}
	return &Problem{Reason: "it is not YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
}

// noAliases refuses anchors: an alias of an alias can grow without end.
func noAliases(node *yaml.Node) error {
	if node.Kind == yaml.AliasNode || node.Anchor != "" {
		return &Problem{Line: node.Line, Reason: "anchors and aliases cannot be used"}
	}
	for _, child := range node.Content {
		if err := noAliases(child); err != nil {
			return err
		}
	}
	return nil
}

func lineOf(node *yaml.Node, field string) int {
	for i := 0; i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value == field {
			return node.Content[i].Line
		}
	}
	return node.Line
}

// member is one member of a struct as YAML names it.
type member struct {
	name  string
	field reflect.StructField
}

// membersOf returns the members of a struct, with the members of inlined structs.
func membersOf(t reflect.Type) []member {
	var all []member
	for i := range t.NumField() {
		field := t.Field(i)
		name, rest, _ := strings.Cut(field.Tag.Get("yaml"), ",")
		switch {
		case rest == "inline":
			all = append(all, membersOf(field.Type)...)
		case name != "" && name != "-":
			all = append(all, member{name, field})
		}
	}
	return all
}

var scalars = map[reflect.Type]bool{
	reflect.TypeFor[Expr](): true, reflect.TypeFor[Template](): true, reflect.TypeFor[Line](): true, reflect.TypeFor[Pattern](): true,
	reflect.TypeFor[Duration](): true, reflect.TypeFor[Size](): true, reflect.TypeFor[Functions](): true,
}

// checkNode finds unknown and missing members and values that are none of
// their choices, each with its line.
func checkNode(node *yaml.Node, t reflect.Type, field string) error {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if scalars[t] {
		return nil
	}
	switch t.Kind() {
	case reflect.Struct:
		return checkStruct(node, t, field)
	case reflect.Slice:
		if node.Kind != yaml.SequenceNode {
			return &Problem{Line: node.Line, Field: field, Reason: "a sequence (lines that begin with -) is due here"}
		}
		for i, child := range node.Content {
			if err := checkNode(child, t.Elem(), fmt.Sprintf("%s[%d]", field, i)); err != nil {
				return err
			}
		}
	case reflect.Map:
		if node.Kind != yaml.MappingNode {
			return &Problem{Line: node.Line, Field: field, Reason: "names with values are due here"}
		}
	default:
		if node.Kind != yaml.ScalarNode {
			return &Problem{Line: node.Line, Field: field, Reason: "one value is due here"}
		}
	}
	return nil
}

func checkStruct(node *yaml.Node, t reflect.Type, field string) error {
	if node.Kind != yaml.MappingNode {
		return &Problem{Line: node.Line, Field: field, Reason: "names with values are due here"}
	}
	members := membersOf(t)
	given := map[string]bool{}
	for i := 0; i+1 < len(node.Content); i += 2 {
		key, value := node.Content[i], node.Content[i+1]
		at := slices.IndexFunc(members, func(m member) bool { return m.name == key.Value })
		if at < 0 {
			return &Problem{Line: key.Line, Field: under(field, key.Value), Reason: "there is no such field here" + nearest(key.Value, members)}
		}
		if given[key.Value] {
			return &Problem{Line: key.Line, Field: under(field, key.Value), Reason: "it is given twice"}
		}
		given[key.Value] = true
		m := members[at]
		if err := checkNode(value, m.field.Type, under(field, m.name)); err != nil {
			return err
		}
		if err := checkChoice(value, m, under(field, m.name)); err != nil {
			return err
		}
	}
	for _, m := range members {
		if m.field.Tag.Get("need") == "yes" && !given[m.name] {
			return &Problem{Line: node.Line, Field: under(field, m.name), Reason: "it is missing: " + m.field.Tag.Get("doc")}
		}
	}
	return nil
}

func checkChoice(node *yaml.Node, m member, field string) error {
	choices := m.field.Tag.Get("one")
	if choices == "" {
		return nil
	}
	all := strings.Split(choices, ",")
	for _, one := range append([]*yaml.Node{node}, node.Content...) {
		if one.Kind == yaml.ScalarNode && !slices.Contains(all, one.Value) {
			return &Problem{Line: one.Line, Field: field, Reason: fmt.Sprintf("%q cannot be; it is one of %s", one.Value, strings.Join(all, ", "))}
		}
	}
	return nil
}

func under(field, name string) string {
	if field == "" {
		return name
	}
	return field + "." + name
}

// nearest names the member that was meant, if one is near, and all there are.
func nearest(name string, members []member) string {
	best, distance := "", len(name)/2+1
	var names []string
	for _, m := range members {
		names = append(names, m.name)
		if d := editDistance(name, m.name); d < distance {
			best, distance = m.name, d
		}
	}
	slices.Sort(names)
	if best != "" {
		return fmt.Sprintf(" (%s is meant, maybe)", best)
	}
	return " (there are " + strings.Join(names, ", ") + ")"
}

// editDistance returns the Levenshtein distance.
func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			before, row[j+1] = row[j+1], min(row[j+1]+1, row[j]+1, before+cost)
		}
	}
	return row[len(b)]
}
