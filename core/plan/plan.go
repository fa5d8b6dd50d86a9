// Package plan turns differences into actions, by the rules of a job.
// It decides and counts; it changes nothing.
package plan

import (
	"fmt"
	"iter"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"deftheron/core/compare"
	"deftheron/core/store"
)

// Action is what to do about one key.
type Action string

const (
	// Create writes a file where there is none.
	Create Action = "create"
	// Replace overwrites the revision that was seen.
	Replace Action = "replace"
	// Beside writes a file under a name that keeps both.
	Beside Action = "keep-both"
	// MakeFolder makes a folder that holds nothing at the source.
	MakeFolder Action = "make-folder"
	// Look compares the contents, and acts on the result.
	Look Action = "look"
	// Recheck compares contents where the metadata of the source has changed and
	// its size and time have not, and overwrites the target if they differ.
	Recheck Action = "recheck"
	// Skip does nothing, with a cause.
	Skip Action = "skip"
	// Refuse does nothing, as it cannot be done, with a cause.
	Refuse Action = "refuse"
	// Remember does nothing but keep a pair: both sides hold the same.
	Remember Action = "remember"
	// Ask waits for a person to decide a conflict.
	Ask Action = "ask"
	// Remove removes what the other side no longer holds.
	Remove Action = "remove"
	// Forget does nothing but drop a pair: neither side holds anything of it.
	Forget Action = "forget"
	// Clear removes a file at the source whose copy at the target is verified.
	Clear Action = "clear"
)

// Takes reports whether the action takes something away, and moves nothing.
func (a Action) Takes() bool { return a == Remove || a == Clear }

// Writes reports whether the action overwrites something at the target, or writes beside it,
// and so must wait until both listings are complete.
func (a Action) Writes() bool {
	return a == Replace || a == Recheck || a == Beside || a == Look || a == Ask
}

// Phase is a stage of a run. A phase starts when the one before has ended.
type Phase int

// The phases.
const (
	PhaseCreate  Phase = iota // what writes where nothing is
	PhaseWrite                // what overwrites, or beside, something
	PhaseRemove               // what removes files
	PhaseFolders              // what removes folders
	Phases
)

// Phase of an action on a kind of entry.
func (a Action) Phase(kind store.Kind) Phase {
	switch {
	case a.Takes() && kind == store.KindFolder:
		return PhaseFolders
	case a.Takes():
		return PhaseRemove
	case a.Writes():
		return PhaseWrite
	}
	return PhaseCreate
}

// Step is one thing to be done.
type Step struct {
	Key    store.Key
	To     store.Key // at the target; the same as Key unless the name is translated
	Kind   store.Kind
	Action Action
	Source store.Entry
	Target *store.Entry // as seen; nil where there is none
	// Back says that it goes from the target to the source, where both are kept in
	// step.
	Back bool
	// Translated says that the target holds it under another name, as it
	// cannot hold its own.
	Translated bool
	// Origin is a file at the target with the same content, which is copied there
	// instead of being sent again.
	Origin *Origin
	// Evidence that a Remember rests on.
	Evidence compare.Evidence
	// Cause of a Skip or Refuse.
	Cause Cause
	// Why, in words, for a Refuse.
	Why string
	// Mark of the removed file, see compare.MarkOf: a new file with the same mark is the
	// one that has moved.
	Mark string
}

// Size of what the step is about, in bytes; -1 is unknown.
func (s Step) Size() int64 {
	if s.Target != nil && (s.Back || s.Action == Remove) {
		return s.Target.Size
	}
	return s.Source.Size
}

// Moves reports whether the step brings something to the target, as far as is known.
func (s Step) Moves() bool { return s.Action == Create || s.Action == MakeFolder || s.Action.Writes() }

// Origin is a file at the target whose content is needed at another place there.
type Origin struct {
	Key      store.Key `json:"key"` // at the target
	Revision string    `json:"revision"`
	Hash     string    `json:"hash,omitempty"` // KIND=HEXADECIMAL, with which it was verified
}

// Planner makes steps of one route's differences.
type Planner struct {
	Rules Rules
	// Merges is set if there are no records that tell a deleted file from one that never
	// existed: nothing is removed then.
	Merges bool
	// Believed says that equal revisions are of the same content at both sides.
	Believed bool
	// LargestFile that the target can hold, in bytes; 0 has no known limit.
	LargestFile int64
	// Whole is set if the source is a whole account: a file that is in several folders
	// is copied once, in the folder that it belongs to.
	Whole bool
	// Find looks for the content of a new file among the files of the target; nil looks
	// for nothing.
	Find func(source store.Entry) (*Origin, error)
	// FindBack is Find for what goes from the target to the source.
	FindBack func(target store.Entry) (*Origin, error)
	// LargestBack is LargestFile of the source.
	LargestBack int64
	// Unchanged is called for every file that needs no action and no pair.
	Unchanged func(compare.Difference)
	// Totals, if not nil, counts what was listed and what the records hold.
	Totals *Totals
}

// Steps yields the actions in the order of keys. It ends with the error of
// the differences, if any.
func (p *Planner) Steps(differences iter.Seq2[compare.Difference, error]) iter.Seq2[Step, error] {
	return func(yield func(Step, error) bool) {
		var folders pending
		for d, err := range differences {
			if err != nil {
				yield(Step{}, err)
				return
			}
			p.tally(d)
			if p.Rules.Type == TwoWay {
				step, ok, err := p.inStep(d)
				if err != nil {
					yield(Step{}, err)
					return
				}
				if ok && !yield(step, nil) {
					return
				}
				continue
			}
			if d.Source == nil {
				if step, ok := p.surplus(d); ok && !yield(step, nil) {
					return
				}
				continue
			}
			if p.Rules.Type == Clearing {
				if !yield(p.clears(d), nil) {
					return
				}
				continue
			}
			if step, ok := folders.next(d); ok && !yield(step, nil) {
				return
			}
			if d.Kind == store.KindFolder {
				continue
			}
			step, ok := p.decide(d)
			if ok && step.Action == Create && p.Find != nil && step.Source.Size > 0 {
				if step.Origin, err = p.Find(step.Source); err != nil {
					yield(Step{}, err)
					return
				}
			}
			if ok && !yield(step, nil) {
				return
			}
		}
		if step, ok := folders.last(); ok {
			yield(step, nil)
		}
	}
}

// tally counts what was listed and remembered.
func (p *Planner) tally(d compare.Difference) {
	if p.Totals == nil || d.Kind == store.KindFolder {
		return
	}
	if d.Pair != nil {
		p.Totals.Known++
	}
	if d.Source != nil {
		p.Totals.SourceListed++
	}
	if d.Target != nil {
		p.Totals.TargetListed++
	}
	if d.Pair == nil || d.Source == nil || d.Target == nil {
		return
	}
	back := p.Rules.Type == TwoWay && !d.Pair.TargetIs(d.Target) && d.Pair.SourceIs(d.Source)
	if !d.Pair.SourceIs(d.Source) && isOlder(d.Source, d.Pair.Source) || back && isOlder(d.Target, d.Pair.Target) {
		p.Totals.Older.add(d.Source.Size)
	}
}

// surplus returns the action for a file that is only at the target.
func (p *Planner) surplus(d compare.Difference) (Step, bool) {
	step := Step{Key: d.Key, To: d.To, Kind: d.Kind, Target: d.Target}
	switch {
	case p.Rules.Type != Mirror || p.Rules.Deletions == IgnoreDeletions:
		return step, false
	case d.Verdict == compare.Gone:
		step.Action = Forget
		return step, true
	case d.Kind != store.KindFile && d.Kind != store.KindFolder:
		return step, false
	}
	if p.Merges {
		if d.Kind == store.KindFolder {
			return step, false
		}
		step.Source = *d.Target // what the record shows is at the target
		return step.skip(CauseMerging), true
	}
	step.Action = Remove
	if d.Pair != nil {
		step.Mark = d.Pair.Mark
	}
	return step, true
}

func (p *Planner) decide(d compare.Difference) (Step, bool) {
	step := Step{Key: d.Key, To: d.To, Kind: d.Kind, Source: *d.Source, Target: d.Target, Translated: p.Rules.Translated(d.Key, d.To)}
	switch {
	case p.Whole && d.Source.Elsewhere:
		return step.skip(CauseElsewhere), true
	case d.Verdict == compare.Same && d.Evidence == compare.ByRevision: // it is the same file, or document
		if p.Unchanged != nil {
			p.Unchanged(d)
		}
		return step, false
	case d.Kind == store.KindOther:
		return step.skip(CauseNotAFile), true
	case d.Kind == store.KindDocument:
		return step.refuse(CauseDocument, "it exists only inside the service that made it"), true
	case p.Rules.OnlyChanged && d.Pair != nil && d.Pair.SourceIs(d.Source):
		if p.Unchanged != nil {
			p.Unchanged(d)
		}
		return step, false
	case d.Verdict == compare.Same && p.toVerify(d):
		if step.Action = Look; d.Evidence == compare.ByPair {
			step.Action = Recheck
		}
		return step, true
	case d.Verdict == compare.Same:
		if d.Evidence != compare.ByPair {
			step.Action, step.Evidence = Remember, d.Evidence
			return step, true
		}
		if p.Unchanged != nil {
			p.Unchanged(d)
		}
		return step, false
	}
	if d.Refused != nil {
		return step.refuse(CauseName, d.Refused.Error()), true
	}
	if limit := p.LargestFile; limit > 0 && d.Source.Size > limit {
		return step.refuse(CauseTooLarge, fmt.Sprintf("the target holds files of %d bytes at most", limit)), true
	}
	switch d.Verdict {
	case compare.OnlySource:
		step.Action = Create
	case compare.SourceChanged:
		step.Action = Replace
		if d.Evidence == compare.ByTime { // as large and as old as it was: likely the same
			step.Action = Recheck
		}
		if d.Pair != nil && isOlder(d.Source, d.Pair.Source) {
			step = p.keepWhatGoes(step)
		}
	case compare.Unclear:
		step.Action = Look
	default:
		return p.keepWhatGoes(p.Rules.Settle(step)), true
	}
	return step, true
}

// keepWhatGoes marks a step that overwrites what nobody could fetch back else.
func (p *Planner) keepWhatGoes(step Step) Step {
	if step.Action == Replace && p.Rules.Type.Removes() && p.Rules.Deletions == KeepVersion {
		step.Cause = CauseVersionKept
	}
	return step
}

// isOlder reports whether an entry has become older than it was.
func isOlder(now *store.Entry, before compare.Remembered) bool {
	return !now.Modified.IsZero() && now.Modified.Before(before.Modified)
}

func (s Step) skip(cause Cause) Step {
	s.Action, s.Cause = Skip, cause
	return s
}

func (s Step) refuse(cause Cause, why string) Step {
	s.Action, s.Cause, s.Why = Refuse, cause, why
	return s
}

// pending finds the folders that hold nothing at the source and are not at the
// target: the others are made with what they hold.
type pending struct {
	step *Step
}

// next takes the next entry of the source, and returns the step of the folder before
// it, if that turned out to hold nothing.
func (p *pending) next(d compare.Difference) (Step, bool) {
	var empty Step
	found := false
	if p.step != nil && !strings.HasPrefix(string(d.Key), string(p.step.Key)) {
		empty, found = *p.step, true
	}
	p.step = nil
	if d.Kind == store.KindFolder && d.Target == nil {
		step := Step{Key: d.Key, To: d.To, Kind: d.Kind, Action: MakeFolder, Source: *d.Source}
		if d.Refused != nil {
			step = step.refuse(CauseName, d.Refused.Error())
		}
		p.step = &step
	}
	return empty, found
}

func (p *pending) last() (Step, bool) {
	if p.step == nil {
		return Step{}, false
	}
	return *p.step, true
}

// BesideName is the name under which a conflict keeps both:
// "NAME (from ACCOUNT YYYY-MM-DD HH.MM.SS).EXT", the time in UTC. Where that is
// taken by something else, n counts on from 2: "NAME (from …) 2.EXT". NAME is cut
// at a character's border so that all has at most the bytes given.
func BesideName(name, account string, at time.Time, n, most int) string {
	extension := path.Ext(name)
	stem := strings.TrimSuffix(name, extension)
	if stem == "" {
		stem, extension = name, ""
	}
	tail := " (from " + account + " " + at.UTC().Format("2006-01-02 15.04.05") + ")"
	if n > 1 {
		tail += fmt.Sprint(" ", n)
	}
	tail += extension
	for len(stem)+len(tail) > most && stem != "" {
		_, size := utf8.DecodeLastRuneInString(stem)
		stem = stem[:len(stem)-size]
	}
	return stem + tail
}
