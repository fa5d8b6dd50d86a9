package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) runList() *cobra.Command {
	var most int
	var filter client.RunFilter
	var since, until string
	command := &cobra.Command{
		Use: "list", Short: "List runs, newest first", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			var err error
			if filter.From, err = moment("since", since); err != nil {
				return err
			}
			if filter.To, err = moment("until", until); err != nil {
				return err
			}
			t := a.newTable("RUN", "STATE", "ITEMS", "FAILED", "BYTES", "STARTED", "SOURCE AND TARGET")
			alignRight(t, 3, 4, 5)
			n := 0
			for run, err := range a.client().Runs(command.Context(), filter) {
				if err != nil {
					return err
				}
				if n++; most > 0 && n > most {
					break
				}
				if a.json {
					if err := a.printJSON(run); err != nil {
						return err
					}
					continue
				}
				t.AppendRow(table.Row{
					run.ID, a.stateMark(string(run.State)), format.Count(run.Items.Done), format.Count(run.Items.Failed),
					format.Size(run.Bytes.Transferred),
					when(run.Started), format.Plain(a.routesInRow(run)),
				})
			}
			if a.json {
				return nil
			}
			if n == 0 {
				text := "No run matches. Use other filters, or none."
				if filter.IsZero() {
					text = "Nothing has run yet. Start with: heron copy ADDRESS... TARGET"
				}
				_, err := fmt.Fprintln(a.out, text)
				return err
			}
			t.Render()
			return nil
		},
	}
	flags := command.Flags()
	flags.IntVar(&most, "most", 50, "number of runs; 0 is all")
	flags.StringVar(&filter.Job, "job", "", "runs of this job")
	flags.StringVar(&filter.Account, "account", "", "runs that read from or write to this account")
	flags.StringSliceVar(&filter.States, "state", nil, "runs in these states: queued, running, paused, held, done, partial, failed, cancelled")
	flags.StringVar(&filter.Text, "text", "", "runs with this text in the id, the name of the job or an address")
	flags.StringVar(&since, "since", "", "runs since a day (2026-12-01) or a time (2026-12-01T08:00)")
	flags.StringVar(&until, "until", "", "runs before a day or a time")
	return command
}

// moment reads a day or a time of this machine's zone; empty is none.
func moment(option, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.DateOnly, "2006-01-02T15:04", "2006-01-02 15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usageError("--%s %q is not a time; write it as 2026-12-01 or 2026-12-01T08:00", option, text)
}

// routesInRow returns the routes of a run, shortened to the rest of a line on a terminal.
func (a *app) routesInRow(run contract.Run) string {
	const before = 72 // columns
	text := routesOf(run)
	if width := columns(os.Stdout) - before; run.MoreRoutes == 0 && (!a.terminal || width <= 0 || len(text) <= width || len(run.Routes) < 2) {
		return text
	}
	first := jobRoutes(contract.JobSpec{Type: run.Type, Routes: run.Routes[:1]})
	return fmt.Sprintf("%s and %d more", first, len(run.Routes)+run.MoreRoutes-1)
}

func routesOf(run contract.Run) string {
	return jobRoutes(contract.JobSpec{Type: run.Type, Routes: run.Routes})
}
