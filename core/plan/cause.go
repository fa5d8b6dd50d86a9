package plan

import (
	"context"
	"errors"

	"deftheron/core/store"
)

// Cause is the code of why an item ended as it did, or did not end yet.
type Cause string

// The causes.
const (
	CauseNone          Cause = ""
	CauseSame          Cause = "same-content"
	CauseLeft          Cause = "conflict-target-kept"
	CauseKeptBoth      Cause = "conflict-kept-both"
	CauseTranslated    Cause = "name-translated"
	CauseOlder         Cause = "conflict-target-newer"
	CauseAsk           Cause = "conflict-undecided"
	CauseNotAFile      Cause = "not-a-file"
	CauseDocument      Cause = "document-without-export"
	CauseElsewhere     Cause = "goes-elsewhere"
	CauseName          Cause = "name-refused"
	CauseTooLarge      Cause = "too-large"
	CauseGone          Cause = "source-removed"
	CauseChanging      Cause = "source-changing"
	CauseInTheWay      Cause = "in-the-way"
	CauseRefused       Cause = "refused"
	CauseSignInExpired Cause = "sign-in-expired"
	CauseSuspended     Cause = "account-suspended"
	CauseNoSpace       Cause = "no-space"
	CauseSlow          Cause = "slowed-down"
	CauseFault         Cause = "fault"
	CauseUnknown       Cause = "outcome-unknown"
	CauseVerification  Cause = "verification-failed"
	CauseCancelled     Cause = "cancelled"
	CauseStopped       Cause = "run-stopped"
	CauseListing       Cause = "listing-incomplete"
	CauseLocked        Cause = "locked"
	CauseStays         Cause = "source-stays"
	CauseRootGone      Cause = "folder-gone"
	CauseSafety        Cause = "safety-limit"
	CauseEmptied       Cause = "source-emptied"
	CauseRolledBack    Cause = "source-rolled-back"
	CauseRemoved       Cause = "removed"
	CauseVersionKept   Cause = "version-kept"
	CauseMoved         Cause = "moved"
	CauseGaveWay       Cause = "gave-way"
	CauseNotRemoved    Cause = "not-removed"
	CauseHoldsMore     Cause = "folder-holds-more"
	CauseLater         Cause = "changed-again"
	CauseHours         Cause = "outside-hours"
	CauseOwner         Cause = "owner-without-grants"
	CauseRestored      Cause = "records-restored"

	CauseNotThere   Cause = "not-at-target"
	CauseUnverified Cause = "not-verified"
	CauseDiffers    Cause = "differs"
	CauseCleared    Cause = "cleared"
	CauseExported   Cause = "export-stays"
	CauseDuplicate  Cause = "duplicate"

	CauseSameStorage Cause = "same-storage"
	CauseMerging     Cause = "first-run-of-pair"
	CauseGrowing     Cause = "copied-while-growing"

	CauseRemovalIgnored Cause = "deletion-ignored"
	CauseDocumentStays  Cause = "document-stays"

	// Of share lists.
	CausePersonMissing Cause = "person-not-in-table"
	CausePersonLeft    Cause = "person-left-out"
	CausePersonUnknown Cause = "person-unknown"
	CauseLevelLowered  Cause = "share-lowered"
	CauseNoLevel       Cause = "no-share-level"
	CauseOwnerEdits    Cause = "owner-may-edit"
	CauseShareLink     Cause = "share-link"
	CauseShowsMore     Cause = "folder-shows-more"
	CauseNoSharing     Cause = "no-share-lists"
	CauseSharesUnread  Cause = "share-list-unreadable"
	CausePeople        Cause = "people-not-checked"
)

// IsSafety reports whether a run with the cause is held by its safety.
func (c Cause) IsSafety() bool { return c == CauseSafety || c == CauseEmptied || c == CauseRolledBack }

// AsksPerson reports whether a run that is held with the cause waits for a person's
// decision, rather than for something to be mended.
func (c Cause) AsksPerson() bool { return c.IsSafety() || c == CauseAsk }

// Causes returns all causes but CauseNone. What each means is said by the service's
// catalogue of messages.
func Causes() []Cause {
	return []Cause{
		CauseSame, CauseLeft, CauseKeptBoth, CauseTranslated, CauseOlder, CauseAsk,
		CauseNotAFile, CauseDocument, CauseElsewhere, CauseName, CauseTooLarge, CauseGone,
		CauseChanging, CauseInTheWay, CauseRefused, CauseSignInExpired, CauseSuspended, CauseNoSpace,
		CauseSlow, CauseFault, CauseUnknown, CauseVerification, CauseCancelled, CauseStopped,
		CauseListing, CauseLocked, CauseStays, CauseRootGone, CauseSafety, CauseEmptied,
		CauseRolledBack, CauseRemoved, CauseVersionKept, CauseMoved, CauseGaveWay, CauseNotRemoved,
		CauseHoldsMore, CauseLater, CauseHours, CauseNotThere, CauseUnverified, CauseDiffers,
		CauseCleared, CauseExported, CauseDuplicate, CauseSameStorage, CauseMerging, CauseGrowing,
		CauseRemovalIgnored, CauseDocumentStays, CauseOwner, CauseRestored,
		CausePersonMissing, CausePersonLeft, CausePersonUnknown, CauseLevelLowered, CauseNoLevel, CauseOwnerEdits,
		CauseShareLink, CauseShowsMore, CauseNoSharing, CauseSharesUnread, CausePeople,
	}
}

// CauseOf returns the cause that an error of a store amounts to.
func CauseOf(err error) Cause {
	switch store.KindOf(err) {
	case store.ErrNotFound:
		return CauseGone
	case store.ErrExists:
		return CauseInTheWay
	case store.ErrChanged:
		return CauseChanging
	case store.ErrRefused, store.ErrUnsupported:
		return CauseRefused
	case store.ErrSignInExpired:
		return CauseSignInExpired
	case store.ErrSuspended:
		return CauseSuspended
	case store.ErrNoSpace:
		return CauseNoSpace
	case store.ErrNameRefused:
		return CauseName
	case store.ErrTooLarge:
		return CauseTooLarge
	case store.ErrSlowDown:
		return CauseSlow
	case store.ErrLocked:
		return CauseLocked
	case store.ErrOutcomeUnknown:
		return CauseUnknown
	case store.ErrReplaced:
		return CauseRootGone
	}
	if errors.Is(err, context.Canceled) {
		return CauseCancelled
	}
	return CauseFault
}
