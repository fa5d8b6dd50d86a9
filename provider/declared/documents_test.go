package declared_test

import (
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"deftheron/provider/declared"
	"deftheron/provider/declared/jq"
)

var update = flag.Bool("update", false, "write the documents again that are made of the code")

const docs = "../../docs"

// TestSchema holds the published schema to the code.
func TestSchema(t *testing.T) {
	schema, err := declared.Schema()
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(docs, "schema", "provider-definition.schema.json")
	if *update {
		if err := os.WriteFile(path, append(schema, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := os.ReadFile(path); err != nil || strings.TrimSpace(string(kept)) != string(schema) {
		t.Errorf("%s is not what the code says (%v); write it again: go test ./provider/declared -run TestSchema -update", path, err)
	}
}

// TestTeaching holds the text that teaches the format to the code: it names every
// field and every function, and the definition that it builds is understood.
func TestTeaching(t *testing.T) {
	data, err := os.ReadFile(filepath.Join(docs, "provider-definitions.md"))
	if err != nil {
		t.Fatal(err)
	}
	text := string(data)
	for _, name := range jq.Functions() {
		if !strings.Contains(text, "`"+name+"`") && !strings.Contains(text, " "+name) {
			t.Errorf("the function %s is not named", name)
		}
	}
	top := reflect.TypeFor[declared.Definition]()
	for i := range top.NumField() {
		if name, _, _ := strings.Cut(top.Field(i).Tag.Get("yaml"), ","); name != "-" && !strings.Contains(text, "`"+name+"`") &&
			!strings.Contains(text, "\n"+name+":") {
			t.Errorf("the field %s is not explained", name)
		}
	}
	blocks := regexp.MustCompile("(?s)```yaml\n(definition: 1.*?)```").FindAllStringSubmatch(text, -1)
	if len(blocks) == 0 {
		t.Fatal("it shows no definition")
	}
	for _, block := range blocks {
		if _, err := declared.Load("the example", []byte(block[1])); err != nil {
			t.Error(err)
		}
	}
}
