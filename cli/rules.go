package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"deftheron/client"
	"deftheron/contract"
)

// ruleFlags are the options that a copy and a job share.
type ruleFlags struct {
	settings  *contract.Settings
	documents string
	bandwidth *bandwidthFlags
}

func newRuleFlags(flags *pflag.FlagSet, settings *contract.Settings) *ruleFlags {
	f := &ruleFlags{settings: settings}
	rules := &settings.Rules
	flags.StringVar(&rules.Conflict, "conflict", "keep-both",
		"if both sides changed, or a different file of the same name is already there: keep-both, newer, source, target or ask")
	flags.StringVar(&rules.Names, "names", "translate", "names that the target does not allow: translate (reversibly) or refuse")
	flags.StringVar(&rules.As, "as", "", "template for names below the target, such as \"{date:%Y-%m}/{name}\"; "+
		"fields: name, stem, ext, folder, account, date, run")
	flags.StringVar(&f.documents, "documents", "",
		"export formats of documents that exist only inside a service, such as text=odt+pdf,sheet=ods")
	flags.StringVar(&rules.Annotations, "annotations", "", "carry copies the tags and comments of transferred files to the target")
	flags.StringVar(&rules.Verification, "verify", "hash",
		"how a transferred file is verified: hash (read back if the target reports none), size or read-back")
	flags.StringArrayVar(&rules.Exclude, "exclude", nil, "pattern of what to exclude, as in a .gitignore file; may be repeated")
	flags.StringArrayVar(&rules.Include.Patterns, "include", nil, "transfer only files that match this pattern; may be repeated")
	flags.StringSliceVar(&rules.Include.Types, "types", nil, "transfer only files of these types: documents, pictures, sound, film")
	flags.StringVar(&rules.Include.SmallerThan, "smaller-than", "", "transfer only files below a size, such as 2GiB")
	flags.StringVar(&rules.Include.LargerThan, "larger-than", "", "transfer only files above a size")
	flags.StringVar(&rules.Include.NewerThan, "newer-than", "",
		"transfer only files changed after a date (2020-01-31) or within an age (36h, 30d, 8w, 6mo, 2y)")
	flags.StringVar(&rules.Include.OlderThan, "older-than", "", "transfer only files changed before a date or an age")
	flags.BoolVar(&rules.Include.Changed, "only-changed", false,
		"transfer only files changed since an earlier run transferred them; "+
			"with --as \"{run:%Y-%m-%d}/{folder}/{name}\" each run's folder holds what is new")
	flags.IntVar(&settings.Retry.Tries, "tries", 0, "tries before an item fails (default 5)")
	flags.StringVar(&settings.Retry.Within, "within", "", "how long an item is tried and an unreachable account is waited for, such as 2h")
	flags.StringVar(&settings.Priority, "priority", "", "low, normal or high: which runs start first, and their share of an account")
	f.bandwidth = newBandwidthFlags(flags)
	return f
}

// read completes the settings with the options that have a form of their own.
func (f *ruleFlags) read() (err error) {
	if f.settings.Rules.Documents, err = contract.DocumentsOf(f.documents); err != nil {
		return usageError("--documents: %v", err)
	}
	f.settings.Bandwidth, err = f.bandwidth.read()
	return err
}

// bandwidthFlags are the options of bandwidth limits.
type bandwidthFlags struct {
	up, down string
	hours    []string
}

func newBandwidthFlags(flags *pflag.FlagSet) *bandwidthFlags {
	f := &bandwidthFlags{}
	flags.StringVar(&f.up, "up", "", "bandwidth limit to providers, such as 20MB/s")
	flags.StringVar(&f.down, "down", "", "bandwidth limit from providers")
	flags.StringArrayVar(&f.hours, "hours", nil,
		"limit at hours of the week, in place of --up and --down: \"mon-fri 08-18=5MB/s\"; may be repeated, and the first that matches counts")
	return f
}

func (f *bandwidthFlags) read() (contract.Bandwidth, error) {
	given := contract.Bandwidth{Up: f.up, Down: f.down}
	for _, text := range f.hours {
		when, rate, ok := strings.Cut(text, "=")
		if !ok {
			return given, usageError("--hours %q has no limit; write it as \"mon-fri 08-18=5MB/s\"", text)
		}
		given.Hours = append(given.Hours, contract.Hour{When: strings.TrimSpace(when), Rate: strings.TrimSpace(rate)})
	}
	return given, nil
}

func (a *app) runPriority() *cobra.Command {
	return &cobra.Command{
		Use: "priority RUN low|normal|high", Short: "Change the priority of a run", Args: arguments(2, 2, "one run's id and a priority"),
		Example: "  heron run priority RUN high",
		RunE: func(command *cobra.Command, args []string) error {
			if err := a.client().SetPriority(command.Context(), args[0], args[1]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.out, "Run %s now has the priority %s.\n", args[0], args[1])
			return err
		},
	}
}

func (a *app) runApprove() *cobra.Command {
	var decided contract.Approval
	var addresses []string
	command := a.runVerb("approve RUN", "Let a held run continue", func(ctx context.Context, id string) error {
		if len(addresses) > 0 {
			if err := a.decideItems(ctx, id, addresses, decided.Conflict); err != nil {
				return err
			}
			decided.Conflict = "" // the other items go on waiting
		}
		if err := a.client().Approve(ctx, id, decided); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "Run %s continues. Follow it with: heron run follow %s\n", id, id)
		return err
	})
	command.Flags().StringVar(&decided.Conflict, "conflict", "",
		"the decision if the run asks about conflicts: keep-both, newer, source or target")
	command.Flags().StringArrayVar(&addresses, "item", nil,
		"decide about this item alone, by its address at the source; the others go on waiting (repeatable)")
	return command
}

// decideItems decides about the conflicts of the items at some addresses.
func (a *app) decideItems(ctx context.Context, id string, addresses []string, conflict string) error {
	if conflict == "" {
		return usageError("--item needs --conflict; use keep-both, newer, source or target")
	}
	wanted := map[string]bool{}
	for _, address := range addresses {
		wanted[strings.TrimRight(address, "/")] = true
	}
	decision := contract.ItemDecision{Conflict: conflict}
	for item, err := range a.client().Items(ctx, id, client.ItemFilter{State: "waiting", Action: "ask"}) {
		if err != nil {
			return err
		}
		if wanted[item.Address] || wanted[item.Target] {
			delete(wanted, item.Address)
			delete(wanted, item.Target)
			decision.Items = append(decision.Items, item.Seq)
		}
	}
	for address := range wanted {
		return fmt.Errorf("%s does not wait for a decision in the run %s; list what waits with: heron run items %s --state waiting",
			address, id, id)
	}
	_, err := a.client().Decide(ctx, id, decision)
	return err
}
