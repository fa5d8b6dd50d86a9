package runner_test

import (
	"errors"
	"sync"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/store"
)

// TestManyHandsOnOneRun pauses, resumes and approves a run, changes its priority and its
// limit, and looks at it, all at once: it goes on and ends well, or as cancelled where that
// is asked for too. Run it with -race.
func TestManyHandsOnOneRun(t *testing.T) {
	t.Run("to its end", func(t *testing.T) { manyHands(t, false) })
	t.Run("cancelled", func(t *testing.T) { manyHands(t, true) })
}

func manyHands(t *testing.T, cancel bool) {
	o := newOffice(t, t.TempDir())
	from, to := t.TempDir(), t.TempDir()
	files := numbered(400, "content")
	put(t, from, files)
	o.link("desk", from)
	o.link("archive", to)
	started, err := o.runner.Copy(t.Context(), contract.Copy{From: []string{"/desk"}, To: "/archive"})
	if err != nil {
		t.Fatal(err)
	}
	over := time.Now().Add(2 * time.Second)
	var group sync.WaitGroup
	do := func(what func(i int) error) {
		group.Go(func() {
			for i := 0; time.Now().Before(over); i++ {
				if err := what(i); err != nil && !errors.Is(err, store.ErrRefused) {
					t.Error(err)
					return
				}
				time.Sleep(time.Millisecond)
			}
		})
	}
	ctx := t.Context()
	for range 2 {
		do(func(int) error { return o.runner.Pause(ctx, started.Run) })
		do(func(int) error { return o.runner.Continue(ctx, started.Run) })
	}
	do(func(int) error { return o.runner.Approve(ctx, started.Run, contract.Approval{}) })
	do(func(i int) error {
		return o.runner.SetPriority(ctx, started.Run, []string{"low", "normal", "high"}[i%3])
	})
	do(func(i int) error {
		return o.runner.SetBandwidth(ctx, started.Run, contract.Bandwidth{Up: []string{"", "50MB/s"}[i%2]})
	})
	do(func(int) error {
		o.runner.Progress()
		o.runner.Stats()
		_, err := o.runner.Run(ctx, started.Run)
		return err
	})
	do(func(int) error { return o.runner.WithRunsPaused(ctx, "desk", func() error { return nil }) })
	if cancel {
		time.Sleep(time.Second)
		for range 3 {
			group.Go(func() {
				if err := o.runner.Cancel(ctx, started.Run); err != nil && !errors.Is(err, store.ErrRefused) {
					t.Error(err)
				}
			})
		}
	}
	group.Wait()
	for range 100 {
		if err := o.runner.Continue(ctx, started.Run); err != nil && !errors.Is(err, store.ErrRefused) {
			t.Fatal(err)
		}
		if run, err := o.runner.Run(ctx, started.Run); err == nil && run.Ended != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	run := o.run(started, nil)
	if cancel && run.State == "cancelled" {
		for name, content := range below(holds(t, to), "desk") {
			if files[name] != content {
				t.Errorf("half of %s is left", name)
			}
		}
		return
	}
	if run.State != "done" || len(below(holds(t, to), "desk")) != len(files) {
		t.Errorf("it ended %s (%s) with %d files of %d: %+v", run.State, run.Why, len(below(holds(t, to), "desk")), len(files), run)
	}
}
