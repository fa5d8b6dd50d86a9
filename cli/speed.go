package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
	"deftheron/core/remedy"
)

func (a *app) accountSpeed() *cobra.Command {
	var size string
	var number, lanes int
	var last bool
	command := &cobra.Command{
		Use: "speed NAME [OTHER]", Short: "Measure the speed of an account", Args: arguments(1, 2, "one account's name, or two to compare"),
		Long: "Writes scratch files below .heron at the account's start, reads them back and deletes them. " +
			"The result is kept for\ncomparison. Two accounts are measured one after the other.",
		Example:           "  heron account speed archive --size 4MiB --number 16\n  heron account speed gauges-by-sftp gauges-by-webdav",
		ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			bytes, err := humanize.ParseBytes(size)
			if err != nil {
				return usageError("--size %q is not a size; give one such as 4MiB", size)
			}
			return a.measure(command.Context(), args, contract.SpeedCheck{Size: int64(bytes), Number: number, Lanes: lanes}, last)
		},
	}
	command.Flags().StringVar(&size, "size", "1MiB", "the size of each scratch file")
	command.Flags().IntVar(&number, "number", 16, "how many scratch files")
	command.Flags().IntVar(&lanes, "parallel", 4, "parallel transfers")
	command.Flags().BoolVar(&last, "last", false, "show the last result and measure nothing")
	return command
}

func (a *app) measure(ctx context.Context, names []string, check contract.SpeedCheck, last bool) error {
	c := a.client()
	var rows []table.Row
	for _, name := range names {
		name = strings.Trim(name, "/")
		before, err := c.Speeds(ctx, name)
		if err != nil {
			return err
		}
		var speeds []contract.Speed
		if last {
			speeds, before = before, nil
			if len(speeds) == 0 {
				return remedy.Errorf("nothing was measured of %s yet; measure it with: heron account speed %s", name, name)
			}
		} else {
			if !a.json && a.terminal {
				fmt.Fprintf(a.err, "Measuring /%s with %d files of %s…\n", name, check.Number, format.Size(check.Size))
			}
			measured, err := c.MeasureSpeed(ctx, name, check)
			if err != nil {
				return err
			}
			speeds = []contract.Speed{measured}
		}
		for _, speed := range speeds {
			if a.json {
				if err := a.printJSON(speed); err != nil {
					return err
				}
				continue
			}
			rows = append(rows, a.speedRows(speed, alike(before, speed))...)
		}
	}
	if a.json {
		return nil
	}
	t := a.newTable("ACCOUNT", "", "FILES", "RATE", "FILES A SECOND", "DELAY", "SLOWEST", "LAST TIME")
	alignRight(t, 4, 5, 6, 7)
	for _, row := range rows {
		t.AppendRow(row)
	}
	t.Render()
	return nil
}

// alike is the latest check before that was done with the same files; nil for none.
func alike(before []contract.Speed, speed contract.Speed) *contract.Speed {
	for _, one := range before {
		if one.Size == speed.Size && one.Number == speed.Number && one.Lanes == speed.Lanes {
			return &one
		}
	}
	return nil
}

func (a *app) speedRows(speed contract.Speed, before *contract.Speed) []table.Row {
	files := fmt.Sprintf("%d of %s, %d at once", speed.Number, format.Size(speed.Size), speed.Lanes)
	row := func(name, what, files string, now contract.SpeedPhase, then func(contract.Speed) contract.SpeedPhase) table.Row {
		rate := format.Size(int64(now.Rate)) + "/s"
		if now.Rate == 0 {
			rate = ""
		}
		last := ""
		if before != nil {
			was := then(*before)
			last = fmt.Sprintf("%.1f a second, %s", was.Files, when(&before.At))
		}
		return table.Row{name, what, files, rate, fmt.Sprintf("%.1f", now.Files), milliseconds(now.Delay), milliseconds(now.Slowest),
			a.paint(soft, last)}
	}
	return []table.Row{
		row("/"+speed.Account, "write", files, speed.Write, func(s contract.Speed) contract.SpeedPhase { return s.Write }),
		row("", "read", a.paint(soft, when(&speed.At)), speed.Read, func(s contract.Speed) contract.SpeedPhase { return s.Read }),
		row("", "remove", "", speed.Remove, func(s contract.Speed) contract.SpeedPhase { return s.Remove }),
	}
}

func milliseconds(seconds float64) string {
	return fmt.Sprintf("%.1f ms", seconds*1000)
}
