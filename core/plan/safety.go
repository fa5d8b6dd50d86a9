package plan

import (
	"fmt"
	"strconv"
	"strings"

	"deftheron/core/remedy"
)

// Safety is how much a run may remove and overwrite without a person's word. The
// zero value has no limits.
type Safety struct {
	// Deletions and Overwrites are shares of the files that were in sync before.
	Deletions  *Share `json:"deletions,omitempty"`
	Overwrites *Share `json:"overwrites,omitempty"`
	// Older is how many files may be replaced by older versions than those that
	// were brought before; nil does not count them.
	Older *Share `json:"older,omitempty"`
	// Empty holds a run whose source holds nothing any more.
	Empty bool `json:"empty,omitempty"`
}

// DefaultSafety is that of a job that names no other.
func DefaultSafety() Safety {
	return Safety{Deletions: &Share{Percent: 10}, Overwrites: &Share{Percent: 25}, Older: &Share{Count: 0, IsCount: true}, Empty: true}
}

// On reports whether there is any limit.
func (b Safety) On() bool {
	return b.Deletions != nil || b.Overwrites != nil || b.Older != nil || b.Empty
}

// Share is a number of files, or a percentage of those that were in sync.
type Share struct {
	Percent float64 `json:"percent,omitempty"`
	Count   int64   `json:"count,omitempty"`
	IsCount bool    `json:"is_count,omitempty"`
}

// ParseShare reads "10%", "200" or "none"; none is not a limit.
func ParseShare(text string) (*Share, error) {
	text = strings.TrimSpace(text)
	if text == "none" {
		return nil, nil
	}
	if percent, ok := strings.CutSuffix(text, "%"); ok {
		n, err := strconv.ParseFloat(strings.TrimSpace(percent), 64)
		if err != nil || !(n >= 0 && n <= 100) {
			return nil, remedy.Errorf("%q is not a share; write it as 10%%, from 0%% to 100%%", text)
		}
		return &Share{Percent: n}, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return nil, remedy.Errorf("%q is not a share of the files; write it as 10%%, as a number of files such as 200, or none", text)
	}
	return &Share{Count: n, IsCount: true}, nil
}

// Text is the share as ParseShare reads it; nil is none.
func (s *Share) Text() string {
	switch {
	case s == nil:
		return "none"
	case s.IsCount:
		return strconv.FormatInt(s.Count, 10)
	}
	return strconv.FormatFloat(s.Percent, 'g', -1, 64) + "%"
}

// of is how many of so many files the share is: of a few, at least one.
func (s *Share) of(known int64) int64 {
	if s.IsCount {
		return s.Count
	}
	n := int64(s.Percent / 100 * float64(known))
	if s.Percent > 0 && n == 0 {
		n = 1
	}
	return n
}

// Check returns what is wrong with the safety limits.
func (b Safety) Check() error {
	for _, share := range []*Share{b.Deletions, b.Overwrites, b.Older} {
		if share != nil && (share.Percent < 0 || share.Percent > 100 || share.Count < 0) {
			return remedy.Errorf("the share %s is not possible; give 0%% to 100%%, or a number of files", share.Text())
		}
	}
	return nil
}

// OverLimits is why a plan is not carried out without a person's word.
type OverLimits struct {
	Cause Cause
	Why   string
}

// Holds reports what of a plan is more than the safety limits allows; nil where nothing is.
func (b Safety) Holds(t Totals) *OverLimits {
	lost := t.Remove.Items - t.Moved.Items
	if b.Empty && lost > 0 && t.Known > 0 && (t.SourceListed == 0 || t.TargetListed == 0) {
		return &OverLimits{CauseEmptied, fmt.Sprintf("one side has no files any more, of %s before, and the run would delete %s on the other",
			files(t.Known), files(lost))}
	}
	if b.Older != nil && t.Older.Items > b.Older.of(t.Known) {
		return &OverLimits{CauseRolledBack, fmt.Sprintf("the run would replace %s with older versions; the limit is %s", files(t.Older.Items),
			b.Older.Text())}
	}
	known := max(t.Known, t.TargetListed)
	if b.Deletions != nil && lost > b.Deletions.of(known) {
		return &OverLimits{CauseSafety, fmt.Sprintf("the run would delete %d of %s; the limit is %s", lost, files(known), b.Deletions.Text())}
	}
	if b.Overwrites != nil && t.Replace.Items > b.Overwrites.of(known) {
		return &OverLimits{CauseSafety, fmt.Sprintf("the run would overwrite %d of %s; the limit is %s", t.Replace.Items, files(known),
			b.Overwrites.Text())}
	}
	return nil
}

func files(n int64) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprint(n, " files")
}
