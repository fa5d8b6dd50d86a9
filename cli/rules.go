package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"deftheron/cli/shown"
	"deftheron/contract"
)

// ruleFlags adds the options of a copy's rules.
func ruleFlags(flags *pflag.FlagSet, rules *contract.Rules) *paceFlags {
	flags.StringVar(&rules.Clash, "clash", "keep-both", "where both sides changed: keep-both, newer, source (replaces the target's), leave (the target's), or ask")
	flags.StringVar(&rules.Names, "names", "translate", "names that the target cannot hold: translate (and back again on the way home) or refuse")
	flags.StringVar(&rules.As, "as", "", "names below the target, from a template such as \"{date:%Y-%m}/{name}\"; fields: name, stem, ext, folder, account, date, run")
	flags.StringVar(&rules.Documents, "documents", "", "what documents that exist only inside a service are exported as, such as text=odt+pdf,sheet=ods; each kind's default unless given")
	flags.StringVar(&rules.Proof, "proof", "hash", "how what arrived is proven: hash (read back where the target tells none), size or readback")
	flags.StringArrayVar(&rules.LeaveOut, "leave-out", nil, "a pattern of what is left out, as in a .gitignore file; may be given several times")
	flags.StringArrayVar(&rules.Only, "only", nil, "a pattern of what alone is taken; may be given several times")
	flags.StringSliceVar(&rules.Types, "types", nil, "types of files that alone are taken: documents, pictures, sound, film")
	flags.StringVar(&rules.SmallerThan, "smaller-than", "", "only files below a size, such as 2GiB")
	flags.StringVar(&rules.LargerThan, "larger-than", "", "only files above a size")
	flags.StringVar(&rules.NewerThan, "newer-than", "", "only files changed after a date (2020-01-31) or within an age (36h, 30d, 8w, 6mo, 2y)")
	flags.StringVar(&rules.OlderThan, "older-than", "", "only files changed before a date or an age")
	flags.BoolVar(&rules.OnlyChanged, "only-changed", false, "only what has changed since an earlier run brought it; with --as \"{run:%Y-%m-%d}/{folder}/{name}\" each run's folder holds what is new")
	flags.IntVar(&rules.Tries, "tries", 0, "how often an item is tried before it fails; 5 unless given")
	flags.StringVar(&rules.Within, "within", "", "how long an item is tried, such as 2h")
	flags.StringVar(&rules.Priority, "priority", "", "how it stands to other runs, which begins first and how much of an account each gets: low, normal or high")
	return newPaceFlags(flags)
}

// paceFlags are the options of limits.
type paceFlags struct {
	flags    *pflag.FlagSet
	up, down string
	hours    []string
}

func newPaceFlags(flags *pflag.FlagSet) *paceFlags {
	p := &paceFlags{flags: flags}
	flags.StringVar(&p.up, "up", "", "the most to send, such as 20MB/s; unlimited unless given")
	flags.StringVar(&p.down, "down", "", "the most to receive")
	flags.StringArrayVar(&p.hours, "hours", nil, "a limit at hours of the week in place of these, such as \"mon-fri 08-18=5MB/s\"; may be given several times")
	return p
}

// pace is what was given; nil where nothing was.
func (p *paceFlags) pace() (*contract.Pace, error) {
	if !p.flags.Changed("up") && !p.flags.Changed("down") && !p.flags.Changed("hours") {
		return nil, nil
	}
	given := &contract.Pace{Up: p.up, Down: p.down}
	for _, text := range p.hours {
		when, rates, ok := strings.Cut(text, "=")
		if !ok {
			return nil, usageError("--hours %q names no limit; write it as \"mon-fri 08-18=5MB/s\"", text)
		}
		if given.Hours == nil {
			given.Hours = map[string]string{}
		}
		given.Hours[strings.TrimSpace(when)] = strings.TrimSpace(rates)
	}
	return given, nil
}

func (a *app) pace() *cobra.Command {
	return nouns("pace", "Limit how fast bytes move: overall, by account, by the hour of the week", a.paceShow(), a.paceSet(), a.paceRuns())
}

func (a *app) paceRuns() *cobra.Command {
	return &cobra.Command{
		Use: "runs [N]", Short: "Show, or change, how many runs move at once; the others wait for their turn, by priority", Args: arguments(0, 1, "how many, or nothing"),
		RunE: func(command *cobra.Command, args []string) error {
			c := a.client()
			if len(args) > 0 {
				n, err := strconv.Atoi(args[0])
				if err != nil {
					return usageError("%q is no number of runs; give 1 to 32", args[0])
				}
				if err := c.SetAtOnce(command.Context(), n); err != nil {
					return err
				}
			}
			n, err := c.AtOnce(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(contract.AtOnce{Runs: n})
			}
			_, err = fmt.Fprintf(a.out, "%s at once; the others wait for their turn, by priority.\n", shown.Some(int64(n), "run"))
			return err
		},
	}
}

func (a *app) runPriority() *cobra.Command {
	return &cobra.Command{
		Use: "priority RUN low|normal|high", Short: "Change how a run stands to others, while it moves or waits", Args: arguments(2, 2, "one run's id and a priority"),
		RunE: func(command *cobra.Command, args []string) error {
			if err := a.client().SetPriority(command.Context(), args[0], args[1]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.out, "Run %s has the priority %s from now on.\n", args[0], args[1])
			return err
		},
	}
}

func (a *app) paceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show the limits", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			paces, err := a.client().Paces(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(paces)
			}
			t := a.newTable("FOR", "UP", "DOWN", "AT HOURS OF THE WEEK")
			row := func(name string, p contract.Pace) {
				var hours []string
				for _, when := range slices.Sorted(maps.Keys(p.Hours)) {
					hours = append(hours, when+": "+p.Hours[when])
				}
				t.AppendRow(table.Row{name, orUnlimited(p.Up), orUnlimited(p.Down), strings.Join(hours, "; ")})
			}
			row("everything", paces.Overall)
			for _, name := range slices.Sorted(maps.Keys(paces.Accounts)) {
				row("/"+name, paces.Accounts[name])
			}
			t.Render()
			return nil
		},
	}
}

func orUnlimited(rate string) string {
	if rate == "" {
		return "unlimited"
	}
	return rate
}

func (a *app) paceSet() *cobra.Command {
	var limits *paceFlags
	command := &cobra.Command{
		Use: "set [ACCOUNT]", Short: "Set the limits of an account, or of everything, in place of those there are",
		Long:    "The limits hold at once, for what moves already too. With no option they are taken away.\nA run has limits of its own besides: heron copy --up, heron run pace.",
		Example: "  heron pace set --up 20MB/s --hours \"mon-fri 08-18=5MB/s\"\n  heron pace set field-drive --down 2MB/s",
		Args:    arguments(0, 1, "at most one account"), ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			pace, err := limits.pace()
			if err != nil {
				return err
			}
			if pace == nil {
				pace = &contract.Pace{}
			}
			account := ""
			if len(args) > 0 {
				account = strings.Trim(args[0], "/")
			}
			if err := a.client().SetPace(command.Context(), account, *pace); err != nil {
				return err
			}
			of := "everything"
			if account != "" {
				of = "/" + account
			}
			_, err = fmt.Fprintf(a.out, "%s\n", shown.PaceSentence(of, *pace))
			return err
		},
	}
	limits = newPaceFlags(command.Flags())
	return command
}

func (a *app) runPace() *cobra.Command {
	var limits *paceFlags
	command := a.runVerb("pace RUN", "Change a run's limits while it moves; with no option they are taken away", func(ctx context.Context, id string) error {
		pace, err := limits.pace()
		if err != nil {
			return err
		}
		if pace == nil {
			pace = &contract.Pace{}
		}
		if err := a.client().SetRunPace(ctx, id, *pace); err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.out, "%s\n", shown.PaceSentence("run "+id, *pace))
		return err
	})
	limits = newPaceFlags(command.Flags())
	return command
}

func (a *app) runRelease() *cobra.Command {
	var decided contract.Release
	command := a.runVerb("release RUN", "Let a run go on that is held for a person", func(ctx context.Context, id string) error {
		if err := a.client().Release(ctx, id, decided); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "Run %s goes on. Watch it with: heron run follow %s\n", id, id)
		return err
	})
	command.Flags().StringVar(&decided.Clash, "clash", "", "what is kept where both sides changed: keep-both, newer, source or leave")
	return command
}
