// Package plan turns differences into what is to be done about them, by rules.
// It decides and counts; it changes nothing.
package plan

import (
	"fmt"
	"iter"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"deftheron/core/compare"
	"deftheron/core/store"
)

// Clash says what is done where both sides hold different contents and the
// target's is not what we put there.
type Clash string

const (
	// KeepBoth writes the source's beside the target's, under a name that
	// tells where it is from. It is the default.
	KeepBoth Clash = "keep-both"
	// Leave leaves the target's.
	Leave Clash = "leave"
	// Source puts the source's in the target's place.
	Source Clash = "source"
)

// ParseClash reads a rule; empty is KeepBoth.
func ParseClash(text string) (Clash, error) {
	switch clash := Clash(text); clash {
	case "":
		return KeepBoth, nil
	case KeepBoth, Leave, Source:
		return clash, nil
	}
	return "", fmt.Errorf("%q is no rule for clashes; use keep-both, leave or source", text)
}

// Action is what is to be done about one key.
type Action string

const (
	// Create writes a file where there is none.
	Create Action = "create"
	// Replace writes over the revision that was seen.
	Replace Action = "replace"
	// Beside writes a file under a name that keeps both.
	Beside Action = "keep-both"
	// MakeFolder makes a folder that holds nothing at the source.
	MakeFolder Action = "make-folder"
	// Look compares contents, and then does what that comes to.
	Look Action = "look"
	// Skip does nothing, with a cause.
	Skip Action = "skip"
	// Refuse does nothing, as it cannot be done, with a cause.
	Refuse Action = "refuse"
	// Remember does nothing but keep a pair: both sides hold the same.
	Remember Action = "remember"
)

// Writes reports whether the action writes over, or beside, what is at the
// target, and so has to wait until both listings are complete.
func (a Action) Writes() bool { return a == Replace || a == Beside || a == Look }

// Step is one thing to be done.
type Step struct {
	Key    store.Key
	Kind   store.Kind
	Action Action
	Source store.Entry
	Target *store.Entry // as seen; nil where there is none
	// Cause of a Skip or Refuse.
	Cause Cause
	// Why, in words, for a Refuse.
	Why string
}

// Rules are what decides.
type Rules struct {
	Clash Clash `json:"clash"`
	// Clear removes at the source, once all has arrived, what is proven to be
	// at the target.
	Clear bool `json:"clear,omitempty"`
	// Documents says what documents are exported as, by class.
	Documents store.Choice `json:"documents,omitempty"`
}

// Classes are the classes of documents that rules know.
var Classes = []string{"text", "sheet", "slides", "drawing", "note", "other"}

// ParseDocuments reads a rule for documents: "text=odt+pdf,sheet=ods". A class
// with nothing after it leaves its documents out.
func ParseDocuments(text string) (store.Choice, error) {
	choice := store.Choice{}
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		class, formats, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok || !slices.Contains(Classes, class) {
			return nil, fmt.Errorf("%q is no rule for documents; write it as text=odt+pdf,sheet=ods, with the classes %s", part, strings.Join(Classes, ", "))
		}
		choice[class] = []string{}
		for format := range strings.FieldsFuncSeq(formats, func(r rune) bool { return r == '+' }) {
			choice[class] = append(choice[class], format)
		}
	}
	return choice, nil
}

// Totals count what a plan comes to. Bytes are those of the files counted.
type Totals struct {
	Create    Count `json:"create"`
	Replace   Count `json:"replace"`
	KeepBoth  Count `json:"keep_both"`
	Look      Count `json:"look"`
	Folders   Count `json:"folders"`
	Unchanged Count `json:"unchanged"`
	Left      Count `json:"left"`
	Skipped   Count `json:"skipped"`
	Refused   Count `json:"refused"`
}

// Count is a number of files and their bytes.
type Count struct {
	Items int64 `json:"items"`
	Bytes int64 `json:"bytes"`
}

func (c *Count) add(size int64) {
	c.Items++
	c.Bytes += max(size, 0)
}

// Add counts a step.
func (t *Totals) Add(step Step) {
	t.count(step).add(step.Source.Size)
}

func (t *Totals) count(step Step) *Count {
	switch step.Action {
	case Create:
		return &t.Create
	case Replace:
		return &t.Replace
	case Beside:
		return &t.KeepBoth
	case Look:
		return &t.Look
	case MakeFolder:
		return &t.Folders
	case Remember:
		return &t.Unchanged
	case Refuse:
		return &t.Refused
	}
	if step.Cause == CauseLeft {
		return &t.Left
	}
	return &t.Skipped
}

// Clashes is the number of clashes, however they are settled.
func (t Totals) Clashes() int64 { return t.KeepBoth.Items + t.Left.Items }

// Moving is what will be written, at most.
func (t Totals) Moving() Count {
	return Count{
		Items: t.Create.Items + t.Replace.Items + t.KeepBoth.Items + t.Look.Items,
		Bytes: t.Create.Bytes + t.Replace.Bytes + t.KeepBoth.Bytes + t.Look.Bytes,
	}
}

// Planner makes steps of one route's differences.
type Planner struct {
	Rules Rules
	// Target says what the target can hold, and Root where keys count from.
	Target store.Traits
	Root   store.Path
	// Once says that the whole account is the source: what is in several of
	// its folders goes with the one that it belongs to.
	Once bool
	// Unchanged is told of every file that needs nothing and no pair.
	Unchanged func(compare.Difference)
}

// Steps yields what is to be done, in the order of keys. It ends with the
// error of the differences, if any.
func (p *Planner) Steps(differences iter.Seq2[compare.Difference, error]) iter.Seq2[Step, error] {
	return func(yield func(Step, error) bool) {
		var folders pending
		var refused refusal
		for d, err := range differences {
			if err != nil {
				yield(Step{}, err)
				return
			}
			if d.Source == nil {
				continue
			}
			if d.Kind == store.KindFolder {
				refused.folder(p, d)
			}
			if step, ok := folders.next(d, refused.below(d)); ok && !yield(step, nil) {
				return
			}
			if d.Kind == store.KindFolder {
				continue
			}
			step, ok := p.decide(d, &refused)
			if ok && !yield(step, nil) {
				return
			}
		}
		if step, ok := folders.last(); ok {
			yield(step, nil)
		}
	}
}

func (p *Planner) decide(d compare.Difference, refused *refusal) (Step, bool) {
	step := Step{Key: d.Key, Kind: d.Kind, Source: *d.Source, Target: d.Target}
	switch {
	case p.Once && d.Source.Elsewhere:
		return step.skip(CauseElsewhere), true
	case d.Kind == store.KindOther:
		return step.skip(CauseNotAFile), true
	case d.Kind == store.KindDocument:
		return step.refuse(CauseDocument, "it exists only inside the service that made it"), true
	case d.Verdict == compare.Same:
		if d.Evidence != compare.ByPair {
			step.Action = Remember
			return step, true
		}
		if p.Unchanged != nil {
			p.Unchanged(d)
		}
		return step, false
	}
	if why := refused.of(p, d); why != nil {
		return step.refuse(CauseName, why.Error()), true
	}
	if limit := p.Target.LargestFile; limit > 0 && d.Source.Size > limit {
		return step.refuse(CauseTooLarge, fmt.Sprintf("the target holds files of %d bytes at most", limit)), true
	}
	switch d.Verdict {
	case compare.OnlySource:
		step.Action = Create
	case compare.SourceChanged:
		step.Action = Replace
	case compare.Unclear:
		step.Action = Look
	default:
		return p.Rules.Settle(step), true
	}
	return step, true
}

// Settle says what is done about a clash.
func (r Rules) Settle(step Step) Step {
	switch r.Clash {
	case Leave:
		return step.skip(CauseLeft)
	case Source:
		step.Action = Replace
	default:
		step.Action = Beside
	}
	return step
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

// next takes the next entry of the source, and why the target cannot hold it, and
// returns the step of the folder before it, if that turned out to hold nothing.
func (p *pending) next(d compare.Difference, refused error) (Step, bool) {
	var empty Step
	found := false
	if p.step != nil && !strings.HasPrefix(string(d.Key), string(p.step.Key)) {
		empty, found = *p.step, true
	}
	p.step = nil
	if d.Kind == store.KindFolder && d.Target == nil {
		step := Step{Key: d.Key, Kind: d.Kind, Action: MakeFolder, Source: *d.Source}
		if refused != nil {
			step = step.refuse(CauseName, refused.Error())
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

// refusal remembers the folder whose name the target cannot hold: nothing
// below it can be held either.
type refusal struct {
	key store.Key
	why error
}

// below is why nothing can be held where d is, as it is below that folder, or it.
func (r *refusal) below(d compare.Difference) error {
	if r.why != nil && strings.HasPrefix(string(d.Key), string(r.key)) {
		return r.why
	}
	return nil
}

func (r *refusal) folder(p *Planner, d compare.Difference) {
	if r.below(d) != nil {
		return
	}
	r.key, r.why = "", nil
	if d.Target != nil {
		return
	}
	parent, name := d.Key.Split(store.KindFolder)
	if err := p.Target.NameError(p.Root+parent, name); err != nil {
		r.key, r.why = d.Key, err
	}
}

func (r *refusal) of(p *Planner, d compare.Difference) error {
	if why := r.below(d); why != nil {
		return why
	}
	if d.Key == "" || d.Target != nil {
		return nil // a single file, whose name was checked at the start
	}
	parent, name := d.Key.Split(d.Kind)
	return p.Target.NameError(p.Root+parent, name)
}

// BesideName is the name under which a clash keeps both:
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
