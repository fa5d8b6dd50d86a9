package job

import (
	"encoding/json"
	"reflect"
)

// choices are the values of the keys that have a few.
var choices = map[string][]string{
	"type": Types, "conflict": {"keep-both", "newer", "source", "target", "ask"}, "names": {"translate", "refuse"},
	"share-lists": {CarryShareLists}, "annotations": {CarryAnnotations},
	"verify":   {"hash", "size", "read-back"},
	"priority": {"low", "normal", "high"}, "identical": {IdenticalOnce, IdenticalEach}, "go-on": Steps,
	"arrival": {ArrivingFile, ArrivingFolder}, "rules.deletions": {"keep-version", "delete", "ignore"},
	"types": {"documents", "pictures", "sound", "film"},
}

// Schema is the JSON Schema (draft 2020-12) of a job file.
func Schema() []byte {
	schema := schemaOf(reflect.TypeFor[Spec](), "", "")
	schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	schema["title"] = "A job of Deft Heron"
	schema["required"] = []string{"job", "type", "routes"}
	text, _ := json.MarshalIndent(schema, "", "  ") // of maps and texts alone
	return append(text, '\n')
}

func schemaOf(shape reflect.Type, in, key string) map[string]any {
	schema := map[string]any{}
	values := choices[in+"."+key]
	if values == nil {
		values = choices[key]
	}
	if shape == reflect.TypeFor[Hour]() {
		schema["type"], schema["additionalProperties"] = "object", map[string]any{"type": "string"}
		schema["minProperties"], schema["maxProperties"] = 1, 1
		return schema
	}
	switch shape.Kind() {
	case reflect.Struct:
		properties := map[string]any{}
		for _, field := range reflect.VisibleFields(shape) {
			if field.Anonymous {
				continue
			}
			name := keyOf(field)
			properties[name] = schemaOf(field.Type, key, name)
			if text := field.Tag.Get("doc"); text != "" {
				properties[name].(map[string]any)["description"] = text
			}
		}
		schema["type"], schema["properties"], schema["additionalProperties"] = "object", properties, false
	case reflect.Slice:
		schema["type"], schema["items"] = "array", schemaOf(shape.Elem(), in, "")
		if values != nil {
			schema["items"] = map[string]any{"enum": values}
		}
		if shape.Elem().Kind() == reflect.Struct {
			schema["minItems"] = 1
		}
	case reflect.Map:
		schema["type"], schema["additionalProperties"] = "object", map[string]any{"type": "string"}
	case reflect.Bool:
		schema["type"] = "boolean"
	case reflect.Int:
		schema["type"], schema["minimum"] = "integer", 1
	default:
		schema["type"] = []string{"string", "number"} // YAML reads 200 as a number
		if values != nil {
			delete(schema, "type")
			schema["enum"] = values
		}
	}
	return schema
}
