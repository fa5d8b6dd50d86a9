package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) accountLink() *cobra.Command {
	return &cobra.Command{
		Use: "link PROVIDER NAME [options]", Short: "Link an account and show what is in it",
		Long: "Links an account under a name of your choice. The options depend on the provider; heron account link PROVIDER\n" +
			"--help lists them. A secret is never an argument: give it with --secret-file FILE, or - for standard input. On a\n" +
			"terminal you are asked.\n\n" +
			"If a sign-in reaches several buckets, shares or areas, omit that option to list them, and link several with\n" +
			"--take ONE,ANOTHER or --take all, each as an account.\n\n" +
			"heron account link --again NAME links an unlinked account again and asks only for the secret.",
		Example: "  heron account link folder desk --path /srv/reports\n" +
			"  heron account link s3 archive --endpoint https://objects.example.org --bucket reports --key ID --secret-file secret.txt",
		DisableFlagParsing: true, // the options are known to the service alone
		RunE: func(command *cobra.Command, args []string) error {
			return a.link(command, args)
		},
	}
}

// linkFlags are the options of one provider, made from its schema.
type linkFlags struct {
	set        *pflag.FlagSet
	values     map[string]*string
	start, at  string
	readOnly   bool
	secretFile string
	consent    string
	take       string
	again      bool
	try        bool
	yes        bool
	keySheet   string
	help       bool
	// files are those whose contents the provider asks for, by option.
	files map[string]*string
}

func (a *app) newLinkFlags(provider *contract.Provider) *linkFlags {
	f := &linkFlags{set: pflag.NewFlagSet("link", pflag.ContinueOnError), values: map[string]*string{}, files: map[string]*string{}}
	f.set.SortFlags = false
	f.set.Usage = func() {}
	if provider != nil {
		for _, option := range provider.Options {
			if option.Secret {
				f.set.StringVar(&f.secretFile, "secret-file", "", option.Help+": a file that holds it, or - for standard input")
				continue
			}
			if option.File {
				f.files[option.Name] = f.set.String(option.Name, "", option.Help+": its file")
				continue
			}
			help := option.Help
			if option.Required {
				help += " (needed)"
			}
			f.values[option.Name] = f.set.String(option.Name, option.Default, help)
		}
	}
	if f.set.Lookup("secret-file") == nil {
		f.set.StringVar(&f.secretFile, "secret-file", "", "")
		_ = f.set.MarkHidden("secret-file")
	}
	f.set.StringVar(&f.start, "start", "", "the folder that becomes the account's start")
	f.set.StringVar(&f.at, "at", "", "the site, or the worker, that reaches the account; the service itself unless given")
	f.set.BoolVar(&f.readOnly, "read-only", false, "let nothing be written there by any way")
	if provider != nil && len(provider.Consents) > 0 {
		f.set.StringVar(&f.consent, "consent", "", "how to agree: "+strings.Join(provider.Consents, ", ")+
			"; what fits this terminal unless given")
	}
	if provider == nil || provider.Resource != "" || hasOption(*provider, "area") {
		f.set.StringVar(&f.take, "take", "", "of the places behind the sign-in, those to link: ONE,ANOTHER or all")
	}
	f.set.BoolVar(&f.try, "try", false, "reach the account and show what it holds, but do not link it")
	f.set.BoolVar(&f.again, "again", false, "link an unlinked account of this name again")
	f.set.BoolVarP(&f.help, "help", "h", false, "show this")
	f.set.BoolVar(&a.json, "json", a.json, "print JSON")
	f.set.StringVar(&a.url, "service", a.url, "the service's URL")
	return f
}

func (a *app) link(command *cobra.Command, args []string) error {
	if err := secretAsArgument(args); err != nil {
		return err
	}
	// The service has to be known before its providers are: --service first.
	early := a.newLinkFlags(nil)
	early.set.ParseErrorsAllowlist.UnknownFlags = true
	_ = early.set.Parse(args)
	ctx := command.Context()
	providerName := firstWord(args)
	if early.again {
		return a.linkAgain(ctx, providerName, args)
	}
	if providerName == "" {
		if early.help {
			return command.Help()
		}
		return usageError("heron account link takes a provider and a name, as in: heron account link folder desk --path /srv/reports")
	}
	c := a.client()
	providers, err := c.Providers(ctx)
	if err != nil {
		return err
	}
	provider, err := findProvider(providers, providerName)
	if err != nil {
		return err
	}
	flags := a.newLinkFlags(provider)
	if provider.Name == sealedProvider {
		flags.set.StringVar(&flags.keySheet, "key-sheet", "", "where to write the key sheet of a new place; beside the key file unless given")
		flags.set.BoolVar(&flags.yes, "yes", false, "the key sheet is kept, do not ask")
	}
	if err := flags.set.Parse(args); err != nil {
		return usageError("%v; the provider %s has %s", err, provider.Name, optionNames(*provider))
	}
	if flags.help {
		fmt.Fprintf(a.out, "%s\n\nheron account link %s NAME [options]\n\n%s", provider.Title, provider.Name, flags.set.FlagUsages())
		return nil
	}
	words := flags.set.Args()
	if len(words) != 2 {
		return usageError("heron account link takes a provider and a name, as in: heron account link %s NAME; there are %d words", provider.Name,
			len(words))
	}
	if provider.Name == sealedProvider {
		if err := a.newKeyFile(ctx, flags); err != nil {
			return err
		}
	}
	link, err := a.linkFrom(flags, *provider, words[1])
	if err != nil {
		return err
	}
	return a.linkIt(ctx, *provider, link, flags)
}

// linkFrom is what the options come to, without its secret.
func (a *app) linkFrom(flags *linkFlags, provider contract.Provider, name string) (contract.Link, error) {
	link := contract.Link{Provider: provider.Name, Name: name, Options: map[string]string{}, Start: flags.start, ReadOnly: flags.readOnly,
		Try: flags.try, At: flags.at}
	for option, value := range flags.values {
		if flags.set.Changed(option) {
			link.Options[option] = *value
		}
	}
	var err error
	link.Files, err = flags.contents()
	return link, err
}

// linkIt asks for missing options, and links the account.
func (a *app) linkIt(ctx context.Context, provider contract.Provider, link contract.Link, flags *linkFlags) error {
	consents := consentsOf(provider, link.Options)
	if link.Try && flags.take != "" {
		return usageError("--try links nothing, so there is nothing to choose with --take; leave one of the two out")
	}
	if link.Try && provider.Resource != "" && link.Options[provider.Resource] == "" {
		return usageError("name the %[1]s to try with --%[1]s", provider.Resource)
	}
	if link.Try && len(consents) > 0 {
		return usageError("accounts at %s are linked by consent, which cannot be tried; link the account, and unlink it if it is not the one "+
			"that you meant", provider.Title)
	}
	if len(consents) == 0 {
		if err := a.compareFirst(ctx, provider, &link); err != nil {
			return err
		}
	}
	if err := a.askSecret(provider, &link, flags.secretFile, len(consents) > 0); err != nil {
		return err
	}
	if provider.Name == sealedProvider {
		return a.linkSealed(ctx, provider, link, flags)
	}
	if provider.Resource != "" && link.Options[provider.Resource] == "" {
		return a.linkResources(ctx, provider, link, flags.take)
	}
	account, err := a.linkOne(ctx, provider, link, consents, flags.consent)
	if err != nil {
		return err
	}
	if flags.take != "" {
		return a.takeAreas(ctx, provider, account, flags.take)
	}
	return nil
}

// askSecret gets the secret where one is needed.
func (a *app) askSecret(provider contract.Provider, link *contract.Link, file string, byConsent bool) (err error) {
	for _, option := range provider.Options {
		if !option.Secret || byConsent && file == "" {
			continue
		}
		prompt := option.Title
		if len(link.Files) > 0 {
			if file == "" && !lockedKey(link.Files) {
				continue // the key needs no passphrase
			}
			prompt = "The key's passphrase"
		}
		if option.Required || file != "" || link.Options["user"] != "" || provider.Name == sealedProvider {
			if link.Secret, _, err = a.secret(file, prompt); err != nil {
				return err
			}
		}
	}
	return nil
}

// linkOne links one account, and prints what it found there.
func (a *app) linkOne(ctx context.Context, provider contract.Provider, link contract.Link, consents []string,
	way string) (account contract.Account, err error) {
	if len(consents) > 0 {
		account, err = a.linkByConsent(ctx, contract.Consenting{Link: link}, provider, consents, way)
	} else {
		account, err = a.client().Link(ctx, link)
	}
	if err != nil {
		return account, err
	}
	if link.Try && !a.json {
		fmt.Fprintf(a.out, "Reached %s. It is not linked.\n", provider.Title)
		return account, a.printFound(*account.Found)
	}
	return account, a.printLinked(provider, account)
}

func (a *app) printLinked(provider contract.Provider, account contract.Account) error {
	if a.json {
		return a.printJSON(account)
	}
	title := provider.Title
	if account.Site != "" {
		title = strings.Replace(title, " on the service's machine", "", 1) + " at the site " + format.Plain(account.Site)
	}
	fmt.Fprintf(a.out, "Linked %s as %s.\n", title, a.paint(plumage, "/"+account.Name))
	if value := account.Options[provider.IdentityOption]; value != "" {
		fmt.Fprintf(a.out, "  %s  %s  %s\n", a.paint(soft, provider.IdentityOption), format.Plain(value),
			a.paint(soft, "(another one is refused from now on)"))
	}
	return a.printFound(*account.Found)
}

func hasOption(provider contract.Provider, name string) bool {
	return slices.ContainsFunc(provider.Options, func(option contract.Option) bool { return option.Name == name })
}

// secretAsArgument refuses what would be seen in the list of processes and kept
// in the shell's history.
func secretAsArgument(args []string) error {
	for _, arg := range args {
		name, _, _ := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		if strings.HasPrefix(arg, "--") && (name == "secret" || name == "password" || name == "secret-key" || name == "token" ||
			name == "passphrase") {
			return usageError("a secret is never an argument, where others on this machine could see it; " +
				"give it with --secret-file FILE, or - for standard input")
		}
	}
	return nil
}

// firstWord is the first argument that is not an option.
func firstWord(args []string) string {
	for i := 0; i < len(args); i++ {
		switch {
		case !strings.HasPrefix(args[i], "-"):
			return args[i]
		case args[i] == "--service":
			i++
		}
	}
	return ""
}

func findProvider(providers []contract.Provider, name string) (*contract.Provider, error) {
	var names []string
	for i, provider := range providers {
		if provider.Name == name {
			return &providers[i], nil
		}
		names = append(names, provider.Name)
	}
	return nil, usageError("there is no provider %q; there are %s", name, strings.Join(names, ", "))
}

func optionNames(provider contract.Provider) string {
	names := []string{"--start", "--read-only", "--at"}
	for _, option := range provider.Options {
		if option.Secret {
			names = append(names, "--secret-file")
		} else if option.Name != "" {
			names = append(names, "--"+option.Name)
		}
	}
	return strings.Join(names, ", ")
}

func (a *app) printFound(found contract.Found) error {
	folders := "none"
	if len(found.Folders) > 0 {
		var names []string
		for _, name := range found.Folders {
			names = append(names, format.Plain(name)+"/")
		}
		folders = strings.Join(names, "  ")
	}
	_, err := fmt.Fprintf(a.out, "  %s  %s\n  %s  %s\n  %s  %s\n",
		a.paint(soft, "owner  "), first(format.Plain(found.Owner), "not reported"), a.paint(soft, "space  "), spaceOf(found.Space),
		a.paint(soft, "folders"), folders)
	if err == nil && len(found.Areas) > 1 {
		_, err = fmt.Fprintf(a.out, "  %s  %s  %s\n", a.paint(soft, "areas  "), format.Plain(strings.Join(found.Areas, ", ")),
			a.paint(soft, "(--area links another)"))
	}
	return err
}
