package runner

import (
	"context"
	"encoding/json"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/sharing"
	"deftheron/core/store"
	"deftheron/core/survey"
	"deftheron/core/transfer"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/live"
	"deftheron/service/records"
)

// surveyRun carries out a run that surveys the sources of its routes for their targets.
func (r *Runner) surveyRun(ctx context.Context, a *active) transfer.Result {
	now := time.Now()
	var row records.Run
	a.do(func(s *runState) {
		r.become(&s.row, run.Begin, plan.CauseNone, "")
		s.row.StartedAt = &now
		row = s.row
	})
	if err := r.db.SaveRun(context.WithoutCancel(ctx), row, "state", "cause", "why", "started_at"); err != nil {
		return transfer.Result{State: run.Failed, Cause: plan.CauseFault, Why: err.Error()}
	}
	r.hub.Publish(live.Runs, r.contract(row, nil))
	if err := r.surveyRoutes(ctx, row); err != nil {
		return brokenOff(ctx, err, "it was cancelled by a person", "")
	}
	return transfer.Result{State: run.Done}
}

func (r *Runner) surveyRoutes(ctx context.Context, row records.Run) error {
	people, carries, err := r.peopleOf(ctx, row)
	if err != nil {
		return err
	}
	for i, route := range row.Routes {
		from, err := store.ParseAddress(route.From)
		if err != nil {
			return err
		}
		to, err := store.ParseAddress(route.To)
		if err != nil {
			return err
		}
		source, err := r.tree.Locate(ctx, from)
		if err != nil {
			return err
		}
		target, err := r.tree.Locate(ctx, to)
		if err != nil {
			return err
		}
		taken, err := r.survey(ctx, surveying{located: source, target: &target, into: target.Place.AsFolder().Path, filter: row.Rules.Filter,
			people: people, carries: carries}, nil)
		if err != nil {
			return err
		}
		text, err := json.Marshal(taken)
		if err != nil {
			return err
		}
		if err := r.db.SaveSurvey(ctx, row.Number, i, text); err != nil {
			return err
		}
	}
	return nil
}

// Surveys returns the surveys that a run has taken, by its routes.
func (r *Runner) Surveys(ctx context.Context, id string) (surveys []contract.Survey, err error) {
	row, err := r.db.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	texts, err := r.db.Surveys(ctx, row.Number)
	for _, text := range texts {
		var one contract.Survey
		if err := json.Unmarshal([]byte(text), &one); err != nil {
			return nil, err
		}
		surveys = append(surveys, one)
	}
	return surveys, err
}

// Survey surveys what is at an address, for a target unless that is nil. told, where not
// nil, is called now and then with how many entries were seen.
func (r *Runner) Survey(ctx context.Context, located tree.Located, target *tree.Located, told func(int64)) (contract.Survey, error) {
	into := store.Path("")
	if target != nil {
		into = target.Place.AsFolder().Path.Child(located.Address.Name())
	}
	return r.survey(ctx, surveying{located: located, target: target, into: into}, told)
}

// surveying is what is surveyed, and what for.
type surveying struct {
	located tree.Located
	target  *tree.Located // nil for none
	into    store.Path    // the folder of the target that it is to become
	filter  plan.Filter
	people  job.People // the table, if carries
	carries bool       // share lists are read too
}

// survey surveys what is at an address.
func (r *Runner) survey(ctx context.Context, asked surveying, told func(int64)) (contract.Survey, error) {
	located, target, into := asked.located, asked.target, asked.into
	shown := contract.Survey{Address: located.Address.String(), At: time.Now(), Free: -1}
	var to *survey.Target
	if target != nil {
		shown.For = target.Address.String()
		to = &survey.Target{Traits: target.Store.Traits(), Path: into}
		if space, err := store.SpaceOf(ctx, target.Store); err == nil {
			shown.Free = space.Free
		}
	}
	result, err := r.takeSurvey(ctx, asked, to, &shown, told)
	if err != nil {
		return shown, err
	}
	address := func(key store.Key, kind store.Kind) string {
		below, name := key.Split(kind)
		at := located.Address
		for _, step := range append(below.Names(), name) {
			at = at.Child(step)
		}
		return at.String()
	}
	files := func(all []survey.File) []contract.Surveyed {
		list := []contract.Surveyed{}
		for _, one := range all {
			list = append(list, contract.Surveyed{Address: address(one.Key, one.Kind), Kind: string(one.Kind), Size: one.Size, Depth: one.Depth})
		}
		return list
	}
	groups := func(all []survey.Group) []contract.Group {
		list := []contract.Group{}
		for _, one := range all {
			list = append(list, contract.Group(one))
		}
		return list
	}
	shown.Files, shown.Folders, shown.Others, shown.Bytes = result.Files, result.Folders, result.Others, result.Bytes
	shown.Unsized, shown.EmptyFiles, shown.EmptyFolders = result.Unsized, result.EmptyFiles, result.EmptyFolders
	shown.Types, shown.Ages, shown.Documents = groups(result.Types), groups(result.Ages), groups(result.Documents)
	shown.Largest, shown.Deepest, shown.Oversized = files(result.Largest), files(result.Deepest), files(result.TooLargeFiles)
	shown.Translated, shown.Twins, shown.Refused = result.Translated, result.Twins, result.Refused
	shown.TooLarge = contract.Count{Items: result.TooLarge.Items, Bytes: result.TooLarge.Bytes}
	shown.Hashed, shown.Repeated = result.Hashed, contract.Count{Items: result.Repeated.Items, Bytes: result.Repeated.Bytes}
	shown.Names, shown.Duplicates, shown.Exports = []contract.Surveyed{}, []contract.Duplicated{}, []contract.Exporting{}
	for _, one := range result.Names {
		name := files([]survey.File{one.File})[0]
		name.Why = one.Why
		if one.To != "" {
			_, name.Target = one.To.Split(one.Kind)
		}
		shown.Names = append(shown.Names, name)
	}
	for _, one := range result.Duplicates {
		duplicated := contract.Duplicated{Hash: one.Hash, Size: one.Size, Items: one.Items}
		for _, key := range one.Examples {
			duplicated.Examples = append(duplicated.Examples, address(key, store.KindFile))
		}
		shown.Duplicates = append(shown.Duplicates, duplicated)
	}
	for _, one := range result.Documents {
		if kind, ok := store.ExportsOf(located.Store, store.Entry{Kind: store.KindDocument, Document: one.Name}); ok {
			shown.Exports = append(shown.Exports, contract.Exporting{Document: one.Name, Format: kind.Formats[0].Name, Items: one.Items})
		}
	}
	return shown, nil
}

// takeSurvey surveys for a target, which may be nil, and fills in what is said of share lists.
func (r *Runner) takeSurvey(ctx context.Context, asked surveying, to *survey.Target, shown *contract.Survey,
	told func(int64)) (*survey.Result,
	error) {
	source := view.Exports(asked.located.Store, plan.NoExports())
	var lists *sharing.Surveyor
	if asked.carries {
		var err error
		if lists, err = surveyor(ctx, source, asked.located.Place); err != nil {
			return nil, err
		}
		if lists != nil {
			to.Shared = lists.Add
		}
	}
	result, err := survey.Take(ctx, source, asked.located.Place, to, asked.filter, shown.At, told)
	if err == nil && asked.carries {
		shown.Sharing, err = shownSharing(ctx, lists, asked.target, asked.people)
	}
	return result, err
}
