package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"deftheron/contract"
)

// jobFlags are the options of a job.
type jobFlags struct {
	set      *pflag.FlagSet
	spec     contract.NewJob
	from, to []string
	people   string // a file
	rules    *ruleFlags
}

func newJobFlags(flags *pflag.FlagSet) *jobFlags {
	f := &jobFlags{set: flags}
	spec := &f.spec.Spec
	flags.StringVar(&spec.Type, "type", "copy", "copy: add and update, never delete; mirror: make the target identical to the source; "+
		"two-way: keep both sides identical; migrate: copy in steps, with a certificate; consolidate: copy several sources into one place")
	flags.StringArrayVar(&f.from, "from", nil, "source; repeat together with --to for more routes")
	flags.StringArrayVar(&f.to, "to", nil, "target")
	flags.BoolVar(&spec.When.Continuous, "continuous", false, "run as soon as something changes")
	flags.BoolVar(&spec.When.Now, "now", false, "run once, as soon as the job is created")
	flags.StringVar(&spec.When.At, "at", "", "run once, at 2026-12-01T22:00")
	flags.StringVar(&spec.When.Every, "every", "", "run at an interval: 15m, 6h, 2d")
	flags.StringVar(&spec.When.Weekly, "weekly", "", "run at hours of the week: \"mon-fri 22:00-06:00\" starts at 22:00 and stops at 06:00")
	flags.StringVar(&spec.When.Cron, "cron", "", "run by a crontab line of five fields: \"0 22 * * 1-5\"")
	flags.StringVar(&spec.When.Arrival, "on-arrival", "",
		"run for each file or folder that arrives at the source or changes: file, or folder (directly in the source)")
	flags.StringVar(&spec.Arrivals.Rest, "rest", "",
		"an arrival is complete if nothing of it has changed for this long (default 10s for a file, 30s for a folder)")
	flags.IntVar(&spec.Arrivals.AtOnce, "at-once", 0, "arrivals to transfer at once (default 2)")
	flags.StringVar(&spec.When.Zone, "zone", "", "time zone of these times, such as Europe/Lisbon (default the service's own)")
	flags.StringVar(&spec.When.Hours, "run-hours", "",
		"hours of the week in which a run may go; outside them it is paused: \"mon-fri 20:00-06:00, sat, sun\"")
	flags.StringVar(&spec.Rules.Deletions, "deletions", "", "mirror and two-way, if a file is deleted on one side: keep-version (delete "+
		"it on the other and keep a version in history; the default), delete or ignore")
	flags.StringVar(&spec.Safety.Deletions, "safety-deletions", "",
		"hold a run that would delete more: a share such as 10% (the default), a number of files, or none")
	flags.StringVar(&spec.Safety.Overwrites, "safety-overwrites", "", "hold a run that would overwrite more (default 25%)")
	flags.StringVar(&spec.Safety.Older, "safety-older", "", "hold a run that would replace more files with older versions (default 0)")
	flags.StringVar(&spec.Migrate.GoOn, "go-on", "", "migrate: the last step that starts automatically: "+strings.Join(steps, ", ")+
		" (default: each waits for a person)")
	flags.Int64Var(&spec.Migrate.Little, "little", 0, "migrate: catching up is over if a pass had no more files than this (default 20)")
	flags.BoolVar(&spec.Migrate.Clear, "clear", false, "migrate: at the end, delete at the source exactly what was verified at the target")
	flags.StringVar(&spec.Migrate.ShareLists, "share-lists", "", "migrate: carry gives the people of the source's share lists the same "+
		"rights at the target, in the final pass")
	flags.StringVar(&f.people, "people", "", "migrate: a CSV file with the columns old,new that says who is who at the target")
	flags.StringVar(&spec.Rules.Identical, "identical", "",
		"consolidate: keep identical files of the sources once (the default if sources are merged) or each")
	f.rules = newRuleFlags(flags, &spec.Settings)
	for _, name := range []string{"conflict", "names", "verify"} { // a job's defaults depend on its type
		flag := flags.Lookup(name)
		flag.DefValue = ""
		_ = flag.Value.Set("")
		flag.Changed = false
	}
	return f
}

// read returns the job that was given, on top of before if that is not nil.
func (f *jobFlags) read(before *contract.JobSpec) (contract.NewJob, error) {
	if len(f.from) != len(f.to) {
		return f.spec, usageError("--from and --to are given in pairs; there are %d and %d", len(f.from), len(f.to))
	}
	if err := addresses(append(f.from, f.to...)); err != nil {
		return f.spec, err
	}
	for i := range f.from {
		f.spec.Routes = append(f.spec.Routes, contract.Route{From: f.from[i], To: f.to[i]})
	}
	if err := f.rules.read(); err != nil {
		return f.spec, err
	}
	if f.people != "" {
		var err error
		if f.spec.Migrate.People, err = readPeople(f.people); err != nil {
			return f.spec, err
		}
	}
	if before != nil {
		f.merge(before)
		f.spec.Spec = *before
	}
	return f.spec, nil
}

// merge puts the options that were given into a job.
func (f *jobFlags) merge(spec *contract.JobSpec) {
	given, from := f.set.Changed, &f.spec.Spec
	if given("type") {
		spec.Type = from.Type
	}
	if len(from.Routes) > 0 {
		spec.Routes = from.Routes
	}
	f.mergeWhen(spec)
	for name, text := range map[string][2]*string{
		"deletions": {&spec.Rules.Deletions, &from.Rules.Deletions}, "identical": {&spec.Rules.Identical, &from.Rules.Identical},
		"conflict": {&spec.Rules.Conflict, &from.Rules.Conflict}, "names": {&spec.Rules.Names, &from.Rules.Names},
		"as": {&spec.Rules.As, &from.Rules.As}, "verify": {&spec.Rules.Verification, &from.Rules.Verification},
		"smaller-than": {&spec.Rules.Include.SmallerThan, &from.Rules.Include.SmallerThan},
		"larger-than":  {&spec.Rules.Include.LargerThan, &from.Rules.Include.LargerThan},
		"newer-than":   {&spec.Rules.Include.NewerThan, &from.Rules.Include.NewerThan},
		"older-than":   {&spec.Rules.Include.OlderThan, &from.Rules.Include.OlderThan},
		"priority":     {&spec.Priority, &from.Priority}, "within": {&spec.Retry.Within, &from.Retry.Within},
		"go-on": {&spec.Migrate.GoOn, &from.Migrate.GoOn}, "share-lists": {&spec.Migrate.ShareLists, &from.Migrate.ShareLists},
		"rest":              {&spec.Arrivals.Rest, &from.Arrivals.Rest},
		"safety-deletions":  {&spec.Safety.Deletions, &from.Safety.Deletions},
		"safety-overwrites": {&spec.Safety.Overwrites, &from.Safety.Overwrites},
		"safety-older":      {&spec.Safety.Older, &from.Safety.Older},
	} {
		if given(name) {
			*text[0] = *text[1]
		}
	}
	for name, list := range map[string][2]*[]string{
		"exclude": {&spec.Rules.Exclude, &from.Rules.Exclude}, "include": {&spec.Rules.Include.Patterns, &from.Rules.Include.Patterns},
		"types": {&spec.Rules.Include.Types, &from.Rules.Include.Types},
	} {
		if given(name) {
			*list[0] = *list[1]
		}
	}
	if given("documents") {
		spec.Rules.Documents = from.Rules.Documents
	}
	if given("little") {
		spec.Migrate.Little = from.Migrate.Little
	}
	if given("clear") {
		spec.Migrate.Clear = from.Migrate.Clear
	}
	if given("people") {
		spec.Migrate.People = from.Migrate.People
	}
	if given("only-changed") {
		spec.Rules.Include.Changed = from.Rules.Include.Changed
	}
	if given("tries") {
		spec.Retry.Tries = from.Retry.Tries
	}
	if given("up") || given("down") || given("hours") {
		spec.Bandwidth = from.Bandwidth
	}
}

// mergeWhen puts the times that were given into a job. Another kind of time replaces the
// one before.
func (f *jobFlags) mergeWhen(spec *contract.JobSpec) {
	given, from := f.set.Changed, &f.spec.Spec
	for _, name := range []string{"continuous", "now", "at", "every", "weekly", "cron", "on-arrival"} {
		if given(name) {
			zone, hours := spec.When.Zone, spec.When.Hours
			spec.When = from.When
			spec.When.Zone, spec.When.Hours = zone, hours
			break
		}
	}
	if given("zone") {
		spec.When.Zone = from.When.Zone
	}
	if given("run-hours") {
		spec.When.Hours = from.When.Hours
	}
	if given("at-once") {
		spec.Arrivals.AtOnce = from.Arrivals.AtOnce
	} else if spec.When.Arrival == "" && !given("rest") {
		spec.Arrivals = contract.Arrivals{} // it does not run on arrivals any more
	}
}

func (a *app) completeJobFlags(command *cobra.Command) {
	for _, name := range []string{"from", "to"} {
		_ = command.RegisterFlagCompletionFunc(name, a.completeAddresses)
	}
	for name, values := range map[string][]string{
		"type": {"copy", "mirror", "two-way", "migrate", "consolidate"}, "on-arrival": {"file", "folder"}, "go-on": steps,
		"share-lists": {"carry"},
		"deletions":   {"keep-version", "delete", "ignore"},
	} {
		_ = command.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp))
	}
}
