package cli

import (
	"bytes"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

var option = regexp.MustCompile(`--([a-z-]+)`)

// TestHelp holds that each command has a summary and an example, and each at the top a group.
func TestHelp(t *testing.T) {
	root := (&app{out: &bytes.Buffer{}, err: &bytes.Buffer{}, env: func(string) string { return "" }}).root()
	for _, command := range root.Commands() {
		if command.GroupID == "" && command.Name() != "version" {
			t.Errorf("heron %s is in no group of the help", command.Name())
		}
	}
	found := map[string]bool{}
	var walk func(command *cobra.Command)
	walk = func(command *cobra.Command) {
		path := strings.TrimPrefix(command.CommandPath(), "heron ")
		found[path] = true
		if command.HasSubCommands() {
			for _, child := range command.Commands() {
				walk(child)
			}
			return
		}
		if command.Short == "" || strings.HasSuffix(command.Short, ".") || len(command.Short) > 90 {
			t.Errorf("heron %s: %q is not a short summary", path, command.Short)
		}
		if !strings.Contains(command.Example, "heron "+path) {
			t.Errorf("heron %s: the example %q does not use it", path, command.Example)
		}
		if path == "account link" || path == "account edit" || path == "provider try" {
			return // their options depend on the provider
		}
		for _, name := range option.FindAllStringSubmatch(command.Example, -1) {
			if command.Flag(name[1]) == nil && command.InheritedFlags().Lookup(name[1]) == nil {
				t.Errorf("heron %s: the example %q has the option --%s, which is not there", path, command.Example, name[1])
			}
		}
	}
	walk(root)
	for path := range examples {
		if !found[path] {
			t.Errorf("there is an example of %q, which is not a command", path)
		}
	}
}
