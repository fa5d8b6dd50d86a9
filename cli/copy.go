package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/remedy"
)

func (a *app) copy() *cobra.Command {
	var request contract.Copy
	var planOnly, detach, yes bool
	var rules *ruleFlags
	command := &cobra.Command{
		Use: "copy ADDRESS... TARGET", Short: "Copy files and folders into a folder, and verify the copies",
		Long: "Each source appears in TARGET under its own name. Files that are up to date are skipped, and nothing is\n" +
			"deleted. A different file of the same name at the target is a conflict; --conflict decides.\n\n" +
			"On a terminal the plan is shown first. The run continues if this command is interrupted.",
		Example: "  heron copy /desk/Reports /archive\n  heron copy /desk/Reports /desk/Maps /archive/2026 --plan\n" +
			"  heron copy /desk/Photos /archive --types pictures --as \"{date:%Y}/{date:%m}/{name}\"\n" +
			"  heron copy /desk /archive --exclude \"*.tmp\" --exclude build/ --up 20MB/s\n" +
			"  heron copy /desk/Reports /archive --also /vault",
		Args: arguments(2, -1, "at least one address to copy, and a target"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			if err := rules.read(); err != nil {
				return err
			}
			if err := addresses(request.Also); err != nil {
				return err
			}
			request.From, request.To = args[:len(args)-1], args[len(args)-1]
			if planOnly || a.terminal && !a.json {
				plan, err := a.client().Plan(command.Context(), request)
				if err != nil {
					return err
				}
				if planOnly && a.json {
					return a.printJSON(plan)
				}
				goOn, err := a.showPlan(plan, planOnly, yes)
				if err != nil || !goOn {
					return err
				}
			}
			return a.startCopy(command, request, detach)
		},
	}
	flags := command.Flags()
	rules = newRuleFlags(flags, &request.Settings)
	flags.StringArrayVar(&request.Also, "also", nil, "another folder to copy to; each file is read once for all (repeatable)")
	flags.BoolVar(&planOnly, "plan", false, "print the plan and stop")
	flags.BoolVar(&detach, "detach", false, "start the run and return at once")
	flags.BoolVar(&yes, "yes", false, "do not ask if some items cannot be copied")
	return command
}

func (a *app) startCopy(command *cobra.Command, request contract.Copy, detach bool) error {
	c := a.client()
	started, err := c.Copy(command.Context(), request)
	if err != nil {
		return err
	}
	return a.followStarted(command, c, started, detach)
}

// followStarted follows a run that was started, or says how to.
func (a *app) followStarted(command *cobra.Command, c *client.Client, started contract.Started, detach bool) error {
	if detach {
		if a.json {
			return a.printJSON(started)
		}
		_, err := fmt.Fprintf(a.out, "Run %s has started. Follow it with: heron run follow %s\n", started.Run, started.Run)
		return err
	}
	run, err := a.follow(command.Context(), c, started.Run)
	if err != nil {
		return a.stillRuns(command, started.Run, err)
	}
	return a.conclude(run)
}

// stillRuns says, when following was interrupted, that the run was not.
func (a *app) stillRuns(command *cobra.Command, id string, err error) error {
	if command.Context().Err() != nil {
		fmt.Fprintf(a.err, "\nRun %s continues. Follow it with: heron run follow %s; cancel it with: heron run cancel %s\n", id, id, id)
		return &exitError{exitFailed, nil}
	}
	return err
}

// showPlan says in one sentence what will be done, and what cannot be. It
// reports whether to go on.
func (a *app) showPlan(plan contract.Plan, only, yes bool) (bool, error) {
	fmt.Fprintln(a.out, a.wrapped(0, format.PlanSentence(plan)))
	if only {
		for _, line := range format.PlanDetails(plan) {
			fmt.Fprintln(a.out, line)
		}
	}
	for i, blocker := range plan.Blockers {
		if i == 5 {
			fmt.Fprintf(a.out, "  and %s more\n", format.Count(plan.Refused.Items-5))
			break
		}
		fmt.Fprintf(a.out, "  %s %s: %s. %s\n", a.paint(brick, "✗"), format.Plain(blocker.Address), contract.Capital(blocker.Why), blocker.Remedy)
		if blocker.Cause == "no-space" {
			return false, &exitError{exitFailed, remedy.Errorf("nothing was changed, as the target has no room; free space there, or copy to " +
				"another account")}
		}
	}
	if only {
		return false, nil
	}
	if plan.Refused.Items > 0 && !yes {
		return true, a.confirm(!a.asks, "Copy the others, and report these as failed?", "continue")
	}
	return true, nil
}
