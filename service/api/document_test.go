package api

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// openAPI returns the document, and a compiler that knows it and the schema of OpenAPI 3.1
// documents (https://spec.openapis.org/oas/3.1/schema/2022-10-07).
func openAPI(t *testing.T) (document map[string]any, compiler *jsonschema.Compiler) {
	t.Helper()
	text, err := OpenAPI("test", true)
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	meta, err := os.ReadFile("testdata/openapi-3.1.json")
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(meta))
	if err != nil {
		t.Fatal(err)
	}
	compiler = jsonschema.NewCompiler()
	compiler.AssertFormat()
	for name, resource := range map[string]any{"document.json": value, "openapi.json": schema} {
		if err := compiler.AddResource(name, resource); err != nil {
			t.Fatal(err)
		}
	}
	return value.(map[string]any), compiler
}

// TestDocumentIsOpenAPI validates the document.
func TestDocumentIsOpenAPI(t *testing.T) {
	document, compiler := openAPI(t)
	schema, err := compiler.Compile("openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(document); err != nil {
		t.Errorf("%#v", err)
	}
	document["info"] = map[string]any{"title": 1}
	if schema.Validate(document) == nil {
		t.Error("a document with a number for a title is taken for one of OpenAPI 3.1")
	}
}

// TestExamples has an example of everything that is sent and answered, and validates each.
func TestExamples(t *testing.T) {
	document, compiler := openAPI(t)
	schemas := document["components"].(map[string]any)["schemas"].(map[string]any)
	seen := map[string]bool{}
	each(document["paths"], func(operation string, media map[string]any) {
		name := schemaOf(media)
		if name == "" || seen[name] {
			return
		}
		seen[name] = true
		examples, _ := schemas[name].(map[string]any)["examples"].([]any)
		if len(examples) == 0 {
			t.Errorf("%s: no example of %s", operation, name)
			return
		}
		schema, err := compiler.Compile("document.json#/components/schemas/" + name)
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(examples[0]); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		text, err := json.Marshal(examples[0])
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(text), "0001-01-01") {
			t.Errorf("the example of %s has a time that was not given: %s", name, text)
		}
	})
	if len(seen) < 130 {
		t.Errorf("%d schemas are sent or answered", len(seen))
	}
}

// each calls what is sent and answered, of each operation.
func each(paths any, call func(operation string, media map[string]any)) {
	for _, path := range paths.(map[string]any) {
		for _, value := range path.(map[string]any) {
			operation := value.(map[string]any)
			id, _ := operation["operationId"].(string)
			bodies := []any{operation["requestBody"]}
			for _, response := range operation["responses"].(map[string]any) {
				bodies = append(bodies, response)
			}
			for _, body := range bodies {
				body, _ := body.(map[string]any)
				content, _ := body["content"].(map[string]any)
				for _, media := range content {
					call(id, media.(map[string]any))
				}
			}
		}
	}
}

// schemaOf is the name of the schema that a body is of, or a list of; empty for bytes.
func schemaOf(media map[string]any) string {
	schema, _ := media["schema"].(map[string]any)
	if items, ok := schema["items"].(map[string]any); ok {
		schema = items
	}
	reference, _ := schema["$ref"].(string)
	return strings.TrimPrefix(reference, "#/components/schemas/")
}
