package runner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/service/records"
)

// specOf is a job as it is written to files.
func specOf(given contract.JobSpec) (job.Spec, error) {
	spec := job.Spec{Name: given.Name, Type: given.Type, When: job.When(given.When)}
	for _, route := range given.Routes {
		spec.Routes = append(spec.Routes, job.Route(route))
	}
	rules := given.Rules
	spec.Rules = job.Rules{
		Clash: rules.Clash, Deletions: given.Deletions, LeaveOut: rules.LeaveOut, Names: rules.Names, As: rules.As, Proof: rules.Proof, Identical: rules.Identical,
		Only: job.Only{
			Patterns: rules.Only, Types: rules.Types, SmallerThan: rules.SmallerThan, LargerThan: rules.LargerThan,
			NewerThan: rules.NewerThan, OlderThan: rules.OlderThan, Changed: rules.OnlyChanged,
		},
	}
	documents, err := plan.ParseDocuments(rules.Documents)
	if err != nil {
		return spec, err
	}
	for class, formats := range documents {
		if spec.Rules.Documents == nil {
			spec.Rules.Documents = map[string]string{}
		}
		spec.Rules.Documents[class] = strings.Join(formats, "+")
	}
	spec.Priority = rules.Priority
	if given.Migrate != nil {
		spec.Migrate = job.Migration(*given.Migrate)
	}
	if given.Arrivals != nil {
		spec.Arrivals = job.Arrivals(*given.Arrivals)
	}
	if given.Brake != nil {
		spec.Brake = job.Brake(*given.Brake)
	}
	spec.Retry = job.Retry{Tries: rules.Tries, Within: rules.Within}
	if rules.Pace != nil {
		spec.Pace = job.Pace(*rules.Pace)
	}
	return spec, nil
}

// shownSpec is a job that was read, as it is shown.
func shownSpec(spec job.Spec) contract.JobSpec {
	given := contract.JobSpec{Name: spec.Name, Type: spec.Type, When: contract.When(spec.When), Routes: []contract.Route{}, Deletions: spec.Rules.Deletions}
	for _, route := range spec.Routes {
		given.Routes = append(given.Routes, contract.Route(route))
	}
	var documents []string
	for _, class := range plan.Classes {
		if formats, ok := spec.Rules.Documents[class]; ok {
			documents = append(documents, class+"="+formats)
		}
	}
	for class := range spec.Rules.Documents {
		if !slices.Contains(plan.Classes, class) { // to be refused where it is read
			documents = append(documents, class+"="+spec.Rules.Documents[class])
		}
	}
	only := spec.Rules.Only
	given.Rules = contract.Rules{
		Clash: spec.Rules.Clash, Names: spec.Rules.Names, As: spec.Rules.As, Identical: spec.Rules.Identical, Documents: strings.Join(documents, ","), Proof: spec.Rules.Proof,
		LeaveOut: spec.Rules.LeaveOut, Only: only.Patterns, Types: only.Types, SmallerThan: only.SmallerThan, LargerThan: only.LargerThan,
		NewerThan: only.NewerThan, OlderThan: only.OlderThan, OnlyChanged: only.Changed, Priority: spec.Priority, Tries: spec.Retry.Tries, Within: spec.Retry.Within,
	}
	if spec.Pace.Up != "" || spec.Pace.Down != "" || len(spec.Pace.Hours) > 0 {
		pace := contract.Pace(spec.Pace)
		given.Rules.Pace = &pace
	}
	if spec.Migrate != (job.Migration{}) {
		migrate := contract.Migrating(spec.Migrate)
		given.Migrate = &migrate
	}
	if spec.Arrivals != (job.Arrivals{}) {
		arrivals := contract.Arrivals(spec.Arrivals)
		given.Arrivals = &arrivals
	}
	if spec.Brake != (job.Brake{}) {
		brake := contract.Brake(spec.Brake)
		given.Brake = &brake
	}
	return given
}

// jobRules are what decides in the runs of a job.
func jobRules(spec job.Spec) (plan.Rules, error) {
	given := shownSpec(spec)
	removes := spec.Type == job.Mirror || spec.Type == job.TwoWay
	if spec.Type == job.Mirror && given.Rules.Clash == "" {
		given.Rules.Clash = string(plan.Source)
	}
	rules, err := rulesOf(given.Rules)
	if err != nil {
		return rules, err
	}
	fail := func(err error) (plan.Rules, error) { return plan.Rules{}, &InputError{err} }
	if rules.Brake, err = brakeOf(spec.Brake); err != nil {
		return fail(err)
	}
	if removes {
		if rules.Type = plan.Type(spec.Type); rules.Type == plan.TwoWay {
			rules.Documents = plan.NoExports()
		}
		if rules.Deletions, err = plan.ParseDeletions(spec.Rules.Deletions); err != nil {
			return fail(err)
		}
	}
	rules.Once = spec.Once()
	rules.Digest = spec.Type == job.Migrate
	if err := rules.Check(); err != nil {
		return fail(err)
	}
	return rules, nil
}

func brakeOf(given job.Brake) (plan.Brake, error) {
	brake := plan.DefaultBrake()
	for text, share := range map[*string]**plan.Share{&given.Deletions: &brake.Deletions, &given.Overwrites: &brake.Overwrites, &given.Older: &brake.Older} {
		if *text == "" {
			continue
		}
		var err error
		if *share, err = plan.ParseShare(*text); err != nil {
			return brake, fmt.Errorf("of the brake, %w", err)
		}
	}
	brake.Empty = given.Deletions != "none"
	return brake, nil
}

// Load makes or changes the jobs of a job file. Nothing is changed where any of
// them is wrong.
func (r *Runner) Load(ctx context.Context, file contract.JobFile) (contract.Loaded, error) {
	specs, err := job.Read([]byte(file.Text))
	if err != nil {
		return contract.Loaded{}, &InputError{err}
	}
	loaded := contract.Loaded{Jobs: []contract.LoadedJob{}}
	for _, spec := range specs {
		if _, err := r.checkNew(ctx, spec, specs, !file.Try); err != nil {
			return contract.Loaded{}, fmt.Errorf("the job %s: %w", spec.Name, err)
		}
		one, err := r.difference(ctx, spec)
		if err != nil {
			return contract.Loaded{}, err
		}
		loaded.Jobs = append(loaded.Jobs, one)
	}
	if file.Try {
		return loaded, nil
	}
	for i, spec := range specs {
		switch loaded.Jobs[i].Outcome {
		case "made":
			err = r.addJob(ctx, spec, false)
		case "changed":
			err = r.changeJob(ctx, spec.Name, spec)
		}
		if err != nil {
			return loaded, err
		}
	}
	return loaded, nil
}

// difference is what loading a job would change, in the lines of its file.
func (r *Runner) difference(ctx context.Context, spec job.Spec) (contract.LoadedJob, error) {
	one := contract.LoadedJob{Name: spec.Name, Outcome: "made", Changes: []string{}}
	row, err := r.db.KeptJob(ctx, spec.Name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return one, err
	}
	text, textErr := spec.Text()
	if err != nil || textErr != nil {
		return one, textErr
	}
	before, err := keptSpec(row).Text()
	if err != nil {
		return one, err
	}
	one.Outcome = "unchanged"
	was, is := strings.Split(strings.TrimSpace(string(before)), "\n"), strings.Split(strings.TrimSpace(string(text)), "\n")
	for _, line := range was {
		if !slices.Contains(is, line) {
			one.Changes = append(one.Changes, "- "+line)
		}
	}
	for _, line := range is {
		if !slices.Contains(was, line) {
			one.Changes = append(one.Changes, "+ "+line)
		}
	}
	if string(before) != string(text) {
		one.Outcome = "changed"
	}
	return one, nil
}

// keptSpec is a kept job as it was written, with the addresses as they are now.
func keptSpec(row records.Job) job.Spec {
	spec := row.Spec
	spec.Name, spec.Type, spec.Routes = row.Name, row.Type, nil
	for _, route := range row.Routes {
		spec.Routes = append(spec.Routes, job.Route{From: route.From, To: route.To})
	}
	return spec
}

// JobText is a job as a job file.
func (r *Runner) JobText(ctx context.Context, name string) (string, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return "", err
	}
	text, err := keptSpec(row).Text()
	return string(text), err
}

// sentence says what a job makes true.
func sentence(spec job.Spec) string {
	var b strings.Builder
	for i, route := range spec.Routes {
		if i == 2 && len(spec.Routes) > 3 {
			fmt.Fprintf(&b, ", and %d more", len(spec.Routes)-2)
			break
		}
		if i > 0 {
			b.WriteString(", ")
		}
		switch {
		case spec.When.Arrival != "":
			fmt.Fprintf(&b, "each %s that arrives in %s comes to %s", spec.When.Arrival, route.From, route.To)
		case spec.Type == job.TwoWay:
			fmt.Fprintf(&b, "%s and %s hold the same", route.From, route.To)
		case spec.Type == job.Mirror:
			fmt.Fprintf(&b, "%s is as %s is", route.To, route.From)
		case spec.Type == job.Migrate:
			fmt.Fprintf(&b, "what is in %s has moved to %s", route.From, route.To)
		default:
			fmt.Fprintf(&b, "what is in %s is in %s too", route.From, route.To)
		}
	}
	text := strings.ToUpper(b.String()[:1]) + b.String()[1:] + ". "
	deletions := spec.Rules.Deletions
	switch {
	case spec.Type == job.Migrate && spec.Migrate.Clear:
		text += "It goes in passes; what is proven is cleared at the source in the end, and nothing else."
	case spec.Type == job.Migrate:
		text += "It goes in passes, and ends with a certificate; nothing is removed at the source."
	case spec.Type != job.Mirror && spec.Type != job.TwoWay:
		text += "Nothing is ever removed."
	case deletions == string(plan.IgnoreDeletions):
		text += "What is removed at one side stays at the other."
	case deletions == string(plan.FollowDeletions):
		text += "What is removed at one side is removed at the other."
	default:
		text += "What is removed at one side is taken out of the way at the other, from where it can be fetched back."
	}
	if spec.Type == job.TwoWay {
		text += " A change wins over a removal, two changes keep both, and the first run merges the two sides without removing anything."
	}
	return text
}

// zone is that of times that name none.
var zone = time.Local
