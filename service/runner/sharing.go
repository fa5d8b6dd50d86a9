package runner

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/sharing"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/core/tree"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// mostUnknown is how many unknown people an error names.
const mostUnknown = 5

// peopleOf returns the table of people of a run's job; carries is false if the job does not
// carry share lists over.
func (r *Runner) peopleOf(ctx context.Context, row records.Run) (people job.People, carries bool, err error) {
	kept, err := r.db.KeptJob(ctx, row.Job)
	if errors.Is(err, records.ErrNotFound) {
		return nil, false, nil
	}
	if err != nil || !kept.Spec.Migrate.Carries() {
		return nil, false, err
	}
	people, err = kept.Spec.Migrate.People.Normal()
	return people, true, err
}

// checkPeople returns how a first pass ends before it begins, if its table names people
// whom a target does not know; nil if it may begin.
func (r *Runner) checkPeople(ctx context.Context, row records.Run, routes []transfer.Route) *transfer.Result {
	people, carries, err := r.peopleOf(ctx, row)
	if err != nil || !carries {
		return failedWith(ctx, err)
	}
	for _, route := range routes {
		sharingOf := route.Target.Store.Capabilities().Sharing
		if sharingOf == nil {
			continue // the survey and the certificate say so
		}
		unknown, err := sharing.Unknown(ctx, sharingOf, people)
		if err != nil {
			return failedWith(ctx, err)
		}
		if len(unknown) > 0 {
			named := strings.Join(unknown[:min(len(unknown), mostUnknown)], ", ")
			if more := len(unknown) - mostUnknown; more > 0 {
				named += " and " + some(int64(more), "other")
			}
			return &transfer.Result{State: run.Failed, Cause: plan.CausePeople, Why: "the account " + route.Target.Address.Account +
				" does not know " + named}
		}
	}
	return nil
}

func failedWith(ctx context.Context, err error) *transfer.Result {
	if err == nil {
		return nil
	}
	result := brokenOff(ctx, err, "it was cancelled by a person", "the table of people could not be checked: ")
	if result.Cause == plan.CauseListing {
		result.Cause = plan.CauseOf(err)
	}
	return &result
}

// carryShares carries the share lists of a final pass over and records what could not be;
// nil if the job does not.
func (r *Runner) carryShares(ctx context.Context, row records.Run, routes []transfer.Route) (*contract.CertifiedSharing, error) {
	people, carries, err := r.peopleOf(ctx, row)
	if err != nil || !carries {
		return nil, err
	}
	const batch = 500
	var rows []records.CertifiedShare
	written := int64(0)
	flush := func() error {
		err := r.db.AddCertifiedShares(ctx, row.Number, written, rows)
		written += int64(len(rows))
		rows = rows[:0]
		return err
	}
	tally, err := sharing.Carry(ctx, routes, row.Rules, row.CreatedAt, r.db, people, func(one sharing.Finding) error {
		rows = append(rows, records.CertifiedShare{Address: one.Address, Target: one.Target, Kind: string(one.Kind), Person: one.Person,
			Becomes: one.Becomes, Level: string(one.Right), Cause: string(one.Cause)})
		if len(rows) < batch {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	made := &contract.CertifiedSharing{Entries: tally.Entries, Carried: tally.Carried, Lesser: tally.Lesser, Missing: tally.Missing,
		Why: []contract.CauseCount{}}
	for _, why := range tally.Why {
		state := "missing"
		if sharing.IsLesser(why.Cause) {
			state = "lesser"
		}
		words := messages.Of(why.Cause)
		made.Why = append(made.Why, contract.CauseCount{State: state, Cause: string(why.Cause), Meaning: words.Sentence, Remedy: words.Remedy,
			Items: why.Items})
	}
	return made, err
}

func shownShare(one records.CertifiedShare) contract.CertifiedShare {
	return contract.CertifiedShare{Address: one.Address, Target: one.Target, Kind: one.Kind, Person: one.Person, Becomes: one.Becomes,
		Right: one.Level, Cause: one.Cause}
}

// surveyor reads the share lists of a place that is surveyed for a migration; nil if they
// are not carried over, or the account has none.
func surveyor(ctx context.Context, source store.Store, place store.Ref) (*sharing.Surveyor, error) {
	taking, err := sharing.NewSurveyor(ctx, source)
	if taking == nil || err != nil {
		return nil, err
	}
	root, err := source.Stat(ctx, place)
	if err == nil && root.HasShares {
		place.ID = root.ID
		err = taking.Add(ctx, place)
	}
	return taking, err
}

// shownSharing shows what a surveyor found; with none, the source has no share lists.
func shownSharing(ctx context.Context, taking *sharing.Surveyor, target *tree.Located, table job.People) (*contract.SurveyedSharing,
	error) {
	shown := &contract.SurveyedSharing{People: []contract.SurveyedPerson{}}
	if target != nil {
		shown.Supported = target.Store.Capabilities().Sharing != nil
	}
	if taking == nil {
		return shown, nil
	}
	var to store.Store
	if target != nil {
		to = target.Store
	}
	taken, err := taking.End(ctx, to, table)
	if err != nil {
		return nil, err
	}
	shown.Entries, shown.Links, shown.Unreadable, shown.More = taken.Entries, taken.Links, taken.Unreadable, taken.More
	shown.People = shownPeople(taken.People)
	return shown, nil
}

func shownPeople(people []sharing.Surveyed) []contract.SurveyedPerson {
	shown := make([]contract.SurveyedPerson, 0, len(people))
	for _, one := range people {
		person := contract.SurveyedPerson{Person: one.Person, Shared: one.Shared, Owns: one.Owns, Becomes: one.Becomes, Proposed: one.Proposed,
			Cause: string(one.Cause)}
		if one.Cause != plan.CauseNone {
			person.Meaning = messages.Of(one.Cause).Title
		}
		shown = append(shown, person)
	}
	return shown
}

// People returns the table of people of a migration, and who is in the share lists of its
// last survey, as its first target knows them now.
func (r *Runner) People(ctx context.Context, name string) (shown contract.People, err error) {
	kept, err := r.kept(ctx, name)
	if err != nil {
		return shown, err
	}
	shown.Table, shown.People = map[string]string{}, []contract.SurveyedPerson{}
	for old, becomes := range kept.Spec.Migrate.People {
		shown.Table[old] = becomes
	}
	if !kept.Spec.Migrate.Carries() {
		shown.Note = "The job does not carry share lists over."
		return shown, nil
	}
	surveyed, more, err := r.surveyedPeople(ctx, name)
	if err != nil {
		return shown, err
	}
	if surveyed == nil {
		shown.Note = "No survey has read the share lists yet. Start the survey first."
		return shown, nil
	}
	shown.More = more
	address, err := store.ParseAddress(kept.Spec.Routes[0].To)
	if err != nil {
		return shown, err
	}
	target, err := r.tree.Locate(ctx, address)
	if err != nil {
		return shown, err
	}
	if err := sharing.Match(ctx, target.Store.Capabilities().Sharing, kept.Spec.Migrate.People, surveyed); err != nil {
		return shown, err
	}
	shown.People = shownPeople(surveyed)
	return shown, nil
}

// surveyedPeople are the people of a migration's last survey, over all of its routes; nil
// if none has read share lists.
func (r *Runner) surveyedPeople(ctx context.Context, name string) (people []sharing.Surveyed, more bool, err error) {
	_, runs, err := r.passed(ctx, name)
	if err != nil {
		return nil, false, err
	}
	for i := len(runs) - 1; i >= 0; i-- {
		if runs[i].Step != job.Survey || runs[i].State != run.Done {
			continue
		}
		texts, err := r.db.Surveys(ctx, runs[i].Number)
		if err != nil {
			return nil, false, err
		}
		at := map[string]int{}
		for _, text := range texts {
			var one contract.Survey
			if err := json.Unmarshal([]byte(text), &one); err != nil {
				return nil, false, err
			}
			if one.Sharing == nil {
				continue
			}
			more = more || one.Sharing.More
			if people == nil {
				people = []sharing.Surveyed{}
			}
			for _, person := range one.Sharing.People {
				i, known := at[person.Person]
				if !known {
					i, people = len(people), append(people, sharing.Surveyed{Person: person.Person})
					at[person.Person] = i
				}
				people[i].Shared += person.Shared
				people[i].Owns += person.Owns
			}
		}
		return people, more, nil
	}
	return nil, false, nil
}
