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
	f.keepArrivals(spec)
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

func (f *jobFlags) keepArrivals(spec *contract.JobSpec) {
	rest, atOnce := f.set.Changed("rest"), f.set.Changed("at-once")
	if spec.When.Arrival == "" && !rest && !atOnce {
		spec.Arrivals = nil // it does not run on arrivals any more
		return
	}
	arrivals := contract.Arrivals{}
	if spec.Arrivals != nil {
		arrivals = *spec.Arrivals
	}
	if rest {
		arrivals.Rest = f.arrivals.Rest
	}
	if atOnce {
		arrivals.AtOnce = f.arrivals.AtOnce
	}
	if spec.Arrivals = &arrivals; arrivals == (contract.Arrivals{}) {
		spec.Arrivals = nil
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

func (a *app) completeJobFlags(command *cobra.Command) {
	for _, name := range []string{"from", "to"} {
		_ = command.RegisterFlagCompletionFunc(name, a.completeAddresses)
	}
	_ = command.RegisterFlagCompletionFunc("type", cobra.FixedCompletions([]string{"copy", "mirror", "two-way", "migrate", "consolidate"}, cobra.ShellCompDirectiveNoFileComp))
	_ = command.RegisterFlagCompletionFunc("on-arrival", cobra.FixedCompletions([]string{"file", "folder"}, cobra.ShellCompDirectiveNoFileComp))
	_ = command.RegisterFlagCompletionFunc("go-on", cobra.FixedCompletions(steps, cobra.ShellCompDirectiveNoFileComp))
	_ = command.RegisterFlagCompletionFunc("deletions", cobra.FixedCompletions([]string{"retire", "follow", "ignore"}, cobra.ShellCompDirectiveNoFileComp))
}
