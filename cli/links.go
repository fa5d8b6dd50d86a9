package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"deftheron/cli/format"
	"deftheron/contract"
)

// contents reads the files that a provider asks for.
func (f *linkFlags) contents() (map[string]string, error) {
	files := map[string]string{}
	for option, path := range f.files {
		if !f.set.Changed(option) {
			continue
		}
		if *path == "" { // of an edit: it goes
			files[option] = ""
			continue
		}
		content, err := readKey(option, *path)
		if err != nil {
			return nil, err
		}
		files[option] = content
	}
	return files, nil
}

// readKey reads a private key, which others on this machine must not be able to.
func readKey(option, path string) (string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", usageError("--%s: %s cannot be read (%v); give the file of a private key", option, path, bareError(err))
	}
	if loose := info.Mode().Perm() & 0o077; loose != 0 {
		return "", usageError("--%s: others on this machine can read or change %s (its mode is %04o); take that from them first: chmod 600 %s",
			option, path, info.Mode().Perm(), path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return "", usageError("--%s: %s cannot be read (%v); give the file of a private key", option, path, bareError(err))
	}
	return string(data), nil
}

// lockedKey reports whether a private key among the files needs a passphrase.
func lockedKey(files map[string]string) bool {
	for _, content := range files {
		_, err := ssh.ParseRawPrivateKey([]byte(content))
		var missing *ssh.PassphraseMissingError
		if errors.As(err, &missing) {
			return true
		}
	}
	return false
}

// compareFirst shows a person the key or certificate of a server before anything is sent
// to it. If nobody can be asked, it is stored, and shown with the result.
func (a *app) compareFirst(ctx context.Context, provider contract.Provider, link *contract.Link) error {
	if provider.IdentityOption == "" || link.Options[provider.IdentityOption] != "" || !a.asks {
		return nil
	}
	introduced, err := a.client().ProbeIdentity(ctx, *link)
	if err != nil || introduced.Value == "" {
		return err
	}
	question := format.Plain(introduced.Words) + ".\nCompare it with what whoever runs the server says. Is it the right one?"
	if err := a.confirm(false, question, "trust it"); err != nil {
		return err
	}
	link.Options[introduced.Option] = introduced.Value
	return nil
}

// linkResources links places behind a sign-in, if no place was named.
func (a *app) linkResources(ctx context.Context, provider contract.Provider, link contract.Link, take string) error {
	behind, err := a.client().Resources(ctx, link)
	if err != nil {
		return err
	}
	names := valuesOf(behind)
	if len(names) == 0 {
		return usageError("this sign-in cannot list any %s; name one with --%s", behind.Option, behind.Option)
	}
	if take == "" {
		if !a.asks {
			return usageError("the %s is missing; there are %s: name one with --%s, or link several with --take ONE,ANOTHER or --take all",
				behind.Option, strings.Join(names, ", "), behind.Option)
		}
		a.printResources(behind)
		fmt.Fprintf(a.err, "Which ones should be linked? Enter names separated by commas, or all: ")
		if take, err = a.readLine(ctx); err != nil {
			return err
		}
	}
	chosen, err := choose(behind, take)
	if err != nil {
		return err
	}
	for _, value := range chosen {
		one := link
		one.Options = maps.Clone(link.Options)
		one.Options[behind.Option] = value
		if len(chosen) > 1 {
			one.Name = nameFor(link.Name, value)
		}
		if _, err := a.linkOne(ctx, provider, one, nil, ""); err != nil {
			return fmt.Errorf("%s %s: %w", behind.Option, value, err)
		}
	}
	return nil
}

// takeAreas links further areas behind the sign-in of an account.
func (a *app) takeAreas(ctx context.Context, provider contract.Provider, account contract.Account, take string) error {
	behind, err := a.client().AccountResources(ctx, account.Name)
	if err != nil {
		return err
	}
	chosen, err := choose(behind, take)
	if err != nil {
		return err
	}
	for _, place := range behind.Resources {
		if place.Linked != "" || !slices.Contains(chosen, place.Value) {
			continue
		}
		taken, err := a.client().LinkResource(ctx, account.Name, contract.Taking{Value: place.Value, Name: nameFor(account.Name, place.Value)})
		if err != nil {
			return fmt.Errorf("%s %s: %w", behind.Option, place.Value, err)
		}
		if err := a.printLinked(provider, taken); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) printResources(behind contract.Resources) {
	for _, place := range behind.Resources {
		note := place.Note
		if place.Linked != "" {
			note = "linked as /" + place.Linked
		}
		fmt.Fprintf(a.err, "  %s  %s\n", format.Plain(place.Value), a.paint(soft, format.Plain(note)))
	}
}

func valuesOf(behind contract.Resources) (values []string) {
	for _, place := range behind.Resources {
		values = append(values, place.Value)
	}
	return values
}

// choose reads which of the places are meant.
func choose(behind contract.Resources, take string) (chosen []string, err error) {
	names := valuesOf(behind)
	if take == "all" {
		return names, nil
	}
	for name := range strings.SplitSeq(take, ",") {
		if name = strings.TrimSpace(name); !slices.Contains(names, name) {
			return nil, usageError("there is no %s %q behind this sign-in; there are %s", behind.Option, name, strings.Join(names, ", "))
		}
		chosen = append(chosen, name)
	}
	return chosen, nil
}

// nameFor is the name of an account at a place behind a sign-in: what it may be
// made of, of both names.
func nameFor(name, value string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(name + "-" + value) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	made := b.String()
	return strings.Trim(made[:min(len(made), 40)], "-")
}

// linkAgain links an account again that had a name before, and asks only for its secret.
func (a *app) linkAgain(ctx context.Context, name string, args []string) error {
	if name == "" {
		return usageError("heron account link --again takes the name that the account had; heron account history shows them")
	}
	c := a.client()
	events, err := c.History(ctx, strings.Trim(name, "/"))
	if err != nil {
		return err
	}
	last := events[len(events)-1]
	if last.What != "unlinked" {
		return usageError("/%s is linked; nothing has to be linked again", last.Account)
	}
	provider, err := c.Provider(ctx, last.Settings.Provider)
	if err != nil {
		return err
	}
	flags := a.newLinkFlags(&provider)
	if err := flags.set.Parse(args); err != nil {
		return usageError("%v", err)
	}
	link, err := a.linkFrom(flags, provider, last.Account)
	if err != nil {
		return err
	}
	given := link.Options
	link.Options = maps.Clone(last.Settings.Options)
	if link.Options == nil {
		link.Options = map[string]string{}
	}
	maps.Copy(link.Options, given)
	if !flags.set.Changed("start") {
		link.Start = last.Settings.Start
	}
	link.ReadOnly, link.Again = link.ReadOnly || last.Settings.ReadOnly, true
	return a.linkIt(ctx, provider, link, flags)
}

func (a *app) accountEdit() *cobra.Command {
	return &cobra.Command{
		Use: "edit NAME [options]", Short: "Change the settings of an account",
		Long: "Changes the name, the options, the starting folder or the secret of an account. Its jobs stay, and its runs pause\n" +
			"for a moment. The new settings are tried first; if they seem to lead to a different storage, you are asked.\n" +
			"heron account edit NAME --help lists the options of its provider.",
		Example: "  heron account edit gauge-share --host files.example.org --secret-file secret.txt\n" +
			"  heron account edit gauge-share --name gauges",
		DisableFlagParsing: true, ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error { return a.edit(command, args) },
	}
}

func (a *app) edit(command *cobra.Command, args []string) error {
	if err := secretAsArgument(args); err != nil {
		return err
	}
	early := a.newLinkFlags(nil)
	early.set.ParseErrorsAllowlist.UnknownFlags = true
	_ = early.set.Parse(args)
	name := strings.Trim(firstWord(args), "/")
	if name == "" {
		if early.help {
			return command.Help()
		}
		return usageError("heron account edit takes an account's name, as in: heron account edit NAME --start Surveys")
	}
	ctx, c := command.Context(), a.client()
	account, err := c.Account(ctx, name)
	if err != nil {
		return err
	}
	provider, err := c.Provider(ctx, account.Provider)
	if err != nil {
		return err
	}
	flags := a.newLinkFlags(&provider)
	var yes bool
	var newName string
	flags.set.StringVar(&newName, "name", "", "another name; the addresses of jobs and runs follow")
	var search string
	flags.set.StringVar(&search, "search", "", "what heron search looks at: off, names (the default), or contents too")
	flags.set.BoolVar(&yes, "yes", false, "do not ask, even if it is another storage then")
	if err := flags.set.Parse(args); err != nil {
		return usageError("%v; an account at %s has --name, %s", err, provider.Name, optionNames(provider))
	}
	for _, name := range []string{"try", "again", "take", "consent"} {
		if flags.set.Changed(name) {
			return usageError("--%s is an option of heron account link; leave it out to edit an account", name)
		}
		if flags.set.Lookup(name) != nil {
			_ = flags.set.MarkHidden(name)
		}
	}
	if flags.help {
		fmt.Fprintf(a.out, "%s\n\nheron account edit %s\n\n%s", provider.Title, name, flags.set.FlagUsages())
		return nil
	}
	if search != "" {
		if err := a.setSearch(ctx, name, search); err != nil || flags.set.NFlag() == 1 {
			return err
		}
	}
	edit, err := a.editFrom(flags, newName)
	if err != nil {
		return err
	}
	edit.Anyway = yes
	return a.sendEdit(ctx, name, edit)
}

// editFrom is what the options come to.
func (a *app) editFrom(flags *linkFlags, newName string) (contract.AccountEdit, error) {
	edit := contract.AccountEdit{Name: newName, Options: map[string]string{}}
	for option, value := range flags.values {
		if flags.set.Changed(option) {
			edit.Options[option] = *value
		}
	}
	if flags.set.Changed("start") {
		edit.Start = &flags.start
	}
	if flags.set.Changed("read-only") {
		edit.ReadOnly = &flags.readOnly
	}
	var err error
	if edit.Files, err = flags.contents(); err != nil {
		return edit, err
	}
	if flags.secretFile != "" || lockedKey(edit.Files) {
		if edit.Secret, _, err = a.secret(flags.secretFile, "Secret"); err != nil {
			return edit, err
		}
	}
	if newName == "" && len(edit.Options) == 0 && edit.Start == nil && edit.ReadOnly == nil && edit.Secret == "" && len(edit.Files) == 0 {
		return edit, usageError("there is nothing to change; give --name, --start, --secret-file, or an option of the provider")
	}
	return edit, nil
}

// sendEdit changes the account, after asking where it would be another storage.
func (a *app) sendEdit(ctx context.Context, name string, edit contract.AccountEdit) error {
	c := a.client()
	account, err := c.Edit(ctx, name, edit)
	var problem *contract.Problem
	if errors.As(err, &problem) && problem.Cause == contract.CauseOtherPlace {
		if !a.asks {
			return &exitError{exitHeld, err}
		}
		if err := a.confirm(false, format.Text(problem.Detail)+" Change it all the same?", "change it"); err != nil {
			return err
		}
		edit.Anyway = true
		account, err = c.Edit(ctx, name, edit)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(account)
	}
	fmt.Fprintf(a.out, "Changed %s. Its runs continue.\n", a.paint(plumage, account.Address))
	if account.Found != nil {
		return a.printFound(*account.Found)
	}
	return nil
}

func (a *app) accountSuspend() *cobra.Command {
	return a.accountVerb("suspend NAME", "Suspend an account; it leaves the tree, and its jobs wait",
		func(ctx context.Context, name string) error {
			if err := a.client().Suspend(ctx, name); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.out, "Suspended %s. Runs that use it are held until: heron account resume %s\n", name, name)
			return err
		})
}

func (a *app) accountResume() *cobra.Command {
	return a.accountVerb("resume NAME", "Resume an account; runs held for it continue", func(ctx context.Context, name string) error {
		if err := a.client().ResumeAccount(ctx, name); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "Resumed %s.\n", name)
		return err
	})
}

func (a *app) accountHistory() *cobra.Command {
	return &cobra.Command{
		Use: "history [NAME]", Short: "Show the history of one account, or of all", Args: arguments(0, 1, "at most one account's name"),
		Long: "Shows when an account was linked, changed, suspended, reauthorized and unlinked, by whom, why and with what " +
			"settings.\nUnlinked accounts are included; link one again with: heron account link --again NAME",
		ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			name := ""
			if len(args) > 0 {
				name = strings.Trim(args[0], "/")
			}
			events, err := a.client().History(command.Context(), name)
			if err != nil {
				return err
			}
			return a.printHistory(events)
		},
	}
}

func (a *app) printHistory(events []contract.LinkEvent) error {
	if a.json {
		for _, event := range events {
			if err := a.printJSON(event); err != nil {
				return err
			}
		}
		return nil
	}
	if len(events) == 0 {
		_, err := fmt.Fprintln(a.out, "Nothing was ever linked. Link an account with: heron account link PROVIDER NAME")
		return err
	}
	t := a.newTable("WHEN", "NAME", "WHAT", "BY", "REASON AND SETTINGS")
	for _, event := range events {
		note := event.Why
		if event.What == "linked" || event.What == "unlinked" {
			settings := contract.Account{Provider: event.Settings.Provider, Options: event.Settings.Options, Start: event.Settings.Start}
			note = strings.TrimSpace(event.Settings.Provider + "  " + where(settings, nil))
		}
		t.AppendRow(table.Row{when(&event.At), "/" + event.Account, a.eventMark(event.What), first(event.By, "not kept"), format.Plain(note)})
	}
	t.Render()
	return nil
}

// eventMark is what happened, with a shape of its own.
func (a *app) eventMark(what string) string {
	switch what {
	case "linked", "reauthorized", "resumed":
		return a.paint(reed, "✓ "+what)
	case "sign-in-expired", "suspended", "refused":
		return a.paint(ochre, "▬ "+what)
	case "unlinked":
		return a.paint(soft, "╱ "+what)
	}
	return "· " + what
}

func (a *app) accountDiscover() *cobra.Command {
	var within time.Duration
	command := &cobra.Command{
		Use: "discover", Short: "Find servers on the service's local network", Args: arguments(0, 0, "nothing more"),
		Long: "Finds WebDAV, SFTP, FTP and SMB servers that announce themselves (DNS-SD) on the network of the machine that\nruns the service.",
		RunE: func(command *cobra.Command, _ []string) error {
			servers, err := a.client().Nearby(command.Context(), within)
			if err != nil {
				return err
			}
			if a.json {
				for _, server := range servers {
					if err := a.printJSON(server); err != nil {
						return err
					}
				}
				return nil
			}
			if len(servers) == 0 {
				_, err := fmt.Fprintf(a.out, "No server announced itself within %v. One that does not can be linked by its address: heron account "+
					"link PROVIDER NAME\n", within)
				return err
			}
			t := a.newTable("NAME", "PROVIDER", "ADDRESS", "LINK IT WITH")
			for _, server := range servers {
				t.AppendRow(table.Row{format.Plain(server.Name), server.Provider, fmt.Sprintf("%s port %d", server.Address, server.Port),
					"heron account link " + server.Provider + " NAME " + optionLine(server.Options)})
			}
			t.Render()
			return nil
		},
	}
	command.Flags().DurationVar(&within, "within", 3*time.Second, "for how long to look, 15s at most")
	return command
}

// optionLine returns options to copy to a shell, quoted, because servers chose the values.
func optionLine(options map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(options)) {
		parts = append(parts, "--"+name+" "+format.Word(options[name]))
	}
	return strings.Join(parts, " ")
}
