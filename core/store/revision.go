package store

import (
	"strings"
	"time"
)

// unsettled is the end of a revision that consists of a time and was read so soon after
// that time that another change could have the same time.
const unsettled = "~"

// RevisionAt returns a revision made of metadata that was read at seen, of a content
// that was last changed at changed. granularity is the smallest difference between two
// changes that the clock which stamps them shows. A revision that was read too soon after
// the change is unsettled: [Settled] returns false for it, and it proves nothing later.
func RevisionAt(revision string, changed, seen time.Time, granularity time.Duration) string {
	if since := seen.Sub(changed); since < granularity && since > -granularity {
		return revision + unsettled
	}
	return revision
}

// Settled reports whether an equal revision, read later, means the same content.
func Settled(revision string) bool { return !strings.HasSuffix(revision, unsettled) }

// SettledRevision returns the trusted form of the revision of a file that we have written in
// one step: any later write has another time.
func SettledRevision(revision string) string { return strings.TrimSuffix(revision, unsettled) }

// SameRevision reports whether two revisions are the same, as far as they tell:
// within one operation an unsettled revision equals its settled form.
func SameRevision(a, b string) bool {
	return a == b || strings.TrimSuffix(a, unsettled) == strings.TrimSuffix(b, unsettled)
}
