package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"deftheron/core/names"
	"deftheron/core/pace"
	"deftheron/core/store"
)

// Rules are what decides. The zero value is a copy that keeps both on a clash, takes
// everything, translates names, and proves by hash.
type Rules struct {
	// Type says what is done with what is only at the target.
	Type Type `json:"type,omitempty"`
	// Deletions says what a removal at the source means.
	Deletions Deletions `json:"deletions,omitempty"`
	// Brake holds a run that would lose too much.
	Brake Brake `json:"brake,omitzero"`
	Clash Clash `json:"clash"`
	// Clear removes at the source, once all has arrived, what is proven to be
	// at the target.
	Clear bool `json:"clear,omitempty"`
	// Documents says what documents are exported as, by class.
	Documents store.Choice `json:"documents,omitempty"`
	// Names says what is done about names that the target cannot hold.
	Names Naming `json:"names,omitempty"`
	// As is a template that makes the targets' names; empty keeps them.
	As string `json:"as,omitempty"`
	// Filter says what is taken.
	Filter Filter `json:"filter,omitzero"`
	// Once has content that is identical there once, whatever it is called; of several
	// sources that are merged.
	Once bool `json:"once,omitempty"`
	// ProveAll has what counts as the same proven as well, where no hash of it is
	// known: by the hashes that both tell, or by reading both.
	ProveAll bool `json:"prove_all,omitempty"`
	// Digest has the BLAKE3 of each file computed as well, from the bytes that are
	// read anyway, for the certificate of a migration.
	Digest bool `json:"digest,omitempty"`
	// OnlyChanged takes only what has changed since a run between the same two
	// places brought it, wherever that put it: where each run goes into a folder of
	// its own, that holds what is new.
	OnlyChanged bool `json:"only_changed,omitempty"`
	// Proof is how what arrived is proven.
	Proof store.ProofLevel `json:"proof,omitempty"`
	// Tries is how often an item is tried before it fails, and Within how long;
	// 0 is 5 tries, and no limit of time.
	Tries  int           `json:"tries,omitempty"`
	Within time.Duration `json:"within,omitempty"`
	// Priority is how the run stands to others.
	Priority Priority `json:"priority,omitempty"`
	// Pace is the limit on the run's rates.
	Pace pace.Rule `json:"pace,omitzero"`
}

// Translated reports whether a key has another at the target because that cannot hold
// it: with a template, another is what was asked for, and where letter case does not
// count, one that is there stays as it is.
func (r Rules) Translated(key, to store.Key) bool {
	return to != key && r.As == "" && names.Fold(string(to)) != names.Fold(string(key))
}

// MostTries is the most tries that can be asked for.
const MostTries = 100

// Check returns what is wrong with the rules, or which of them contradict each
// other: before anything is done.
func (r Rules) Check() error {
	if _, err := r.Filter.Sieve(time.Now()); err != nil {
		return err
	}
	template := &names.Template{}
	if r.As != "" {
		var err error
		if template, err = names.ParseTemplate(r.As); err != nil {
			return err
		}
		if r.Clear {
			return fmt.Errorf("what is moved keeps its name; copy with a template, and remove the source when that is done")
		}
	}
	if r.As != "" && r.Type.Removes() {
		return fmt.Errorf("names made by a template cannot be led back to what they were made of; a %s keeps the names", r.Type)
	}
	if r.Clear && r.Type.Removes() {
		return fmt.Errorf("what is kept in step is not cleared; move it, or copy it, instead")
	}
	if r.OnlyChanged && !template.NamesRun() {
		return fmt.Errorf("to take only what has changed needs a folder for each run, and a copy into one folder moves only what has changed anyway; give a template such as {run:%%Y-%%m-%%d}/{folder}/{name}, or leave it away")
	}
	if err := r.Brake.Check(); err != nil {
		return err
	}
	switch {
	case r.Tries < 0 || r.Tries > MostTries:
		return fmt.Errorf("%d tries are not possible; give 1 to %d", r.Tries, MostTries)
	case r.Within < 0:
		return fmt.Errorf("the time within which to try again cannot be less than nothing; give one such as 2h")
	}
	return r.Pace.Check()
}

// Clash says what is done where both sides hold different contents and the
// target's is not what we put there.
type Clash string

const (
	// KeepBoth writes the source's beside the target's, under a name that
	// tells where it is from. It is the default.
	KeepBoth Clash = "keep-both"
	// Newer takes the one that was changed later, where both sides tell when,
	// and else keeps both.
	Newer Clash = "newer"
	// Source puts the source's in the target's place.
	Source Clash = "source"
	// Leave leaves the target's.
	Leave Clash = "leave"
	// AskPerson holds the run, when all else is done, until a person decides.
	AskPerson Clash = "ask"
)

// Clashes are the rules for clashes.
var Clashes = []Clash{KeepBoth, Newer, Source, Leave, AskPerson}

// ParseClash reads a rule; empty is KeepBoth.
func ParseClash(text string) (Clash, error) {
	if text == "" {
		return KeepBoth, nil
	}
	if !slices.Contains(Clashes, Clash(text)) {
		return "", fmt.Errorf("%q is no rule for clashes; use keep-both, newer, source, leave or ask", text)
	}
	return Clash(text), nil
}

// Settle says what is done about a clash, of a step whose two sides are known.
func (r Rules) Settle(step Step) Step {
	switch r.Clash {
	case Leave:
		return step.skip(CauseLeft)
	case Source:
		step.Action = Replace
	case AskPerson:
		step.Action = Ask
	case Newer:
		if step.Target == nil || step.Source.Modified.IsZero() || step.Target.Modified.IsZero() || step.Source.Modified.Equal(step.Target.Modified) {
			step.Action = Beside
		} else if step.Source.Modified.After(step.Target.Modified) {
			step.Action = Replace
		} else {
			return step.skip(CauseOlder)
		}
	default:
		step.Action = Beside
	}
	return step
}

// Type is what a run makes of its two sides.
type Type string

const (
	// CopyType adds and updates, and never removes. It is the default.
	CopyType Type = ""
	// Mirror makes the target as the source is.
	Mirror Type = "mirror"
	// TwoWay keeps both in step.
	TwoWay Type = "two-way"
	// Clearing moves nothing, and removes at the source what is proven to be at the
	// target.
	Clearing Type = "clear"
)

// Removes reports whether a run of the type may remove something.
func (t Type) Removes() bool { return t == Mirror || t == TwoWay }

// WaitsForPlan reports whether nothing is touched before all of the plan is known:
// where something may be removed, and where identical files are kept once, as which of
// them stays is known only then.
func (r Rules) WaitsForPlan() bool { return r.Type.Removes() || r.Type == Clearing || r.Once }

// Deletions says what a removal at one side means for the other.
type Deletions string

const (
	// RetireDeletions follows them with a way back: what is removed, or written
	// over, goes to .heron/retired. It is the default.
	RetireDeletions Deletions = ""
	// FollowDeletions removes, into the provider's trash where it has one.
	FollowDeletions Deletions = "follow"
	// IgnoreDeletions removes nothing.
	IgnoreDeletions Deletions = "ignore"
)

// ParseDeletions reads a rule; empty is RetireDeletions.
func ParseDeletions(text string) (Deletions, error) {
	switch text {
	case "", "retire":
		return RetireDeletions, nil
	case "follow", "ignore":
		return Deletions(text), nil
	}
	return "", fmt.Errorf("%q is no rule for deletions; use ignore, follow or retire", text)
}

// Text is the rule as ParseDeletions reads it.
func (d Deletions) Text() string {
	if d == RetireDeletions {
		return "retire"
	}
	return string(d)
}

// Naming says what is done about names that the target cannot hold.
type Naming string

const (
	// TranslateNames makes names of them that the target holds, and that can
	// be translated back. It is the default.
	TranslateNames Naming = "translate"
	// RefuseNames reports them.
	RefuseNames Naming = "refuse"
)

// ParseNaming reads a rule; empty is TranslateNames.
func ParseNaming(text string) (Naming, error) {
	switch naming := Naming(text); naming {
	case "":
		return TranslateNames, nil
	case TranslateNames, RefuseNames:
		return naming, nil
	}
	return "", fmt.Errorf("%q is no rule for names; use translate or refuse", text)
}

// ParseProof reads a level of proof; empty is by hash.
func ParseProof(text string) (store.ProofLevel, error) {
	switch level := store.ProofLevel(text); level {
	case "", "hash":
		return store.ProofByHash, nil
	case store.ProofBySize, store.ProofByReading:
		return level, nil
	}
	return "", fmt.Errorf("%q is no level of proof; use hash, size or readback", text)
}

// Classes are the classes of documents that rules know.
var Classes = []string{"text", "sheet", "slides", "drawing", "note", "other"}

// NoExports leaves documents of every class as they are.
func NoExports() store.Choice {
	choice := store.Choice{}
	for _, class := range Classes {
		choice[class] = nil
	}
	return choice
}

// DocumentsText is a rule as ParseDocuments reads it.
func DocumentsText(choice store.Choice) string {
	var parts []string
	for _, class := range Classes {
		if formats, named := choice[class]; named {
			parts = append(parts, class+"="+strings.Join(formats, "+"))
		}
	}
	return strings.Join(parts, ",")
}

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
