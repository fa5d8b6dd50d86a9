package runner

import (
	"context"
	"fmt"
	"strconv"

	"deftheron/contract"
	"deftheron/core/bandwidth"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/service/live"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// SetBandwidth changes the limits of a run, while it moves or before it goes on.
func (r *Runner) SetBandwidth(ctx context.Context, id string, given contract.Bandwidth) error {
	rule, err := given.Read()
	if err != nil {
		return &InputError{err}
	}
	a, row, err := r.changeRules(ctx, id, func(rules *plan.Rules) { rules.Bandwidth = rule })
	if err == nil {
		r.note(ctx, row, records.EventBandwidth, bandwidthWords(rule))
	}
	if a != nil && err == nil {
		a.bandwidth.Set(rule)
	}
	return err
}

// SetPriority changes how a run stands to others, while it moves or before it does.
func (r *Runner) SetPriority(ctx context.Context, id, given string) error {
	priority, err := plan.ParsePriority(given)
	if err != nil {
		return &InputError{err}
	}
	a, row, err := r.changeRules(ctx, id, func(rules *plan.Rules) { rules.Priority = priority })
	if err == nil {
		r.note(ctx, row, records.EventPriority, given)
	}
	if a != nil && err == nil {
		a.share.SetWeight(priority.Weight())
	}
	return err
}

// bandwidthWords says what a bandwidth limit is.
func bandwidthWords(rule bandwidth.Rule) string {
	words := fmt.Sprintf("%s up and %s down", rule.Up, rule.Down)
	if len(rule.Hours) > 0 {
		words += ", and others by hours"
	}
	return words
}

// changeRules changes the rules of a run that has not ended, and returns the run, and its
// active part if it has one.
func (r *Runner) changeRules(ctx context.Context, id string, change func(*plan.Rules)) (*active, records.Run, error) {
	row, a, err := r.find(ctx, id)
	switch {
	case err != nil:
		return nil, row, err
	case row.Ended():
		return nil, row, refused(row, "nothing of it moves any more")
	}
	change(&row.Rules)
	if err := r.db.SaveRun(ctx, row, "rules"); err != nil {
		return nil, row, err
	}
	if a != nil {
		a.do(func(s *runState) { change(&s.row.Rules) })
	}
	r.hub.Publish(live.Runs, r.contract(row, nil))
	return a, row, nil
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
		return &InputError{remedy.Errorf("%d runs at once are not possible; give 1 to %d", runs, mostAtOnce)}
	}
	if err := r.db.SetMeta(ctx, atOnceName, strconv.Itoa(runs)); err != nil {
		return err
	}
	r.limiter.setMost(runs)
	return nil
}

// Approve lets a held run continue: with what was decided, where
// that was asked.
func (r *Runner) Approve(ctx context.Context, id string, decided contract.Approval) error {
	row, a, err := r.find(ctx, id)
	switch {
	case err != nil:
		return err
	case a != nil || !run.Can(row.State, run.Approve):
		return refused(row, "only a held run can be approved")
	}
	some, err := r.db.HasDecided(ctx, row.Number)
	if err != nil {
		return err
	}
	if row.Needs() == run.NeedsDecision && decided.Conflict == "" && !some {
		return &InputError{messages.With(store.Errorf(store.ErrRefused,
			"the run %s waits for a decision about conflicts; choose keep-both, newer, source or target", id),
			"heron run approve "+id+" --conflict keep-both")}
	}
	if decided.Conflict != "" {
		if row.Rules.Conflict, err = parseDecision(decided.Conflict); err != nil {
			return err
		}
		if err := r.db.SaveRun(ctx, row, "rules"); err != nil {
			return err
		}
	}
	if row.Needs() == run.NeedsApproval {
		row.Approved = true
		if err := r.db.SaveRun(ctx, row, "approved"); err != nil {
			return err
		}
	}
	r.note(ctx, row, records.EventApproved, "")
	return r.take(ctx, row)
}
