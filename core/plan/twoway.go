package plan

import (
	"fmt"

	"deftheron/core/compare"
	"deftheron/core/store"
)

// state is what became of one side of a key since both were last in sync.
type state string

const (
	unchanged state = "unchanged"
	changed   state = "changed"
	created   state = "created" // it was not known
	removed   state = "removed"
	absent    state = "absent" // it was not known, and is not there
)

// stateOf one side of a key that is remembered, or is not.
func stateOf(entry *store.Entry, known, same bool) state {
	switch {
	case entry == nil && known:
		return removed
	case entry == nil:
		return absent
	case !known:
		return created
	case same:
		return unchanged
	}
	return changed
}

// inStep is what is done about one key of two sides that are kept in sync. Its
// outcomes are those of docs/two-way.md.
func (p *Planner) inStep(d compare.Difference) (Step, bool, error) {
	if d.Kind == store.KindFolder {
		step, ok := p.folderInStep(d)
		return step, ok, nil
	}
	step := Step{Key: d.Key, To: d.To, Kind: d.Kind, Target: d.Target, Translated: p.Rules.Translated(d.Key, d.To)}
	if d.Source != nil {
		step.Source = *d.Source
	}
	known := d.Pair != nil
	source := stateOf(d.Source, known, known && d.Source != nil && d.Pair.SourceIs(d.Source))
	target := stateOf(d.Target, known, known && d.Target != nil && d.Pair.TargetIs(d.Target))
	if d.Kind == store.KindOther || d.Kind == store.KindDocument {
		if d.Kind == store.KindDocument {
			return step.skip(CauseDocumentStays), true, nil
		}
		return step.skip(CauseNotAFile), true, nil
	}
	switch {
	case source == removed && target == removed:
		step.Action = Forget
		return step, true, nil
	case source == unchanged && target == unchanged:
		if p.Unchanged != nil {
			p.Unchanged(d)
		}
		return step, false, nil
	case source == removed && target == unchanged:
		return p.removal(step, d, false)
	case source == unchanged && target == removed:
		return p.removal(step, d, true)
	case source == removed || source == absent: // created, or changed, at the target
		step, err := p.create(step, true)
		return step, true, err
	case target == removed || target == absent:
		if d.Refused != nil {
			return step.refuse(CauseName, d.Refused.Error()), true, nil
		}
		step, err := p.create(step, false)
		return step, true, err
	case d.Pair != nil && d.Pair.Kept: // a conflict that was left, and has changed
		return p.conflict(step), true, nil
	case source == changed && target == unchanged:
		if step.Action = changedBy(d.Source, d.Pair.Source); isOlder(d.Source, d.Pair.Source) {
			step = p.keepWhatGoes(step)
		}
	case source == unchanged && target == changed:
		if step.Action, step.Back = changedBy(d.Target, d.Pair.Target), true; isOlder(d.Target, d.Pair.Target) {
			step = p.keepWhatGoes(step)
		}
	default:
		return p.both(step, d), true, nil
	}
	return p.bounded(step), true, nil
}

// changedBy is what is done about a side whose revision is another: it is replaced, or
// compared first where size and time are what they were.
func changedBy(now *store.Entry, before compare.Remembered) Action {
	if before.LooksLike(now) {
		return Recheck
	}
	return Replace
}

// removal follows a removal to the side that has not changed.
func (p *Planner) removal(step Step, d compare.Difference, back bool) (Step, bool, error) {
	step.Back = back
	if p.Rules.Deletions == IgnoreDeletions {
		return step.skip(CauseRemovalIgnored), true, nil
	}
	step.Action, step.Mark = Remove, d.Pair.Mark
	if back {
		step.Mark = d.Pair.TargetMark
	}
	return step, true, nil
}

// create brings a file to the side that does not hold it, from within that where
// the content has moved there.
func (p *Planner) create(step Step, back bool) (Step, error) {
	step.Action, step.Back = Create, back
	if step = p.bounded(step); step.Action != Create {
		return step, nil
	}
	find, entry := p.Find, step.Source
	if back {
		find, entry = p.FindBack, *step.Target
	}
	if find == nil || entry.Size <= 0 {
		return step, nil
	}
	var err error
	step.Origin, err = find(entry)
	return step, err
}

// bounded refuses what is too large for where it goes.
func (p *Planner) bounded(step Step) Step {
	limit := p.LargestFile
	if step.Back {
		limit = p.LargestBack
	}
	if limit > 0 && step.Size() > limit {
		return step.refuse(CauseTooLarge, fmt.Sprintf("where it is to go, files hold %d bytes at most", limit))
	}
	return step
}

// both is what is done where both sides hold what the other does not know.
func (p *Planner) both(step Step, d compare.Difference) Step {
	switch {
	case d.Verdict == compare.Same && d.Evidence == compare.ByTime && p.Rules.Verification != store.VerifyBySize:
		// Two programs may well write as much at both sides in one second.
		step.Action = Look
	case d.Verdict == compare.Same:
		step.Action, step.Evidence = Remember, d.Evidence
	case d.Verdict == compare.Unclear:
		step.Action = Look
	default:
		return p.conflict(step)
	}
	return step
}

// conflict settles by the rules that both sides hold contents of their own.
func (p *Planner) conflict(step Step) Step {
	settled := p.Rules.Settle(step)
	if settled.Cause == CauseOlder { // the target's is the newer one
		step.Action, step.Back = Replace, true
		settled = step
	}
	return p.keepWhatGoes(settled)
}

func (p *Planner) folderInStep(d compare.Difference) (Step, bool) {
	step := Step{Key: d.Key, To: d.To, Kind: d.Kind, Target: d.Target}
	if d.Source != nil {
		step.Source = *d.Source
	}
	known := d.Pair != nil && !p.Merges
	switch {
	case d.Source != nil && d.Target != nil:
		step.Action = Remember
		return step, !known
	case d.Source == nil && d.Target == nil:
		step.Action = Forget
		return step, true
	case known && p.Rules.Deletions == IgnoreDeletions:
		return step, false
	case known:
		step.Action, step.Back = Remove, d.Target == nil
		return step, true
	case d.Refused != nil:
		return step.refuse(CauseName, d.Refused.Error()), true
	}
	step.Action, step.Back = MakeFolder, d.Source == nil
	return step, true
}
