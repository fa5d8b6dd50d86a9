package runner

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/pace"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/service/live"
)

// rulesOf reads rules, and holds them against each other.
func rulesOf(given contract.Rules) (rules plan.Rules, err error) {
	fail := func(err error) (plan.Rules, error) { return plan.Rules{}, &InputError{err} }
	if rules.Clash, err = plan.ParseClash(given.Clash); err != nil {
		return fail(err)
	}
	if rules.Names, err = plan.ParseNaming(given.Names); err != nil {
		return fail(err)
	}
	if rules.Documents, err = plan.ParseDocuments(given.Documents); err != nil {
		return fail(err)
	}
	if rules.Proof, err = plan.ParseProof(given.Proof); err != nil {
		return fail(err)
	}
	rules.As, rules.Tries, rules.OnlyChanged = given.As, given.Tries, given.OnlyChanged
	rules.Filter = plan.Filter{LeaveOut: given.LeaveOut, Only: given.Only, Types: given.Types, NewerThan: given.NewerThan, OlderThan: given.OlderThan}
	for text, size := range map[*string]*int64{&given.SmallerThan: &rules.Filter.SmallerThan, &given.LargerThan: &rules.Filter.LargerThan} {
		if *text == "" {
			continue
		}
		if *size, err = pace.ParseSize(*text); err != nil {
			return fail(err)
		}
		if *size == 0 {
			return fail(fmt.Errorf("a limit of %q leaves nothing to decide; give a size such as 2GiB", *text))
		}
	}
	if given.Within != "" {
		if rules.Within, err = time.ParseDuration(given.Within); err != nil || rules.Within <= 0 {
			return fail(fmt.Errorf("%q is no time within which to try again; write it as 30m or 2h", given.Within))
		}
	}
	if rules.Priority, err = plan.ParsePriority(given.Priority); err != nil {
		return fail(err)
	}
	if given.Pace != nil {
		if rules.Pace, err = PaceOf(*given.Pace); err != nil {
			return fail(err)
		}
	}
	if err := rules.Check(); err != nil {
		return fail(err)
	}
	return rules, nil
}

// PaceOf reads limits.
func PaceOf(given contract.Pace) (rule pace.Rule, err error) {
	if rule.Up, err = pace.ParseRate(given.Up); err != nil {
		return rule, err
	}
	if rule.Down, err = pace.ParseRate(given.Down); err != nil {
		return rule, err
	}
	for _, when := range slices.Sorted(maps.Keys(given.Hours)) {
		hours, err := pace.ParseHours(when, given.Hours[when])
		if err != nil {
			return rule, err
		}
		rule.Hours = append(rule.Hours, hours)
	}
	return rule, nil
}

// ShownPace shows limits.
func ShownPace(rule pace.Rule) (shown contract.Pace) {
	if rule.Up != 0 {
		shown.Up = rule.Up.String()
	}
	if rule.Down != 0 {
		shown.Down = rule.Down.String()
	}
	for _, hours := range rule.Hours {
		if shown.Hours == nil {
			shown.Hours = map[string]string{}
		}
		shown.Hours[hours.When] = hours.Rates()
	}
	return shown
}

// shownRules shows what differs from the defaults.
func shownRules(rules plan.Rules) contract.Rules {
	size := func(n int64) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n, "B")
	}
	shown := contract.Rules{
		Clash: string(rules.Clash), Names: string(rules.Names), Documents: plan.DocumentsText(rules.Documents), As: rules.As, Proof: string(rules.Proof), Tries: rules.Tries,
		LeaveOut: rules.Filter.LeaveOut, Only: rules.Filter.Only, Types: rules.Filter.Types, NewerThan: rules.Filter.NewerThan, OlderThan: rules.Filter.OlderThan,
		SmallerThan: size(rules.Filter.SmallerThan), LargerThan: size(rules.Filter.LargerThan), OnlyChanged: rules.OnlyChanged,
	}
	if rules.Within > 0 {
		shown.Within = rules.Within.String()
	}
	if rules.Priority != plan.Normal {
		shown.Priority = rules.Priority.Text()
	}
	if rules.Once {
		shown.Identical = job.IdenticalOnce
	}
	if !rules.Pace.IsZero() {
		limits := ShownPace(rules.Pace)
		shown.Pace = &limits
	}
	return shown
}

// SetPace changes the limits of a run, while it moves or before it goes on.
func (r *Runner) SetPace(ctx context.Context, id string, given contract.Pace) error {
	rule, err := PaceOf(given)
	if err != nil {
		return &InputError{err}
	}
	a, err := r.changeRules(ctx, id, func(rules *plan.Rules) { rules.Pace = rule })
	if a != nil && err == nil {
		a.pace.Set(rule)
	}
	return err
}

// SetPriority changes how a run stands to others, while it moves or before it does.
func (r *Runner) SetPriority(ctx context.Context, id, given string) error {
	priority, err := plan.ParsePriority(given)
	if err != nil {
		return &InputError{err}
	}
	a, err := r.changeRules(ctx, id, func(rules *plan.Rules) { rules.Priority = priority })
	if a != nil && err == nil {
		a.share.SetWeight(priority.Weight())
	}
	return err
}

// changeRules changes the rules of a run that has not ended, and returns its active
// part where it has one.
func (r *Runner) changeRules(ctx context.Context, id string, change func(*plan.Rules)) (*active, error) {
	row, a, err := r.find(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case row.Ended():
		return nil, refused(row, "nothing of it moves any more")
	}
	change(&row.Rules)
	if err := r.db.SaveRun(ctx, row, "rules"); err != nil {
		return nil, err
	}
	if a != nil {
		a.do(func(s *runState) { change(&s.row.Rules) })
	}
	r.hub.Publish(live.Runs, r.contract(row, nil))
	return a, nil
}

// atOnceName is what the number of runs that move at once is kept under.
const atOnceName = "runs at once"

// AtOnce is how many runs move at once.
func (r *Runner) AtOnce(ctx context.Context) (int, error) {
	text, err := r.db.Meta(ctx, atOnceName)
	if err != nil || text == "" {
		return usualAtOnce, err
	}
	return strconv.Atoi(text)
}

// SetAtOnce changes how many runs move at once. Those that move go on.
func (r *Runner) SetAtOnce(ctx context.Context, runs int) error {
	if runs < 1 || runs > mostAtOnce {
		return &InputError{fmt.Errorf("%d runs at once are not possible; give 1 to %d", runs, mostAtOnce)}
	}
	if err := r.db.SetMeta(ctx, atOnceName, strconv.Itoa(runs)); err != nil {
		return err
	}
	r.turns.setMost(runs)
	return nil
}

// Release lets a run go on that is held for a person: with what was decided, where
// that was asked.
func (r *Runner) Release(ctx context.Context, id string, decided contract.Release) error {
	row, a, err := r.find(ctx, id)
	switch {
	case err != nil:
		return err
	case a != nil || row.State != "held":
		return refused(row, "only a run that is held can be released")
	case plan.Cause(row.Cause) == plan.CauseAsk && decided.Clash == "":
		return &InputError{store.Errorf(store.ErrRefused, "the run %s asks what is kept where both sides had changed; decide with --clash keep-both, newer, source or leave", id)}
	}
	if decided.Clash != "" {
		clash, err := plan.ParseClash(decided.Clash)
		if err != nil || clash == plan.AskPerson {
			return &InputError{fmt.Errorf("%q is no decision about clashes; use keep-both, newer, source or leave", decided.Clash)}
		}
		row.Rules.Clash = clash
		if err := r.db.SaveRun(ctx, row, "rules"); err != nil {
			return err
		}
	}
	if plan.Cause(row.Cause).IsBrake() {
		row.Released = true
		if err := r.db.SaveRun(ctx, row, "released"); err != nil {
			return err
		}
	}
	return r.take(ctx, row)
}
