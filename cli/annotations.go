package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) tag() *cobra.Command {
	return nouns("tag", "Add and remove tags; export and import tags and comments", a.tagVerb("add", "Give files and folders a tag",
		func(tagging *contract.Tagging, tags []string) { tagging.Add = tags }),
		a.tagVerb("remove", "Take a tag from files and folders", func(tagging *contract.Tagging, tags []string) { tagging.Remove = tags }),
		a.tagList(), a.tagExport(), a.tagImport())
}

func (a *app) tagVerb(verb, short string, set func(*contract.Tagging, []string)) *cobra.Command {
	return &cobra.Command{
		Use: verb + " TAG[,TAG...] ADDRESS...", Short: short, Args: arguments(2, -1, "a tag, and one address or several"),
		ValidArgsFunction: a.completeTagThenAddress,
		Example:           "  heron tag " + verb + " to-check,2026 \"/field-drive/Surveys/2026\"",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args[1:]); err != nil {
				return err
			}
			tagging := contract.Tagging{Addresses: args[1:]}
			set(&tagging, strings.Split(args[0], ","))
			noted, err := a.client().Tag(command.Context(), tagging)
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(noted) })
			}
			done := map[string]string{"add": "added", "remove": "removed"}[verb]
			_, err = fmt.Fprintf(a.out, "%s %s.\n", format.Some(noted.Changed, "tag"), done)
			return err
		},
	}
}

func (a *app) completeTagThenAddress(command *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return a.completeAddresses(command, args[1:], typed)
	}
	var names []string
	if tags, err := a.client().Tags(command.Context()); err == nil {
		for _, one := range tags {
			names = append(names, one.Tag+"\t"+format.Some(one.Entries, "entry"))
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) tagList() *cobra.Command {
	var tag string
	command := &cobra.Command{
		Use: "list [ADDRESS]", Short: "List tags; with an address or --tag, files and folders that have some",
		Args: arguments(0, 1, "at most one address"), ValidArgsFunction: a.completeAddresses,
		Example: "  heron tag list\n  heron tag list /field-drive --tag to-check",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			if len(args) == 0 && tag == "" {
				return a.printTags(command.Context())
			}
			return a.printTagged(command.Context(), strings.Join(args, ""), tag)
		},
	}
	command.Flags().StringVar(&tag, "tag", "", "list only what has this tag")
	return command
}

func (a *app) printTags(ctx context.Context) error {
	tags, err := a.client().Tags(ctx)
	if err != nil || a.json {
		return firstError(err, func() error { return a.printJSON(tags) })
	}
	if len(tags) == 0 {
		_, err := fmt.Fprintln(a.out, "Nothing has a tag. Add one with: heron tag add TAG ADDRESS")
		return err
	}
	t := a.newTable("TAG", "FILES AND FOLDERS")
	alignRight(t, 2)
	for _, one := range tags {
		t.AppendRow(table.Row{format.Plain(one.Tag), format.Count(one.Entries)})
	}
	t.Render()
	return nil
}

func (a *app) printTagged(ctx context.Context, in, tag string) error {
	t := a.newTable("TAGS", "COMMENTS", "LOCKED BY", "ADDRESS")
	alignRight(t, 2)
	rows := 0
	for one, err := range a.client().Annotated(ctx, in, tag) {
		if err != nil {
			return err
		}
		if a.json {
			if err := a.printJSON(one); err != nil {
				return err
			}
			continue
		}
		locked, address := "", format.Plain(one.Address)
		if one.Lock != nil {
			locked = format.Plain(one.Lock.By)
		}
		if one.Missing != nil {
			address += a.paint(ochre, "  missing since "+when(one.Missing))
		}
		t.AppendRow(table.Row{format.Plain(strings.Join(one.Tags, ", ")), format.Count(int64(len(one.Comments))), locked, address})
		if rows++; rows%rowsAtOnce == 0 {
			t.Render()
			t.ResetRows()
		}
	}
	if rows == 0 && !a.json {
		_, err := fmt.Fprintln(a.out, "Nothing was found.")
		return err
	}
	if rows%rowsAtOnce > 0 {
		t.Render()
	}
	return nil
}

func (a *app) comment() *cobra.Command {
	return nouns("comment", "Read and write comments about files and folders", a.commentAdd(), a.commentList(), a.commentEdit(),
		a.commentDelete())
}

func (a *app) commentAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add ADDRESS TEXT", Short: "Comment on a file or folder", Args: arguments(2, 2, "one address and the text of the comment"),
		ValidArgsFunction: a.completeAddresses, Example: "  heron comment add /desk/Office/README.txt \"Checked against the plan.\"",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args[:1]); err != nil {
				return err
			}
			added, err := a.client().AddComment(command.Context(), contract.NewComment{Address: args[0], Text: args[1]})
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(added) })
			}
			_, err = fmt.Fprintf(a.out, "Comment %d added.\n", added.ID)
			return err
		},
	}
}

func (a *app) commentList() *cobra.Command {
	return &cobra.Command{
		Use: "list ADDRESS", Short: "List the comments about a file or folder", Args: arguments(1, 1, "one address"),
		ValidArgsFunction: a.completeAddresses, Example: "  heron comment list /desk/Office/README.txt",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			one, err := a.client().Annotations(command.Context(), args[0])
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(one.Comments) })
			}
			if len(one.Comments) == 0 {
				_, err := fmt.Fprintln(a.out, "There is no comment. Add one with: heron comment add ADDRESS TEXT")
				return err
			}
			for _, comment := range one.Comments {
				head := fmt.Sprintf("%d  %s, %s", comment.ID, format.Plain(comment.By), when(&comment.At))
				if comment.Edited != nil {
					head += ", changed " + when(comment.Edited)
				}
				fmt.Fprintln(a.out, a.paint(soft, head))
				for line := range strings.SplitSeq(comment.Text, "\n") {
					fmt.Fprintln(a.out, "  "+format.Plain(line))
				}
			}
			return nil
		},
	}
}

func commentID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usageError("%q is not the number of a comment; see: heron comment list ADDRESS", text)
	}
	return id, nil
}

func (a *app) commentEdit() *cobra.Command {
	return &cobra.Command{
		Use: "edit COMMENT TEXT", Short: "Change a comment of yours", Args: arguments(2, 2, "a comment's number and its new text"),
		Example: "  heron comment edit 12 \"Checked against the plan of May.\"",
		RunE: func(command *cobra.Command, args []string) error {
			id, err := commentID(args[0])
			if err == nil {
				err = a.client().EditComment(command.Context(), id, args[1])
			}
			if err == nil {
				_, err = fmt.Fprintf(a.out, "Comment %d changed.\n", id)
			}
			return err
		},
	}
}

func (a *app) commentDelete() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "delete COMMENT", Short: "Delete a comment", Args: arguments(1, 1, "a comment's number"), Example: "  heron comment delete 12 --yes",
		RunE: func(command *cobra.Command, args []string) error {
			id, err := commentID(args[0])
			if err != nil {
				return err
			}
			if err := a.confirm(yes, fmt.Sprintf("Delete comment %d?", id), fmt.Sprintf("delete comment %d", id)); err != nil {
				return err
			}
			if err := a.client().DeleteComment(command.Context(), id); err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "Comment %d deleted.\n", id)
			return err
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}
