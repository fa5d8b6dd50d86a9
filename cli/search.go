package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) search() *cobra.Command {
	var asked client.Searching
	var most int
	var state bool
	var unread string
	command := &cobra.Command{
		Use: "search QUERY [options]", Short: "Find files by name and contents", ValidArgsFunction: cobra.NoFileCompletions,
		Long: "A query is words that all have to be there, \"phrases\", AND, OR, NOT, parentheses, and begin* for the beginning of a\n" +
			"word. Letter case and accents do not count. Any part of a name is found, from three characters on. Contents are\n" +
			"searched in accounts for which that is switched on: heron account edit NAME --search contents.",
		Example: "  heron search 'permit AND weir' --in /office-drive --type pdf --newer-than 1y\n" +
			"  heron search --tag to-check\n  heron search --state",
		RunE: func(command *cobra.Command, args []string) error {
			ctx := command.Context()
			switch {
			case state:
				return a.searchStates(ctx)
			case unread != "":
				return a.searchUnread(ctx, strings.Trim(unread, "/"))
			case len(args) == 0 && len(asked.Tags) == 0:
				return usageError("heron search takes a query or --tag; see: heron search --help")
			}
			if err := addresses(asked.In); err != nil {
				return err
			}
			asked.Query = strings.Join(args, " ")
			return a.searchFor(ctx, asked, most)
		},
	}
	flags := command.Flags()
	flags.StringArrayVar(&asked.In, "in", nil, "address of a folder to look in; may be repeated")
	flags.StringSliceVar(&asked.Types, "type", nil, "endings such as pdf, or documents, pictures, sound, film")
	flags.StringSliceVar(&asked.Tags, "tag", nil, "only what has this tag; may be repeated, and is enough without a query")
	flags.StringVar(&asked.Kind, "kind", "", "file, folder or document")
	flags.StringVar(&asked.Newer, "newer-than", "", "changed since: 2026-01-01, or an age such as 30d or 1y")
	flags.StringVar(&asked.Older, "older-than", "", "changed before")
	flags.StringVar(&asked.Larger, "larger-than", "", "larger than a size such as 10MiB")
	flags.StringVar(&asked.Smaller, "smaller-than", "", "smaller than a size")
	flags.IntVar(&most, "most", 50, "how many hits to print; 0 for all")
	flags.BoolVar(&state, "state", false, "show how far the search index of each account has come")
	flags.StringVar(&unread, "unread", "", "list the files of an account whose contents cannot be searched, and why")
	_ = command.RegisterFlagCompletionFunc("in", a.completeAddresses)
	_ = command.RegisterFlagCompletionFunc("unread", a.completeAccounts)
	return command
}

func (a *app) searchFor(ctx context.Context, asked client.Searching, most int) error {
	printed := 0
	for {
		asked.Limit = 200
		if most > 0 {
			asked.Limit = min(200, most-printed)
		}
		results, err := a.client().Search(ctx, asked)
		if err != nil {
			return err
		}
		for _, hit := range results.Hits {
			if a.json {
				if err := a.printJSON(hit); err != nil {
					return err
				}
				continue
			}
			a.printHit(hit)
		}
		printed += len(results.Hits)
		if asked.Cursor = results.Next; asked.Cursor == "" || most > 0 && printed >= most || results.Cut {
			if !a.json {
				a.printHits(results, printed)
			}
			return nil
		}
	}
}

func (a *app) printHit(hit contract.SearchHit) {
	facts := hit.Kind
	if hit.Kind == "file" {
		facts = format.Size(hit.Size)
	}
	if hit.Modified != nil {
		facts += ", " + when(hit.Modified)
	}
	tags := ""
	if len(hit.Tags) > 0 {
		tags = a.paint(plumage, "  ["+format.Plain(strings.Join(hit.Tags, "] ["))+"]")
	}
	fmt.Fprintf(a.out, "%s  %s%s\n", format.Plain(hit.Address), a.paint(soft, facts), tags)
	if len(hit.Excerpt) == 0 {
		return
	}
	var line strings.Builder
	for i, part := range hit.Excerpt {
		part = format.Plain(part)
		if i%2 == 1 {
			part = a.paint(ochre, part)
		}
		line.WriteString(part)
	}
	fmt.Fprintf(a.out, "    … %s …\n", strings.TrimSpace(line.String()))
}

// printHits says how many there were, and why there may be more.
func (a *app) printHits(results contract.SearchResults, printed int) {
	switch {
	case printed == 0:
		fmt.Fprintln(a.out, "Nothing was found.")
	case results.Next != "":
		fmt.Fprintf(a.out, "The first %s; there are more: --most 0 prints all.\n", format.Some(int64(printed), "hit"))
	default:
		fmt.Fprintf(a.out, "%s.\n", format.Some(int64(printed), "hit"))
	}
	if results.More {
		fmt.Fprintln(a.out, "More than 10,000 entries match, so the newest come first, not the best.")
	}
	if results.Cut {
		fmt.Fprintln(a.out, "The search took too long and was cut off. Use more words or options.")
	}
	if len(results.Listing) > 0 {
		fmt.Fprintf(a.out, "Not everything is listed yet in: %s. More may be found later.\n", strings.Join(results.Listing, ", "))
	}
}

func (a *app) searchStates(ctx context.Context) error {
	states, err := a.client().SearchStates(ctx)
	if err != nil || a.json {
		return firstError(err, func() error { return a.printJSON(states) })
	}
	t := a.newTable("ACCOUNT", "SEARCHED", "ENTRIES", "FOLDERS TO LIST", "CONTENTS READ", "TO READ", "NOT READABLE")
	alignRight(t, 3, 4, 5, 6, 7)
	for _, one := range states {
		t.AppendRow(table.Row{one.Account, one.Search, format.Count(one.Entries), format.Count(one.Waiting), format.Count(one.Texts),
			format.Count(one.Due), format.Count(one.Unread)})
	}
	t.Render()
	return nil
}

func firstError(err error, next func() error) error {
	if err != nil {
		return err
	}
	return next()
}

func (a *app) searchUnread(ctx context.Context, account string) error {
	any := false
	for one, err := range a.client().Unread(ctx, account) {
		if err != nil {
			return err
		}
		any = true
		if a.json {
			if err := a.printJSON(one); err != nil {
				return err
			}
			continue
		}
		fmt.Fprintf(a.out, "%s  %s\n", format.Plain(one.Address), a.paint(brick, format.Plain(one.Why)))
	}
	if !any && !a.json {
		fmt.Fprintln(a.out, "There is none.")
	}
	return nil
}

// setSearch sets what of an account is searched.
func (a *app) setSearch(ctx context.Context, account, search string) error {
	if search != "off" && search != "names" && search != "contents" {
		return usageError("%q is nothing that is searched; use off, names or contents", search)
	}
	shown, err := a.client().SetSearch(ctx, account, search)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(shown)
	}
	what := map[string]string{"off": "nothing is", "names": "names are", "contents": "names and contents are"}[search]
	fmt.Fprintf(a.out, "Of /%s, %s searched. See how far it has come with: heron search --state\n", account, what)
	return nil
}
