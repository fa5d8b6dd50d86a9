package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) account() *cobra.Command {
	return nouns("account", "Link and manage accounts",
		a.accountLink(), a.accountList(), a.accountShow(), a.accountCheck(), a.accountEdit(), a.accountSuspend(), a.accountResume(),
		a.accountReauthorize(), a.accountUnlink(), a.accountHistory(), a.accountSpeed(), a.accountDiscover(),
		a.accountReseal(), a.accountRebuild())
}

func (a *app) accountList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the linked accounts", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			c, ctx := a.client(), command.Context()
			// Asked for first: it finds out how the accounts are.
			spaces, err := c.Space(ctx)
			if err != nil {
				return err
			}
			accounts, err := c.Accounts(ctx)
			if err != nil {
				return err
			}
			providers, err := c.Providers(ctx)
			if err != nil {
				return err
			}
			return a.printAccounts(accounts, spaces, providers)
		},
	}
}

func (a *app) printAccounts(accounts []contract.Account, spaces contract.Spaces, providers []contract.Provider) error {
	known := map[string]contract.AccountSpace{}
	for _, space := range spaces.Accounts {
		known[space.Account] = space
	}
	if a.json {
		for _, account := range accounts {
			if account.Found == nil {
				account.Found = &contract.Found{Space: known[account.Name].Space, Folders: []string{}}
			}
			if err := a.printJSON(account); err != nil {
				return err
			}
		}
		return nil
	}
	if len(accounts) == 0 {
		_, err := fmt.Fprintln(a.out, "No account is linked yet. Link one with: heron account link PROVIDER NAME")
		return err
	}
	t := a.newTable("NAME", "STATE", "PROVIDER", "USED", "FREE", "WHERE")
	alignRight(t, 4, 5)
	for _, account := range accounts {
		space := known[account.Name].Space
		t.AppendRow(table.Row{"/" + account.Name, a.accountState(account), account.Provider, format.Size(space.Used), format.Size(space.Free),
			format.Plain(where(account, providers))})
	}
	if len(accounts) > 1 {
		t.AppendRow(table.Row{a.paint(soft, "total"), "", "", format.Size(spaces.Together.Used), format.Size(spaces.Together.Free),
			a.paint(soft, "accounts on one disk count once")})
	}
	t.Render()
	for _, account := range accounts {
		if account.Why != "" {
			fmt.Fprintln(a.out, a.wrapped(2, fmt.Sprintf("%s /%s: %s %s", a.paint(ochre, "▬"), account.Name, format.Plain(account.Why),
				format.Plain(account.Remedy))))
		}
		a.printWarnings(account)
	}
	return nil
}

// printWarnings prints the problems that an account will have.
func (a *app) printWarnings(account contract.Account) {
	for _, warning := range account.Warnings {
		fmt.Fprintln(a.out, a.wrapped(2, fmt.Sprintf("%s /%s: %s %s", a.paint(ochre, "▬"), account.Name, format.Plain(warning.Why),
			format.Plain(warning.Remedy))))
	}
}

// accountState is how an account is, in words.
func (a *app) accountState(account contract.Account) string {
	state := account.State
	if state == "linked" {
		state = a.paint(reed, "✓ linked")
	} else {
		state = a.paint(ochre, "▬ "+stateWord(state))
	}
	if account.ReadOnly {
		state += ", read only"
	}
	return state
}

// stateWord is a state of an account for people.
func stateWord(state string) string {
	if state == "sign-in-expired" {
		return "sign-in expired"
	}
	return state
}

// where returns the options of an account in one line, without those that are the same
// for all accounts of one of the given providers, and without its server's keys.
func where(account contract.Account, providers []contract.Provider) string {
	usual := map[string]string{}
	for _, provider := range providers {
		for _, option := range provider.Options {
			if provider.Name == account.Provider {
				usual[option.Name] = option.Default
			}
		}
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(account.Options)) {
		if value := account.Options[name]; value != usual[name] && name != "host-key" && name != "certificate" {
			parts = append(parts, name+" "+value)
		}
	}
	if account.Start != "" {
		parts = append(parts, "start "+account.Start)
	}
	return strings.Join(parts, ", ")
}

func (a *app) accountShow() *cobra.Command {
	return a.accountVerb("show NAME", "Show the settings and state of an account", func(ctx context.Context, name string) error {
		account, err := a.client().Account(ctx, name)
		if err != nil {
			return err
		}
		if err := a.printAccount(account); err != nil || a.json {
			return err
		}
		usage, err := a.client().Usage(ctx, name, 1)
		if err != nil {
			return err
		}
		a.printUsage(usage)
		return nil
	})
}

// printUsage prints what an account was used for.
func (a *app) printUsage(usage contract.AccountUsage) {
	var requests, slowDowns, up, down int64
	for i := range usage.At {
		requests, slowDowns, up, down = requests+usage.Requests[i], slowDowns+usage.SlowDowns[i], up+usage.Up[i], down+usage.Down[i]
	}
	if requests+up+down > 0 {
		fmt.Fprintln(a.out, a.wrapped(12, fmt.Sprintf("  %s  %s in the last 24 hours, %s of them answered with \"slow down\"; "+
			"%s sent and %s received", a.paint(soft, "used    "),
			format.Some(requests, "request"), format.Count(slowDowns), format.Size(up), format.Size(down))))
	}
	if usage.Full != nil {
		fmt.Fprintf(a.out, "  %s  %s, if it goes on filling as it has\n", a.paint(soft, "full    "), usage.Full.Local().Format(time.DateOnly))
	}
}

func (a *app) accountCheck() *cobra.Command {
	return a.accountVerb("check NAME", "Check an account now and show what is in it", func(ctx context.Context, name string) error {
		account, err := a.client().Check(ctx, name)
		if err != nil {
			return err
		}
		return a.printAccount(account)
	})
}

func (a *app) printAccount(account contract.Account) error {
	if a.json {
		return a.printJSON(account)
	}
	fmt.Fprintf(a.out, "%s\n  %s  %s\n  %s  %s\n  %s  %s\n", a.paint(plumage, account.Address),
		a.paint(soft, "provider"), account.Provider, a.paint(soft, "where   "), format.Plain(where(account, nil)), a.paint(soft, "linked  "),
		when(&account.Linked))
	for _, name := range []string{"host-key", "certificate"} { // what the server is known by
		if value := account.Options[name]; value != "" {
			fmt.Fprintf(a.out, "  %s  %s %s\n", a.paint(soft, "server  "), name, format.Plain(value))
		}
	}
	fmt.Fprintf(a.out, "  %s  %s%s\n", a.paint(soft, "state   "), a.accountState(account), a.seen(account))
	if account.Why != "" {
		fmt.Fprintln(a.out, a.wrapped(12, fmt.Sprintf("  %s  %s %s", a.paint(soft, "why     "), format.Plain(account.Why),
			format.Plain(account.Remedy))))
	}
	if account.Owner != "" && account.Found == nil {
		fmt.Fprintf(a.out, "  %s  %s\n", a.paint(soft, "owner   "), format.Plain(account.Owner))
	}
	a.printWarnings(account)
	if account.Found != nil {
		fmt.Fprintln(a.out, "  "+a.paint(reed, "✓ reached"))
		return a.printFound(*account.Found)
	}
	return nil
}

// seen is when an account answered last.
func (a *app) seen(account contract.Account) string {
	if account.Seen == nil {
		return ""
	}
	return a.paint(soft, ", last seen "+when(account.Seen))
}

func (a *app) accountVerb(use, short string, do func(ctx context.Context, name string) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: arguments(1, 1, "one account's name"), ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			return do(command.Context(), strings.Trim(args[0], "/"))
		},
	}
}

func (a *app) accountUnlink() *cobra.Command {
	var yes, jobsToo bool
	command := a.accountVerb("unlink NAME", "Unlink an account; nothing at the provider is deleted",
		func(ctx context.Context, name string) error {
			c := a.client()
			if _, err := c.Account(ctx, name); err != nil {
				return err
			}
			err := a.confirm(yes, fmt.Sprintf("Unlink %s? Nothing at the provider is deleted. The secret is deleted here. "+
				"The record of copies is kept for 90 days, in case you link the same storage again.", name), "unlink "+name)
			if err != nil {
				return err
			}
			if err = c.Unlink(ctx, name); jobsToo && err != nil {
				err = c.UnlinkAnyway(ctx, name)
			}
			var problem *contract.Problem
			if errors.As(err, &problem) && problem.Cause == contract.CauseInUse && a.asks {
				if err := a.confirm(false, format.Text(problem.Detail)+" Unlink it anyway?", "unlink it anyway"); err != nil {
					return err
				}
				err = c.UnlinkAnyway(ctx, name)
			}
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "Unlinked %s. Nothing was deleted there. The secret was deleted here. "+
				"The record of copies is kept for 90 days.\nLink it again with: heron account link --again %s\n", name, name)
			return err
		})
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	command.Flags().BoolVar(&jobsToo, "though-used", false, "though jobs use it, which cannot run without it")
	return command
}

// confirm asks on a terminal, and needs --yes elsewhere.
func (a *app) confirm(yes bool, question, what string) error {
	if yes {
		return nil
	}
	if !a.asks {
		return usageError("nobody can be asked here whether to %s; say so with --yes", what)
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	var answer string
	_, _ = fmt.Fscanln(a.in, &answer) // whatever is no yes is a no: an empty line and the end of the input, too
	if answer = strings.ToLower(answer); answer != "y" && answer != "yes" {
		return &exitError{exitFailed, fmt.Errorf("nothing was changed")}
	}
	return nil
}
