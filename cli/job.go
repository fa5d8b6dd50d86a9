package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"deftheron/cli/shown"
	"deftheron/contract"
)

func (a *app) job() *cobra.Command {
	return nouns("job", "Keep what is to be done: make jobs, plan, start, suspend and change them",
		a.jobCreate(), a.jobList(), a.jobShow(), a.jobEdit(), a.jobLoad(), a.jobPlan(), a.jobStart(), a.jobFetch(), a.jobTry(), a.jobArrivals(), a.jobAnnounce(), a.jobSuspend(), a.jobResume(), a.jobRemove())
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

// jobFlags are the options of a job.
type jobFlags struct {
	set      *pflag.FlagSet
	spec     contract.JobSpec
	from, to []string
	limits   *paceFlags
	brake    contract.Brake
	migrate  contract.Migrating
	arrivals contract.Arrivals
}

func newJobFlags(flags *pflag.FlagSet) *jobFlags {
	f := &jobFlags{set: flags}
	flags.StringVar(&f.spec.Type, "type", "copy", "copy (adds and updates, never removes), mirror (the target becomes as the source), two-way, migrate (in steps, with a certificate), or consolidate")
	flags.StringArrayVar(&f.from, "from", nil, "a source; what is there appears as --to; several are given in pairs")
	flags.StringArrayVar(&f.to, "to", nil, "a target")
	flags.BoolVar(&f.spec.When.Continuous, "continuous", false, "run as soon as something changes, for good")
	flags.BoolVar(&f.spec.When.Now, "now", false, "run once, as soon as it is made")
	flags.StringVar(&f.spec.When.At, "at", "", "run once, at 2026-12-01T22:00")
	flags.StringVar(&f.spec.When.Every, "every", "", "run so often: 15m, 6h, 2d")
	flags.StringVar(&f.spec.When.Weekly, "weekly", "", "run at hours of the week, and until others: \"mon-fri 22:00-06:00\"")
	flags.StringVar(&f.spec.When.Cron, "cron", "", "run by a cron timetable of five fields: \"0 22 * * 1-5\"")
	flags.StringVar(&f.spec.When.Arrival, "on-arrival", "", "run for each file or folder that arrives at the source or changes, once it is complete: file, or folder (those in the source itself)")
	flags.StringVar(&f.arrivals.Rest, "rest", "", "how long nothing of an arrival may have changed for it to be complete: 10s for a file and 30s for a folder unless given")
	flags.IntVar(&f.arrivals.AtOnce, "at-once", 0, "how many arrivals are transferred at a time; 2 unless given")
	flags.StringVar(&f.spec.When.Zone, "zone", "", "the time zone of these times, such as Europe/Lisbon; the service's own unless given")
	flags.StringVar(&f.spec.When.Hours, "run-hours", "", "the hours in which a run may go, and outside which it pauses: \"mon-fri 20:00-06:00, sat, sun\"")
	flags.StringVar(&f.spec.Deletions, "deletions", "", "what a removal means for the other side: retire (with a way back; the default of mirror and two-way), follow or ignore")
	flags.StringVar(&f.brake.Deletions, "brake-deletions", "", "hold a run that would remove more than this share of the files: 10% unless given; a number, or none")
	flags.StringVar(&f.brake.Overwrites, "brake-overwrites", "", "hold a run that would write over more: 25% unless given")
	flags.StringVar(&f.brake.Older, "brake-older", "", "hold a run that would put more older versions in place of newer ones: 0 unless given")
	flags.StringVar(&f.migrate.GoOn, "go-on", "", "of a migration, the last step that begins by itself: "+strings.Join(steps, ", ")+"; each waits for a person unless given")
	flags.Int64Var(&f.migrate.Little, "little", 0, "of a migration, how few files a pass may still have had for catching up to be at its end; 20 unless given")
	flags.BoolVar(&f.migrate.Clear, "clear", false, "of a migration, clear the source in the end, of exactly what is proven to be at the target")
	flags.StringVar(&f.spec.Rules.Identical, "identical", "", "of several sources that are consolidated: identical files once (where they are merged, unless given), or each")
	f.limits = ruleFlags(flags, &f.spec.Rules)
	for _, name := range []string{"clash", "names", "proof"} { // a job's own defaults are by its type
		flag := flags.Lookup(name)
		flag.DefValue = ""
		_ = flag.Value.Set("")
		flag.Changed = false
	}
	return f
}

// read makes the job of what was given, on top of what it is already.
func (f *jobFlags) read(before *contract.JobSpec) (contract.JobSpec, error) {
	if len(f.from) != len(f.to) {
		return f.spec, usageError("--from and --to go in pairs; there are %d and %d", len(f.from), len(f.to))
	}
	if err := addresses(append(f.from, f.to...)); err != nil {
		return f.spec, err
	}
	for i := range f.from {
		f.spec.Routes = append(f.spec.Routes, contract.Route{From: f.from[i], To: f.to[i]})
	}
	var err error
	if f.spec.Rules.Pace, err = f.limits.pace(); err != nil {
		return f.spec, err
	}
	if f.brake != (contract.Brake{}) {
		f.spec.Brake = &f.brake
	}
	if f.arrivals != (contract.Arrivals{}) {
		f.spec.Arrivals = &f.arrivals
	}
	if f.migrate != (contract.Migrating{}) {
		f.spec.Migrate = &f.migrate
	}
	if before == nil {
		return f.spec, nil
	}
	f.keep(before)
	return *before, nil
}

// keep puts what was given into what is there.
func (f *jobFlags) keep(spec *contract.JobSpec) {
	given := f.set.Changed
	if given("type") {
		spec.Type = f.spec.Type
	}
	if len(f.spec.Routes) > 0 {
		spec.Routes = f.spec.Routes
	}
	when := false
	for _, name := range []string{"continuous", "now", "at", "every", "weekly", "cron", "on-arrival"} {
		when = when || given(name)
	}
	if when {
		zone, hours := spec.When.Zone, spec.When.Hours
		spec.When = f.spec.When
		spec.When.Zone, spec.When.Hours = zone, hours
	}
	texts := map[string][2]*string{
		"zone": {&spec.When.Zone, &f.spec.When.Zone}, "run-hours": {&spec.When.Hours, &f.spec.When.Hours}, "deletions": {&spec.Deletions, &f.spec.Deletions},
		"clash": {&spec.Rules.Clash, &f.spec.Rules.Clash}, "names": {&spec.Rules.Names, &f.spec.Rules.Names}, "as": {&spec.Rules.As, &f.spec.Rules.As},
		"documents": {&spec.Rules.Documents, &f.spec.Rules.Documents}, "proof": {&spec.Rules.Proof, &f.spec.Rules.Proof},
		"smaller-than": {&spec.Rules.SmallerThan, &f.spec.Rules.SmallerThan}, "larger-than": {&spec.Rules.LargerThan, &f.spec.Rules.LargerThan},
		"newer-than": {&spec.Rules.NewerThan, &f.spec.Rules.NewerThan}, "older-than": {&spec.Rules.OlderThan, &f.spec.Rules.OlderThan},
		"priority":  {&spec.Rules.Priority, &f.spec.Rules.Priority},
		"identical": {&spec.Rules.Identical, &f.spec.Rules.Identical},
		"within":    {&spec.Rules.Within, &f.spec.Rules.Within},
	}
	for name, text := range texts {
		if given(name) {
			*text[0] = *text[1]
		}
	}
	for name, list := range map[string][2]*[]string{
		"leave-out": {&spec.Rules.LeaveOut, &f.spec.Rules.LeaveOut}, "only": {&spec.Rules.Only, &f.spec.Rules.Only}, "types": {&spec.Rules.Types, &f.spec.Rules.Types},
	} {
		if given(name) {
			*list[0] = *list[1]
		}
	}
	f.keepMigration(spec)
	if given("rest") || given("at-once") {
		spec.Arrivals = f.spec.Arrivals
	}
	if spec.When.Arrival == "" {
		spec.Arrivals = nil
	}
	if given("only-changed") {
		spec.Rules.OnlyChanged = f.spec.Rules.OnlyChanged
	}
	if given("tries") {
		spec.Rules.Tries = f.spec.Rules.Tries
	}
	if f.spec.Rules.Pace != nil {
		spec.Rules.Pace = f.spec.Rules.Pace
	}
	if spec.Brake == nil {
		spec.Brake = f.spec.Brake
		return
	}
	for name, text := range map[string][2]*string{
		"brake-deletions": {&spec.Brake.Deletions, &f.brake.Deletions}, "brake-overwrites": {&spec.Brake.Overwrites, &f.brake.Overwrites}, "brake-older": {&spec.Brake.Older, &f.brake.Older},
	} {
		if given(name) {
			*text[0] = *text[1]
		}
	}
}

func (f *jobFlags) keepMigration(spec *contract.JobSpec) {
	migrate := contract.Migrating{}
	if spec.Migrate != nil {
		migrate = *spec.Migrate
	}
	if f.set.Changed("go-on") {
		migrate.GoOn = f.migrate.GoOn
	}
	if f.set.Changed("little") {
		migrate.Little = f.migrate.Little
	}
	if f.set.Changed("clear") {
		migrate.Clear = f.migrate.Clear
	}
	if spec.Migrate = &migrate; migrate == (contract.Migrating{}) {
		spec.Migrate = nil
	}
}

func (a *app) jobCreate() *cobra.Command {
	var flags *jobFlags
	var try bool
	command := &cobra.Command{
		Use: "create NAME --from ADDRESS --to ADDRESS [options]", Short: "Make a job: what is at --from appears as --to",
		Long: "A job is what is to be true from now on. It is started by hand (heron job start), by a timetable, or as soon as it is made.\n" +
			"Jobs of the types mirror and two-way remove things; what they remove can be fetched back from .heron/retired, and a brake\n" +
			"holds a run that would remove or write over much.",
		Example: "  heron job create reports --from /office-drive/Reports --to /archive/reports --weekly \"mon-fri 22:00-06:00\"\n" +
			"  heron job create desk --type two-way --from /desk/Work --to /office-drive/Work --every 15m\n" +
			"  heron job create logs --type mirror --from /gauge-share --to /archive/logs --every 6h --deletions retire --brake-deletions 5%",
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
				tried, err := a.client().TryNewArrival(command.Context(), spec, "")
				if err != nil {
					return err
				}
				return a.tellTried(tried)
			}
			job, err := a.client().CreateJob(command.Context(), spec)
			if err != nil {
				return err
			}
			return a.tellJob(job, "made")
		},
	}
	flags = newJobFlags(command.Flags())
	command.Flags().BoolVar(&flags.spec.Suspended, "suspended", false, "make it, and do not switch it on: heron job resume NAME does")
	command.Flags().BoolVar(&try, "try", false, "of a job that runs on arrivals: say what it would do with the latest real one, and make nothing")
	a.completeJobFlags(command)
	return command
}

func (a *app) completeJobFlags(command *cobra.Command) {
	for _, name := range []string{"from", "to"} {
		_ = command.RegisterFlagCompletionFunc(name, a.completeAddresses)
	}
	_ = command.RegisterFlagCompletionFunc("type", cobra.FixedCompletions([]string{"copy", "mirror", "two-way", "migrate", "consolidate"}, cobra.ShellCompDirectiveNoFileComp))
	_ = command.RegisterFlagCompletionFunc("on-arrival", cobra.FixedCompletions([]string{"file", "folder"}, cobra.ShellCompDirectiveNoFileComp))
	_ = command.RegisterFlagCompletionFunc("go-on", cobra.FixedCompletions(steps, cobra.ShellCompDirectiveNoFileComp))
	_ = command.RegisterFlagCompletionFunc("deletions", cobra.FixedCompletions([]string{"retire", "follow", "ignore"}, cobra.ShellCompDirectiveNoFileComp))
}

// tellJob says what became of a job.
func (a *app) tellJob(job contract.Job, what string) error {
	if a.json {
		return a.printJSON(job)
	}
	fmt.Fprintf(a.out, "The job %s is %s. %s\n", job.Name, what, shown.Plain(job.Sentence))
	switch {
	case job.Migration != nil:
		fmt.Fprintln(a.out, job.Migration.Sentence)
	case len(job.Next) > 0:
		fmt.Fprintf(a.out, "It runs next at %s.\n", when(&job.Next[0]))
	case job.State == "suspended":
		fmt.Fprintf(a.out, "It is not switched on yet: heron job resume %s\n", job.Name)
	case job.When.Arrival != "":
		fmt.Fprintf(a.out, "From now on each %s that arrives has a run of its own. See: heron job arrivals %s\n", job.When.Arrival, job.Name)
	case job.When.Continuous:
		fmt.Fprintf(a.out, "It runs from now on, as soon as something changes. See how it is with: heron job show %s\n", job.Name)
	case job.When.Now && job.Last != nil:
		fmt.Fprintf(a.out, "It has begun: heron run follow %s\n", job.Last.ID)
	default:
		fmt.Fprintf(a.out, "See what it would do with heron job plan %s; start it with heron job start %s\n", job.Name, job.Name)
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
			t := a.newTable("JOB", "TYPE", "LAST RUN", "NEXT", "FROM AND TO")
			for _, job := range jobs {
				last, next := "—", "by hand"
				if job.When != (contract.When{}) {
					next = shown.WhenSentence(job.When)
				}
				if job.Last != nil {
					last = a.stateMark(job.Last.State)
				}
				switch {
				case job.State == "suspended":
					next = "suspended"
				case len(job.Next) > 0:
					next = when(&job.Next[0])
				}
				t.AppendRow(table.Row{job.Name, job.Type, last, next, shown.Plain(jobRoutes(job.JobSpec))})
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
	command := a.jobVerb("show NAME", "Show a job, when it runs, and what came of it last; --file writes it as a job file", func(ctx context.Context, name string) error {
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
				return usageError("%s is there already; name another file, or - for standard output", file)
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
	command.Flags().StringVar(&file, "file", "", "write it as a job file there; - is standard output")
	return command
}

func (a *app) printJob(job contract.Job) error {
	fmt.Fprintf(a.out, "Job %s  %s, %s\n", job.Name, job.Type, job.State)
	for _, route := range job.Routes {
		fmt.Fprintf(a.out, "  %s\n", shown.Plain(jobRoutes(contract.JobSpec{Type: job.Type, Routes: []contract.Route{route}})))
	}
	fmt.Fprintf(a.out, "%s\n", shown.Plain(job.Sentence))
	rows := [][2]string{{"runs", shown.WhenSentence(job.When)}}
	for i, next := range job.Next {
		label := ""
		if i == 0 {
			label = "next"
		}
		rows = append(rows, [2]string{label, when(&next)})
	}
	if job.Last != nil {
		rows = append(rows, [2]string{"last run", fmt.Sprintf("%s, %s, begun %s", a.stateMark(job.Last.State), job.Last.ID, when(job.Last.Started))})
	}
	if job.Brake != nil || job.Type == "mirror" || job.Type == "two-way" {
		rows = append(rows, [2]string{"brake", shown.BrakeSentence(job.Brake)})
	}
	rows = append(rows, [2]string{"made", when(&job.Created)})
	for _, row := range rows {
		fmt.Fprintf(a.out, "  %-9s %s\n", row[0], row[1])
	}
	if job.Migration != nil {
		a.printMigration(*job.Migration)
	}
	if job.Last != nil && job.Last.State == "held" {
		fmt.Fprintf(a.out, "%s %s. %s\n", a.paint(ochre, "▬"), shown.Capital(shown.Plain(job.Last.Why)), job.Last.Remedy)
	}
	return nil
}

func (a *app) jobEdit() *cobra.Command {
	var flags *jobFlags
	command := a.jobVerb("edit NAME [options]", "Change a job in place; what is not named stays, and a run of it goes on as it was begun", func(ctx context.Context, name string) error {
		before, err := a.client().Job(ctx, name)
		if err != nil {
			return err
		}
		spec, err := flags.read(&before.JobSpec)
		if err != nil {
			return err
		}
		job, err := a.client().ChangeJob(ctx, name, spec)
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
		Use: "load FILE", Short: "Make or change the jobs of a job file; loading it twice changes nothing more",
		Long: "FILE is YAML, with one job a document; - is standard input. What would be made or changed is said first, and asked on a\n" +
			"terminal. docs/jobs.md tells the keys.",
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
	command.Flags().BoolVar(&try, "try", false, "say what would be made or changed, and stop there")
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
		return "", usageError("the job file cannot be read (%v); name one that is there", err)
	}
	return string(text), nil
}

func (a *app) tellLoaded(loaded contract.Loaded) {
	for _, job := range loaded.Jobs {
		words := map[string]string{"made": "is new", "changed": "changes", "unchanged": "is as it is in the file already"}
		fmt.Fprintf(a.out, "The job %s %s.\n", job.Name, words[job.Outcome])
		for _, line := range job.Changes {
			fmt.Fprintf(a.out, "  %s\n", shown.Plain(line))
		}
	}
}

func (a *app) jobPlan() *cobra.Command {
	return a.jobVerb("plan NAME", "Say what a run of a job would do now, and what the brake would hold; nothing is changed", func(ctx context.Context, name string) error {
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
		if plan.Held != nil {
			fmt.Fprintf(a.out, "%s The run would be held: %s. %s\n", a.paint(ochre, "▬"), plan.Held.Why, plan.Held.Remedy)
		}
		return nil
	})
}

func (a *app) jobStart() *cobra.Command {
	var detach, yes bool
	var step string
	command := a.jobVerb("start NAME", "Start a run of a job now, and follow it; of a migration, its next step", nil)
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
	command.Flags().BoolVar(&detach, "detach", false, "start it and do not wait for its end")
	command.Flags().StringVar(&step, "step", "", "of a migration, another step than the one that comes next: "+strings.Join(steps, ", "))
	command.Flags().BoolVar(&yes, "yes", false, "do not ask before a migration clears its source")
	_ = command.RegisterFlagCompletionFunc("step", cobra.FixedCompletions(steps, cobra.ShellCompDirectiveNoFileComp))
	return command
}

func (a *app) jobSuspend() *cobra.Command {
	return a.jobVerb("suspend NAME", "Have a job not run by itself until it is resumed; a run of it goes on", func(ctx context.Context, name string) error {
		if err := a.client().SuspendJob(ctx, name); err != nil {
			return err
		}
		_, err := fmt.Fprintf(a.out, "The job %s is suspended. Have it run by itself again with: heron job resume %s\n", name, name)
		return err
	})
}

func (a *app) jobResume() *cobra.Command {
	return a.jobVerb("resume NAME", "Have a suspended job run by itself again", func(ctx context.Context, name string) error {
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

func (a *app) jobRemove() *cobra.Command {
	var yes bool
	command := a.jobVerb("remove NAME", "Forget a job; its runs stay, and what they moved", func(ctx context.Context, name string) error {
		if _, err := a.client().Job(ctx, name); err != nil {
			return err
		}
		if err := a.confirm(yes, fmt.Sprintf("Forget the job %s? Its runs stay, and what they moved.", name), "forget the job "+name); err != nil {
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
