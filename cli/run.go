package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) run() *cobra.Command {
	return nouns("run", "Show, follow and control runs, and write their reports",
		a.runList(), a.runShow(), a.runFollow(), a.runItems(), a.runPause(), a.runResume(), a.runRetry(), a.runCancel(), a.runApprove(),
		a.runLimit(), a.runPriority(), a.runReport())
}

func (a *app) runVerb(use, short string, do func(ctx context.Context, id string) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: arguments(1, 1, "one run's id"), ValidArgsFunction: a.completeRuns,
		RunE: func(command *cobra.Command, args []string) error { return do(command.Context(), args[0]) },
	}
}

func (a *app) completeRuns(command *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var ids []string
	for run, err := range a.client().Runs(command.Context(), client.RunFilter{}) {
		if err != nil || len(args) > 0 || len(ids) >= 50 {
			break
		}
		ids = append(ids, run.ID+"\t"+string(run.State)+" "+when(&run.Created))
	}
	return ids, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) runShow() *cobra.Command {
	return a.runVerb("show RUN", "Show the progress or the result of a run", func(ctx context.Context, id string) error {
		c := a.client()
		run, err := c.Run(ctx, id)
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(run)
		}
		causes, err := c.Causes(ctx, id)
		if err != nil {
			return err
		}
		series, err := c.Series(ctx, id)
		if err != nil {
			return err
		}
		events, err := c.Events(ctx, id)
		if err != nil {
			return err
		}
		return a.printRun(run, causes, series, events)
	})
}

// mostEvents is how many events run show prints.
const mostEvents = 8

// waitsFor says which account is waited for, why, and how long.
func waitsFor(away contract.Away) string {
	said := fmt.Sprintf("/%s, since %s: %s.", away.Account, when(&away.Since), format.Plain(away.Why))
	if away.Until != nil {
		return said + " The run continues when the account can be reached again, and gives up at " + when(away.Until) + "."
	}
	return said + " The other routes continue; then the run is held."
}

// carriedBy says who has copied what for a run.
func carriedBy(run contract.Run) string {
	var parts []string
	own := run.Items.Done
	for _, one := range run.Workers {
		own -= one.Items
		part := fmt.Sprintf("%s %s (%s)", format.Plain(one.Name), format.Some(one.Items, "item"), format.Size(one.Bytes))
		if one.Now > 0 {
			part += fmt.Sprintf(", with %s in its hands", format.Count(one.Now))
		}
		parts = append(parts, part)
	}
	return strings.Join(append(parts, "the service "+format.Some(max(0, own), "item")), "; ")
}

func (a *app) printRun(run contract.Run, causes []contract.CauseCount, series contract.RunSeries, events []contract.RunEvent) error {
	state := a.stateMark(string(run.State))
	if run.Watching {
		state += ", in sync, waiting for changes"
	}
	fmt.Fprintf(a.out, "Run %s  %s\n", run.ID, state)
	for _, route := range run.Routes {
		fmt.Fprintf(a.out, "  %s\n", format.Plain(jobRoutes(contract.JobSpec{Type: run.Type, Routes: []contract.Route{route}})))
	}
	if run.MoreRoutes > 0 {
		fmt.Fprintf(a.out, "  and %s more\n", format.Count(int64(run.MoreRoutes)))
	}
	rows := [][2]string{
		{"items", fmt.Sprintf("%s done, %s failed, %s skipped, %s waiting; %s up to date",
			format.Count(run.Items.Done), format.Count(run.Items.Failed), format.Count(run.Items.Skipped), format.Count(run.Items.Waiting),
			format.Count(run.Items.UpToDate))},
		{"bytes", fmt.Sprintf("%s of %s", format.Size(run.Bytes.Transferred), format.Size(run.Bytes.Total))},
		{"started", when(run.Started)}, {"ended", when(run.Ended)},
	}
	if run.Started != nil && run.Ended != nil {
		rows = append(rows, [2]string{"took", format.Duration(run.Ended.Sub(*run.Started).Seconds())})
	}
	if run.Now != nil && !run.Watching {
		rows = append(rows, [2]string{"now", fmt.Sprintf("%s/s, %s", format.Size(int64(run.Now.Rate)), timeLeft(run.Now.Left))})
	}
	if run.Now != nil {
		for _, slowed := range run.Now.Slowed {
			rows = append(rows, [2]string{"slowed down", fmt.Sprintf("/%s allows %.1f requests a second", slowed.Account, slowed.Rate)})
		}
		for _, away := range run.Now.Away {
			rows = append(rows, [2]string{"waiting for", waitsFor(away)})
		}
	}
	if run.Average > 0 {
		rows = append(rows, [2]string{"average", format.Size(int64(run.Average)) + "/s"})
	}
	if series.Sentence != "" {
		rows = append(rows, [2]string{"bottleneck", series.Sentence})
	}
	if series.Workers != "" && !run.State.Ended() {
		rows = append(rows, [2]string{"workers", series.Workers})
	}
	if len(run.Workers) > 0 {
		rows = append(rows, [2]string{"copied by", carriedBy(run)})
	}
	if run.Excluded.Items > 0 {
		rows = append(rows, [2]string{"left out",
			fmt.Sprintf("%s (%s), by the rules", format.Some(run.Excluded.Items, "file"), format.Size(run.Excluded.Bytes))})
	}
	if run.Assumed.Items > 0 {
		rows = append(rows, [2]string{"not read", format.ByTimeAlone(run.Assumed, run.Routes)})
	}
	if run.FoldersExcluded > 0 {
		rows = append(rows, [2]string{"excluded", format.Some(run.FoldersExcluded, "folder") + ", with their content"})
	}
	if run.Inside.Items > 0 {
		rows = append(rows, [2]string{"not sent", fmt.Sprintf("%s (%s), copied inside the target", format.Some(run.Inside.Items, "file"),
			format.Size(run.Inside.Bytes))})
	}
	if !run.Bandwidth.IsZero() {
		rows = append(rows, [2]string{"bandwidth", format.BandwidthSentence("this run", run.Bandwidth)})
	}
	if run.Interruptions > 0 {
		rows = append(rows, [2]string{"interrupted", format.Some(run.Interruptions, "time") + ", and continued"})
	}
	if run.Why != "" {
		rows = append(rows, [2]string{"why", contract.Capital(format.Plain(run.Why)) + "."})
	}
	if run.Remedy != "" {
		rows = append(rows, [2]string{"remedy", run.Remedy})
	}
	for _, command := range run.Commands {
		rows = append(rows, [2]string{"", command})
	}
	for _, row := range rows {
		fmt.Fprintln(a.out, a.wrapped(15, fmt.Sprintf("  %s  %s", a.paint(soft, fmt.Sprintf("%-11s", row[0])), row[1])))
	}
	for _, cause := range causes {
		if cause.State == "waiting" {
			continue
		}
		fmt.Fprintln(a.out, a.wrapped(4, fmt.Sprintf("  %s %s, %s: %s %s", a.stateMark(cause.State), format.Some(cause.Items, "item"),
			cause.Cause,
			cause.Meaning, cause.Remedy)))
	}
	for _, event := range events[max(0, len(events)-mostEvents):] {
		fmt.Fprintln(a.out, a.wrapped(23, fmt.Sprintf("  %s  %s", a.paint(soft, when(&event.At)), event.Sentence)))
	}
	if run.Items.Failed > 0 {
		fmt.Fprintf(a.out, "See which: heron run items %s --state failed\n", run.ID)
	}
	return nil
}

func (a *app) runFollow() *cobra.Command {
	command := a.runVerb("follow RUN", "Follow a run until it ends", nil)
	command.RunE = func(command *cobra.Command, args []string) error {
		run, err := a.follow(command.Context(), a.client(), args[0])
		if err != nil {
			return a.stillRuns(command, args[0], err)
		}
		return a.conclude(run)
	}
	return command
}

// printRemedy prints what to do, and the commands that do it.
func (a *app) printRemedy(remedy string, commands []string) {
	fmt.Fprintln(a.out, a.wrapped(0, remedy))
	a.printCommands(commands)
}

func (a *app) printCommands(commands []string) {
	for _, command := range commands {
		fmt.Fprintln(a.out, "  "+command)
	}
}

// conclude prints what came of a run, and gives its exit code.
func (a *app) conclude(run contract.Run) error {
	if a.json {
		if err := a.printJSON(run); err != nil {
			return err
		}
	} else {
		fmt.Fprintln(a.out, a.stateMark(string(run.State))+"  "+format.RunSentence(run))
		if run.Items.Failed > 0 {
			fmt.Fprintf(a.out, "List them, with causes and remedies: heron run items %s --state failed\nRetry them: heron run retry %s\n", run.ID,
				run.ID)
		}
		if run.State == "held" {
			a.printRemedy(run.Remedy, run.Commands)
		} else {
			a.tellNext(run)
		}
	}
	switch run.State {
	case "done":
		return nil
	case "held":
		return &exitError{exitHeld, nil}
	}
	return &exitError{exitFailed, nil}
}

// tellNext prints what to do after a run has ended.
func (a *app) tellNext(run contract.Run) {
	switch run.Step {
	case "survey":
		fmt.Fprintf(a.out, "Read it: heron run report %s --out survey.html\n", run.ID)
	case "final-pass":
		fmt.Fprintf(a.out, "Keep the certificate: heron run report %s --certificate --out certificate.html\n", run.ID)
	default:
		fmt.Fprintf(a.out, "Keep the record: heron run report %s --out report.html\n", run.ID)
	}
	if run.Waits != "" {
		a.printRemedy(run.Waits, run.Commands)
	}
}

func (a *app) runItems() *cobra.Command {
	var filter client.ItemFilter
	command := a.runVerb("items RUN", "List the items of a run, with cause and remedy", func(ctx context.Context, id string) error {
		if filter.State != "" && !slices.Contains([]string{"waiting", "done", "skipped", "failed"}, filter.State) {
			return usageError("%q is not a state of an item; use waiting, done, skipped or failed", filter.State)
		}
		n := 0
		for item, err := range a.client().Items(ctx, id, filter) {
			if err != nil {
				return err
			}
			n++
			if a.json {
				if err := a.printJSON(item); err != nil {
					return err
				}
				continue
			}
			a.printItem(item)
		}
		if n == 0 && !a.json {
			fmt.Fprintln(a.out, strings.TrimSpace("No "+filter.State)+" items. Items that were up to date are counted and not listed.")
		}
		return nil
	})
	flags := command.Flags()
	flags.StringVar(&filter.State, "state", "", "only those in this state: waiting, done, skipped or failed")
	flags.StringVar(&filter.Cause, "cause", "", "only those with this cause")
	flags.StringVar(&filter.Folder, "in", "", "only those in this folder of the source or the target")
	flags.StringVar(&filter.Text, "text", "", "only those with this text in their path")
	return command
}

// addressOf returns the address of an item: a removed one is only at the target.
func addressOf(item contract.Item) string {
	switch {
	case item.Action == "remove" && item.State == "waiting":
		return "delete " + item.Target
	case item.Action == "remove":
		return item.Target
	case item.Action == "replace" && item.State == "waiting":
		return item.Address + ", over " + item.Target
	}
	return item.Address
}

func (a *app) printItem(item contract.Item) {
	sized := format.Size(item.Size)
	if item.Kind == "folder" {
		sized = "folder"
	}
	fmt.Fprintf(a.out, "%s  %10s  %s\n", a.stateMark(item.State)+strings.Repeat(" ", 8-len(item.State)), sized, format.Plain(addressOf(item)))
	if item.Cause != "" {
		fmt.Fprintln(a.out, a.wrapped(4, fmt.Sprintf("    %s: %s %s", item.Cause, item.Meaning, item.Remedy)))
	}
	if item.Why != "" {
		fmt.Fprintln(a.out, a.wrapped(4, "    "+a.paint(soft, format.Plain(item.Why))))
	}
}

func (a *app) runPause() *cobra.Command {
	return a.runVerb("pause RUN", "Pause a run until it is resumed, also over restarts", func(ctx context.Context, id string) error {
		if err := a.client().Pause(ctx, id); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "Pausing %s. What has been copied stays. Go on with: heron run resume %s\n", id, id)
		return err
	})
}

func (a *app) runResume() *cobra.Command {
	return a.runVerb("resume RUN", "Resume a paused run", func(ctx context.Context, id string) error {
		if err := a.client().Resume(ctx, id); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "Run %s continues. Follow it with: heron run follow %s\n", id, id)
		return err
	})
}

func (a *app) runRetry() *cobra.Command {
	var detach bool
	command := a.runVerb("retry RUN", "Retry the failed items of a run", nil)
	command.RunE = func(command *cobra.Command, args []string) error {
		c, id := a.client(), args[0]
		retried, err := c.Retry(command.Context(), id)
		if err != nil {
			return err
		}
		if detach {
			if a.json {
				return a.printJSON(retried)
			}
			_, err := fmt.Fprintf(a.out, "%s tried again. Follow it with: heron run follow %s\n", format.Some(retried.Items, "item")+" of run "+id+
				" will be", id)
			return err
		}
		run, err := a.follow(command.Context(), c, id)
		if err != nil {
			return a.stillRuns(command, id, err)
		}
		return a.conclude(run)
	}
	command.Flags().BoolVar(&detach, "detach", false, "do not wait for its end")
	return command
}

func (a *app) runCancel() *cobra.Command {
	var yes bool
	command := a.runVerb("cancel RUN", "Cancel a run; transferred files stay", func(ctx context.Context, id string) error {
		c := a.client()
		run, err := c.Run(ctx, id)
		if err != nil {
			return err
		}
		question := fmt.Sprintf("Cancel the run %s? What has been copied (%s) stays; %s will not be copied.", id,
			format.Some(run.Items.Done, "item"), format.Some(run.Items.Waiting, "item"))
		if !run.State.Ended() {
			if err := a.confirm(yes, question, "cancel the run "+id); err != nil {
				return err
			}
		}
		if err := c.Cancel(ctx, id); err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.out, "Cancelling %s. What has been copied stays; nothing half copied is left.\n", id)
		return err
	})
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) runReport() *cobra.Command {
	var format, out string
	var yes, certificate, check, files bool
	command := a.runVerb("report RUN", "Write the report of a run as HTML, CSV or JSON, or check one",
		func(ctx context.Context, id string) error {
			if check {
				return a.checkPaper(ctx, id, files)
			}
			if files {
				return usageError("--files goes with --check and the file of a certificate: heron run report --check certificate.json --files")
			}
			if format == "" {
				format = strings.TrimPrefix(filepath.Ext(out), ".")
			}
			if a.json {
				format = "json"
			}
			if format == "" {
				format = "html"
			}
			if format != "html" && format != "csv" && format != "json" && (format != "people-csv" || !certificate) {
				return usageError("%q is not a format of a report; use html, csv or json", format)
			}
			c := a.client()
			write := c.Report
			if certificate {
				write = c.Certificate
			}
			if out == "" || out == "-" {
				return write(ctx, id, format, a.out)
			}
			if _, err := c.Run(ctx, id); err != nil {
				return err
			}
			if err := a.mayReplace(out, yes); err != nil {
				return err
			}
			return a.writeFile(out, func(w io.Writer) error { return write(ctx, id, format, w) })
		})
	flags := command.Flags()
	command.Example = "  heron run report RUN --out report.html\n  heron run report RUN --certificate --out certificate.json\n" +
		"  heron run report --check certificate.json --files"
	flags.BoolVar(&certificate, "certificate", false, "the certificate of a migration's final pass, in place of the report")
	flags.BoolVar(&check, "check", false, "check whether a file is an unaltered report or certificate, and whether the records still "+
		"agree; give the file instead of RUN")
	flags.BoolVar(&files, "files", false, "with --check of a certificate: also read every file at the target, and compare it with the "+
		"certificate")
	flags.StringVar(&format, "format", "", "html, csv or json (else by the ending of --out, else html); of a certificate "+
		"also people-csv: the rights that could not be carried over")
	flags.StringVar(&out, "out", "", "the file to write; else standard output")
	flags.BoolVar(&yes, "yes", false, "replace the file without asking")
	return command
}

// mayReplace asks before a file is replaced.
func (a *app) mayReplace(path string, yes bool) error {
	if _, err := os.Stat(path); err != nil {
		return nil
	}
	return a.confirm(yes, fmt.Sprintf("Replace %s?", path), "replace "+path)
}

// writeFile writes a file whole or not at all.
func (a *app) writeFile(path string, write func(io.Writer) error) error {
	file, err := os.CreateTemp(filepath.Dir(path), ".heron-report-*")
	if err != nil {
		return usageError("%s cannot be written (%v); choose another file", path, bareError(err))
	}
	defer os.Remove(file.Name())
	if err := write(file); err != nil {
		file.Close()
		return err
	}
	if err := file.Close(); err != nil {
		return err
	}
	if err := os.Chmod(file.Name(), 0o644); err != nil {
		return err
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return err
	}
	_, err = fmt.Fprintf(a.out, "Wrote %s.\n", path)
	return err
}
