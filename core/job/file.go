package job

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/agext/levenshtein"
	"go.yaml.in/yaml/v3"

	"deftheron/core/remedy"
)

// LargestFile is the most bytes that a job file may have.
const LargestFile = 1 << 20

// FileError is what is wrong with a job file, and at which line.
type FileError struct {
	Line   int
	Reason string
}

func (e *FileError) Error() string {
	if e.Line > 0 {
		return fmt.Sprintf("line %d of the job file: %s", e.Line, e.Reason)
	}
	return "the job file: " + e.Reason
}

// Unwrap returns the reason, with its remedy.
func (e *FileError) Unwrap() error { return remedy.New(e.Reason) }

// Read reads a job file: YAML, with one job a document. Its errors are *FileError.
func Read(text []byte) ([]Spec, error) {
	if len(text) > LargestFile {
		return nil, &FileError{Reason: fmt.Sprintf("it has %d bytes; a job file has at most %d", len(text), LargestFile)}
	}
	var specs []Spec
	lines := map[string]int{}
	documents := yaml.NewDecoder(bytes.NewReader(text))
	for {
		var root yaml.Node
		err := documents.Decode(&root)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, notYAML(err)
		}
		spec, err := readSpec(&root)
		if err != nil {
			return nil, err
		}
		if line, twice := lines[spec.Name]; twice {
			return nil, &FileError{root.Line, fmt.Sprintf("the job %s already exists, at line %d; give one of them another name", spec.Name, line)}
		}
		lines[spec.Name] = root.Line
		specs = append(specs, spec)
	}
	if len(specs) == 0 {
		return nil, &FileError{Reason: "there is no job in it; begin with job: NAME"}
	}
	return specs, nil
}

func readSpec(root *yaml.Node) (spec Spec, err error) {
	if len(root.Content) != 1 || root.Content[0].Kind != yaml.MappingNode {
		return spec, &FileError{root.Line, "it is not a job; begin with job: NAME"}
	}
	if err := checkKeys(root.Content[0], reflect.TypeFor[Spec](), ""); err != nil {
		return spec, err
	}
	if err := root.Content[0].Decode(&spec); err != nil {
		return spec, notYAML(err)
	}
	return spec, nil
}

var atLine = regexp.MustCompile(`(?s)line (\d+): (.*)$`)

func notYAML(err error) error {
	var known *FileError
	if errors.As(err, &known) {
		return known
	}
	if found := atLine.FindStringSubmatch(err.Error()); found != nil {
		line, _ := strconv.Atoi(found[1])
		return &FileError{line, found[2] + "; write it as in docs/jobs.md"}
	}
	return &FileError{Reason: strings.TrimPrefix(err.Error(), "yaml: ") + "; write it as in docs/jobs.md"}
}

// checkKeys holds the keys of a mapping against the fields of a type, and names the
// nearest to one that is not among them.
func checkKeys(node *yaml.Node, shape reflect.Type, path string) error {
	switch {
	case node.Kind == yaml.AliasNode || node.Anchor != "":
		return &FileError{node.Line, "anchors and aliases cannot be used; write it out"}
	case shape == reflect.TypeFor[Hour]():
		return nil // it reads itself
	case shape == reflect.TypeFor[[]Hour]() && node.Kind != yaml.SequenceNode:
		return notAnHour(node.Line)
	case shape.Kind() == reflect.Slice && node.Kind == yaml.SequenceNode:
		for _, child := range node.Content {
			if err := checkKeys(child, shape.Elem(), path); err != nil {
				return err
			}
		}
		return nil
	case shape.Kind() == reflect.Struct && node.Kind != yaml.MappingNode:
		return &FileError{node.Line, fmt.Sprintf("%s has keys of its own; write it as %s: {%s: …}", path, path, keysOf(shape)[0])}
	case shape.Kind() != reflect.Struct:
		return nil
	}
	for i := 0; i+1 < len(node.Content); i += 2 {
		key := node.Content[i]
		field, ok := fieldOf(shape, key.Value)
		if now, was := renamed[key.Value]; !ok && was {
			return &FileError{key.Line, fmt.Sprintf("the key %q is now called %q", key.Value, now)}
		}
		if !ok {
			where := ""
			if path != "" {
				where = " in " + path
			}
			return &FileError{key.Line, fmt.Sprintf("there is no key %q%s; %s", key.Value, where, suggestion(key.Value, keysOf(shape)))}
		}
		if err := checkKeys(node.Content[i+1], field.Type, key.Value); err != nil {
			return err
		}
	}
	return nil
}

// renamed are keys that job files had in earlier versions, and what they are called now.
var renamed = map[string]string{
	"clash": "conflict", "leave-out": "exclude", "only": "include", "proof": "verify", "pace": "bandwidth", "brake": "safety",
}

// keyOf returns the key of a field in a job file; empty is that of an embedded struct.
func keyOf(field reflect.StructField) string {
	key, _, _ := strings.Cut(field.Tag.Get("yaml"), ",")
	return key
}

func fieldOf(shape reflect.Type, key string) (reflect.StructField, bool) {
	for _, field := range reflect.VisibleFields(shape) {
		if !field.Anonymous && keyOf(field) == key {
			return field, true
		}
	}
	return reflect.StructField{}, false
}

func keysOf(shape reflect.Type) (keys []string) {
	for _, field := range reflect.VisibleFields(shape) {
		if !field.Anonymous {
			keys = append(keys, keyOf(field))
		}
	}
	return keys
}

// suggestion is the nearest key, where one is near, and else all.
func suggestion(given string, keys []string) string {
	given = strings.ReplaceAll(strings.ToLower(given), "_", "-")
	nearest := slices.MinFunc(keys, func(a, b string) int {
		return levenshtein.Distance(given, a, nil) - levenshtein.Distance(given, b, nil)
	})
	if levenshtein.Distance(given, nearest, nil) <= max(1, len(nearest)/3) {
		return fmt.Sprintf("the nearest is %q", nearest)
	}
	return "there are " + strings.Join(keys, ", ")
}

// Text is the job as a job file.
func (s Spec) Text() ([]byte, error) {
	var text bytes.Buffer
	encoder := yaml.NewEncoder(&text)
	encoder.SetIndent(2)
	if err := encoder.Encode(s); err != nil {
		return nil, err
	}
	if err := encoder.Close(); err != nil {
		return nil, err
	}
	return append(bytes.TrimRight(text.Bytes(), "\n"), '\n'), nil
}
