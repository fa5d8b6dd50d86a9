package cli

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) jobArrivals() *cobra.Command {
	return a.jobVerb("arrivals NAME", "List the latest arrivals of a job and their state", func(ctx context.Context, name string) error {
		arrivals, err := a.client().Arrivals(ctx, name)
		if err != nil {
			return err
		}
		if a.json {
			for _, arrival := range arrivals {
				if err := a.printJSON(arrival); err != nil {
					return err
				}
			}
			return nil
		}
		if len(arrivals) == 0 {
			_, err := fmt.Fprintf(a.out, "Nothing has arrived since the job %s was created.\n", name)
			return err
		}
		t := a.newTable("SEEN", "STATE", "SIZE", "RUN", "ARRIVAL")
		alignRight(t, 3)
		for _, one := range arrivals {
			run := one.Run
			if run == "" {
				run = "—"
			}
			t.AppendRow(table.Row{when(&one.Since), a.arrivalState(one.State), format.Size(one.Size), run, format.Plain(one.Address)})
		}
		t.Render()
		return nil
	})
}

func (a *app) arrivalState(state string) string {
	switch state {
	case "resting", "ready":
		return a.paint(soft, "○ "+state)
	}
	return a.stateMark(state)
}

func (a *app) jobAnnounce() *cobra.Command {
	return &cobra.Command{
		Use: "announce NAME ADDRESS", Short: "Announce a complete arrival, to transfer it at once",
		Long: "For programs that know when a file or folder is complete. The waiting time of the job is skipped.\n" +
			"An unchanged arrival that is announced twice is transferred once.",
		Args: arguments(2, 2, "one job's name and one address"),
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args[1:]); err != nil {
				return err
			}
			arrival, err := a.client().Announce(command.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(arrival)
			}
			if arrival.Run != "" {
				_, err = fmt.Fprintf(a.out, "%s is known as it is; its run %s is %s.\n", format.Plain(arrival.Address), arrival.Run, arrival.State)
				return err
			}
			_, err = fmt.Fprintf(a.out, "%s (%s) is taken, and has its turn next. See: heron job arrivals %s\n", format.Plain(arrival.Address),
				format.Size(arrival.Size), args[0])
			return err
		},
	}
}

func (a *app) jobTest() *cobra.Command {
	var address string
	command := a.jobVerb("test NAME", "Show what a job would do with the latest arrival; changes nothing",
		func(ctx context.Context, name string) error {
			tried, err := a.client().TryArrival(ctx, name, address)
			if err != nil {
				return err
			}
			return a.tellTried(tried)
		})
	command.Flags().StringVar(&address, "arrival", "", "try it on this file or folder, in place of the latest")
	_ = command.RegisterFlagCompletionFunc("arrival", a.completeAddresses)
	return command
}

// tellTried prints what a rule would do with an arrival.
func (a *app) tellTried(tried contract.TriedArrival) error {
	if a.json {
		return a.printJSON(tried)
	}
	if !tried.Matches {
		what := "No arrival"
		if tried.Address != "" {
			what = format.Plain(tried.Address)
		}
		fmt.Fprintf(a.out, "%s: %s. Check the rules and the folder: heron ls\n", what, format.Plain(tried.Why))
		return &exitError{exitFailed, nil}
	}
	fmt.Fprintf(a.out, "Tried on %s", format.Plain(tried.Address))
	if tried.Arrived != nil {
		fmt.Fprintf(a.out, ", changed %s", when(tried.Arrived))
	}
	fmt.Fprintln(a.out, ":")
	for _, one := range tried.Targets {
		fmt.Fprintf(a.out, "  %s → %s\n", format.Plain(one.Address), format.Plain(one.Target))
	}
	if tried.Plan != nil {
		fmt.Fprintln(a.out, a.wrapped(0, format.PlanSentence(*tried.Plan)))
	}
	return nil
}
