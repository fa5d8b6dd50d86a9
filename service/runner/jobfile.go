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
	"deftheron/core/store"
	"deftheron/service/records"
)

// Load makes or changes the jobs of a job file. Nothing is changed where any of
// them is wrong.
func (r *Runner) Load(ctx context.Context, file contract.JobFile) (contract.Loaded, error) {
	specs, err := job.Read([]byte(file.Text))
	if err != nil {
		return contract.Loaded{}, &InputError{err}
	}
	loaded := contract.Loaded{Jobs: []contract.LoadedJob{}}
	for _, spec := range specs {
		if err := r.checkLoaded(ctx, spec); err != nil {
			return contract.Loaded{}, err
		}
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

// checkLoaded returns an error unless the scope of a context lets a job do what it says, and shows
// the job that has its name, if there is one.
func (r *Runner) checkLoaded(ctx context.Context, spec job.Spec) error {
	row, err := r.db.KeptJob(ctx, spec.Name)
	switch {
	case err == nil && !seesRoutes(ctx, row.Routes):
		return store.Errorf(store.ErrExists, "there is already a job %s; choose another name", spec.Name)
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return err
	}
	return checkScope(ctx, spec)
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

// sentence describes a job in one sentence.
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
			fmt.Fprintf(&b, "copies each %s that arrives in %s to %s", spec.When.Arrival, route.From, route.To)
		case spec.Type == job.TwoWay:
			fmt.Fprintf(&b, "keeps %s and %s identical", route.From, route.To)
		case spec.Type == job.Mirror:
			fmt.Fprintf(&b, "makes %s identical to %s", route.To, route.From)
		case spec.Type == job.Migrate:
			fmt.Fprintf(&b, "migrates %s to %s", route.From, route.To)
		default:
			fmt.Fprintf(&b, "copies %s to %s", route.From, route.To)
		}
	}
	text := contract.Capital(b.String()) + ". "
	deletions := spec.Rules.Deletions
	switch {
	case spec.Type == job.Migrate && spec.Migrate.Clear:
		text += "It copies in steps. At the end, exactly the verified files are deleted at the source."
	case spec.Type == job.Migrate:
		text += "It copies in steps and ends with a certificate. Nothing is deleted at the source."
	case !spec.Removes():
		text += "Nothing is ever deleted."
	case deletions == string(plan.IgnoreDeletions):
		text += "Files deleted on one side stay on the other."
	case deletions == string(plan.DeleteToo):
		text += "Files deleted on one side are deleted on the other."
	case spec.Type == job.Mirror:
		text += "Files deleted at the source are moved to history at the target."
	default:
		text += "Files deleted on one side are moved to history on the other."
	}
	if spec.Type == job.Migrate && spec.Migrate.Carries() {
		text += " Share lists and owners are carried over in the final pass."
	}
	if spec.Type == job.TwoWay {
		text += " A change wins over a deletion, two changes keep both files, and the first run merges both sides and deletes nothing."
	}
	return text
}

// zone is the time zone of times that name none.
var zone = time.Local
