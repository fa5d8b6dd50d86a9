package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

func (a *app) job() *cobra.Command {
	return nouns("job", "Create, plan, start and change jobs",
		a.jobCreate(), a.jobList(), a.jobShow(), a.jobEdit(), a.jobLoad(), a.jobPlan(), a.jobStart(), a.jobBringBack(), a.jobPeople(),
		a.jobTest(),
		a.jobArrivals(), a.jobAnnounce(), a.jobSuspend(), a.jobResume(), a.jobDelete())
}

func (a *app) jobVerb(use, short string, do func(ctx context.Context, name string) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: arguments(1, 1, "one job's name"), ValidArgsFunction: a.completeJobs,
		RunE: func(command *cobra.Command, args []string) error { return do(command.Context(), args[0]) },
	}
}

func (a *app) completeJobs(command *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if jobs, err := a.client().Jobs(command.Context()); err == nil && len(args) == 0 {
		for _, job := range jobs {
			names = append(names, job.Name+"\t"+job.Type+", "+job.State)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) jobCreate() *cobra.Command {
	var flags *jobFlags
	var try bool
	command := &cobra.Command{
		Use: "create NAME --from ADDRESS --to ADDRESS [options]", Short: "Create a job",
		Long: "The source appears as the target: --from /desk/Reports --to /archive/reports. A job runs when you start it\n" +
			"(heron job start), on a schedule, or continuously. Jobs of the types mirror and two-way delete files. Versions of\n" +
			"deleted and overwritten files are kept in .heron/history, and a run above a safety limit is held for approval.",
		Example: "  heron job create reports --from /office-drive/Reports --to /archive/reports --weekly \"mon-fri 22:00-06:00\"\n" +
			"  heron job create desk --type two-way --from /desk/Work --to /office-drive/Work --every 15m\n" +
			"  heron job create logs --type mirror --from /gauge-share --to /archive/logs --every 6h --deletions keep-version --safety-deletions 5%",
		Args: arguments(1, 1, "the job's name"), ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(command *cobra.Command, args []string) error {
			spec, err := flags.read(nil)
			if err != nil {
				return err
			}
			if spec.Name = args[0]; len(spec.Routes) == 0 {
				return usageError("a job needs a source and a target; name them with --from and --to")
			}
			if try {
				tried, err := a.client().TryNewArrival(command.Context(), spec.Spec, "")
				if err != nil {
					return err
				}
				return a.tellTried(tried)
			}
			job, err := a.client().CreateJob(command.Context(), spec)
			if err != nil {
				return err
			}
			return a.tellJob(job, "created")
		},
	}
	flags = newJobFlags(command.Flags())
	command.Flags().BoolVar(&flags.spec.Suspended, "suspended", false, "create the job suspended; turn it on with heron job resume NAME")
	command.Flags().BoolVar(&try, "try", false, "for a job on arrivals: show what it would do with the latest arrival, and create nothing")
	a.completeJobFlags(command)
	return command
}

// tellJob says what became of a job.
func (a *app) tellJob(job contract.Job, what string) error {
	if a.json {
		return a.printJSON(job)
	}
	fmt.Fprintln(a.out, a.wrapped(0, fmt.Sprintf("The job %s is %s. %s", job.Name, what, format.Plain(job.Sentence))))
	switch {
	case job.Migration != nil:
		fmt.Fprintln(a.out, a.wrapped(0, format.Plain(job.Migration.Sentence)))
		a.printCommands(job.Migration.Commands)
	case len(job.Next) > 0:
		fmt.Fprintf(a.out, "It runs next at %s.\n", whenIn(job.Next[0], job.When.Zone))
	case job.State == "suspended":
		fmt.Fprintf(a.out, "It is suspended. Turn it on with: heron job resume %s\n", job.Name)
	case job.When.Arrival != "":
		fmt.Fprintf(a.out, "Each %s that arrives is now transferred by a run of its own. See: heron job arrivals %s\n", job.When.Arrival,
			job.Name)
	case job.When.Continuous:
		fmt.Fprintf(a.out, "It now runs as soon as something changes. See its state with: heron job show %s\n", job.Name)
	case job.When.Now && job.Last != nil:
		fmt.Fprintf(a.out, "It has started: heron run follow %s\n", job.Last.ID)
	default:
		fmt.Fprintf(a.out, "Plan it with: heron job plan %s; start it with: heron job start %s\n", job.Name, job.Name)
	}
	return nil
}

func (a *app) jobList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the jobs", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			jobs, err := a.client().Jobs(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				for _, job := range jobs {
					if err := a.printJSON(job); err != nil {
						return err
					}
				}
				return nil
			}
			if len(jobs) == 0 {
				_, err := fmt.Fprintln(a.out, "There is no job yet. Make one with: heron job create NAME --from ADDRESS --to ADDRESS")
				return err
			}
			t := a.newTable("JOB", "TYPE", "LAST RUN", "NEXT", "SOURCE AND TARGET")
			for _, job := range jobs {
				last, next := "—", "when started"
				switch {
				case job.Migration != nil && job.Migration.Next == "":
					next = "it is over"
				case job.Migration != nil && job.Migration.Waits:
					next = "waits: " + job.Migration.Next
				case job.When.Continuous:
					next = "continuously"
				case job.When.Arrival != "":
					next = "on arrivals"
				}
				if job.Last != nil {
					last = a.stateMark(string(job.Last.State))
				}
				switch {
				case job.State == "suspended":
					next = "suspended"
				case len(job.Next) > 0:
					next = whenIn(job.Next[0], job.When.Zone)
				}
				t.AppendRow(table.Row{job.Name, job.Type, last, next, format.Plain(jobRoutes(job.Spec))})
			}
			t.Render()
			return nil
		},
	}
}

func jobRoutes(spec contract.JobSpec) string {
	arrow := " → "
	if spec.Type == "two-way" {
		arrow = " ↔ "
	}
	var parts []string
	for _, route := range spec.Routes {
		parts = append(parts, route.From+arrow+route.To)
	}
	return strings.Join(parts, ", ")
}

func (a *app) jobShow() *cobra.Command {
	var file string
	command := a.jobVerb("show NAME", "Show a job, its schedule and its last run, or write it as a job file",
		func(ctx context.Context, name string) error {
			if file != "" {
				text, err := a.client().JobFile(ctx, name)
				if err != nil {
					return err
				}
				if file == "-" {
					_, err = io.WriteString(a.out, text)
					return err
				}
				if _, err := os.Stat(file); err == nil {
					return usageError("%s already exists; name another file, or - for standard output", file)
				}
				return os.WriteFile(file, []byte(text), 0o644)
			}
			job, err := a.client().Job(ctx, name)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(job)
			}
			return a.printJob(job)
		})
	command.Flags().StringVar(&file, "file", "", "write a job file; - is standard output")
	return command
}

func (a *app) printJob(job contract.Job) error {
	fmt.Fprintf(a.out, "Job %s  %s, %s\n", job.Name, job.Type, job.State)
	for _, route := range job.Routes {
		fmt.Fprintf(a.out, "  %s\n", format.Plain(jobRoutes(contract.JobSpec{Type: job.Type, Routes: []contract.Route{route}})))
	}
	fmt.Fprintln(a.out, a.wrapped(0, format.Plain(job.Sentence)))
	rows := [][2]string{{"runs", format.WhenSentence(job.When)}}
	for i, next := range job.Next {
		label := ""
		if i == 0 {
			label = "next"
		}
		rows = append(rows, [2]string{label, whenIn(next, job.When.Zone)})
	}
	if job.Last != nil {
		rows = append(rows, [2]string{"last run", fmt.Sprintf("%s, %s, started %s", a.stateMark(string(job.Last.State)), job.Last.ID,
			when(job.Last.Started))})
	}
	if job.Safety != (contract.Safety{}) || job.Type == "mirror" || job.Type == "two-way" {
		rows = append(rows, [2]string{"safety", format.SafetySentence(job.Safety)})
	}
	rows = append(rows, [2]string{"created", when(&job.Created)})
	for _, row := range rows {
		fmt.Fprintln(a.out, a.wrapped(12, fmt.Sprintf("  %-9s %s", row[0], row[1])))
	}
	if job.Migration != nil {
		a.printMigration(*job.Migration)
	}
	if job.Last != nil && job.Last.State == "held" {
		fmt.Fprintln(a.out, a.wrapped(2, fmt.Sprintf("%s %s. %s", a.paint(ochre, "▬"), contract.Capital(format.Plain(job.Last.Why)),
			job.Last.Remedy)))
	}
	return nil
}

func (a *app) jobEdit() *cobra.Command {
	var flags *jobFlags
	command := a.jobVerb("edit NAME [options]", "Change a job; options that are not given stay, and a current run is not affected",
		func(ctx context.Context, name string) error {
			before, err := a.client().Job(ctx, name)
			if err != nil {
				return err
			}
			spec, err := flags.read(&before.Spec)
			if err != nil {
				return err
			}
			job, err := a.client().ChangeJob(ctx, name, spec.Spec, before.Changed)
			if err != nil {
				return err
			}
			return a.tellJob(job, "changed")
		})
	flags = newJobFlags(command.Flags())
	a.completeJobFlags(command)
	return command
}

func (a *app) jobLoad() *cobra.Command {
	var try, yes bool
	command := &cobra.Command{
		Use: "load FILE", Short: "Create or change the jobs of a job file",
		Long: "FILE is YAML with one job a document, as in docs/jobs.md; - is standard input. The changes are shown first, and\n" +
			"on a terminal you are asked.",
		Args: arguments(1, 1, "one job file"),
		RunE: func(command *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			tried, err := a.client().LoadJobs(command.Context(), text, true)
			if err != nil {
				return err
			}
			if try && a.json {
				return a.printJSON(tried)
			}
			if !a.json {
				a.tellLoaded(tried)
			}
			changes := 0
			for _, job := range tried.Jobs {
				if job.Outcome != "unchanged" {
					changes++
				}
			}
			if try || changes == 0 && !a.json {
				return nil
			}
			if a.asks && !yes {
				if err := a.confirm(false, "Go on?", "load the job file"); err != nil {
					return err
				}
			}
			loaded, err := a.client().LoadJobs(command.Context(), text, false)
			if err == nil && a.json {
				return a.printJSON(loaded)
			}
			return err
		},
	}
	command.Flags().BoolVar(&try, "try", false, "print the changes and stop")
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) readFile(name string) (string, error) {
	if name == "-" {
		text, err := io.ReadAll(io.LimitReader(a.in, 2<<20))
		return string(text), err
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return "", usageError("the job file cannot be read (%v); give the path of a job file", err)
	}
	return string(text), nil
}

func (a *app) tellLoaded(loaded contract.Loaded) {
	for _, job := range loaded.Jobs {
		words := map[string]string{"made": "is new", "changed": "changes", "unchanged": "is unchanged"}
		fmt.Fprintf(a.out, "The job %s %s.\n", job.Name, words[job.Outcome])
		for _, line := range job.Changes {
			fmt.Fprintf(a.out, "  %s\n", format.Plain(line))
		}
	}
}

func (a *app) jobPlan() *cobra.Command {
	return a.jobVerb("plan NAME", "Show what a run of a job would do now; changes nothing", func(ctx context.Context, name string) error {
		plan, err := a.client().PlanJob(ctx, name)
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(plan)
		}
		if _, err := a.showPlan(plan, true, false); err != nil {
			return err
		}
		for _, address := range plan.Makes {
			fmt.Fprintf(a.out, "%s does not exist yet; the first run creates it.\n", format.Plain(address))
		}
		if plan.Held != nil {
			fmt.Fprintln(a.out, a.wrapped(2, fmt.Sprintf("%s The run would be held: %s. %s", a.paint(ochre, "▬"), format.Plain(plan.Held.Why),
				plan.Held.Remedy)))
		}
		return nil
	})
}

func (a *app) jobStart() *cobra.Command {
	var detach, yes bool
	var step string
	command := a.jobVerb("start NAME", "Start a run of a job, or the next step of a migration", nil)
	command.RunE = func(command *cobra.Command, args []string) error {
		c := a.client()
		if err := a.mayStep(command.Context(), args[0], step, yes); err != nil {
			return err
		}
		started, err := c.StartStep(command.Context(), args[0], step)
		if err != nil {
			return err
		}
		return a.followStarted(command, c, started, detach)
	}
	command.Flags().BoolVar(&detach, "detach", false, "start the run and return at once")
	command.Flags().StringVar(&step, "step", "", "of a migration, another step than the one that comes next: "+strings.Join(steps, ", "))
	command.Flags().BoolVar(&yes, "yes", false, "do not ask before a migration clears its source")
	_ = command.RegisterFlagCompletionFunc("step", cobra.FixedCompletions(steps, cobra.ShellCompDirectiveNoFileComp))
	return command
}

func (a *app) jobSuspend() *cobra.Command {
	return a.jobVerb("suspend NAME", "Suspend the schedule of a job; a current run continues", func(ctx context.Context, name string) error {
		if err := a.client().SuspendJob(ctx, name); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "The job %s is suspended. Resume it with: heron job resume %s\n", name, name)
		return err
	})
}

func (a *app) jobResume() *cobra.Command {
	return a.jobVerb("resume NAME", "Resume the schedule of a job", func(ctx context.Context, name string) error {
		if err := a.client().ResumeJob(ctx, name); err != nil {
			return err
		}
		job, err := a.client().Job(ctx, name)
		if err != nil {
			return err
		}
		return a.tellJob(job, "active")
	})
}

func (a *app) jobDelete() *cobra.Command {
	var yes bool
	command := a.jobVerb("delete NAME", "Delete a job; its runs and the files they transferred stay",
		func(ctx context.Context, name string) error {
			if _, err := a.client().Job(ctx, name); err != nil {
				return err
			}
			if err := a.confirm(yes, fmt.Sprintf("Delete the job %s? Its runs and the files they transferred stay.", name),
				"delete the job "+name); err != nil {
				return err
			}
			if err := a.client().RemoveJob(ctx, name); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.out, "The job %s is forgotten; its runs stay.\n", name)
			return err
		})
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}
