package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) lock() *cobra.Command {
	var asked contract.NewLock
	var until string
	command := &cobra.Command{
		Use: "lock ADDRESS... [options]", Short: "Lock files and folders, so that nobody else changes them",
		ValidArgsFunction: a.completeAddresses, Args: arguments(1, -1, "one address or several"),
		Long: "Until the lock ends, others cannot change the file, or anything in the folder, through the service, and runs skip it\n" +
			"with the cause locked. WebDAV servers enforce the lock too. Locking again renews a lock.",
		Example: "  heron lock /office-drive/Reports/Weir.odt --for 2h --reason \"Figures are being corrected.\"\n  heron lock list",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			asked.Addresses = args
			if until != "" {
				at, err := lockEnd(until, time.Now())
				if err != nil {
					return err
				}
				asked.Until = &at
			}
			locked, err := a.client().Lock(command.Context(), asked)
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(locked) })
			}
			return a.printLocked(locked)
		},
	}
	command.Flags().StringVar(&asked.For, "for", "", "how long: 30m, 2h or 3d (default 8h, at most 90d)")
	command.Flags().StringVar(&until, "until", "", "when the lock ends: 18:30 or 2026-12-01 18:30")
	command.Flags().StringVar(&asked.Reason, "reason", "", "why, for the others")
	command.MarkFlagsMutuallyExclusive("for", "until")
	command.AddCommand(&cobra.Command{
		Use: "list", Short: "List locks", Args: arguments(0, 0, "nothing more"), Example: "  heron lock list",
		RunE: func(command *cobra.Command, _ []string) error {
			locked, err := a.client().Locks(command.Context())
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(locked) })
			}
			if len(locked) == 0 {
				_, err := fmt.Fprintln(a.out, "Nothing is locked.")
				return err
			}
			t := a.newTable("LOCKED BY", "UNTIL", "REASON", "ADDRESS")
			for _, one := range locked {
				t.AppendRow(table.Row{format.Plain(one.Lock.By), when(&one.Lock.Until), format.Plain(one.Lock.Reason), format.Plain(one.Address)})
			}
			t.Render()
			return nil
		},
	})
	return command
}

// lockEnd reads a time of today, or of tomorrow if it is past, or a date and a time.
func lockEnd(text string, now time.Time) (time.Time, error) {
	if at, err := time.ParseInLocation("15:04", text, time.Local); err == nil {
		end := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, time.Local)
		if !end.After(now) {
			end = end.AddDate(0, 0, 1)
		}
		return end, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", time.DateOnly} {
		if at, err := time.ParseInLocation(layout, strings.TrimSpace(text), time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usageError("--until %q is not a time; write it as 18:30 or \"2026-12-01 18:30\"", text)
}

func (a *app) printLocked(locked []contract.Annotations) error {
	for _, one := range locked {
		where := ""
		if one.Lock.AtServer {
			where = ", at its server too"
		}
		if _, err := fmt.Fprintf(a.out, "%s is locked until %s%s.\n", format.Plain(one.Address), when(&one.Lock.Until), where); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) unlock() *cobra.Command {
	return &cobra.Command{
		Use: "unlock ADDRESS...", Short: "End locks of yours; an owner ends any", Args: arguments(1, -1, "one address or several"),
		ValidArgsFunction: a.completeAddresses, Example: "  heron unlock /office-drive/Reports/Weir.odt",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			noted, err := a.client().Unlock(command.Context(), args)
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(noted) })
			}
			_, err = fmt.Fprintf(a.out, "%s ended.\n", format.Some(noted.Changed, "lock"))
			return err
		},
	}
}
