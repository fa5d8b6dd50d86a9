package store

import (
	"strings"
	"time"
)

// unsettled ends a revision that is made of a time and was told so soon after that
// time that another change could bear the same.
const unsettled = "~"

// RevisionAt returns a revision made of metadata, told at a moment of a content
// that was changed last at another. granularity is how far apart two changes are
// told apart by the clock that stamps them. A revision that was told too soon after
// the change is unsettled: [Settled] is false of it, and it is not to be believed
// later.
func RevisionAt(revision string, changed, told time.Time, granularity time.Duration) string {
	if since := told.Sub(changed); since < granularity && since > -granularity {
		return revision + unsettled
	}
	return revision
}

// Settled reports whether an equal revision, told later, is of the same content.
func Settled(revision string) bool { return !strings.HasSuffix(revision, unsettled) }

// SettledRevision returns a revision of what was written by ourselves in one step, as one
// that is believed: whoever writes after that gives it another time.
func SettledRevision(revision string) string { return strings.TrimSuffix(revision, unsettled) }

// SameRevision reports whether two revisions are the same, as far as they tell:
// within one operation an unsettled revision equals its settled form.
func SameRevision(a, b string) bool {
	return a == b || strings.TrimSuffix(a, unsettled) == strings.TrimSuffix(b, unsettled)
}
