package cli

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) user() *cobra.Command {
	return nouns("user", "Add users, and grant them accounts and folders",
		a.userList(), a.userShow(), a.userAdd(), a.userEdit(), a.userGrant(), a.userRevoke(), a.userLink(), a.userRemove())
}

func (a *app) userList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the users", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			users, err := a.client().Users(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(users)
			}
			t := a.newTable("NAME", "ROLE", "STATE", "LAST SIGN-IN", "GRANTS")
			for _, user := range users {
				t.AppendRow(table.Row{user.Name, user.Role, userState(user), when(user.Seen), grantsText(user)})
			}
			t.Render()
			return nil
		},
	}
}

func userState(user contract.User) string {
	if user.Disabled {
		return "disabled"
	}
	return "enabled"
}

// grantsText describes the grants of a user in words.
func grantsText(user contract.User) string {
	if user.Role == "owner" {
		return "everything"
	}
	return grantList(user.Grants, "nothing yet")
}

func grantList(grants []contract.Grant, none string) string {
	if len(grants) == 0 {
		return none
	}
	var parts []string
	for _, grant := range grants {
		parts = append(parts, format.Plain(grant.Address)+" as "+grant.Role)
	}
	return strings.Join(parts, ", ")
}

func (a *app) printUser(user contract.User) error {
	if a.json {
		return a.printJSON(user)
	}
	ways := []string{}
	for _, way := range []struct {
		name string
		has  bool
	}{{"password", user.Password}, {"one-time code", user.Codes}, {"passkey", user.Passkeys > 0}, {"OpenID provider " + user.Provider,
		user.Provider != ""}} {
		if way.has {
			ways = append(ways, way.name)
		}
	}
	if len(ways) == 0 {
		ways = append(ways, "one-time link only")
	}
	_, err := fmt.Fprintf(a.out, "%s: %s, %s\nGrants: %s\nSigns in with: %s\nAdded: %s\nLast sign-in: %s\n", user.Name, user.Role,
		userState(user),
		grantsText(user), strings.Join(ways, ", "), when(&user.Created), when(user.Seen))
	return err
}

func (a *app) userShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a user", Args: arguments(1, 1, "the name of a user"),
		RunE: func(command *cobra.Command, args []string) error {
			user, err := a.client().User(command.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printUser(user)
		},
	}
}

// readGrant reads a grant as ADDRESS or ADDRESS=ROLE.
func readGrant(text, role string) contract.Grant {
	if i := strings.LastIndexByte(text, '='); i > 0 && (text[i+1:] == "viewer" || text[i+1:] == "operator") {
		return contract.Grant{Address: text[:i], Role: text[i+1:]}
	}
	return contract.Grant{Address: text, Role: role}
}

func (a *app) userAdd() *cobra.Command {
	var role, secretFile string
	var grants []string
	command := &cobra.Command{
		Use: "add NAME --role ROLE", Short: "Add a user", Args: arguments(1, 1, "the name of a user"),
		Long: "A viewer looks, an operator also changes files, jobs and accounts, within the grants of the user. An owner may do\n" +
			"everything. Without a password the user signs in with a link, which heron user link makes.",
		Example: "  heron user add surveyor --role operator --grant /field-drive/Surveys --grant /archive=viewer --secret-file password.txt",
		RunE: func(command *cobra.Command, args []string) error {
			user := contract.NewUser{Name: args[0], Role: role}
			for _, text := range grants {
				user.Grants = append(user.Grants, readGrant(text, lesser(role)))
			}
			if secretFile != "" {
				var err error
				if user.Password, _, err = a.secret(secretFile, "Password of "+args[0]); err != nil {
					return err
				}
			}
			added, err := a.client().AddUser(command.Context(), user)
			if err != nil {
				return err
			}
			return a.printUser(added)
		},
	}
	command.Flags().StringVar(&role, "role", "viewer", "viewer, operator or owner")
	command.Flags().StringArrayVar(&grants, "grant", nil,
		"an account or a folder that the user may use, or ADDRESS=viewer; / is every account")
	command.Flags().StringVar(&secretFile, "secret-file", "", "the file that holds the password, or - for standard input")
	return command
}

// lesser is the role of a grant for a user with a role.
func lesser(role string) string {
	if role == "owner" {
		return "operator"
	}
	return role
}

func (a *app) userEdit() *cobra.Command {
	var role, secretFile string
	var disable, enable, noPassword, noCodes bool
	command := &cobra.Command{
		Use: "edit NAME", Short: "Change the role, the password or the state of a user", Args: arguments(1, 1, "the name of a user"),
		Long:    "A new password, and --disable, end the sessions of the user.",
		Example: "  heron user edit surveyor --role viewer",
		RunE: func(command *cobra.Command, args []string) error {
			if enable && disable {
				return usageError("--enable and --disable exclude each other; give one")
			}
			change := contract.UserChange{NoCodes: noCodes}
			if role != "" {
				change.Role = &role
			}
			if enable || disable {
				change.Disabled = &disable
			}
			password := ""
			if noPassword {
				change.Password = &password
			} else if secretFile != "" {
				var err error
				if password, _, err = a.secret(secretFile, "New password of "+args[0]); err != nil {
					return err
				}
				change.Password = &password
			}
			if change == (contract.UserChange{}) {
				return usageError("there is nothing to change; give --role, --secret-file, --no-password, --no-codes, --disable or --enable")
			}
			changed, err := a.client().ChangeUser(command.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.printUser(changed)
		},
	}
	command.Flags().StringVar(&role, "role", "", "viewer, operator or owner")
	command.Flags().StringVar(&secretFile, "secret-file", "", "the file that holds a new password, or - for standard input")
	command.Flags().BoolVar(&noPassword, "no-password", false, "remove the password")
	command.Flags().BoolVar(&noCodes, "no-codes", false, "remove the key for one-time codes, for a user who lost the device")
	command.Flags().BoolVar(&disable, "disable", false, "let the user in no longer; runs in the user's name are held")
	command.Flags().BoolVar(&enable, "enable", false, "let the user in again")
	return command
}

func (a *app) userGrant() *cobra.Command {
	var role string
	command := &cobra.Command{
		Use: "grant NAME ADDRESS", Short: "Grant a user an account or a folder", Args: arguments(2, 2, "the name of a user and an address"),
		Long:    "A grant covers the address and everything below it. / is every account.",
		Example: "  heron user grant surveyor /archive --role viewer",
		RunE: func(command *cobra.Command, args []string) error {
			changed, err := a.client().SetGrant(command.Context(), args[0], contract.Grant{Address: args[1], Role: role})
			if err != nil {
				return err
			}
			return a.printUser(changed)
		},
	}
	command.Flags().StringVar(&role, "role", "viewer", "viewer or operator")
	return command
}

func (a *app) userRevoke() *cobra.Command {
	return &cobra.Command{
		Use: "revoke NAME ADDRESS", Short: "Revoke a grant of a user", Args: arguments(2, 2, "the name of a user and an address"),
		Long:    "Runs in the user's name that use the address are held.",
		Example: "  heron user revoke surveyor /archive",
		RunE: func(command *cobra.Command, args []string) error {
			changed, err := a.client().RemoveGrant(command.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.printUser(changed)
		},
	}
}

func (a *app) userLink() *cobra.Command {
	return &cobra.Command{
		Use: "link NAME", Short: "Create a sign-in link for a user", Args: arguments(1, 1, "the name of a user"),
		Long:    "The link signs the user in to the console once. It ends after 15 minutes, and with the sign-in that made it.",
		Example: "  heron user link surveyor",
		RunE: func(command *cobra.Command, args []string) error {
			link, err := a.client().UserLink(command.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printLink(link)
		},
	}
}

func (a *app) userRemove() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "remove NAME", Short: "Remove a user, with sessions, tokens and grants", Args: arguments(1, 1, "the name of a user"),
		Long:    "Jobs of the user stay, and their runs are held until somebody else changes them.",
		Example: "  heron user remove surveyor",
		RunE: func(command *cobra.Command, args []string) error {
			if err := a.confirm(yes, "Remove the user "+args[0]+"?", "remove the user "+args[0]); err != nil {
				return err
			}
			if err := a.client().RemoveUser(command.Context(), args[0]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.out, "The user %s was removed.\n", args[0])
			return err
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}
