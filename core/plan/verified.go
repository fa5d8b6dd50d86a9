package plan

import (
	"deftheron/core/compare"
	"deftheron/core/store"
	"deftheron/core/view"
)

// VerifiedBySize stands for a verification where a job asks for no more than the size.
const VerifiedBySize = "size"

// Verified reports how a file of the source is verified at the target as both are
// now: the hash, as KIND=HEXADECIMAL, that it was written or found with, or
// VerifiedBySize where the rules ask for no more. Else verification is empty, and cause says
// why it is not. A folder is verified where the target has it.
func (r Rules) Verified(d compare.Difference) (verification string, cause Cause) {
	switch {
	case d.Kind == store.KindOther:
		return "", CauseNotAFile
	case d.Kind == store.KindDocument:
		return "", CauseDocument
	case d.Target == nil && d.Refused != nil:
		return "", CauseName
	case d.Target == nil && d.Source.Elsewhere:
		return "", CauseElsewhere
	case d.Target == nil:
		return "", CauseNotThere
	case d.Verdict == compare.SourceChanged:
		return "", CauseLater
	case d.Verdict == compare.Unclear:
		return "", CauseUnverified
	case d.Pair != nil && d.Pair.Kept && d.Evidence == compare.ByPair:
		return "", CauseKeptBoth
	case d.Verdict != compare.Same:
		return "", CauseDiffers
	case d.Evidence == compare.ByPair && d.Pair.Verification != "":
		return d.Pair.Verification, CauseNone
	case d.Evidence == compare.ByHash:
		hash, _, _ := store.Shared(d.Source.Hashes, d.Target.Hashes)
		return hash.String(), CauseNone
	case r.Verification == store.VerifyBySize:
		return VerifiedBySize, CauseNone
	}
	return "", CauseUnverified
}

// toVerify reports whether two files count as the same, and yet no hash of both is
// known, where the rules ask for one.
func (p *Planner) toVerify(d compare.Difference) bool {
	if p.Rules.Verification == store.VerifyByReading && d.Evidence != compare.ByReading {
		return d.Pair == nil || !d.Pair.Kept // what is asked for is that it is read
	}
	if p.Rules.VerifyAll && !p.Believed && p.Rules.Verification != store.VerifyBySize {
		return d.Pair == nil || !d.Pair.Kept // a certificate does not rest on metadata
	}
	if !p.Rules.VerifyAll || p.Rules.Verification == store.VerifyBySize || d.Pair != nil && d.Pair.Kept {
		return false
	}
	return d.Evidence == compare.ByTime || d.Evidence == compare.ByPair && d.Pair.Verification == "" || p.Rules.Digest &&
		(d.Pair == nil || d.Pair.Digest == "")
}

// clears is what is done about an entry of a source that is to be cleared of what is
// verified at the target.
func (p *Planner) clears(d compare.Difference) Step {
	step := Step{Key: d.Key, To: d.To, Kind: d.Kind, Source: *d.Source, Target: d.Target, Action: Clear}
	if d.Kind == store.KindFolder {
		if d.Target == nil {
			return step.skip(CauseNotThere)
		}
		return step
	}
	if view.ExportedAs(*d.Source) != "" {
		return step.skip(CauseExported)
	}
	if _, cause := p.Rules.Verified(d); cause != CauseNone {
		return step.skip(cause)
	}
	return step
}
