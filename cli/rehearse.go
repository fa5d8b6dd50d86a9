package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) historyRehearse() *cobra.Command {
	var rehearsal contract.NewRehearsal
	var list, detach bool
	var every string
	command := &cobra.Command{
		Use: "rehearse JOB", Short: "Rehearse a restore, and keep the certificate",
		Long: "Restores files of the job's targets into a scratch place of the service, reads them back, compares them with the\n" +
			"hashes that were recorded when they were copied, and clears the scratch place. Nothing else is changed. The newest\n" +
			"and the largest file are always among them; the others are chosen at random, by a seed that is recorded.",
		Example: "  heron history rehearse consolidation\n  heron history rehearse consolidation --every 30d --files 50\n" +
			"  heron history rehearse consolidation --list",
		Args: arguments(1, 1, "the name of a job"), ValidArgsFunction: a.completeJobs,
		RunE: func(command *cobra.Command, args []string) error {
			switch {
			case list:
				return a.listRehearsals(command.Context(), args[0])
			case every != "":
				return a.scheduleRehearsals(command.Context(), args[0], every, rehearsal)
			}
			return a.rehearse(command.Context(), args[0], rehearsal, detach)
		},
	}
	flags := command.Flags()
	flags.IntVar(&rehearsal.Files, "files", 0, "files to choose at random (default 20)")
	flags.BoolVar(&rehearsal.All, "all", false, "restore all files")
	flags.Var(pastTime{&rehearsal.At}, "at", "restore what was there at a time: 2026-11-27, yesterday, or an age such as 6h or 3d")
	flags.Int64Var(&rehearsal.Seed, "seed", 0, "choose as the rehearsal with this seed did")
	flags.StringVar(&every, "every", "", "do not rehearse now but at an interval, such as 7d or 1mo; never turns it off")
	flags.BoolVar(&list, "list", false, "list the rehearsals of the job")
	flags.BoolVar(&detach, "detach", false, "start the rehearsal and return at once")
	return command
}

func (a *app) rehearse(ctx context.Context, job string, rehearsal contract.NewRehearsal, detach bool) error {
	c := a.client()
	one, err := c.Rehearse(ctx, job, rehearsal)
	if err != nil {
		return err
	}
	for !detach && one.State == "running" {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
		all, err := c.Rehearsals(ctx, job)
		if err != nil {
			return err
		}
		for _, other := range all.Rehearsals {
			if other.Number == one.Number {
				one = other
			}
		}
	}
	if a.json {
		err = a.printJSON(one)
	} else {
		err = a.printRehearsal(one)
	}
	if err == nil && one.State == "failed" {
		err = &exitError{exitFailed, nil}
	}
	return err
}

func (a *app) printRehearsal(one contract.Rehearsal) error {
	if one.State == "running" {
		_, err := fmt.Fprintf(a.out, "Rehearsal %d of %s has started. See the result with: heron history rehearse %s --list\n", one.Number,
			one.Job, one.Job)
		return err
	}
	fmt.Fprintln(a.out, a.rehearsalMark(one)+"  "+a.wrapped(0, rehearsalSentence(one)))
	if one.Why != "" {
		fmt.Fprintln(a.out, a.wrapped(2, "  It broke off: "+format.Plain(contract.Capital(one.Why))+"."))
	}
	t := a.newTable("", "SIZE", "CHOSEN", "ADDRESS")
	alignRight(t, 2)
	for _, file := range one.Outcomes {
		mark := a.paint(reed, "✓")
		if file.Why != "" {
			mark = a.paint(brick, "✗")
		}
		t.AppendRow(table.Row{mark, format.Size(file.Size), file.Chosen, format.Plain(file.Address)})
	}
	if len(one.Outcomes) > 0 {
		t.Render()
	}
	for _, file := range one.Outcomes {
		if file.Why != "" {
			fmt.Fprintln(a.out, a.wrapped(2, a.paint(brick, "✗")+" "+format.Plain(file.Address)+": "+format.Plain(file.Why)))
		}
	}
	_, err := fmt.Fprintln(a.out, a.paint(soft, fmt.Sprintf("Rehearsal %d, seed %d, of what was there at %s.", one.Number, one.Seed,
		when(&one.At))))
	return err
}

func (a *app) rehearsalMark(one contract.Rehearsal) string {
	switch one.State {
	case "passed":
		return a.paint(reed, "✓ passed")
	case "failed":
		return a.paint(brick, "✗ failed")
	}
	return a.paint(plumage, "◔ running")
}

func rehearsalSentence(one contract.Rehearsal) string {
	share := ""
	if !one.Everything && one.OfFiles > 0 {
		share = " of " + format.Count(one.OfFiles)
	}
	sentence := fmt.Sprintf("%s%s restored and compared (%s)", format.Count(one.Files), share, format.Size(one.Bytes))
	if one.BySize > 0 {
		sentence += fmt.Sprintf("; of %s no hash was recorded, and their size alone was compared", format.Count(one.BySize))
	}
	if one.Failed > 0 {
		sentence += "; " + format.Some(one.Failed, "file") + " failed"
	}
	return sentence + "."
}

func (a *app) listRehearsals(ctx context.Context, job string) error {
	all, err := a.client().Rehearsals(ctx, job)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(all)
	}
	if len(all.Rehearsals) == 0 {
		fmt.Fprintln(a.out, "No restore of "+job+" has been rehearsed yet. Rehearse one with: heron history rehearse "+job)
	} else {
		t := a.newTable("NUMBER", "STARTED", "STATE", "FILES", "OF", "BYTES", "FAILED", "SEED")
		alignRight(t, 1, 4, 5, 6, 7)
		for _, one := range all.Rehearsals {
			t.AppendRow(table.Row{one.Number, when(&one.Started), a.rehearsalMark(one), format.Count(one.Files), format.Count(one.OfFiles),
				format.Size(one.Bytes), format.Count(one.Failed), one.Seed})
		}
		t.Render()
	}
	next := "No rehearsal is scheduled. Schedule one with: heron history rehearse " + job + " --every 30d"
	if all.Due != nil {
		next = "The next rehearsal is due at " + when(all.Due) + "."
	}
	_, err = fmt.Fprintln(a.out, a.paint(soft, next))
	return err
}

func (a *app) scheduleRehearsals(ctx context.Context, name, every string, rehearsal contract.NewRehearsal) error {
	c := a.client()
	job, err := c.Job(ctx, name)
	if err != nil {
		return err
	}
	if every == "never" {
		every = ""
	}
	job.Spec.History.Rehearse.Every, job.Spec.History.Rehearse.Files, job.Spec.History.Rehearse.All = every, rehearsal.Files, rehearsal.All
	if _, err := c.ChangeJob(ctx, name, contract.JobSpec(job.Spec), job.Changed); err != nil {
		return err
	}
	return a.listRehearsals(ctx, name)
}
