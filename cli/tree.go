package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) ls() *cobra.Command {
	var fresh bool
	var at time.Time
	command := &cobra.Command{
		Use: "ls [ADDRESS...]", Short: "List folders; without an address, the accounts", ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if len(args) == 0 {
				args = []string{"/"}
			}
			if err := addresses(args); err != nil {
				return err
			}
			for i, address := range args {
				if len(args) > 1 && !a.json {
					if i > 0 {
						fmt.Fprintln(a.out)
					}
					fmt.Fprintln(a.out, a.paint(soft, address))
				}
				if err := a.listFolder(command, &client.Listing{Address: address, Fresh: fresh, At: at}); err != nil {
					return err
				}
			}
			return nil
		},
	}
	command.Flags().BoolVar(&fresh, "fresh", false, "ask the provider, however lately it was asked")
	command.Flags().Var(pastTime{&at}, "at", "list what was there at a time: 2026-11-27, yesterday, or an age such as 6h or 3d")
	return command
}

// rowsAtOnce is how many rows of a listing share the widths of their columns;
// a larger folder is printed as it comes.
const rowsAtOnce = 1000

func (a *app) listFolder(command *cobra.Command, listing *client.Listing) error {
	t := a.newTable("KIND", "SIZE", "MODIFIED", "NAME")
	alignRight(t, 2)
	var files, folders, documents, bytes int64
	rows := 0
	for entry, err := range a.client().Entries(command.Context(), listing) {
		if err != nil {
			if rows > 0 {
				t.Render()
			}
			return err
		}
		if a.json {
			if err := a.printJSON(entry); err != nil {
				return err
			}
			continue
		}
		name, sized := format.Plain(entry.Name), format.Size(entry.Size)
		switch entry.Kind {
		case "folder":
			folders++
			name, sized = a.paint(plumage, name+"/")+a.accountMark(entry), ""
		case "document":
			documents++
			name += a.paint(soft, "  "+entry.Document)
		default:
			files++
			bytes += max(0, entry.Size)
		}
		if step := entry.Address[strings.LastIndexByte(entry.Address, '/')+1:]; strings.HasPrefix(step, "%id=") {
			name += a.paint(soft, "  "+step) // one of two of one name
		}
		name += a.annotationMarks(entry)
		t.AppendRow(table.Row{a.paint(soft, entry.Kind), sized, when(entry.Modified), name})
		if rows++; rows%rowsAtOnce == 0 {
			t.Render()
			t.ResetRows()
			t.ResetHeaders()
		}
	}
	if a.json {
		return nil
	}
	if t.Length() > 0 {
		t.Render()
	}
	if listing.Address == "/" {
		if folders == 0 {
			fmt.Fprintln(a.out, "No account is linked yet. Link one with: heron account link PROVIDER NAME")
		}
		return nil
	}
	sum := fmt.Sprintf("%s, %s, %s", format.Some(folders, "folder"), format.Some(files, "file"), format.Size(bytes))
	if documents > 0 {
		sum = fmt.Sprintf("%s, %s, %s, %s", format.Some(folders, "folder"), format.Some(documents, "document"), format.Some(files, "file"),
			format.Size(bytes))
	}
	if age := time.Since(listing.Listed); age > 2*time.Second {
		sum += fmt.Sprintf(" as of %s ago; --fresh asks again", format.Duration(age.Seconds()))
	}
	_, err := fmt.Fprintln(a.out, a.paint(soft, sum))
	return err
}

// annotationMarks returns the marks of an entry's annotations.
func (a *app) annotationMarks(entry contract.Entry) string {
	marks := ""
	if len(entry.Tags) > 0 {
		marks += a.paint(plumage, "  ["+format.Plain(strings.Join(entry.Tags, "] ["))+"]")
	}
	if entry.Comments > 0 {
		marks += a.paint(soft, "  "+format.Some(int64(entry.Comments), "comment"))
	}
	if entry.Lock != nil {
		marks += a.paint(ochre, "  locked by "+format.Plain(entry.Lock.By))
	}
	return marks
}

// lockWords say who holds a lock, until when and why.
func lockWords(lock *contract.Lock) string {
	words := "by " + format.Plain(lock.By) + " until " + when(&lock.Until)
	if lock.Reason != "" {
		words += ": " + format.Plain(lock.Reason)
	}
	return words
}

// accountMark says of an account how it is, where that matters.
func (a *app) accountMark(entry contract.Entry) string {
	mark := ""
	if entry.ReadOnly {
		mark += a.paint(soft, "  read only")
	}
	if entry.State != "" && entry.State != "linked" {
		mark += "  " + a.paint(ochre, "▬ "+stateWord(entry.State))
	}
	return mark
}

func (a *app) stat() *cobra.Command {
	return &cobra.Command{
		Use: "stat ADDRESS...", Short: "Show the properties of entries", Args: arguments(1, -1, "one address or several"),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			for _, address := range args {
				entry, err := a.client().Stat(command.Context(), address)
				if err != nil {
					return err
				}
				if err := a.printEntry(entry); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

func (a *app) printEntry(entry contract.Entry) error {
	if a.json {
		return a.printJSON(entry)
	}
	fmt.Fprintln(a.out, a.paint(plumage, format.Plain(entry.Address)))
	rows := [][2]string{{"kind", entry.Kind}}
	if entry.Kind != "folder" {
		rows = append(rows, [2]string{"size", fmt.Sprintf("%s (%s bytes)", format.Size(entry.Size), format.Count(entry.Size))})
	}
	rows = append(rows, [2]string{"modified", when(entry.Modified)})
	if len(entry.Tags) > 0 {
		rows = append(rows, [2]string{"tags", format.Plain(strings.Join(entry.Tags, ", "))})
	}
	if entry.Comments > 0 {
		rows = append(rows, [2]string{"comments", format.Count(int64(entry.Comments))})
	}
	if entry.Lock != nil {
		rows = append(rows, [2]string{"locked", lockWords(entry.Lock)})
	}
	if entry.Revision != "" {
		rows = append(rows, [2]string{"revision", entry.Revision})
	}
	if len(entry.Hashes) > 0 {
		rows = append(rows, [2]string{"hashes", strings.Join(entry.Hashes, "  ")})
	}
	for _, row := range rows {
		if _, err := fmt.Fprintf(a.out, "  %s  %s\n", a.paint(soft, fmt.Sprintf("%-8s", row[0])), row[1]); err != nil {
			return err
		}
	}
	return nil
}

// completeAddresses completes an address from the present content of its folder.
func (a *app) completeAddresses(command *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	folder := begun[:strings.LastIndexByte(begun, '/')+1]
	var found []string
	for entry, err := range a.client().List(command.Context(), first(folder, "/")) {
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		address := entry.Address
		if entry.Kind == "folder" {
			address += "/"
		}
		if strings.HasPrefix(address, begun) {
			found = append(found, address)
		}
	}
	return found, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeAccounts(command *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	accounts, err := a.client().Accounts(command.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, account := range accounts {
		names = append(names, account.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
