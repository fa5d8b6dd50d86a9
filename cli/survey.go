package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/shown"
	"deftheron/contract"
)

func (a *app) survey() *cobra.Command {
	var target, out string
	var yes bool
	command := &cobra.Command{
		Use: "survey ADDRESS", Short: "Survey a folder before a migration",
		Long: "Counts files by type and age, and finds the largest and deepest, names that the target would translate or refuse,\n" +
			"documents to export, and duplicates. No file is read or written.",
		Example: "  heron survey /field-drive --for /archive\n  heron survey /office-drive/Reports --for /desk --out survey.html",
		Args:    arguments(1, 1, "one address"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			ctx := command.Context()
			if out != "" {
				if err := a.mayReplace(out, yes); err != nil {
					return err
				}
				return a.writeFile(out, func(w io.Writer) error { return a.client().SurveyPage(ctx, args[0], target, w) })
			}
			told := func(entries int64) {
				if a.terminal && !a.json {
					fmt.Fprintf(a.err, "\r%s seen ", shown.Some(entries, "entry"))
				}
			}
			survey, err := a.client().Survey(ctx, args[0], target, told)
			if a.terminal && !a.json {
				fmt.Fprint(a.err, "\r\x1b[K")
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(survey)
			}
			a.printSurvey(survey)
			return nil
		},
	}
	flags := command.Flags()
	flags.StringVar(&target, "for", "", "folder the files will go to, to check names and sizes")
	flags.StringVar(&out, "out", "", "write it as a page to hand over (HTML), to this file")
	flags.BoolVar(&yes, "yes", false, "replace the file without asking")
	return command
}

func (a *app) printSurvey(s contract.Survey) {
	fmt.Fprintf(a.out, "%s: %s in %s, %s\n", shown.Plain(s.Address), shown.Some(s.Files, "file"), shown.Some(s.Folders, "folder"),
		shown.Size(s.Bytes))
	var notes []string
	note := func(n int64, text string) {
		if n > 0 {
			notes = append(notes, text)
		}
	}
	note(s.EmptyFiles, shown.Some(s.EmptyFiles, "empty file"))
	note(s.EmptyFolders, shown.Some(s.EmptyFolders, "empty folder"))
	note(s.Unsized, shown.Count(s.Unsized)+" of unknown size")
	note(s.Others, "and "+shown.Some(s.Others, "link, socket or device"))
	if len(notes) > 0 {
		fmt.Fprintf(a.out, "%s\n", a.paint(soft, strings.Join(notes, ", ")))
	}
	if s.For != "" {
		a.printForTarget(s)
	}
	for _, export := range s.Exports {
		fmt.Fprintf(a.out, "%s would be exported as %s\n", shown.Some(export.Items, export.Document+" document"), export.Format)
	}
	a.printGroups("TYPE", s.Types)
	a.printGroups("CHANGED", s.Ages)
	a.printSurveyed("LARGEST", "SIZE", s.Largest, func(one contract.Surveyed) string { return shown.Size(one.Size) })
	a.printSurveyed("DEEPEST", "FOLDERS", s.Deepest, func(one contract.Surveyed) string { return fmt.Sprint(one.Depth) })
	switch {
	case s.Hashed == 0:
		fmt.Fprintln(a.out, "\nDuplicates are not known: the account reports no hashes.")
	case s.Repeated.Items == 0:
		fmt.Fprintf(a.out, "\nNo duplicates among %s with a reported hash.\n", shown.Some(s.Hashed, "file"))
	default:
		fmt.Fprintf(a.out, "\n%s (%s) are duplicates, of %s with a reported hash:\n", shown.Some(s.Repeated.Items, "file"),
			shown.Size(s.Repeated.Bytes), shown.Count(s.Hashed))
		t := a.newTable("TIMES", "SIZE", "FOR EXAMPLE")
		alignRight(t, 1, 2)
		for i, one := range s.Duplicates {
			if i == 10 {
				break
			}
			t.AppendRow(table.Row{shown.Count(one.Items), shown.Size(one.Size), shown.Plain(one.Examples[0])})
		}
		t.Render()
	}
}

func (a *app) printForTarget(s contract.Survey) {
	fmt.Fprintf(a.out, "\nFor %s", shown.Plain(s.For))
	if s.Free >= 0 {
		fmt.Fprintf(a.out, ", which has %s free", shown.Size(s.Free))
	}
	if s.Translated+s.Refused+s.TooLarge.Items == 0 {
		fmt.Fprintln(a.out, ": every name and every size can be held there")
		return
	}
	fmt.Fprintf(a.out, ": %s translated (%s by letter case), %s refused, %s too large\n",
		shown.Some(s.Translated, "name"), shown.Some(s.Twins, "twin"), shown.Count(s.Refused), shown.Some(s.TooLarge.Items, "file"))
	for i, one := range s.Names {
		if i == 20 {
			fmt.Fprintf(a.out, "  and %s more\n", shown.Count(s.Translated+s.Refused-20))
			break
		}
		if one.Target != "" {
			fmt.Fprintf(a.out, "  %s → %s\n", shown.Plain(one.Address), shown.Plain(one.Target))
		} else {
			fmt.Fprintf(a.out, "  %s %s: %s\n", a.paint(brick, "✗"), shown.Plain(one.Address), one.Why)
		}
	}
	for _, one := range s.Oversized {
		fmt.Fprintf(a.out, "  %s %s: %s is too large\n", a.paint(brick, "✗"), shown.Plain(one.Address), shown.Size(one.Size))
	}
}

func (a *app) printGroups(head string, groups []contract.Group) {
	if len(groups) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	t := a.newTable(head, "FILES", "SIZE")
	alignRight(t, 2, 3)
	for _, one := range groups {
		t.AppendRow(table.Row{one.Name, shown.Count(one.Items), shown.Size(one.Bytes)})
	}
	t.Render()
}

func (a *app) printSurveyed(head, figure string, list []contract.Surveyed, show func(contract.Surveyed) string) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	t := a.newTable(figure, head)
	alignRight(t, 1)
	for i, one := range list {
		if i == 5 {
			break
		}
		t.AppendRow(table.Row{show(one), shown.Plain(one.Address)})
	}
	t.Render()
}
