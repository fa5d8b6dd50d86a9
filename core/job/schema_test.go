package job_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"testing"

	"deftheron/core/job"
)

var update = flag.Bool("update", false, "write the schema again")

func TestSchema(t *testing.T) {
	const path = "../../docs/schema/job.schema.json"
	schema := job.Schema()
	if *update {
		if err := os.WriteFile(path, schema, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := os.ReadFile(path); err != nil || !bytes.Equal(kept, schema) {
		t.Errorf("%s is not that of the program (%v); run: go test ./core/job -update", path, err)
	}
	var node struct {
		Properties map[string]struct {
			Description string         `json:"description"`
			Properties  map[string]any `json:"properties"`
		} `json:"properties"`
	}
	if err := json.Unmarshal(schema, &node); err != nil {
		t.Fatal(err)
	}
	for name, property := range node.Properties {
		if property.Description == "" {
			t.Errorf("%s has no description", name)
		}
	}
	if len(node.Properties) != 12 || len(node.Properties["when"].Properties) != 9 {
		t.Errorf("the schema has %d keys, of when %d", len(node.Properties), len(node.Properties["when"].Properties))
	}
}

// TestDocument loads the job file that docs/jobs.md shows.
func TestDocument(t *testing.T) {
	text, err := os.ReadFile("../../docs/jobs.md")
	if err != nil {
		t.Fatal(err)
	}
	_, file, _ := bytes.Cut(text, []byte("```yaml\n"))
	file, _, _ = bytes.Cut(file, []byte("```"))
	specs, err := job.Read(file)
	if err != nil || len(specs) != 1 || specs[0].Safety.Older != "0" {
		t.Errorf("%+v, %v", specs, err)
	}
}
