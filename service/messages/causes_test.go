package messages_test

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"deftheron/core/plan"
	"deftheron/service/messages"
)

var update = flag.Bool("update", false, "write docs/causes.md again")

// TestCatalogue holds that each cause has words, and that they name no command, no option
// and no page: those differ by client.
func TestCatalogue(t *testing.T) {
	for _, cause := range plan.Causes() {
		m := messages.Of(cause)
		if m.Title == "" || m.Sentence == "" || m.Remedy == "" {
			t.Errorf("%s has no words: %+v", cause, m)
		}
		for _, text := range []string{m.Title, m.Sentence, m.Remedy} {
			if strings.Contains(text, "heron ") || strings.Contains(text, "--") || strings.Contains(text, "page") || strings.Contains(text, "RUN") {
				t.Errorf("%s: %q is not for every client", cause, text)
			}
		}
		for _, command := range m.Commands {
			if !strings.HasPrefix(command, "heron ") {
				t.Errorf("%s: %q is not a command of the program", cause, command)
			}
		}
	}
	if n := len(plan.Causes()); messages.Number() != n {
		t.Errorf("the catalogue has %d causes, and there are %d", messages.Number(), n)
	}
}

func TestRemedy(t *testing.T) {
	remedy, commands := messages.RemedyOf(plan.CauseSafety, messages.Subject{Run: "r1"})
	if !strings.Contains(remedy, "approve") || !slices.Contains(commands, "heron run approve r1") {
		t.Errorf("%q, %q", remedy, commands)
	}
	if _, commands := messages.RemedyOf(plan.CauseSignInExpired, messages.Subject{Account: "desk"}); !slices.Equal(commands,
		[]string{"heron account reauthorize desk"}) {
		t.Errorf("of an account: %q", commands)
	}
	if _, commands := messages.RemedyOf(plan.CauseSafety, messages.Subject{}); len(commands) > 0 {
		t.Errorf("of a run that is not known: %q", commands)
	}
	for subject, want := range map[messages.Subject]string{{}: "Try again.", {Run: "r1"}: "Retry the run"} {
		if remedy, _ := messages.RemedyOf(plan.CauseLocked, subject); !strings.Contains(remedy, want) {
			t.Errorf("%+v: %q does not say %q", subject, remedy, want)
		}
	}
}

// TestDocument holds docs/causes.md to the catalogue.
func TestDocument(t *testing.T) {
	causes := plan.Causes()
	slices.Sort(causes)
	var b strings.Builder
	b.WriteString("# Causes\n\nWhy an item or a run ended as it did. Generated from service/messages by `go test ./service/messages " +
		"-update`.\n\n")
	b.WriteString("| cause | what happened | what to do |\n| --- | --- | --- |\n")
	for _, cause := range causes {
		m := messages.Of(cause)
		remedy, _ := messages.RemedyOf(cause, messages.Subject{Run: "RUN"})
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", cause, m.Sentence, remedy)
	}
	const path = "../../docs/causes.md"
	if *update {
		if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if written, err := os.ReadFile(path); err != nil || string(written) != b.String() {
		t.Errorf("docs/causes.md is not what the catalogue says (%v); run: go test ./service/messages -update", err)
	}
}
