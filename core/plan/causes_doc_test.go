package plan_test

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"deftheron/core/plan"
)

var update = flag.Bool("update", false, "write docs/causes.md anew")

// TestCausesDocument holds docs/causes.md to the one table of causes.
func TestCausesDocument(t *testing.T) {
	var codes []string
	for cause := range plan.Causes() {
		codes = append(codes, string(cause))
	}
	slices.Sort(codes)
	var b strings.Builder
	b.WriteString("# Causes\n\nWhy an item ended as it did, or a run did. Written from the table in core/plan/cause.go by `go test ./core/plan -update`.\n\n")
	b.WriteString("| cause | what it means | what to do |\n| --- | --- | --- |\n")
	for _, code := range codes {
		words := plan.Cause(code).Words()
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", code, words.Meaning, words.Remedy)
	}
	const path = "../../docs/causes.md"
	if *update {
		if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if written, err := os.ReadFile(path); err != nil || string(written) != b.String() {
		t.Errorf("docs/causes.md is not what the table says (%v); run: go test ./core/plan -update", err)
	}
}
