package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

// WorkerOptions are the options with which a worker starts, or joins.
type WorkerOptions struct {
	Data      string
	Folders   []string
	Parallel  int
	CAFile    string
	LogLevel  string
	LogFormat string
	// URL and Code are of the service to join; Again replaces the keys of a machine that is a worker.
	URL, Code string
	Again     bool
	Out       io.Writer
}

func (a *app) worker() *cobra.Command {
	options := WorkerOptions{Out: a.out}
	command := &cobra.Command{
		Use: "worker", Short: "Run and manage workers",
		Long: "Runs this machine as a worker: it dials out to the service that it joined, and reaches places for it that the service\n" +
			"does not, such as a server on the premises, or folders of this machine below --folders.",
		Args: func(command *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usageError("%s has no verb %q; see: %s --help", command.CommandPath(), args[0], command.CommandPath())
			}
			return nil
		},
		Example: "  heron worker --folders /srv/gauges",
		RunE:    func(command *cobra.Command, _ []string) error { return a.programs.Worker(command.Context(), options) },
	}
	workerData(command, &options)
	flags := command.Flags()
	flags.StringArrayVar(&options.Folders, "folders", nil, "allow accounts below this folder of this machine; repeatable")
	flags.IntVar(&options.Parallel, "parallel", 16, "parallel transfers for runs")
	flags.StringVar(&options.LogLevel, "log-level", "info", "debug, info, warn or error")
	flags.StringVar(&options.LogFormat, "log-format", "text", "text or json")
	command.AddCommand(a.workerJoin(), a.workerCreate(), a.workerList(), a.workerCode(), a.workerRename(), a.workerDrain("drain", true),
		a.workerDrain("resume", false), a.workerGrant(true), a.workerGrant(false), a.workerAssign(true), a.workerAssign(false),
		a.workerRemove())
	return command
}

func workerData(command *cobra.Command, options *WorkerOptions) {
	command.Flags().StringVar(&options.Data, "data", "heron-worker", "the folder in which the worker keeps its keys")
	command.Flags().StringVar(&options.CAFile, "ca-file", "", "PEM file of certificates to trust for the service, in addition to the system's")
}

func (a *app) workerJoin() *cobra.Command {
	options := WorkerOptions{Out: a.out}
	command := &cobra.Command{
		Use: "join URL CODE", Short: "Join a service as a worker", Args: arguments(2, 2, "the URL of the service and a code"),
		Example: "  heron worker join https://heron.example.org QXJ4K-7MZ2P-LD5WV-3TNYB",
		RunE: func(command *cobra.Command, args []string) error {
			options.URL, options.Code = args[0], args[1]
			return a.programs.JoinWorker(command.Context(), options)
		},
	}
	workerData(command, &options)
	command.Flags().BoolVar(&options.Again, "again", false, "replace the keys of the worker that this machine was")
	return command
}

func (a *app) workerCreate() *cobra.Command {
	var asked contract.NewWorker
	command := &cobra.Command{
		Use: "create NAME", Short: "Create a worker and a code to join with", Args: arguments(1, 1, "a name"),
		Example: "  heron worker create gauge-house --site premises",
		RunE: func(command *cobra.Command, args []string) error {
			asked.Name = args[0]
			return a.showCode(a.client().CreateWorker(command.Context(), asked))
		},
	}
	command.Flags().StringVar(&asked.Site, "site", "", "the network that the worker is in (default the name of the worker)")
	return command
}

func (a *app) workerCode() *cobra.Command {
	return &cobra.Command{
		Use: "code NAME", Short: "Create another code to join with; the worker's old keys end", Args: arguments(1, 1, "a worker"),
		RunE: func(command *cobra.Command, args []string) error {
			return a.showCode(a.client().NewWorkerCode(command.Context(), args[0]))
		},
	}
}

// showCode prints how a worker joins.
func (a *app) showCode(code contract.WorkerCode, err error) error {
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(code)
	}
	_, err = fmt.Fprintf(a.out, "The worker %s at the site %s can join. On its machine, before %s, run:\n\n"+
		"  heron worker join %s %s\n  heron worker\n\n",
		format.Plain(code.Worker.Name), format.Plain(code.Worker.Site), when(&code.Ends), code.URL, code.Code)
	return err
}

func (a *app) workerList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the workers", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			workers, err := a.client().Workers(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(workers)
			}
			if len(workers) == 0 {
				_, err := fmt.Fprintln(a.out, "There is no worker. A worker reaches places that the service does not: heron worker create NAME")
				return err
			}
			a.printWorkers(workers)
			if sharing, err := a.client().WorkerSharing(command.Context()); err == nil && sharing.OnlyWorkers {
				fmt.Fprintln(a.out, sharingText(sharing))
			}
			for _, one := range workers {
				if one.Remedy != "" {
					fmt.Fprintf(a.out, "%s is %s. %s\n", one.Name, one.State, strings.ReplaceAll(one.Remedy, "NAME", one.Name))
				}
			}
			return nil
		},
	}
}

// printWorkers prints workers as a table. Columns that are empty for all are left out.
func (a *app) printWorkers(workers []contract.Worker) {
	granted := slices.ContainsFunc(workers, func(one contract.Worker) bool { return len(one.Granted) > 0 })
	managed := slices.ContainsFunc(workers, func(one contract.Worker) bool { return len(one.Managers) > 0 })
	columns := []any{"NAME", "SITE", "STATE", "LAST SEEN", "VERSION", "LOAD", "COPYING", "FROM", "ACCOUNTS"}
	if granted {
		columns = append(columns, "GRANTED")
	}
	if managed {
		columns = append(columns, "MANAGERS")
	}
	t := a.newTable(columns...)
	for _, one := range workers {
		load, copies := "", ""
		if one.Processors > 0 {
			load = fmt.Sprintf("%.1f of %d", one.Load, one.Processors)
		}
		if one.Parallel > 0 {
			copies = fmt.Sprintf("%d of %d", min(one.Items, one.Parallel), one.Parallel)
		}
		row := table.Row{one.Name, one.Site, one.State, when(one.Seen), one.Version, load, copies, one.From, strings.Join(one.Accounts, ", ")}
		if granted {
			row = append(row, strings.Join(one.Granted, ", "))
		}
		if managed {
			row = append(row, strings.Join(one.Managers, ", "))
		}
		t.AppendRow(row)
	}
	t.Render()
}

func (a *app) workerRename() *cobra.Command {
	return &cobra.Command{
		Use: "rename NAME TO", Short: "Give a worker another name", Args: arguments(2, 2, "a worker and its new name"),
		RunE: func(command *cobra.Command, args []string) error {
			return a.showWorker(a.client().ChangeWorker(command.Context(), args[0], contract.WorkerChange{Name: args[1]}))
		},
	}
}

func (a *app) workerDrain(verb string, drain bool) *cobra.Command {
	short := "Drain a worker: it finishes its work and takes nothing new"
	long := short + ".\nWith the name " + ofService + ", the service itself leaves to workers what they can copy."
	if !drain {
		short = "Resume a drained worker"
		long = short + ", or one that was not trusted.\nWith the name " + ofService + ", the service itself copies again too."
	}
	return &cobra.Command{
		Use: verb + " NAME", Short: short, Long: long, Args: arguments(1, 1, "a worker"),
		RunE: func(command *cobra.Command, args []string) error {
			if args[0] == ofService {
				return a.shareWork(command.Context(), drain)
			}
			return a.showWorker(a.client().ChangeWorker(command.Context(), args[0], contract.WorkerChange{Draining: &drain}))
		},
	}
}

// ofService is the name of the service in commands about workers.
const ofService = "service"

func (a *app) shareWork(ctx context.Context, onlyWorkers bool) error {
	sharing := contract.WorkerSharing{OnlyWorkers: onlyWorkers}
	if err := a.client().SetWorkerSharing(ctx, sharing); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(sharing)
	}
	_, err := fmt.Fprintln(a.out, sharingText(sharing))
	return err
}

func sharingText(sharing contract.WorkerSharing) string {
	if sharing.OnlyWorkers {
		return "The service leaves to workers what they can copy, while there are any."
	}
	return "The service copies beside its workers."
}

func (a *app) workerGrant(grant bool) *cobra.Command {
	command := &cobra.Command{
		Use: "grant NAME ACCOUNT...", Short: "Grant a worker accounts of the service, to copy between them",
		Long: "Gives a worker the secrets of accounts that the service reaches, sealed to the worker's key and kept in its memory alone.\n" +
			"A run between two accounts is shared by the service and all workers that have both.",
		Args:    arguments(2, 100, "a worker and accounts"),
		Example: "  heron worker grant gauge-house archive",
		RunE: func(command *cobra.Command, args []string) error {
			return a.changeGrants(command.Context(), args[0], contract.WorkerChange{Grant: args[1:]})
		},
	}
	if !grant {
		command.Use, command.Short, command.Long = "revoke NAME ACCOUNT...", "Revoke accounts of the service that a worker was granted", ""
		command.Example = "  heron worker revoke gauge-house archive"
		command.RunE = func(command *cobra.Command, args []string) error {
			return a.changeGrants(command.Context(), args[0], contract.WorkerChange{Revoke: args[1:]})
		}
	}
	return command
}

func (a *app) workerAssign(assign bool) *cobra.Command {
	command := &cobra.Command{
		Use: "assign NAME USER...", Short: "Assign operators to manage a worker",
		Long: "Lets operators rename, drain and resume a worker, and create another code for it. Which accounts it may have, and who\n" +
			"manages it, remains up to the owners of the service.",
		Args:    arguments(2, 100, "a worker and users"),
		Example: "  heron worker assign gauge-house field-technician",
		RunE: func(command *cobra.Command, args []string) error {
			return a.changeManagers(command.Context(), args[0], contract.WorkerChange{Assign: args[1:]})
		},
	}
	if !assign {
		command.Use, command.Short, command.Long = "unassign NAME USER...", "Remove managers from a worker", ""
		command.Example = "  heron worker unassign gauge-house field-technician"
		command.RunE = func(command *cobra.Command, args []string) error {
			return a.changeManagers(command.Context(), args[0], contract.WorkerChange{Unassign: args[1:]})
		}
	}
	return command
}

func (a *app) changeManagers(ctx context.Context, name string, change contract.WorkerChange) error {
	worker, err := a.client().ChangeWorker(ctx, name, change)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(worker)
	}
	_, err = fmt.Fprintf(a.out, "The worker %s is managed by %s.\n", worker.Name, strings.Join(append([]string{"the owners"},
		worker.Managers...), ", "))
	return err
}

func (a *app) changeGrants(ctx context.Context, name string, change contract.WorkerChange) error {
	for _, list := range [][]string{change.Grant, change.Revoke} {
		for i, account := range list {
			list[i] = strings.Trim(account, "/")
		}
	}
	worker, err := a.client().ChangeWorker(ctx, name, change)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(worker)
	}
	may := "no account of the service"
	if len(worker.Granted) > 0 {
		may = "/" + strings.Join(worker.Granted, ", /")
	}
	fmt.Fprintf(a.out, "The worker %s may have %s.\n", worker.Name, may)
	if len(change.Revoke) > 0 {
		_, err = fmt.Fprintln(a.out, "It may have had the secrets. If its machine is not in your hands, replace them at the provider, "+
			"then: heron account reauthorize NAME")
	}
	return err
}

func (a *app) showWorker(worker contract.Worker, err error) error {
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(worker)
	}
	_, err = fmt.Fprintf(a.out, "The worker %s at the site %s is %s.\n", worker.Name, worker.Site, worker.State)
	return err
}

func (a *app) workerRemove() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "remove NAME", Short: "Remove a worker; its keys end at once", Args: arguments(1, 1, "a worker"),
		RunE: func(command *cobra.Command, args []string) error {
			if err := a.confirm(yes, fmt.Sprintf("Remove the worker %s? Its keys end at once.", args[0]), "remove the worker"); err != nil {
				return err
			}
			return a.removeWorker(command.Context(), args[0])
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) removeWorker(ctx context.Context, name string) error {
	removed, err := a.client().RemoveWorker(ctx, name)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(removed)
	}
	fmt.Fprintf(a.out, "Removed the worker %s.\n", name)
	if len(removed.Secrets) > 0 {
		fmt.Fprintf(a.out, "It may have had the secrets of /%s. If its machine is not in your hands, replace them at the provider, "+
			"then: heron account reauthorize NAME\n", strings.Join(removed.Secrets, ", /"))
	}
	return nil
}
