package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
	"deftheron/core/remedy"
)

func (a *app) provider() *cobra.Command {
	return nouns("provider", "List, test and add providers",
		a.providerList(), a.providerShow(), a.providerNew(), a.providerTry(), a.providerAdd(), a.providerRemove(), a.providerRegister())
}

func (a *app) providerList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the providers", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			providers, err := a.client().Providers(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				for _, provider := range providers {
					if err := a.printJSON(provider); err != nil {
						return err
					}
				}
				return nil
			}
			t := a.newTable("NAME", "LINKED BY", "KIND", "TITLE")
			for _, provider := range providers {
				t.AppendRow(table.Row{provider.Name, linkedBy(provider), kindOf(provider), format.Plain(provider.Title)})
			}
			t.Render()
			return nil
		},
	}
}

func linkedBy(provider contract.Provider) string {
	if len(provider.Consents) > 0 {
		return "consent by " + strings.Join(provider.Consents, ", ")
	}
	for _, option := range provider.Options {
		if option.Secret {
			return strings.ToLower(option.Title)
		}
	}
	return "options alone"
}

func kindOf(provider contract.Provider) string {
	switch {
	case !provider.Declared:
		return "protocol"
	case provider.Shipped:
		return "definition, shipped"
	}
	return "definition, added"
}

func (a *app) providerShow() *cobra.Command {
	var text bool
	command := &cobra.Command{
		Use: "show NAME", Short: "Show the options and the definition of a provider", Args: arguments(1, 1, "one provider's name"),
		ValidArgsFunction: a.completeProviders,
		RunE: func(command *cobra.Command, args []string) error {
			provider, err := a.client().Provider(command.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(provider)
			}
			if text {
				if provider.Definition == "" {
					return fmt.Errorf("the provider %s is a protocol of the program, and has no definition", provider.Name)
				}
				_, err := fmt.Fprint(a.out, provider.Definition)
				return err
			}
			return a.printProvider(provider)
		},
	}
	command.Flags().BoolVar(&text, "definition", false, "print its definition (YAML)")
	return command
}

func (a *app) printProvider(provider contract.Provider) error {
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(plumage, provider.Name), format.Plain(provider.Title))
	row := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "  %s  %s\n", a.paint(soft, fmt.Sprintf("%-10s", name)), format.Plain(value))
		}
	}
	row("about", strings.TrimSpace(provider.About))
	row("kind", kindOf(provider))
	row("linked by", linkedBy(provider))
	row("app", provider.Registered)
	fmt.Fprintf(a.out, "\nheron account link %s NAME\n", provider.Name)
	t := a.newTable("OPTION", "", "WHAT IT IS")
	for _, option := range provider.Options {
		name, need := "--"+option.Name, ""
		if option.Secret {
			name = "--secret-file"
		}
		if option.Required {
			need = "needed"
		}
		help := option.Help
		if len(option.Choices) > 0 {
			help += " One of " + strings.Join(option.Choices, ", ") + "."
		}
		if option.Default != "" {
			help += " " + option.Default + " unless given."
		}
		t.AppendRow(table.Row{name, need, format.Plain(help)})
	}
	t.Render()
	return nil
}

// definitionOf reads a definition's file.
func definitionOf(path string) (contract.DefinitionText, error) {
	const largest = 256 << 10
	file, err := os.Open(path)
	if err != nil {
		return contract.DefinitionText{}, usageError("the file %s cannot be read (%v); give a provider definition", path, bareError(err))
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, largest+1))
	if err != nil {
		return contract.DefinitionText{}, usageError("the file %s cannot be read (%v); give a provider definition", path, bareError(err))
	}
	if len(text) > largest || len(text) == 0 {
		return contract.DefinitionText{}, usageError("the file %s is empty or has more than %d KiB; give a provider definition", path,
			largest>>10)
	}
	return contract.DefinitionText{File: filepath.Base(path), Text: string(text)}, nil
}

func (a *app) providerAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add FILE", Short: "Add or replace a provider definition", Args: arguments(1, 1, "one file"),
		RunE: func(command *cobra.Command, args []string) error {
			text, err := definitionOf(args[0])
			if err != nil {
				return err
			}
			provider, err := a.client().AddDefinition(command.Context(), text)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(provider)
			}
			_, err = fmt.Fprintf(a.out, "Added %s. Link an account there with: heron account link %s NAME\n", format.Plain(provider.Title),
				provider.Name)
			return err
		},
	}
}

func (a *app) providerRemove() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "remove NAME", Short: "Remove a provider definition that no account uses", Args: arguments(1, 1, "one provider's name"),
		ValidArgsFunction: a.completeProviders,
		RunE: func(command *cobra.Command, args []string) error {
			if err := a.confirm(yes, fmt.Sprintf("Remove the definition %s? Keep its file if you want to add it again.", args[0]),
				"remove "+args[0]); err != nil {
				return err
			}
			if err := a.client().RemoveDefinition(command.Context(), args[0]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.out, "Forgot %s.\n", args[0])
			return err
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) providerRegister() *cobra.Command {
	var id, secretFile string
	var standard bool
	command := &cobra.Command{
		Use: "register NAME", Short: "Use your own app registration instead of the default one", Args: arguments(1, 1, "one provider's name"),
		Long: "Accounts that you link or reauthorize from now on use your own client id and secret. For one account,\n" +
			"give --client-id to heron account link.",
		Example:           "  heron provider register sedge --client-id ID --secret-file secret.txt\n  heron provider register sedge --default",
		ValidArgsFunction: a.completeProviders,
		RunE: func(command *cobra.Command, args []string) error {
			if standard == (id != "") {
				return usageError("give --client-id ID, or --default to go back to the provider's own")
			}
			registration := contract.Registration{ClientID: id}
			if secretFile != "" {
				var err error
				if registration.Secret, _, err = a.secret(secretFile, "Client secret"); err != nil {
					return err
				}
			}
			if err := a.client().Register(command.Context(), args[0], registration); err != nil {
				return err
			}
			now := "the app registration " + id
			if standard {
				now = "the provider's own app registration"
			}
			_, err := fmt.Fprintf(a.out, "Accounts at %s that you link or reauthorize from now on use %s.\n", args[0], now)
			return err
		},
	}
	command.Flags().StringVar(&id, "client-id", "", "the client id")
	command.Flags().StringVar(&secretFile, "secret-file", "", "file with its secret, or - for standard input; omit it if there is no secret")
	command.Flags().BoolVar(&standard, "default", false, "go back to the provider's own")
	return command
}

func (a *app) providerNew() *cobra.Command {
	var style string
	command := &cobra.Command{
		Use: "new NAME", Short: "Print a commented provider definition to start from", Args: arguments(1, 1, "a name"),
		Long: "Prints a commented provider definition, by how the service addresses an entry: " +
			"" + strings.Join(a.programs.SkeletonStyles, ", ") + ". Put in what the API reference of the service says, and\n" +
			"try it after each step.",
		Example: "  heron provider new acme --style ids > acme.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := a.programs.Skeleton(style, args[0])
			if err != nil {
				return usageError("%v", err)
			}
			_, err = fmt.Fprint(a.out, text)
			return err
		},
	}
	command.Flags().StringVar(&style, "style", "path-in-query", "how the service addresses an entry: "+
		strings.Join(a.programs.SkeletonStyles, ", "))
	return command
}

func (a *app) providerTry() *cobra.Command {
	var options []string
	var start, secretFile, consent string
	var verbose bool
	command := &cobra.Command{
		Use: "try FILE", Short: "Test a provider definition with a live account", Args: arguments(1, 1, "one file"),
		Long: "Signs in to an account and tests every operation and claim of the definition, in a scratch folder that is\n" +
			"removed at the end. Prints what works, what does not and why, and the exchange that failed, without secrets.\n" +
			"Nothing is linked or added.",
		Example: "  heron provider try acme.yaml --option url=https://files.example.org --secret-file token.txt",
		RunE: func(command *cobra.Command, args []string) error {
			ctx := command.Context()
			text, err := definitionOf(args[0])
			if err != nil {
				return err
			}
			trial := contract.Trial{File: text.File, Text: text.Text, Start: start, Options: map[string]string{}}
			for _, option := range options {
				name, value, ok := strings.Cut(option, "=")
				if !ok {
					return usageError("--option %q is none; write it as NAME=VALUE", option)
				}
				trial.Options[name] = value
			}
			c := a.client()
			provider, err := c.CheckDefinition(ctx, text)
			if err != nil {
				return err
			}
			needs := slices.ContainsFunc(provider.Options, func(o contract.Option) bool { return o.Secret && o.Required })
			ways := consentsOf(provider, trial.Options)
			if secretFile != "" || needs {
				if trial.Secret, _, err = a.secret(secretFile, "Secret"); err != nil {
					return err
				}
			}
			if len(ways) > 0 {
				asked := contract.Consenting{Definition: text.Text, Link: contract.Link{Provider: provider.Name, Name: "trial", Options: trial.Options,
					Secret: trial.Secret}}
				agreed, err := a.consent(ctx, asked, provider, ways, consent)
				if err != nil {
					return err
				}
				trial.Secret, trial.Consent = "", agreed.ID
			}
			return a.printTrial(ctx, trial, verbose)
		},
	}
	flags := command.Flags()
	flags.StringArrayVar(&options, "option", nil,
		"an option of the definition, NAME=VALUE (may be repeated); also sign-in, user, client-id, area")
	flags.StringVar(&start, "start", "", "folder of the account for the scratch folder")
	flags.StringVar(&secretFile, "secret-file", "", "a file that holds the secret to sign in with, or - for standard input")
	flags.StringVar(&consent, "consent", "", "how to agree, where the definition signs in by consent: page, device or paste")
	flags.BoolVar(&verbose, "verbose", false, "print the notes of what works, too")
	return command
}

// printTrial prints each part of a trial as it ends, and what it came to.
func (a *app) printTrial(ctx context.Context, trial contract.Trial, verbose bool) error {
	marks := map[string]string{"works": a.paint(reed, "✓ works        "), "fails": a.paint(brick, "✗ fails        "),
		"not described": a.paint(soft, "· not described")}
	for result, err := range a.client().Try(ctx, trial) {
		if err != nil {
			return err
		}
		if a.json {
			if err := a.printJSON(result); err != nil {
				return err
			}
		}
		if result.Sum != nil {
			return a.endTrial(result)
		}
		if a.json {
			continue
		}
		fmt.Fprintf(a.out, "%s  %-42s %s\n", marks[result.Outcome], result.Part, a.paint(soft, fmt.Sprintf("%6.2f s", result.Seconds)))
		if result.Outcome == "works" && !verbose {
			continue
		}
		for _, note := range result.Notes {
			for line := range strings.SplitSeq(note, "\n") {
				fmt.Fprintf(a.out, "                   %s\n", format.Plain(line))
			}
		}
		if result.SameAs != "" {
			fmt.Fprintf(a.out, "                   the same cause as of: %s\n", result.SameAs)
		}
		if result.Exchange != nil {
			a.printExchange(*result.Exchange)
		}
	}
	return nil
}

func (a *app) endTrial(result contract.TrialResult) error {
	sum := result.Sum
	if !a.json {
		fmt.Fprintf(a.out, "\n%d work, %d fail, %d are not described.\n", sum.Works, sum.Fails, sum.NotThere)
	}
	switch {
	case result.Why != "":
		return fmt.Errorf("the trial ended early: %s", result.Why)
	case sum.Left != "":
		return remedy.Errorf("the scratch folder /%s could not be deleted; delete it by hand", sum.Left)
	case sum.Fails > 0:
		return remedy.Errorf("%d of %d parts fail, of %s; correct the definition where the exchanges show it, and try again", sum.Fails,
			sum.Works+sum.Fails, format.Some(int64(sum.Causes), "cause"))
	}
	return nil
}

// printExchange prints the exchange that failed, as HTTP is written.
func (a *app) printExchange(e contract.Exchange) {
	line := func(mark, text string) {
		for part := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
			fmt.Fprintf(a.out, "                   %s %s\n", a.paint(soft, mark), format.Plain(part))
		}
	}
	line(">", e.Request)
	for _, name := range sortedNames(e.Sent) {
		line(">", name+": "+e.Sent[name])
	}
	if e.Body != "" {
		line(">", e.Body)
	}
	if e.Error != "" {
		line("<", e.Error)
		return
	}
	line("<", fmt.Sprint(e.Status))
	for _, name := range sortedNames(e.Headers) {
		line("<", name+": "+e.Headers[name])
	}
	if e.Answer != "" {
		line("<", e.Answer)
	}
}

func sortedNames(named map[string]string) []string { return slices.Sorted(maps.Keys(named)) }

func (a *app) completeProviders(command *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	providers, err := a.client().Providers(command.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, provider := range providers {
		names = append(names, provider.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
