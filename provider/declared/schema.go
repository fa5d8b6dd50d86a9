package declared

import (
	"encoding/json"
	"reflect"
	"strings"
)

// Schema is the JSON Schema (2020-12) of provider definitions, for editors. What
// it cannot say, such as what an expression may hold, is found by Load.
func Schema() ([]byte, error) {
	s := &schemas{defs: map[string]any{}}
	root := s.object(reflect.TypeFor[Definition]())
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Provider definition"
	root["description"] = "Describes a storage service with a REST API, so that accounts there can be linked."
	root["$defs"] = s.defs
	return json.MarshalIndent(root, "", "  ")
}

type schemas struct{ defs map[string]any }

var scalarSchemas = map[reflect.Type]map[string]any{
	reflect.TypeFor[Expr](): {"description": "An expression of jq; an object or an array of them is that object or array.",
		"type": []string{"string", "boolean", "number", "object", "array"}},
	reflect.TypeFor[Template](): {"description": "An address, a URI template (RFC 6570).", "type": "string"},
	reflect.TypeFor[Line](): {"description": "METHOD and address, such as GET /files/{id}.", "type": "string",
		"pattern": "^[A-Z]{3,16} +\\S"},
	reflect.TypeFor[Pattern]():   {"description": "A regular expression (RE2).", "type": "string"},
	reflect.TypeFor[Duration]():  {"description": "A length of time, such as 250ms, 1s or 10m.", "type": "string"},
	reflect.TypeFor[Size]():      {"description": "A number of bytes, such as 262144 or 8MiB.", "type": []string{"string", "integer"}},
	reflect.TypeFor[Functions](): {"description": "Functions of jq: def name: …;", "type": "string"},
}

// of returns the schema of a type; structs and scalars are defined once, by name.
func (s *schemas) of(t reflect.Type) map[string]any {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	name := strings.ToLower(t.Name())
	if scalar, ok := scalarSchemas[t]; ok {
		s.defs[name] = scalar
		return map[string]any{"$ref": "#/$defs/" + name}
	}
	switch t.Kind() {
	case reflect.Struct:
		if _, ok := s.defs[name]; !ok {
			s.defs[name] = true // for what refers to itself
			s.defs[name] = s.object(t)
		}
		return map[string]any{"$ref": "#/$defs/" + name}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": s.of(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": s.of(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	}
	return map[string]any{"type": "string"}
}

func (s *schemas) object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	needed := []string{}
	for _, m := range membersOf(t) {
		schema := s.of(m.field.Type)
		if choices := m.field.Tag.Get("one"); choices != "" {
			one := map[string]any{"enum": strings.Split(choices, ",")}
			if m.field.Type.Kind() == reflect.Slice {
				schema = map[string]any{"type": "array", "items": one}
			} else {
				schema = one
			}
		}
		schema["description"] = m.field.Tag.Get("doc")
		properties[m.name] = schema
		if m.field.Tag.Get("need") == "yes" {
			needed = append(needed, m.name)
		}
	}
	object := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
	if len(needed) > 0 {
		object["required"] = needed
	}
	return object
}
