package demo

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"deftheron/client"
	"deftheron/contract"
)

// The worker of the demo: the machine at the gauges, on the premises.
const (
	workerName = "gauge-house"
	workerSite = "premises"
)

// workerTime is how long the worker may take to connect.
const workerTime = 20 * time.Second

// startWorker has a process of this program join the service as a worker, which reaches the gauges.
// It ends with the places. The site is empty where there is no program to run.
func startWorker(ctx context.Context, options Options, c *client.Client, places *places) (site string, err error) {
	if options.Program == "" {
		return "", nil
	}
	workers, err := c.Workers(ctx)
	if err != nil {
		return "", err
	}
	var code contract.WorkerCode
	if slices.ContainsFunc(workers, func(one contract.Worker) bool { return one.Name == workerName }) { // of a demo that was kept
		code, err = c.NewWorkerCode(ctx, workerName)
	} else {
		code, err = c.CreateWorker(ctx, contract.NewWorker{Name: workerName, Site: workerSite})
	}
	if err != nil {
		return "", err
	}
	data := filepath.Join(places.dir, "worker")
	join := exec.CommandContext(ctx, options.Program, "worker", "join", code.URL, code.Code, "--data", data, "--again")
	if said, err := join.CombinedOutput(); err != nil {
		return "", fmt.Errorf("the worker did not join: %w: %s", err, said)
	}
	process := exec.CommandContext(places.running, options.Program, "worker", "--data", data, "--log-level", "error")
	process.Cancel = func() error { return process.Process.Signal(syscall.SIGTERM) }
	process.WaitDelay = 5 * time.Second
	if err := process.Start(); err != nil {
		return "", fmt.Errorf("start the worker: %w", err)
	}
	places.group.Go(func() error {
		_ = process.Wait() // it is ended
		return nil
	})
	for deadline := time.Now().Add(workerTime); ; {
		workers, err := c.Workers(ctx)
		if err != nil {
			return "", err
		}
		if slices.ContainsFunc(workers, func(one contract.Worker) bool { return one.Name == workerName && one.State == "connected" }) {
			fmt.Fprintf(options.Out, "The worker %s, a process of its own, is connected at the site %s.\n\n", workerName, workerSite)
			return workerSite, nil
		}
		if time.Now().After(deadline) {
			return "", errors.New("the worker did not connect in time")
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
