package api

import (
	"embed"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// exampleFiles hold one example for each schema that a request or an answer is of, by the
// schema's name, of the demo's data.
//
//go:embed examples
var exampleFiles embed.FS

// addExamples gives the schemas of the document their examples. What an example leaves out has
// the zero value, as in an answer of the service.
func addExamples(document *huma.OpenAPI) error {
	for _, name := range []string{"requests", "answers"} {
		data, err := exampleFiles.ReadFile("examples/" + name + ".json")
		if err != nil {
			return err
		}
		var examples map[string]json.RawMessage
		if err := json.Unmarshal(data, &examples); err != nil {
			return fmt.Errorf("failed to read the examples of %s: %w", name, err)
		}
		for schema, text := range examples {
			if err := addExample(document.Components.Schemas, schema, text); err != nil {
				return fmt.Errorf("failed to read the example of %s: %w", schema, err)
			}
		}
	}
	return nil
}

func addExample(schemas huma.Registry, name string, text json.RawMessage) error {
	schema, of := schemas.Map()[name], schemas.TypeFromRef("#/components/schemas/"+name)
	if schema == nil || of == nil {
		return fmt.Errorf("the document has no such schema")
	}
	value := reflect.New(of)
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(value.Interface()); err != nil {
		return err
	}
	whole, err := json.Marshal(value.Interface())
	if err != nil {
		return err
	}
	schema.Examples = []any{json.RawMessage(whole)}
	return nil
}
