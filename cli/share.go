package cli

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) share() *cobra.Command {
	return nouns("share", "Make links for people without an account, and end them", a.shareCreate(), a.shareList(), a.shareShow(),
		a.shareRevoke(), a.shareSwitch("on", "Switch share links on", true), a.shareSwitch("off",
			"Switch share links off; those that are there open nothing then", false))
}

func (a *app) shareCreate() *cobra.Command {
	var asked contract.NewShareLink
	var passwordFile string
	command := &cobra.Command{
		Use: "create ADDRESS [options]", Short: "Make a link to a file or folder", Args: arguments(1, 1, "one address"),
		ValidArgsFunction: a.completeAddresses,
		Long: "Prints a URL that somebody without an account opens in a browser. It is shown this once. The link has the grants of\n" +
			"who makes it. Links are switched off until an owner switches them on: heron share on.",
		Example: "  heron share create /office-drive/Reports --for 7d --password-file password.txt\n" +
			"  heron share create /desk/Incoming --mode drop-off --largest 500MiB",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			asked.Address = args[0]
			if passwordFile != "" {
				var err error
				if asked.Password, _, err = a.secret(passwordFile, "Password of the link"); err != nil {
					return err
				}
			}
			made, err := a.client().MakeShareLink(command.Context(), asked)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(made)
			}
			fmt.Fprintln(a.out, made.URL)
			fmt.Fprintf(a.out, "It is good until %s, and is not shown again. End it with:\n", when(made.Expires))
			a.printCommands([]string{"heron share revoke " + made.ID})
			return nil
		},
	}
	flags := command.Flags()
	flags.StringVar(&asked.Mode, "mode", "", "view: to look at; download: also to download (the default); drop-off: to send files to a folder")
	flags.StringVar(&asked.For, "for", "", "how long the link is good: 7d, 8w, 6mo (default 30d)")
	flags.StringVar(&passwordFile, "password-file", "", "file with a password that the link asks for; - is standard input")
	flags.Int64Var(&asked.MostUses, "uses", 0, "how often the link can be opened (default any number)")
	flags.StringVar(&asked.LargestFile, "largest", "", "drop-off: the largest file (default 2GiB)")
	flags.StringVar(&asked.MostBytes, "total", "", "drop-off: how much may be sent in all (default 20GiB)")
	flags.StringVar(&asked.Note, "note", "", "for whom the link is")
	_ = command.RegisterFlagCompletionFunc("mode", cobra.FixedCompletions([]string{"view", "download", "drop-off"},
		cobra.ShellCompDirectiveNoFileComp))
	return command
}

func (a *app) shareList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List your links; owners see everybody's", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			links, err := a.client().ShareLinks(command.Context())
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(links) })
			}
			if len(links) == 0 {
				fmt.Fprintln(a.out, "There is no link. Make one with: heron share create ADDRESS")
				return nil
			}
			t := a.newTable("LINK", "STATE", "MODE", "USES", "EXPIRES", "BY", "ADDRESS")
			alignRight(t, 4)
			for _, one := range links {
				t.AppendRow(table.Row{one.ID, a.linkState(one.State), one.Mode, usesOf(one), when(one.Expires), format.Plain(one.By),
					format.Plain(one.Address)})
			}
			t.Render()
			return nil
		},
	}
}

func usesOf(link contract.ShareLink) string {
	if link.MostUses > 0 {
		return fmt.Sprintf("%d of %d", link.Uses, link.MostUses)
	}
	return format.Count(link.Uses)
}

func (a *app) linkState(state string) string {
	if state == "active" {
		return a.paint(reed, state)
	}
	return a.paint(soft, state)
}

// completeLinks completes the ids of links.
func (a *app) completeLinks(command *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var ids []string
	if links, err := a.client().ShareLinks(command.Context()); err == nil && len(args) == 0 {
		for _, one := range links {
			ids = append(ids, one.ID+"\t"+one.Address+", "+one.State)
		}
	}
	return ids, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) shareShow() *cobra.Command {
	return &cobra.Command{
		Use: "show LINK", Short: "Show a link and its latest uses", Args: arguments(1, 1, "one link's id"), ValidArgsFunction: a.completeLinks,
		RunE: func(command *cobra.Command, args []string) error {
			link, err := a.client().ShareLink(command.Context(), args[0])
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(link) })
			}
			a.printShareLink(link)
			return nil
		},
	}
}

func (a *app) printShareLink(link contract.UsedShareLink) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", link.ID, a.linkState(link.State), format.Plain(link.Address))
	password := "without a password"
	if link.Password {
		password = "with a password"
	}
	fmt.Fprintf(a.out, "%s, %s, made by %s at %s, good until %s\n", link.Mode, password, format.Plain(link.By), when(&link.Created),
		when(link.Expires))
	if link.Note != "" {
		fmt.Fprintln(a.out, format.Plain(link.Note))
	}
	fmt.Fprintf(a.out, "Opened: %s\n", usesOf(link.ShareLink))
	if len(link.Latest) == 0 {
		return
	}
	t := a.newTable("AT", "FROM", "WHAT", "TIMES", "SIZE", "NAME")
	alignRight(t, 4, 5)
	for _, use := range link.Latest {
		size := ""
		if use.Bytes > 0 {
			size = format.Size(use.Bytes)
		}
		t.AppendRow(table.Row{when(&use.At), use.From, use.What, format.Count(use.Times), size, format.Plain(use.Name)})
	}
	t.Render()
}

func (a *app) shareRevoke() *cobra.Command {
	return &cobra.Command{
		Use: "revoke LINK...", Short: "End links at once", Args: arguments(1, -1, "at least one link's id"), ValidArgsFunction: a.completeLinks,
		RunE: func(command *cobra.Command, args []string) error {
			for _, id := range args {
				if err := a.client().RevokeShareLink(command.Context(), id); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "The link %s opens nothing any more.\n", id)
			}
			return nil
		},
	}
}

func (a *app) shareSwitch(use, short string, on bool) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error { return a.switchShares(command.Context(), on) },
	}
}

func (a *app) switchShares(ctx context.Context, on bool) error {
	settings, err := a.client().SetShareLinks(ctx, on)
	if err != nil || a.json {
		return firstError(err, func() error { return a.printJSON(settings) })
	}
	word := "off"
	if settings.Enabled {
		word = "on"
	}
	fmt.Fprintf(a.out, "Share links are %s.\n", word)
	return nil
}
