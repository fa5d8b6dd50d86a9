package cli

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) token() *cobra.Command {
	return nouns("token", "List and revoke tokens and sessions, and create tokens", a.tokenList(), a.tokenCreate(), a.tokenRevoke(),
		a.tokenRotate())
}

// signedIn are the sessions of the console and the tokens for programs.
type signedIn struct {
	Sessions []contract.Session `json:"sessions"`
	Tokens   []contract.Token   `json:"tokens"`
}

func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the tokens for programs and the sessions of the console", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			c := a.client()
			sessions, err := c.Sessions(command.Context())
			if err != nil {
				return err
			}
			tokens, err := c.Tokens(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(signedIn{sessions, tokens})
			}
			if len(sessions)+len(tokens) == 0 {
				_, err := fmt.Fprintln(a.out, "Nobody is signed in to the console, and there is no token for programs. "+
					"Make a link for the console: heron signin --console")
				return err
			}
			t := a.newTable("ID", "KIND", "USER", "SINCE", "LAST USED", "ENDS", "FOR")
			for _, one := range tokens {
				t.AppendRow(table.Row{one.ID, "token " + format.Plain(one.Name), one.User, when(&one.Created), when(one.Seen), when(one.Expires),
					tokenUse(one)})
			}
			for _, one := range sessions {
				t.AppendRow(table.Row{one.ID, "session", one.User, when(&one.Started), when(one.Seen), when(one.Ends),
					format.Plain(one.From) + " " + format.Plain(one.Client)})
			}
			t.Render()
			return nil
		},
	}
}

// tokenUse describes the purpose of a token in words.
func tokenUse(token contract.Token) string {
	what := "everything its user may do"
	if len(token.Scopes) > 0 {
		what = strings.Join(token.Scopes, ", ")
	}
	if len(token.Grants) > 0 {
		what += " on " + grantList(token.Grants, "")
	}
	return what
}

func (a *app) tokenCreate() *cobra.Command {
	var asked contract.TokenRequest
	var grants []string
	command := &cobra.Command{
		Use: "create NAME", Short: "Create a token for programs", Args: arguments(1, 1, "a name"),
		Long: "The token acts in your name, and never does more than you may. It is printed once and nowhere kept.\n" +
			"Scopes: read, files, jobs, accounts, settings.",
		Example: "  heron token create nightly-report --scope read --grant /archive --days 365",
		RunE: func(command *cobra.Command, args []string) error {
			asked.Name = args[0]
			for _, text := range grants {
				asked.Grants = append(asked.Grants, readGrant(text, "operator"))
			}
			made, err := a.client().MakeToken(command.Context(), asked)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(made)
			}
			fmt.Fprintf(a.err, "The token %s is for %s, until %s. It is shown this once:\n", made.Name, tokenUse(made.Token), when(made.Expires))
			_, err = fmt.Fprintln(a.out, made.Secret)
			return err
		},
	}
	command.Flags().StringArrayVar(&asked.Scopes, "scope", nil, "what the token is for; may be repeated (default everything you may do)")
	command.Flags().StringArrayVar(&grants, "grant", nil, "an account or a folder that it is for, or ADDRESS=viewer; may be repeated")
	command.Flags().IntVar(&asked.Days, "days", 90, "days until it expires")
	return command
}

func (a *app) tokenRevoke() *cobra.Command {
	var all bool
	command := &cobra.Command{
		Use: "revoke [ID]", Short: "Revoke a token, end a session, or end all sessions", Args: arguments(0, 1, "an id, or --all"),
		Example: "  heron token revoke --all",
		RunE: func(command *cobra.Command, args []string) error {
			if all == (len(args) == 1) {
				return usageError("give the id of a token or a session, or --all; heron token list lists them")
			}
			c := a.client()
			if all {
				if err := c.EndSession(command.Context(), ""); err != nil {
					return err
				}
				_, err := fmt.Fprintln(a.out, "All your sessions of the console have ended.")
				return err
			}
			what := "The token " + args[0] + " was revoked."
			err := c.RevokeToken(command.Context(), args[0])
			if problem := (*contract.Problem)(nil); errors.As(err, &problem) && problem.Status == http.StatusNotFound {
				what, err = "The session "+args[0]+" has ended.", c.EndSession(command.Context(), args[0])
			}
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, what)
			return err
		},
	}
	command.Flags().BoolVar(&all, "all", false, "all sessions of yours, and the links that nobody used yet")
	return command
}

func (a *app) tokenRotate() *cobra.Command {
	return &cobra.Command{
		Use: "rotate", Short: "Replace the owner's token and end the owner's sessions", Args: arguments(0, 0, "nothing more"),
		Long: "Writes a new owner's token to owner.token in the service's data folder. The old token and all sessions of the\n" +
			"owner end. A terminal that was signed in with heron signin stays signed in.",
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
				"the one before, and all sessions of the owner, have ended.")
			return err
		},
	}
}

// terminalName returns the name of the token for a terminal.
func terminalName() string {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown host"
	}
	return "terminal on " + host
}
