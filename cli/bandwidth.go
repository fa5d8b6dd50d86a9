package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) bandwidth() *cobra.Command {
	return nouns("bandwidth", "Limit bandwidth by direction, account and hour of the week", a.bandwidthShow(), a.bandwidthSet())
}

// shownBandwidth is what `bandwidth show --json` prints.
type shownBandwidth struct {
	contract.Bandwidths
	Runs int `json:"runs"` // that go at once
}

func (a *app) bandwidthShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show the limits", Args: arguments(0, 0, "nothing more"), Example: "  heron bandwidth show",
		RunE: func(command *cobra.Command, _ []string) error {
			limits, err := a.client().Bandwidths(command.Context())
			if err != nil {
				return err
			}
			runs, err := a.client().AtOnce(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(shownBandwidth{limits, runs})
			}
			t := a.newTable("FOR", "UP", "DOWN", "AT HOURS OF THE WEEK")
			row := func(name string, limit contract.Bandwidth) {
				var hours []string
				for _, one := range limit.Hours {
					hours = append(hours, one.When+": "+one.Rate)
				}
				t.AppendRow(table.Row{name, orUnlimited(limit.Up), orUnlimited(limit.Down), strings.Join(hours, "; ")})
			}
			row("everything", limits.Overall)
			for _, name := range slices.Sorted(maps.Keys(limits.Accounts)) {
				row("/"+name, limits.Accounts[name])
			}
			for _, name := range slices.Sorted(maps.Keys(limits.Sites)) {
				row("site "+name, limits.Sites[name])
			}
			t.Render()
			_, err = fmt.Fprintf(a.out, "%s at once; others are queued.\n", format.Some(int64(runs), "run"))
			return err
		},
	}
}

func orUnlimited(rate string) string {
	if rate == "" {
		return "unlimited"
	}
	return rate
}

func (a *app) bandwidthSet() *cobra.Command {
	var limits *bandwidthFlags
	var runs int
	var site string
	command := &cobra.Command{
		Use: "set [ACCOUNT]", Short: "Replace the limits of everything, of one account, or of the line of a site",
		Long: "The limits take effect at once, also for running transfers. Without an option they are removed.\n" +
			"A run has its own limits as well: heron copy --up, heron run limit.",
		Example: "  heron bandwidth set --up 20MB/s --hours \"mon-fri 08-18=5MB/s\"\n  heron bandwidth set field-drive --down 2MB/s\n" +
			"  heron bandwidth set --runs 2",
		Args: arguments(0, 1, "at most one account"), ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			limit, err := limits.read()
			if err != nil {
				return err
			}
			if command.Flags().Changed("runs") {
				return a.setRunsAtOnce(command.Context(), runs, args, limit)
			}
			if site != "" {
				return a.setSiteBandwidth(command.Context(), site, args, limit)
			}
			account, of := "", "everything"
			if len(args) > 0 {
				account = strings.Trim(args[0], "/")
				of = "/" + account
			}
			if err := a.client().SetBandwidth(command.Context(), account, limit); err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, format.BandwidthSentence(of, limit))
			return err
		},
	}
	limits = newBandwidthFlags(command.Flags())
	command.Flags().StringVar(&site, "site", "", "limit the line of a site, for all its workers together: --up is what leaves it")
	command.Flags().IntVar(&runs, "runs", 4, "runs that go at once, 1 to 32; others are queued, by priority")
	return command
}

func (a *app) setSiteBandwidth(ctx context.Context, site string, args []string, limit contract.Bandwidth) error {
	if len(args) > 0 {
		return usageError("--site is for the line of a site; set the limits of an account by another call")
	}
	if err := a.client().SetSiteBandwidth(ctx, site, limit); err != nil {
		return err
	}
	_, err := fmt.Fprintln(a.out, format.BandwidthSentence("the site "+site, limit))
	return err
}

func (a *app) setRunsAtOnce(ctx context.Context, runs int, args []string, limit contract.Bandwidth) error {
	if len(args) > 0 || !limit.IsZero() {
		return usageError("--runs is for everything and stands alone; set bandwidth limits by another call")
	}
	if err := a.client().SetAtOnce(ctx, runs); err != nil {
		return err
	}
	_, err := fmt.Fprintf(a.out, "%s at once; others are queued, by priority.\n", format.Some(int64(runs), "run"))
	return err
}

func (a *app) runLimit() *cobra.Command {
	var limits *bandwidthFlags
	command := a.runVerb("limit RUN", "Replace the bandwidth limits of a run; without an option they are removed",
		func(ctx context.Context, id string) error {
			limit, err := limits.read()
			if err != nil {
				return err
			}
			if err := a.client().SetRunBandwidth(ctx, id, limit); err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, format.BandwidthSentence("run "+id, limit))
			return err
		})
	limits = newBandwidthFlags(command.Flags())
	return command
}
