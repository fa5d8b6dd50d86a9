package cli

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
)

func (a *app) token() *cobra.Command {
	command := &cobra.Command{Use: "token", Short: "List and end sessions, and replace the owner's token"}
	command.AddCommand(a.tokenList(), a.tokenRevoke(), a.tokenRotate())
	return command
}

func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the console's sessions", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			sessions, err := a.client().Sessions(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(sessions)
			}
			if len(sessions) == 0 {
				_, err := fmt.Fprintln(a.out, "Nobody is signed in to the console. Make a link for it: heron signin --console")
				return err
			}
			t := a.newTable("ID", "SIGNED IN", "LAST USED", "FROM", "CLIENT")
			for _, one := range sessions {
				t.AppendRow(table.Row{one.ID, when(&one.Started), when(one.Seen), format.Plain(one.From), format.Plain(one.Client)})
			}
			t.Render()
			return nil
		},
	}
}

func (a *app) tokenRevoke() *cobra.Command {
	var all bool
	command := &cobra.Command{
		Use: "revoke [ID]", Short: "End one of the console's sessions, or all", Args: arguments(0, 1, "the id of a session, or --all"),
		Example: "  heron token revoke --all",
		RunE: func(command *cobra.Command, args []string) error {
			if all == (len(args) == 1) {
				return usageError("give the id of a session, or --all; heron token list lists them")
			}
			id, what := "", "All sessions of the console have ended."
			if !all {
				id, what = args[0], "The session "+args[0]+" has ended."
			}
			if err := a.client().EndSession(command.Context(), id); err != nil {
				return err
			}
			_, err := fmt.Fprintln(a.out, what)
			return err
		},
	}
	command.Flags().BoolVar(&all, "all", false, "all of them, and the links that nobody used yet")
	return command
}

func (a *app) tokenRotate() *cobra.Command {
	return &cobra.Command{
		Use: "rotate", Short: "Replace the owner's token and end all sessions", Args: arguments(0, 0, "nothing more"),
		Long: "Writes a new owner's token to owner.token in the service's data folder. The old token and all sessions of the\n" +
			"console end. A terminal that was signed in with heron signin stays signed in.",
		RunE: func(command *cobra.Command, _ []string) error {
			c := a.client()
			fresh, err := c.RotateToken(command.Context())
			if err != nil {
				return err
			}
			known := a.saved()
			if remembered := known.Token != "" && sameURL(known.URL, c.URL); remembered {
				if err := a.save(saved{known.URL, fresh.Token}); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(fresh)
			}
			_, err = fmt.Fprintln(a.out, "The owner's token is new. It is in owner.token of the service's data folder; "+
				"the one before, and all sessions, have ended.")
			return err
		},
	}
}
