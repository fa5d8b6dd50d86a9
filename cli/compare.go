package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) compare() *cobra.Command {
	var comparing client.Comparing
	command := &cobra.Command{
		Use: "compare ADDRESS [ADDRESS]", Short: "Compare two folders, or one at two times",
		Long: "Lists what is only here, only there, different or equal. Two files are equal if both accounts report the same\n" +
			"hash, if size and time agree and both keep times, or if a copy from the first to the second is on record.\n" +
			"--read reads and compares their bytes instead. Nothing is changed. The exit code is 1 if anything differs.\n\n" +
			"With --at the first is looked at as it was at that time; with one address, it is compared with what is there now.",
		Example: "  heron compare /desk/Office /archive/desk/Office\n  heron compare /archive/desk/Office --at yesterday",
		Args:    arguments(1, 2, "two addresses, or one with --at"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			if comparing.Here, comparing.There = args[0], args[len(args)-1]; len(args) == 1 && comparing.HereAt.IsZero() {
				return usageError("one address is compared with its past; give a second one, or --at TIME")
			}
			return a.compareTwo(command, comparing)
		},
	}
	command.Flags().BoolVar(&comparing.Read, "read", false,
		"read every two files of one size to their end, whatever is reported or remembered of them")
	command.Flags().Var(pastTime{&comparing.HereAt}, "at", "look at the first address as it was at a time: 2026-11-27, yesterday, 6h, 3d")
	command.Flags().Var(pastTime{&comparing.ThereAt}, "other-at", "look at the second address as it was at a time")
	command.Flags().BoolVar(&comparing.All, "all", false, "also list equal entries")
	return command
}

func (a *app) compareTwo(command *cobra.Command, comparing client.Comparing) error {
	lines, same := 0, true
	for line, err := range a.client().Compare(command.Context(), comparing) {
		if err != nil {
			return err
		}
		if line.Summary != nil {
			same = line.Summary.Same()
		}
		if a.json {
			if err := a.printJSON(line); err != nil {
				return err
			}
			continue
		}
		if line.Summary != nil {
			if lines > 0 {
				fmt.Fprintln(a.out)
			}
			a.printSummary(*line.Summary)
			continue
		}
		a.printCompared(line)
		lines++
	}
	if !same {
		return &exitError{exitFailed, nil}
	}
	return nil
}

// outcomes are the words for the results of a comparison, each with a shape.
var outcomes = map[string]struct{ shape, words, colour string }{
	"only-here":  {"+", "only here", plumage},
	"only-there": {"−", "only there", ochre},
	"differing":  {"≠", "differing", brick},
	"equal":      {"=", "equal", reed},
	"untold":     {"?", "unknown", soft},
	"unreadable": {"✗", "unreadable", brick},
}

func (a *app) printCompared(line contract.Compared) {
	outcome := outcomes[line.Outcome]
	sizes := ""
	switch {
	case line.Kind == "folder":
		sizes = "folder"
	case line.Here != nil && line.There != nil && line.Here.Size != line.There.Size:
		sizes = format.Size(line.Here.Size) + " ≠ " + format.Size(line.There.Size)
	case line.Here != nil:
		sizes = format.Size(line.Here.Size)
	case line.There != nil:
		sizes = format.Size(line.There.Size)
	}
	name := format.Plain(line.Name)
	if line.Kind == "folder" {
		name += "/"
	}
	fmt.Fprintf(a.out, "%s  %19s  %s\n", a.paint(outcome.colour, outcome.shape+" "+fmt.Sprintf("%-10s", outcome.words)), sizes, name)
	if line.Why != "" {
		fmt.Fprintln(a.out, a.wrapped(4, "    "+a.paint(soft, format.Plain(line.Why))))
	}
}

func (a *app) printSummary(summary contract.Summary) {
	lines := []struct {
		outcome string
		count   contract.Count
	}{
		{"only-here", summary.OnlyHere}, {"only-there", summary.OnlyThere}, {"differing", summary.Differing},
		{"untold", summary.Untold}, {"unreadable", summary.Unreadable}, {"equal", summary.Equal},
	}
	for _, line := range lines {
		if line.count.Items == 0 && line.outcome != "equal" {
			continue
		}
		note := ""
		switch line.outcome {
		case "equal":
			var parts []string
			for _, evidence := range slices.Sorted(maps.Keys(summary.Evidence)) {
				parts = append(parts, fmt.Sprintf("%s by %s", format.Count(summary.Evidence[evidence]), evidenceWords(evidence)))
			}
			note = strings.Join(parts, ", ")
		case "untold":
			note = "same size, and no common hash or time; --read reads and compares them"
		}
		outcome := outcomes[line.outcome]
		fmt.Fprintln(a.out, strings.TrimRight(fmt.Sprintf("%s  %s, %s  %s",
			a.paint(outcome.colour, outcome.shape+" "+fmt.Sprintf("%-10s", outcome.words)),
			format.Some(line.count.Items, "entry"), format.Size(line.count.Bytes), a.paint(soft, note)), " "))
	}
	if summary.Same() {
		fmt.Fprintln(a.out, a.paint(reed, "✓ Both sides hold the same."))
	}
}

func evidenceWords(evidence string) string {
	if evidence == "revision" {
		return "being the same file"
	}
	if evidence == "pair" {
		return "record of a copy"
	}
	return evidence
}
