package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
	"deftheron/core/job"
)

// readPeople reads a table of people from a file, or from standard input.
func readPeople(file string) (job.People, error) {
	if file == "-" {
		return job.ReadPeople(os.Stdin)
	}
	opened, err := os.Open(file)
	if err != nil {
		return nil, usageError("%s cannot be read (%v); name a CSV file with the columns old,new", file, bareError(err))
	}
	defer opened.Close()
	people, err := job.ReadPeople(opened)
	if err != nil {
		return nil, &exitError{exitUsage, fmt.Errorf("%s: %w", file, err)}
	}
	return people, nil
}

func (a *app) jobPeople() *cobra.Command {
	var asCSV bool
	var set string
	command := a.jobVerb("people NAME", "Show or set who is who in a migration that carries share lists over", nil)
	command.Long = "Lists everybody in the share lists that the survey of a migration has read, and who they are at the target. People\n" +
		"whom the table of people does not name are proposed if the target knows the same address. The table is CSV with\n" +
		"the columns old,new; an empty second column leaves a person out."
	command.Example = "  heron job people office-move --csv > people.csv\n  heron job people office-move --set people.csv"
	command.RunE = func(command *cobra.Command, args []string) error {
		ctx := command.Context()
		if set != "" {
			return a.setPeople(ctx, args[0], set)
		}
		people, err := a.client().PeopleTable(ctx, args[0])
		switch {
		case err != nil:
			return err
		case a.json:
			return a.printJSON(people)
		case asCSV:
			return writePeople(a.out, people)
		}
		a.printPeople(args[0], people)
		return nil
	}
	command.Flags().BoolVar(&asCSV, "csv", false, "print the table as CSV, with what is proposed, for heron job people NAME --set FILE")
	command.Flags().StringVar(&set, "set", "", "set the table from a CSV file; - is standard input")
	return command
}

func (a *app) setPeople(ctx context.Context, name, file string) error {
	people, err := readPeople(file)
	if err != nil {
		return err
	}
	before, err := a.client().Job(ctx, name)
	if err != nil {
		return err
	}
	spec := before.Spec
	if spec.Type != job.Migrate {
		return usageError("the job %s is a %s; only a migration carries share lists over", name, spec.Type)
	}
	spec.Migrate.People = people
	after, err := a.client().ChangeJob(ctx, name, spec, before.Changed)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(after)
	}
	fmt.Fprintf(a.out, "The table of people of %s has %s.\n", name, format.Some(int64(len(people)), "row"))
	a.printCommands([]string{"heron job people " + name})
	return nil
}

// writePeople writes a table that can be edited and set: a row for each person of the share
// lists, and for each that the table names.
func writePeople(w io.Writer, people contract.People) error {
	rows := csv.NewWriter(w)
	_ = rows.Write([]string{"old", "new", "shared entries", "owned entries", "note"})
	listed := map[string]bool{}
	for _, one := range people.People {
		listed[one.Person] = true
		note := one.Meaning
		if one.Proposed {
			note = "Proposed: the target knows the same address."
		}
		_ = rows.Write([]string{one.Person, one.Becomes, strconv.FormatInt(one.Shared, 10), strconv.FormatInt(one.Owns, 10), note})
	}
	for _, old := range sortedNames(people.Table) {
		if !listed[old] {
			_ = rows.Write([]string{old, people.Table[old], "0", "0", "In no share list."})
		}
	}
	rows.Flush()
	return rows.Error()
}

func (a *app) printPeople(name string, people contract.People) {
	if people.Note != "" {
		fmt.Fprintln(a.out, people.Note)
	}
	if len(people.People) == 0 {
		if people.Note == "" {
			fmt.Fprintln(a.out, "Nothing is shared with anybody.")
		}
		return
	}
	t := a.newTable("PERSON", "SHARED", "OWNED", "AT THE TARGET")
	alignRight(t, 2, 3)
	open := false
	for _, one := range people.People {
		is := format.Plain(one.Becomes)
		switch {
		case one.Proposed:
			is, open = a.paint(ochre, "proposed: "+is), true
		case one.Cause == "person-left-out":
			is = a.paint(soft, "left out")
		case one.Cause != "":
			is, open = a.paint(brick, "✗ "+is+sep(is)+format.Plain(one.Meaning)), true
		}
		t.AppendRow(table.Row{format.Plain(one.Person), format.Count(one.Shared), format.Count(one.Owns), is})
	}
	t.Render()
	if people.More {
		fmt.Fprintln(a.out, "There are more than 10,000 people; the others are not listed.")
	}
	if open {
		fmt.Fprintln(a.out, "Only people whom the table names are given rights. Edit it, and set it:")
		a.printCommands([]string{"heron job people " + name + " --csv > people.csv", "heron job people " + name + " --set people.csv"})
	}
}

func sep(text string) string {
	if text == "" {
		return ""
	}
	return ": "
}
