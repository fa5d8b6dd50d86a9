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
)

// Words are what a cause means and what to do about it, for people.
type Words struct {
	Meaning string `json:"meaning"`
	Remedy  string `json:"remedy"`
}

var words = map[Cause]Words{
	CauseSame:          {"Both sides hold the same content already.", "Nothing to do."},
	CauseLeft:          {"Both sides had changed; the target's was left, as asked.", "Compare the two, and copy with --conflict source where the source's is wanted."},
	CauseKeptBoth:      {"Both sides had changed; the source's was put beside the target's.", "Compare the two, and remove the one that is not wanted."},
	CauseTranslated:    {"The target cannot hold the name, and holds it under another, which stands for it.", "Nothing to do: it is translated back when it is copied home. To have it under its own name, rename it at the source."},
	CauseOlder:         {"Both sides had changed, and the target's was changed later; it was left, as asked.", "Compare the two, and copy with --conflict source where the source's is wanted."},
	CauseAsk:           {"Both sides had changed, and a person was to be asked what is kept.", "Decide: heron run approve RUN --conflict keep-both (or source, newer, target), or on the run's page."},
	CauseNotAFile:      {"It is a link, a socket or a device, and holds no content of its own.", "Copy what it points to by its own address."},
	CauseElsewhere:     {"It is in several folders, as a picture is in albums, and goes with the one that it belongs to.", "Nothing is to be done; copy the folder by itself to have it there too."},
	CauseDocument:      {"It exists only inside the service that made it.", "Export it there, and copy what comes out."},
	CauseName:          {"The target cannot hold the name.", "Rename it at the source, with a shorter name where it is too long, and copy again: only what is missing is moved."},
	CauseTooLarge:      {"The target cannot hold a file of that size.", "Copy it to an account with a higher limit, or split it."},
	CauseGone:          {"It was removed at the source before its turn came.", "Nothing to do if that was meant; else put it back and copy again."},
	CauseChanging:      {"It kept changing at the source while it was read.", "Retry the run when nobody writes to it."},
	CauseInTheWay:      {"At the target, a file stands where a folder is needed, or a folder where a file is.", "Move what is in the way and retry the run, or copy to another folder."},
	CauseRefused:       {"The account refused.", "Check what the sign-in may do there, then retry the run: only what is missing is moved."},
	CauseSignInExpired: {"The account no longer accepts the sign-in.", "Mend it: heron account reauthorize NAME, or Mend on the accounts page; runs that are held for it go on by themselves."},
	CauseSuspended:     {"The account is suspended.", "Resume it: heron account resume NAME, or Resume on the accounts page; runs that are held for it go on by themselves."},
	CauseNoSpace:       {"The target has no space left.", "Free space there: a run that is held for it goes on by itself. Or cancel it, and copy to another account."},
	CauseSlow:          {"The provider kept asking to slow down.", "Retry the run later: only what is missing is moved."},
	CauseFault:         {"It kept failing.", "Check that the account can be reached (heron account check), then retry the run: only what is missing is moved."},
	CauseUnknown:       {"The answer to a write was lost, and what became of it could not be found out.", "Look at the target, then retry the run: what is there is not written twice."},
	CauseVerification:  {"What arrived was not what was sent, each time.", "Check the network and the disks in between, then retry the run."},
	CauseCancelled:     {"The run was cancelled before its turn came.", "Retry the run to take it up: only what is missing is moved."},
	CauseStopped:       {"The run had to stop before its turn came.", "Mend what stopped the run, then retry the run: only what is missing is moved."},
	CauseListing:       {"A folder could not be listed to its end, so that what it holds is not known.", "Check that the account can be reached (heron account check), then retry the run."},
	CauseLocked:        {"Somebody holds a lock on it.", "Ask whoever is named to close it, or wait until the lock ends, then retry the run."},
	CauseRootGone:      {"A folder that is kept in step is not there any more; nothing has been touched.", "Put it back; or, where it was emptied on purpose, make it again (heron mkdir) and start the job again."},
	CauseSafety:        {"The run would remove, or write over, more than its safety allows, and nothing has been touched.", "Look at what it would do: heron run items RUN --state waiting. Then let it go with heron run approve RUN, or end it with heron run cancel RUN."},
	CauseEmptied:       {"One side suddenly holds nothing, and what it held would be removed at the other; nothing has been touched.", "Look at the side that is empty. If that was meant: heron run approve RUN; else heron run cancel RUN, and put back what is missing there."},
	CauseRolledBack:    {"Files have become older than the versions that were brought before, as when a provider rolls back; nothing has been touched.", "Look at them: heron run items RUN --state waiting. If the older ones are meant: heron run approve RUN; else heron run cancel RUN, and put the newer ones back from the other side."},
	CauseRemoved:       {"It was removed, as the other side no longer holds it.", "Nothing to do; where the provider has a trash, it is there."},
	CauseVersionKept:   {"It was taken out of the way, as the other side no longer holds it.", "Nothing to do: it is below .heron/history of the account, and can be copied back from there."},
	CauseMoved:         {"It was moved within the account, as it has another name or folder at the other side.", "Nothing to do."},
	CauseGaveWay:       {"A file had the name that a folder has at the other side, and was given one that tells where it is from.", "Nothing to do, unless it is to have another name."},
	CauseNotRemoved:    {"It was to be removed, and the other side holds it after all, or it has changed since.", "Nothing to do: the next run looks at it anew."},
	CauseHoldsMore:     {"The folder was to be removed, and something is in it that stays.", "Nothing to do, unless what is in it is to be removed as well."},

	CauseLater:          {"It changed again before its turn came.", "Nothing to do: the next run looks at it anew."},
	CauseHours:          {"It is outside the hours in which the job may run.", "Nothing to do: it goes on by itself when they begin. To have it go on now: heron run resume RUN."},
	CauseRemovalIgnored: {"It was removed at the other side, and stays here, as asked.", "Remove it here too where it is not wanted any more."},
	CauseDocumentStays:  {"It exists only inside the service that made it, and what is kept in step are files alone.", "Copy it: a copy exports documents to open formats."},

	CauseNotThere:   {"It is not at the target.", "See in the report of the pass before why it did not arrive; mend that, and let another pass go."},
	CauseUnverified: {"The target has a file of its name, and no verification is known that it holds the same.", "Let another final pass go: it reads both where nothing else tells."},
	CauseDiffers:    {"The two sides hold different contents.", "Compare the two; let another pass go once it is decided which is wanted."},
	CauseCleared:    {"It is verified to be at the target, and was removed at the source.", "Nothing to do; it can be fetched back with heron job bring-back NAME, and from the provider's trash where there is one."},
	CauseExported:   {"It was exported, and the document itself stays at the source: an export is not all of it.", "Remove the document there, where its export is enough."},
	CauseDuplicate:  {"The target holds the same content already, from another place.", "Nothing to do; the report tells where it is."},

	CauseSameStorage: {"Both ends turned out to be one storage, reached in two ways: what is removed at one end is gone at the other.", "Choose ends that are apart, or one account for both. Nothing was removed, unless the run's record says what was."},
	CauseMerging:     {"It is only at the target, and nothing is remembered that tells whether it was deleted at the source: the run is the first between these places.", "Delete it at the target if it is not wanted; later runs follow deletions."},
	CauseGrowing:     {"The file kept growing while it was read. What it held when reading began was copied and verified.", "Nothing to do: the next run copies what was added since."},

	CauseStays: {"It was to be moved, and is still at the source too.", "Compare both sides; remove what is at the source where nothing is missing at the target."},
}

// IsSafety reports whether a run with the cause is held by its safety.
func (c Cause) IsSafety() bool { return c == CauseSafety || c == CauseEmptied || c == CauseRolledBack }

// AsksPerson reports whether a run that is held with the cause waits for a person's
// decision, rather than for something to be mended.
func (c Cause) AsksPerson() bool { return c.IsSafety() || c == CauseAsk }

// Words returns what the cause means and what to do about it.
func (c Cause) Words() Words { return words[c] }

// Causes returns all causes that have words.
func Causes() map[Cause]Words { return words }

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
