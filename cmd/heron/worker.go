package main

import (
	"context"
	"fmt"
	"os"

	"deftheron/cli"
	"deftheron/worker"
)

func workerOptions(options cli.WorkerOptions) (worker.Options, error) {
	all, err := providers()
	return worker.Options{Data: options.Data, Folders: options.Folders, CAFile: options.CAFile, Parallel: options.Parallel,
		Providers: all, Version: release}, err
}

// runWorker works for a service until the context ends.
func runWorker(ctx context.Context, options cli.WorkerOptions) error {
	settings, err := workerOptions(options)
	if err != nil {
		return err
	}
	settings.Log, err = logger(cli.ServeOptions{LogLevel: options.LogLevel, LogFormat: options.LogFormat}, os.Stderr)
	if err != nil {
		return err
	}
	return worker.Run(ctx, settings)
}

// joinWorker has this machine join a service.
func joinWorker(ctx context.Context, options cli.WorkerOptions) error {
	settings, err := workerOptions(options)
	if err != nil {
		return err
	}
	name, site, err := worker.Join(ctx, settings, worker.Joining{URL: options.URL, Code: options.Code, Again: options.Again})
	if err != nil {
		return err
	}
	fmt.Fprintf(options.Out, "This machine is the worker %s at the site %s. Start it with: heron worker --data %s\n", name, site, options.Data)
	return nil
}
