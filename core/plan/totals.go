package plan

import (
	"deftheron/core/compare"
	"deftheron/core/store"
)

// Totals are the counts of a plan. Bytes are the sizes of the counted files.
type Totals struct {
	Create    Count `json:"create"`
	Replace   Count `json:"replace"`
	KeepBoth  Count `json:"keep_both"`
	Look      Count `json:"look"`
	Folders   Count `json:"folders"`
	Unchanged Count `json:"unchanged"`
	Ask       Count `json:"ask"`
	Left      Count `json:"left"`
	Skipped   Count `json:"skipped"`
	Refused   Count `json:"refused"`
	// Excluded are those that a filter leaves out, which make no steps.
	Excluded Count `json:"excluded"`
	// FoldersExcluded are folders that a filter leaves out with all that is in them.
	FoldersExcluded int64 `json:"folders_excluded"`
	// Taken are the files at the sources that a filter does not leave out, whatever is done about
	// them; none if there is no filter.
	Taken Count `json:"taken,omitzero"`
	// Assumed counts the files of Unchanged that are taken as equal because size and time
	// are: no content was compared.
	Assumed Count `json:"assumed"`
	// Translated and Inside are among those above: the first have another name
	// at the target, the second are copied inside it.
	Translated Count `json:"translated"`
	Inside     Count `json:"inside"`
	// Remove are files that are removed, FoldersRemoved folders; Moved are those
	// of Remove that are at another place by then. Back are those above that go
	// from the target to the source.
	Remove         Count `json:"remove"`
	FoldersRemoved Count `json:"folders_removed"`
	Moved          Count `json:"moved"`
	Back           Count `json:"back"`
	// Twice counts the files of Create whose hash equals that of an earlier file, and Alike
	// those that have the same size and may be identical. Only a plan counts them, and only
	// if identical files are kept once.
	Twice Count `json:"twice,omitzero"`
	Alike Count `json:"alike,omitzero"`
	// Older counts the files of Replace whose new version is the older one.
	Older Count `json:"older"`
	// Known are the files that were in sync before, and Listed those that each
	// side holds now.
	Known        int64 `json:"known"`
	SourceListed int64 `json:"source_listed"`
	TargetListed int64 `json:"target_listed"`
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
	t.count(step).add(step.Size())
	if step.Moves() && step.Translated {
		t.Translated.add(step.Size())
	}
	if step.Action == Remember && step.Evidence == compare.ByTime {
		t.Assumed.add(step.Size())
	}
	if step.Origin != nil {
		t.Inside.add(step.Size())
	}
	if step.Back && (step.Moves() || step.Action == Remove) {
		t.Back.add(step.Size())
	}
}

func (t *Totals) count(step Step) *Count {
	switch step.Action {
	case Create:
		return &t.Create
	case Replace:
		return &t.Replace
	case Beside:
		return &t.KeepBoth
	case Look, Recheck:
		return &t.Look
	case MakeFolder:
		return &t.Folders
	case Remember:
		return &t.Unchanged
	case Refuse:
		return &t.Refused
	case Ask:
		return &t.Ask
	case Remove, Clear:
		if step.Kind == store.KindFolder {
			return &t.FoldersRemoved
		}
		return &t.Remove
	}
	if step.Cause == CauseLeft {
		return &t.Left
	}
	return &t.Skipped
}

// Conflicts is the number of conflicts, however they are settled.
func (t Totals) Conflicts() int64 { return t.KeepBoth.Items + t.Left.Items + t.Ask.Items }

// Moving is what will be written, at most.
func (t Totals) Moving() Count {
	return Count{
		Items: t.Create.Items + t.Replace.Items + t.KeepBoth.Items + t.Look.Items + t.Ask.Items,
		Bytes: t.Create.Bytes + t.Replace.Bytes + t.KeepBoth.Bytes + t.Look.Bytes + t.Ask.Bytes,
	}
}
