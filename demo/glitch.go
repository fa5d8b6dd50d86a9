package demo

import (
	"context"
	"fmt"
	"time"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

// mirror is the job that the glitch would have had lose files.
var mirror = contract.JobSpec{
	Name: "office-mirror", Type: "mirror", Routes: []contract.Route{{From: "/office-drive/Reports", To: "/archive/mirror/Reports"}},
	History: contract.HistoryRules{Keep: contract.HistoryKeep{All: "7d", Daily: "60d"}, Locked: "1d"},
}

// glitch has the provider of the office drive lose files without a word, and shows what a
// mirror of it makes of that: its run is held. Let go all the same, everything comes back.
func glitch(ctx context.Context, options Options, c *client.Client, places *places) error {
	fmt.Fprintln(options.Out, "\nThe day of the glitch: /office-drive/Reports is mirrored, and its provider loses the reports without a word.")
	if err := makeJob(ctx, c, mirror); err != nil {
		return err
	}
	run, err := carriedOut(ctx, c, mirror.Name)
	if err != nil {
		return err
	}
	fmt.Fprintf(options.Out, "  %s: %d files are mirrored\n", mirror.Name, run.Items.Done+run.Items.UpToDate)
	rehearsal, err := rehearsed(ctx, c, mirror.Name)
	if err != nil {
		return err
	}
	fmt.Fprintf(options.Out, "  A restore was rehearsed: %d of %d files came back as they were recorded\n", rehearsal.Files-rehearsal.Failed,
		rehearsal.OfFiles)
	before := time.Now()
	lost, back, err := places.clouds.Alder.Control.Glitch("/Reports")
	if err != nil {
		return err
	}
	if run, err = carriedOut(ctx, c, mirror.Name); err != nil {
		return err
	}
	happened := "lost " + format.Some(int64(lost), "file")
	if back > 0 {
		happened += " and rolled " + format.Some(int64(back), "file") + " back"
	}
	fmt.Fprintf(options.Out, "  The provider %s. The next run is %s: %s\n", happened, run.State, run.Why)
	if run.State == "held" {
		if err := c.Approve(ctx, run.ID, contract.Approval{}); err != nil {
			return err
		}
		if run, err = options.Follow(ctx, c, run.ID); err != nil {
			return err
		}
	}
	fmt.Fprintf(options.Out, "  Approved by mistake, it deleted %d files. Each is a version in history\n", run.Items.Done)
	if run, err = restored(ctx, options, c, contract.Restore{Address: mirror.Routes[0].To, At: before}); err != nil {
		return err
	}
	fmt.Fprintf(options.Out, "  Restored as of %s: %s, with %s transferred, as the archive copies within itself\n", before.Format("15:04:05"),
		format.Some(run.Items.Done, "file"), format.Size(run.Bytes.Transferred))
	run, err = restored(ctx, options, c, contract.Restore{Address: mirror.Routes[0].To, At: before, To: "/office-drive"})
	if err != nil {
		return err
	}
	fmt.Fprintf(options.Out, "  And back to /office-drive: %s\n", format.Some(run.Items.Done, "file"))
	return nil
}

func restored(ctx context.Context, options Options, c *client.Client, what contract.Restore) (contract.Run, error) {
	started, err := c.Restore(ctx, what)
	if err != nil {
		return contract.Run{}, err
	}
	run, err := options.Follow(ctx, c, started.Run)
	if err == nil && run.State != "done" {
		err = fmt.Errorf("the restore of %s is %s: %s", what.Address, run.State, run.Why)
	}
	return run, err
}

// carriedOut carries a job out, up to its end or until it is held.
func carriedOut(ctx context.Context, c *client.Client, job string) (run contract.Run, err error) {
	started, err := c.StartJob(ctx, job)
	if err != nil {
		return run, err
	}
	err = until(ctx, func() bool {
		run, err = c.Run(ctx, started.Run)
		return err != nil || run.Ended != nil || run.State == "held"
	})
	return run, err
}

func rehearsed(ctx context.Context, c *client.Client, job string) (one contract.Rehearsal, err error) {
	begun, err := c.Rehearse(ctx, job, contract.NewRehearsal{})
	if err != nil {
		return begun, err
	}
	err = until(ctx, func() bool {
		all, failed := c.Rehearsals(ctx, job)
		if failed != nil || len(all.Rehearsals) == 0 || all.Rehearsals[0].State == "running" {
			return false
		}
		one = all.Rehearsals[0]
		return true
	})
	return one, err
}
