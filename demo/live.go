package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"deftheron/client"
	"deftheron/contract"
)

// consolidation is the job that the demo carries out first.
const consolidation = "consolidation"

// jobs are those of the scenario: the consolidation, and what is kept in sync after it.
var jobs = []contract.JobSpec{
	{Name: consolidation, Type: "consolidate", Routes: []contract.Route{
		{From: "/field-drive", To: "/archive/field-drive"}, {From: "/office-drive", To: "/archive/office-drive"},
		{From: "/gauge-share", To: "/archive/gauge-share"}, {From: "/desk", To: "/archive/desk"},
	}},
	{Name: "gauges", Type: "copy", Routes: []contract.Route{{From: "/gauge-share", To: "/archive/gauge-share"}}},
	{Name: "desk-and-drive", Type: "two-way", Routes: []contract.Route{{From: "/desk/Work", To: "/office-drive/From the desk"}}},
}

// makeJob makes a job, or takes up that of a demo that was kept.
func makeJob(ctx context.Context, c *client.Client, spec contract.JobSpec) error {
	_, err := c.CreateJob(ctx, contract.NewJob{Spec: spec})
	var problem *contract.Problem
	if errors.As(err, &problem) && problem.Status == 409 {
		_, err = c.ChangeJob(ctx, spec.Name, spec, time.Time{})
	}
	return err
}

// live has the gauges copied and the desk kept in sync for good, and shows both at work.
func live(ctx context.Context, options Options, c *client.Client, desk string) error {
	fmt.Fprintln(options.Out, "\nTwo continuous jobs: /gauge-share is copied to /archive, and /desk/Work and /office-drive/From the desk "+
		"are kept identical.")
	for _, spec := range jobs[1:] {
		spec.When.Continuous = true
		if _, err := c.ChangeJob(ctx, spec.Name, spec, time.Time{}); err != nil {
			return err
		}
	}
	for _, spec := range jobs[1:] {
		run, err := inStep(ctx, c, spec.Name)
		if err != nil {
			return err
		}
		fmt.Fprintf(options.Out, "  %s: in sync, %d items done by run %s\n", spec.Name, run.Items.Done, run.ID)
	}
	note := filepath.Join(desk, "Work", "A note from the desk.txt")
	begun := time.Now()
	if err := os.WriteFile(note, []byte("The gauge at Tollmouth was read by hand today.\n"), 0o644); err != nil {
		return err
	}
	if err := until(ctx, func() bool {
		_, err := c.Stat(ctx, "/office-drive/From the desk/A note from the desk.txt")
		return err == nil
	}); err != nil {
		return fmt.Errorf("the note did not come to /office-drive: %w", err)
	}
	fmt.Fprintf(options.Out, "  A note written at the desk reached /office-drive after %.1f s\n", time.Since(begun).Seconds())
	before, err := c.Job(ctx, "gauges")
	if err != nil {
		return err
	}
	if err := until(ctx, func() bool {
		now, err := c.Job(ctx, "gauges")
		return err == nil && now.Last != nil && before.Last != nil && now.Last.Items.Done > before.Last.Items.Done
	}); err != nil {
		return fmt.Errorf("no reading of a gauge came to /archive: %w", err)
	}
	fmt.Fprintln(options.Out, "  A gauge logged a reading, and it reached /archive")
	return nil
}

// inStep waits until the run of a continuous job waits for changes.
func inStep(ctx context.Context, c *client.Client, name string) (run contract.Run, err error) {
	err = until(ctx, func() bool {
		job, err := c.Job(ctx, name)
		if err != nil || job.Last == nil {
			return false
		}
		run = *job.Last
		return run.Watching || run.State == "held" || run.State == "failed"
	})
	if err == nil && !run.Watching {
		err = fmt.Errorf("the run %s of %s is %s: %s", run.ID, name, run.State, run.Why)
	}
	return run, err
}

// until waits for something that is to become true within a minute.
func until(ctx context.Context, is func() bool) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	for !is() {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}
