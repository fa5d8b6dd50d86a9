package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
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
					fmt.Fprintf(a.err, "\r%s seen ", format.Some(entries, "entry"))
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
	fmt.Fprintf(a.out, "%s: %s in %s, %s\n", format.Plain(s.Address), format.Some(s.Files, "file"), format.Some(s.Folders, "folder"),
		format.Size(s.Bytes))
	var notes []string
	note := func(n int64, text string) {
		if n > 0 {
			notes = append(notes, text)
		}
	}
	note(s.EmptyFiles, format.Some(s.EmptyFiles, "empty file"))
	note(s.EmptyFolders, format.Some(s.EmptyFolders, "empty folder"))
	note(s.Unsized, format.Count(s.Unsized)+" of unknown size")
	note(s.Others, "and "+format.Some(s.Others, "link, socket or device"))
	if len(notes) > 0 {
		fmt.Fprintf(a.out, "%s\n", a.paint(soft, strings.Join(notes, ", ")))
	}
	if s.For != "" {
		a.printForTarget(s)
	}
	for _, export := range s.Exports {
		fmt.Fprintf(a.out, "%s would be exported as %s\n", format.Some(export.Items, export.Document+" document"), export.Format)
	}
	a.printGroups("TYPE", s.Types)
	a.printGroups("CHANGED", s.Ages)
	a.printSurveyed("LARGEST", "SIZE", s.Largest, func(one contract.Surveyed) string { return format.Size(one.Size) })
	a.printSurveyed("DEEPEST", "FOLDERS", s.Deepest, func(one contract.Surveyed) string { return fmt.Sprint(one.Depth) })
	switch {
	case s.Hashed == 0:
		fmt.Fprintln(a.out, "\nDuplicates are not known: the account reports no hashes.")
	case s.Repeated.Items == 0:
		fmt.Fprintf(a.out, "\nNo duplicates among %s with a reported hash.\n", format.Some(s.Hashed, "file"))
	default:
		fmt.Fprintf(a.out, "\n%s (%s) are duplicates, of %s with a reported hash:\n", format.Some(s.Repeated.Items, "file"),
			format.Size(s.Repeated.Bytes), format.Count(s.Hashed))
		t := a.newTable("TIMES", "SIZE", "FOR EXAMPLE")
		alignRight(t, 1, 2)
		for i, one := range s.Duplicates {
			if i == 10 {
				break
			}
			t.AppendRow(table.Row{format.Count(one.Items), format.Size(one.Size), format.Plain(one.Examples[0])})
		}
		t.Render()
	}
}

func (a *app) printForTarget(s contract.Survey) {
	fmt.Fprintf(a.out, "\nFor %s", format.Plain(s.For))
	if s.Free >= 0 {
		fmt.Fprintf(a.out, ", which has %s free", format.Size(s.Free))
	}
	if s.Translated+s.Refused+s.TooLarge.Items == 0 {
		fmt.Fprintln(a.out, ": every name and every size can be held there")
		return
	}
	fmt.Fprintf(a.out, ": %s translated (%s by letter case), %s refused, %s too large\n",
		format.Some(s.Translated, "name"), format.Some(s.Twins, "twin"), format.Count(s.Refused), format.Some(s.TooLarge.Items, "file"))
	for i, one := range s.Names {
		if i == 20 {
			fmt.Fprintf(a.out, "  and %s more\n", format.Count(s.Translated+s.Refused-20))
			break
		}
		if one.Target != "" {
			fmt.Fprintf(a.out, "  %s → %s\n", format.Plain(one.Address), format.Plain(one.Target))
		} else {
			fmt.Fprintf(a.out, "  %s %s: %s\n", a.paint(brick, "✗"), format.Plain(one.Address), one.Why)
		}
	}
	for _, one := range s.Oversized {
		fmt.Fprintf(a.out, "  %s %s: %s is too large\n", a.paint(brick, "✗"), format.Plain(one.Address), format.Size(one.Size))
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
		t.AppendRow(table.Row{one.Name, format.Count(one.Items), format.Size(one.Bytes)})
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
		t.AppendRow(table.Row{show(one), format.Plain(one.Address)})
	}
	t.Render()
}
