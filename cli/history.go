package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) history() *cobra.Command {
	return nouns("history", "Look at earlier states, restore them, and decide how long they are kept", a.historyList(), a.historyShow(),
		a.historyRestore(), a.historyRehearse(), a.historyKeep())
}

func (a *app) historyList() *cobra.Command {
	var most int
	command := &cobra.Command{
		Use: "list ADDRESS", Short: "List the versions of a file, or when a folder changed",
		Long: "Of a file, each line is one change and what was there before it; of a folder, one run that changed something\n" +
			"in it. The file or folder need not be there any more.",
		Args: arguments(1, 1, "one address"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			past, err := a.client().Past(command.Context(), args[0], most)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(past)
			}
			return a.printPast(past)
		},
	}
	command.Flags().IntVar(&most, "limit", 100, "how many to list at most, newest first")
	return command
}

func (a *app) printPast(past contract.Past) error {
	switch {
	case past.Kind == "folder" && len(past.Changes) > 0:
		t := a.newTable("CHANGED", "CHANGES", "JOB", "RUN")
		alignRight(t, 2)
		for _, one := range past.Changes {
			t.AppendRow(table.Row{when(&one.Last), format.Count(one.Changes), format.Plain(one.Job), a.paint(soft, one.Run)})
		}
		t.Render()
	case len(past.Versions) > 0:
		t := a.newTable("CHANGED", "HOW", "SIZE BEFORE", "MODIFIED", "LOCKED UNTIL", "RUN")
		alignRight(t, 3)
		for _, one := range past.Versions {
			how, size := one.Change, format.Size(one.Size)
			switch one.Change {
			case "moved":
				how += " to " + format.Plain(one.To)
				size = ""
			case "created", "thinned":
				size = ""
			}
			if one.Change == "superseded" {
				how += ", kept at " + format.Plain(one.Kept)
			}
			if one.Version != "" {
				how += " (kept by the account itself)"
			}
			locked := ""
			if one.Locked != nil && one.Locked.After(time.Now()) {
				if locked = when(one.Locked); one.Enforced {
					locked += " (by the store too)"
				}
			}
			t.AppendRow(table.Row{when(&one.At), how, size, when(one.Modified), locked, a.paint(soft, one.Run)})
		}
		t.Render()
	default:
		_, err := fmt.Fprintln(a.out, "Nothing of "+format.Plain(past.Address)+
			" is in history. It begins when a run overwrites or deletes something.")
		return err
	}
	_, err := fmt.Fprintln(a.out, a.paint(soft, "The history of this account holds "+format.Some(past.Held.Versions, "version")+", "+
		format.Size(past.Held.Bytes)+"."))
	return err
}

func (a *app) historyShow() *cobra.Command {
	var at time.Time
	command := &cobra.Command{
		Use: "show ADDRESS --at TIME", Short: "Show a folder or a file as it was at a time",
		Args: arguments(1, 1, "one address"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			if at.IsZero() {
				return usageError("history show needs the time to look at; give --at yesterday, or --at \"2026-11-27 18:00\"")
			}
			if !a.json {
				fmt.Fprintln(a.out, a.paint(soft, format.Plain(args[0])+" as it was at "+when(&at)))
			}
			return a.listFolder(command, &client.Listing{Address: args[0], At: at})
		},
	}
	command.Flags().Var(pastTime{&at}, "at", "the time: 2026-11-27, \"2026-11-27 18:00\", yesterday, or an age such as 6h or 3d")
	return command
}

func (a *app) historyRestore() *cobra.Command {
	var restore contract.Restore
	var planOnly, detach, yes bool
	command := &cobra.Command{
		Use: "restore ADDRESS --at TIME", Short: "Restore a file, a folder or an account as it was at a time",
		Long: "What was there at that time is put back where it was, or into the folder of --to. What is there now becomes a\n" +
			"version first, so that a restore can be taken back in the same way. Files that came since stay, unless --exact\n" +
			"is given. The plan is shown before anything is changed, and what is restored is verified.",
		Args: arguments(1, 1, "one address"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			if restore.At.IsZero() {
				return usageError("history restore needs the time to go back to; give --at yesterday, or --at \"2026-11-27 18:00\"")
			}
			restore.Address = args[0]
			return a.restore(command, restore, planOnly, detach, yes)
		},
	}
	flags := command.Flags()
	flags.Var(pastTime{&restore.At}, "at", "the time: 2026-11-27, \"2026-11-27 18:00\", yesterday, or an age such as 6h or 3d")
	flags.StringVar(&restore.To, "to", "", "a folder to restore into, under the name of ADDRESS (default where it was)")
	flags.BoolVar(&restore.Exact, "exact", false, "also move to history what came since")
	flags.BoolVar(&planOnly, "plan", false, "print the plan and stop")
	flags.BoolVar(&detach, "detach", false, "start the run and return at once")
	flags.BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) restore(command *cobra.Command, restore contract.Restore, planOnly, detach, yes bool) error {
	c, ctx := a.client(), command.Context()
	plan, err := c.PlanRestore(ctx, restore)
	if err != nil {
		return err
	}
	if planOnly && a.json {
		return a.printJSON(plan)
	}
	if !a.json {
		goOn, err := a.showPlan(plan, planOnly, true)
		if err != nil || !goOn {
			return err
		}
	}
	where := "where they were"
	if restore.To != "" {
		where = "to " + format.Plain(restore.To)
	}
	if restore.To == "" || a.asks {
		if err := a.confirm(yes, "Restore "+format.Plain(restore.Address)+" as of "+when(&restore.At)+", "+where+"?", "restore"); err != nil {
			return err
		}
	}
	started, err := c.Restore(ctx, restore)
	if err != nil {
		return err
	}
	return a.followStarted(command, c, started, detach)
}

func (a *app) historyKeep() *cobra.Command {
	var rules contract.HistoryRules
	var yes bool
	command := &cobra.Command{
		Use: "keep JOB", Short: "Show or change which versions a job keeps, and for how long",
		Long: "Without options, the rules of the job are shown. The options replace all of them. What any rule keeps is kept.\n" +
			"Before rules are changed, this command shows what they would delete now. The last version of a deleted file is\n" +
			"kept as long as any rule says.",
		Example: "  heron history keep consolidation\n  heron history keep consolidation --all 7d --daily 60d --monthly 2y --locked 30d",
		Args:    arguments(1, 1, "the name of a job"), ValidArgsFunction: a.completeJobs,
		RunE: func(command *cobra.Command, args []string) error {
			return a.keepHistory(command, args[0], rules, yes)
		},
	}
	flags := command.Flags()
	flags.StringVar(&rules.Keep.All, "all", "", "keep every version for this long: 36h, 30d, 8w, 6mo, 2y")
	flags.StringVar(&rules.Keep.Hourly, "hourly", "", "keep what was there at the end of each hour, for this long")
	flags.StringVar(&rules.Keep.Daily, "daily", "", "keep what was there at the end of each day, for this long")
	flags.StringVar(&rules.Keep.Weekly, "weekly", "", "keep what was there at the end of each week, for this long")
	flags.StringVar(&rules.Keep.Monthly, "monthly", "", "keep what was there at the end of each month, for this long")
	flags.IntVar(&rules.Keep.Versions, "versions", 0, "keep the newest versions of each file, however old they are")
	flags.StringVar(&rules.Locked, "locked", "", "let nobody delete a version for this long after it was replaced")
	flags.BoolVar(&rules.Off, "off", false, "keep no versions of what is overwritten")
	flags.BoolVar(&rules.Only, "additions-only", false, "copy jobs: let nothing at the target be deleted through the service")
	flags.BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) keepHistory(command *cobra.Command, name string, rules contract.HistoryRules, yes bool) error {
	c, ctx := a.client(), command.Context()
	job, err := c.Job(ctx, name)
	if err != nil {
		return err
	}
	if rules.IsZero() {
		if a.json {
			return a.printJSON(job.Spec.History)
		}
		_, err := fmt.Fprintln(a.out, a.wrapped(0, historySentence(job.Spec.History)))
		return err
	}
	freed, err := c.HistoryFreed(ctx, name, rules)
	if err != nil {
		return err
	}
	if !a.json {
		fmt.Fprintln(a.out, a.wrapped(0, historySentence(rules)))
		fmt.Fprintln(a.out, "Now this would delete "+format.Some(freed.Versions, "version")+" and free "+format.Size(freed.Bytes)+
			"; locked versions stay.")
	}
	if freed.Versions > 0 || a.asks {
		if err := a.confirm(yes, "Change the rules of "+name+"?", "change them"); err != nil {
			return err
		}
	}
	rules.Rehearse = job.Spec.History.Rehearse
	job.Spec.History = rules
	if _, err := c.ChangeJob(ctx, name, contract.JobSpec(job.Spec), job.Changed); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(freed)
	}
	_, err = fmt.Fprintln(a.out, "Changed. Versions that no rule keeps are deleted after the next run, and twice a day.")
	return err
}

// historySentence says what rules for versions keep.
func historySentence(rules contract.HistoryRules) string {
	if rules.Off {
		return "No versions are kept of what this job overwrites."
	}
	var parts []string
	for _, one := range []struct{ words, span string }{
		{"every version for ", rules.Keep.All}, {"one an hour for ", rules.Keep.Hourly}, {"one a day for ", rules.Keep.Daily},
		{"one a week for ", rules.Keep.Weekly}, {"one a month for ", rules.Keep.Monthly},
	} {
		if one.span != "" {
			parts = append(parts, one.words+one.span)
		}
	}
	if rules.Keep.Versions > 0 {
		parts = append(parts, fmt.Sprintf("the newest %d of each file", rules.Keep.Versions))
	}
	sentence := "Kept: every version for as long as the service keeps history."
	if len(parts) > 0 {
		sentence = "Kept: " + strings.Join(parts, ", ") + "."
	}
	if rules.Only {
		sentence = "Kept: every version, for good. Nothing at the target can be deleted through the service."
	}
	if rules.Locked != "" {
		sentence += " Nobody can delete a version for " + rules.Locked + " after it was replaced."
	}
	return sentence
}
