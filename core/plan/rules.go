package plan

import (
	"slices"
	"strings"
	"time"

	"deftheron/core/bandwidth"
	"deftheron/core/names"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/view"
)

// Rules are what decides. The zero value is a copy that keeps both on a conflict, takes
// everything, translates names, and verifies by hash.
type Rules struct {
	// Type says what is done with what is only at the target.
	Type Type `json:"type,omitempty"`
	// Deletions says what a removal at the source means.
	Deletions Deletions `json:"deletions,omitempty"`
	// NoHistory keeps no versions of what is overwritten or deleted.
	NoHistory bool `json:"no_history,omitempty"`
	// Superseded has the files of earlier runs, which the template gives folders of their own,
	// be part of history, once a run has put later ones into its folder.
	Superseded bool `json:"superseded,omitempty"`
	// Tracked has created and moved files be part of history as well, so that what the target
	// was at a time can be said exactly. Where something may be removed they are in any case.
	Tracked bool `json:"tracked,omitempty"`
	// Locked is how long a version must stay.
	Locked time.Duration `json:"locked,omitempty"`
	// At has the source be what it was at a time; zero is now.
	At time.Time `json:"at,omitzero"`
	// Safety holds a run that would lose too much.
	Safety   Safety       `json:"safety,omitzero"`
	Conflict ConflictRule `json:"conflict"`
	// Clear removes at the source, once all has arrived, what is verified to be
	// at the target.
	Clear bool `json:"clear,omitempty"`
	// Documents says what documents are exported as, by class.
	Documents view.ExportFormats `json:"documents,omitempty"`
	// Names says what is done about names that the target cannot hold.
	Names Naming `json:"names,omitempty"`
	// As is a template that makes the targets' names; empty keeps them.
	As string `json:"as,omitempty"`
	// Filter says what is taken.
	Filter Filter `json:"filter,omitzero"`
	// IdenticalOnce has content that is identical there once, whatever it is called; of several
	// sources that are merged.
	IdenticalOnce bool `json:"once,omitempty"`
	// VerifyAll has what counts as the same verified as well, where no hash of it is
	// known: by the hashes that both tell, or by reading both.
	VerifyAll bool `json:"verify_all,omitempty"`
	// Digest has the BLAKE3 of each file computed as well, from the bytes that are
	// read anyway, for the certificate of a migration.
	Digest bool `json:"digest,omitempty"`
	// OnlyChanged takes only what has changed since a run between the same two
	// places brought it, wherever that put it: where each run goes into a folder of
	// its own, that holds what is new.
	OnlyChanged bool `json:"only_changed,omitempty"`
	// Annotations has the tags and comments of what is transferred carried over.
	Annotations bool `json:"annotations,omitempty"`
	// Verification is how what arrived is verified.
	Verification store.VerifyLevel `json:"verify,omitempty"`
	// Tries is how often an item is tried before it fails, and Within how long;
	// 0 is 5 tries, and no limit of time.
	Tries  int           `json:"tries,omitempty"`
	Within time.Duration `json:"within,omitempty"`
	// Priority is how the run stands to others.
	Priority Priority `json:"priority,omitempty"`
	// Bandwidth is the limit on the run's rates.
	Bandwidth bandwidth.Rule `json:"bandwidth,omitzero"`
}

// Translated reports whether a key has another at the target because that cannot hold
// it: with a template, another is what was asked for, and where letter case does not
// count, one that is there stays as it is.
func (r Rules) Translated(key, to store.Key) bool {
	return to != key && r.As == "" && names.Fold(string(to)) != names.Fold(string(key))
}

// KeepsVersions reports whether what is overwritten or deleted becomes a version.
func (r Rules) KeepsVersions() bool {
	return !r.NoHistory && r.Deletions != DeleteToo && r.Type != Clearing
}

// TracksFiles reports whether what is created or moved is part of history as well.
func (r Rules) TracksFiles() bool { return r.KeepsVersions() && (r.Tracked || r.Type.Removes()) }

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
			return remedy.Errorf("a move keeps names; copy with a template, and delete the source afterwards")
		}
	}
	if r.As != "" && r.Type.Removes() {
		return remedy.Errorf("a %s keeps names; templates are for copies", r.Type)
	}
	if r.Clear && r.Type.Removes() {
		return remedy.Errorf("a mirror or two-way job cannot clear its source; use a move or a migration")
	}
	if r.OnlyChanged && !template.NamesRun() {
		return remedy.Errorf("only-changed needs a folder for each run, because a copy into one folder transfers only changes anyway; " +
			"give a template such as {run:%%Y-%%m-%%d}/{folder}/{name}, or remove it")
	}
	if err := r.Safety.Check(); err != nil {
		return err
	}
	switch {
	case r.Tries < 0 || r.Tries > MostTries:
		return remedy.Errorf("%d tries are not possible; give 1 to %d", r.Tries, MostTries)
	case r.Within < 0:
		return remedy.Errorf("the time to retry cannot be negative; give one such as 2h")
	}
	return r.Bandwidth.Check()
}

// ConflictRule says what is done where both sides hold different contents and the
// target's is not what we put there.
type ConflictRule string

const (
	// KeepBoth writes the source's beside the target's, under a name that
	// tells where it is from. It is the default.
	KeepBoth ConflictRule = "keep-both"
	// Newer takes the one that was changed later, where both sides tell when,
	// and else keeps both.
	Newer ConflictRule = "newer"
	// Source puts the source's in the target's place.
	Source ConflictRule = "source"
	// KeepTarget leaves the target's.
	KeepTarget ConflictRule = "target"
	// AskPerson holds the run, when all else is done, until a person decides.
	AskPerson ConflictRule = "ask"
)

// Conflicts are the rules for conflicts.
var Conflicts = []ConflictRule{KeepBoth, Newer, Source, KeepTarget, AskPerson}

// ParseConflictRule reads a rule; empty is KeepBoth.
func ParseConflictRule(text string) (ConflictRule, error) {
	if text == "" {
		return KeepBoth, nil
	}
	if !slices.Contains(Conflicts, ConflictRule(text)) {
		return "", remedy.Errorf("%q is not a rule for conflicts; use keep-both, newer, source, target or ask", text)
	}
	return ConflictRule(text), nil
}

// Settle says what is done about a conflict, of a step whose two sides are known.
func (r Rules) Settle(step Step) Step {
	switch r.Conflict {
	case KeepTarget:
		return step.skip(CauseLeft)
	case Source:
		step.Action = Replace
	case AskPerson:
		step.Action = Ask
	case Newer:
		if step.Target == nil || step.Source.Modified.IsZero() || step.Target.Modified.IsZero() ||
			step.Source.Modified.Equal(step.Target.Modified) {
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
	// TwoWay keeps both in sync.
	TwoWay Type = "two-way"
	// Clearing moves nothing, and removes at the source what is verified to be at the
	// target.
	Clearing Type = "clear"
)

// Removes reports whether a run of the type may remove something.
func (t Type) Removes() bool { return t == Mirror || t == TwoWay }

// WaitsForPlan reports whether nothing is touched before all of the plan is known:
// where something may be removed, and where identical files are kept once, as which of
// them stays is known only then.
func (r Rules) WaitsForPlan() bool { return r.Type.Removes() || r.Type == Clearing || r.IdenticalOnce }

// Deletions says what a removal at one side means for the other.
type Deletions string

const (
	// KeepVersion follows them with a way back: what is removed, or written
	// over, goes to .heron/history. It is the default.
	KeepVersion Deletions = ""
	// DeleteToo removes, into the provider's trash where it has one.
	DeleteToo Deletions = "delete"
	// IgnoreDeletions removes nothing.
	IgnoreDeletions Deletions = "ignore"
)

// ParseDeletions reads a rule; empty is KeepVersion.
func ParseDeletions(text string) (Deletions, error) {
	switch text {
	case "", "keep-version":
		return KeepVersion, nil
	case "delete", "ignore":
		return Deletions(text), nil
	}
	return "", remedy.Errorf("%q is not a rule for deletions; use keep-version, delete or ignore", text)
}

// Text is the rule as ParseDeletions reads it.
func (d Deletions) Text() string {
	if d == KeepVersion {
		return "keep-version"
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
	return "", remedy.Errorf("%q is not a rule for names; use translate or refuse", text)
}

// ParseVerification reads a level of verification; empty is by hash.
func ParseVerification(text string) (store.VerifyLevel, error) {
	switch level := store.VerifyLevel(text); level {
	case "", "hash":
		return store.VerifyByHash, nil
	case store.VerifyBySize, store.VerifyByReading:
		return level, nil
	}
	return "", remedy.Errorf("%q is not a level of verification; use hash, size or read-back", text)
}

// Classes are the classes of documents that rules know.
var Classes = []string{"text", "sheet", "slides", "drawing", "note", "other"}

// NoExports leaves documents of every class as they are.
func NoExports() view.ExportFormats {
	choice := view.ExportFormats{}
	for _, class := range Classes {
		choice[class] = nil
	}
	return choice
}

// ReadDocuments reads a rule for documents: by class, formats joined with "+". A class
// without formats excludes its documents.
func ReadDocuments(given map[string]string) (view.ExportFormats, error) {
	if len(given) == 0 {
		return nil, nil
	}
	choice := view.ExportFormats{}
	for class, formats := range given {
		if !slices.Contains(Classes, class) {
			return nil, remedy.Errorf("%q is not a class of documents; use %s", class, strings.Join(Classes, ", "))
		}
		choice[class] = []string{}
		for format := range strings.FieldsFuncSeq(formats, func(r rune) bool { return r == '+' }) {
			choice[class] = append(choice[class], format)
		}
	}
	return choice, nil
}
