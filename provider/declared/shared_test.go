package declared

import (
	"fmt"
	"strings"
	"testing"
)

// TestSharedParts has requests take parts that are said once, and finds what is wrong with
// such parts at their lines.
func TestSharedParts(t *testing.T) {
	text, err := definitions.ReadFile("definitions/alder.yaml")
	if err != nil {
		t.Fatal(err)
	}
	shipped := string(text)
	definition, err := Load("alder.yaml", []byte(shipped))
	if err != nil {
		t.Fatal(err)
	}
	for name, operation := range map[string]*Operation{"move": definition.Move, "copy": definition.Copy} {
		if operation.Long == nil || !operation.Value.Given() || operation.Long.Done.source != `.state == "finished"` {
			t.Errorf("%s has not taken the shared part: %+v", name, operation.Step)
		}
	}
	own := strings.Replace(shipped, "move:\n  common: [task]\n", "move:\n  common: [task, more]\n  headers: {X-One: '\"own\"'}\n", 1)
	own = strings.Replace(own, "common:\n", "common:\n  more: {headers: {X-One: '\"part\"', X-Two: '\"part\"'}}\n", 1)
	if definition, err = Load("own.yaml", []byte(own)); err != nil {
		t.Fatal(err)
	}
	if headers := definition.Move.Headers; len(headers) != 2 || headers["X-One"].source != `"own"` || headers["X-Two"].source != `"part"` {
		t.Errorf("headers are put together as %+v", headers)
	}
	for change, want := range map[[2]string]string{
		{"common: [task]", "common: [tusk]"}:                          `there is no shared part "tusk"`,
		{"common:\n  task:", "common:\n  never: {value: .}\n  task:"}: "no request names this part",
		{"    long:\n", "    common: [task]\n    long:\n"}:            "name no shared part themselves",
		{"    long:\n", "    lung: {}\n    long:\n"}:                  "there is no such field here",
	} {
		_, err := Load("wrong.yaml", []byte(strings.Replace(shipped, change[0], change[1], 1)))
		if err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "line ") {
			t.Errorf("%q in place of %q: %v", change[1], change[0], err)
		}
	}
	// A small text that would mean a large definition.
	var large strings.Builder
	large.WriteString("    headers:\n")
	for i := range 300 {
		fmt.Fprintf(&large, "      X-%d: '1'\n", i)
	}
	many := strings.Replace(shipped, "    long:\n", large.String()+"    long:\n", 1)
	many = strings.Replace(many, "move:\n  common: [task]\n", "move:\n  steps: ["+strings.Repeat(`{common: [task], request: "GET /x"},`, 200)+
		"]\n  common: [task]\n", 1)
	if _, err := Load("large.yaml", []byte(many)); err == nil || !strings.Contains(err.Error(), "share less") {
		t.Errorf("many shared parts: %.200v", err)
	}
}
