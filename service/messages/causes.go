// Package messages is the catalogue of what the service says about causes: for each code a
// title, a sentence and a remedy. Core and providers return codes; the words are here alone.
//
// A remedy is a sentence that holds for every client. What a terminal can do about it is
// returned beside it as commands; the console has buttons for the same.
package messages

import (
	"strings"

	"deftheron/core/plan"
)

// Message is what a cause means and what to do about it.
type Message struct {
	Title    string // a noun phrase, for tables and headings
	Sentence string // what happened
	Remedy   string // what to do
	// Retry says that the remedy ends with another try.
	Retry bool
	// Commands do what the remedy says. RUN, JOB and ACCOUNT stand for the subject.
	Commands []string
}

// Subject is what a message is about. Empty parts are not known.
type Subject struct{ Run, Job, Account string }

// Of returns the message of a cause; its zero value if there is none.
func Of(cause plan.Cause) Message { return causes[cause] }

// Number returns how many causes the catalogue has.
func Number() int { return len(causes) }

// RemedyOf returns the remedy of a cause and the commands that do it. Commands for a run or
// a job that is not known are left out; an account that is not known is called NAME.
func RemedyOf(cause plan.Cause, subject Subject) (remedy string, commands []string) {
	m := causes[cause]
	remedy = m.Remedy
	if m.Retry {
		again := "Try again."
		if subject.Run != "" {
			again = "Retry the run; only what is missing is transferred."
		}
		remedy = strings.TrimSpace(remedy + " " + again)
	}
	if subject.Account == "" {
		subject.Account = "NAME"
	}
	for _, command := range m.commands(subject) {
		fields := strings.Fields(command)
		known := true
		for i, field := range fields {
			if value, stands := map[string]string{"RUN": subject.Run, "JOB": subject.Job, "ACCOUNT": subject.Account}[field]; stands {
				known = known && value != ""
				fields[i] = value
			}
		}
		if known {
			commands = append(commands, strings.Join(fields, " "))
		}
	}
	return remedy, commands
}

func (m Message) commands(subject Subject) []string {
	if m.Retry && subject.Run != "" {
		return append(m.Commands[:len(m.Commands):len(m.Commands)], "heron run retry RUN")
	}
	return m.Commands
}

const nothing = "Nothing to do."

var decide = []string{"heron run items RUN --state waiting", "heron run approve RUN", "heron run cancel RUN"}

var causes = map[plan.Cause]Message{
	plan.CauseOwner: {Title: "Owner without grants", Sentence: "The user in whose name the job runs may no longer use the accounts or " +
		"folders of the job.", Remedy: "Give the user the grants again, or have somebody with those grants change the job. " +
		"The run then continues automatically.", Commands: []string{"heron user list", "heron job show JOB"}},
	plan.CauseSame: {Title: "Same content", Sentence: "Both sides already have the same content.", Remedy: nothing},
	plan.CauseLeft: {Title: "Conflict: target kept", Sentence: "Both sides had changed. The target's file was kept, as the conflict " +
		"rule says.", Remedy: "Compare the two. To take the source's file, copy it with the conflict rule source."},
	plan.CauseKeptBoth: {Title: "Conflict: both kept", Sentence: "Both sides had changed. The source's file was written beside the " +
		"target's.", Remedy: "Compare the two and delete the one you do not need."},
	plan.CauseTranslated: {Title: "Name translated", Sentence: "The target does not allow the name. The file has a translated name there.",
		Remedy: "Nothing to do: a copy back restores the name. To avoid the translation, rename the file at the source."},
	plan.CauseOlder: {Title: "Conflict: target is newer", Sentence: "Both sides had changed, and the target's file is newer. It was " +
		"kept, as the conflict rule says.", Remedy: "Compare the two. To take the source's file, copy it with the conflict rule source."},
	plan.CauseAsk: {Title: "Conflict: undecided", Sentence: "Both sides had changed, and the conflict rule is to ask.",
		Remedy:   "Decide which file to keep: both, the newer, the source's or the target's.",
		Commands: []string{"heron run approve RUN --conflict keep-both"}},
	plan.CauseNotAFile: {Title: "Not a file", Sentence: "The entry is a link, a socket or a device and has no content of its own.",
		Remedy: "Copy what it points to by its own address."},
	plan.CauseElsewhere: {Title: "Copied with another folder", Sentence: "The file is in several folders, as a picture can be in several " +
		"albums. It is copied with the folder it belongs to.", Remedy: "Nothing to do. To have it here as well, copy this folder alone."},
	plan.CauseDocument: {Title: "Document without export", Sentence: "The document exists only inside the service that made it, and has " +
		"no export.", Remedy: "Export it in the service, and copy the result."},
	plan.CauseName: {Title: "Name not allowed", Sentence: "The target does not allow the name.",
		Remedy: "Rename the file at the source; use a shorter name if it is too long.", Retry: true},
	plan.CauseTooLarge: {Title: "File too large", Sentence: "The target does not allow files of this size.",
		Remedy: "Copy the file to an account with a higher limit, or split it."},
	plan.CauseGone: {Title: "Deleted at the source", Sentence: "The file was deleted at the source before it was transferred.",
		Remedy: "Nothing to do if that was intended. Otherwise restore it and copy again."},
	plan.CauseChanging: {Title: "Source keeps changing", Sentence: "The file changed at the source each time it was read.",
		Remedy: "Wait until nobody writes to the file.", Retry: true},
	plan.CauseInTheWay: {Title: "Name in use", Sentence: "At the target, a file has the name that a folder needs, or a folder the name " +
		"of a file.", Remedy: "Move the entry out of the way, or copy to another folder.", Retry: true},
	plan.CauseRefused: {Title: "Refused by the account", Sentence: "The account refused the request.",
		Remedy: "Check what the sign-in is allowed to do there.", Retry: true},
	plan.CauseSignInExpired: {Title: "Sign-in expired", Sentence: "The account no longer accepts the sign-in.",
		Remedy:   "Reauthorize the account. Runs that are held for it continue automatically.",
		Commands: []string{"heron account reauthorize ACCOUNT"}},
	plan.CauseSuspended: {Title: "Account suspended", Sentence: "The account is suspended.",
		Remedy: "Resume the account. Runs that are held for it continue automatically.", Commands: []string{"heron account resume ACCOUNT"}},
	plan.CauseNoSpace: {Title: "No space left", Sentence: "The target has no space left.",
		Remedy: "Free space there; a run that is held for it continues automatically. Or cancel the run and copy to another account."},
	plan.CauseSlow: {Title: "Slowed down", Sentence: "The provider kept asking to slow down.", Remedy: "Wait.", Retry: true},
	plan.CauseFault: {Title: "Repeated failure", Sentence: "Every try failed.", Remedy: "Check whether the account can be reached.",
		Retry: true, Commands: []string{"heron account check ACCOUNT"}},
	plan.CauseUnknown: {Title: "Outcome unknown", Sentence: "The answer to a write was lost, and a look at the target did not tell what " +
		"became of it.", Remedy: "Look at the target. What is there is not written twice.", Retry: true},
	plan.CauseVerification: {Title: "Verification failed", Sentence: "The target did not hold what the source held, after every try.",
		Remedy: "Check the network and the disks on the way.", Retry: true},
	plan.CauseCancelled: {Title: "Cancelled", Sentence: "The run was cancelled before this item was transferred.",
		Remedy: "Nothing to do if that was intended.", Retry: true},
	plan.CauseStopped: {Title: "Run stopped", Sentence: "The run stopped before this item was transferred.",
		Remedy: "Fix what stopped the run.", Retry: true},
	plan.CauseListing: {Title: "Listing incomplete", Sentence: "A folder could not be listed completely, so its content is not known.",
		Remedy: "Check whether the account can be reached.", Retry: true, Commands: []string{"heron account check ACCOUNT"}},
	plan.CauseLocked: {Title: "Locked", Sentence: "Somebody holds a lock on the file or on a folder around it.",
		Remedy: "Ask the holder of the lock to close the file or to end the lock, or wait until it ends.", Retry: true,
		Commands: []string{"heron lock list"}},
	plan.CauseRestored: {Title: "Records restored",
		Sentence: "The service was restored from a backup that was made while this run was going on. Its plan may be out of date.",
		Remedy: "Cancel the run and start the job again, which compares by content. Resume the run only if nothing has changed " +
			"since the backup.",
		Commands: []string{"heron run cancel RUN", "heron job start JOB"}},
	plan.CauseRootGone: {Title: "Folder missing", Sentence: "A folder of the job does not exist any more. Nothing was changed.",
		Remedy:   "Restore the folder. If it was deleted on purpose, create it again and start the job.",
		Commands: []string{"heron job start JOB"}},
	plan.CauseSafety: {Title: "Safety limit",
		Sentence: "The run would delete or overwrite more files than a safety limit allows. Nothing was changed.",
		Remedy:   "Look at the waiting items. Then approve the run or cancel it.", Commands: decide},
	plan.CauseEmptied: {Title: "Source is empty",
		Sentence: "One side suddenly has no files, and the run would delete the files of the other. Nothing was changed.",
		Remedy:   "Look at the empty side. Approve the run if that was intended. Otherwise cancel it and restore what is missing.",
		Commands: decide},
	plan.CauseRolledBack: {Title: "Older versions at the source",
		Sentence: "Files are older than the versions transferred before, as after a rollback at the provider. Nothing was changed.",
		Remedy:   "Look at the waiting items. Approve the run if the older versions are correct. Otherwise cancel it and restore the newer ones.",
		Commands: decide},
	plan.CauseRemoved: {Title: "Deleted", Sentence: "The file was deleted on the other side, and so on this one.",
		Remedy: "Nothing to do. If the provider has a trash, the file is there."},
	plan.CauseVersionKept: {Title: "Version kept", Sentence: "The file was deleted or replaced on the other side. Its version was moved " +
		"to history.", Remedy: "Nothing to do. The version can be restored from history."},
	plan.CauseMoved: {Title: "Moved",
		Sentence: "The file was moved within the account, because it has another name or folder on the other side.", Remedy: nothing},
	plan.CauseGaveWay: {Title: "Renamed for a folder", Sentence: "A file had the name that a folder has on the other side. The file " +
		"was renamed.", Remedy: "Nothing to do, unless you want another name."},
	plan.CauseNotRemoved: {Title: "Not deleted", Sentence: "The file was due for deletion, but the other side has it after all, or it " +
		"changed in the meantime.", Remedy: "Nothing to do: the next run looks at it again."},
	plan.CauseHoldsMore: {Title: "Folder not empty", Sentence: "The folder was due for deletion, but it holds something that stays.",
		Remedy: "Nothing to do, unless you want its content deleted too."},

	plan.CauseLater: {Title: "Changed again", Sentence: "The file changed again before it was transferred.",
		Remedy: "Nothing to do: the next run looks at it again."},
	plan.CauseHours: {Title: "Outside hours", Sentence: "It is outside the hours in which the job may run.",
		Remedy:   "Nothing to do: the run continues when the hours begin. To continue now, resume the run.",
		Commands: []string{"heron run resume RUN"}},
	plan.CauseRemovalIgnored: {Title: "Deletion ignored", Sentence: "The file was deleted on the other side and stays here, as the " +
		"deletion rule says.", Remedy: "Delete it here too if you do not need it."},
	plan.CauseDocumentStays: {Title: "Document stays", Sentence: "The document exists only inside the service that made it. Mirror and " +
		"two-way jobs transfer files only.", Remedy: "Use a copy job: it exports documents to open formats."},

	plan.CauseNotThere: {Title: "Not at the target", Sentence: "The file is not at the target.",
		Remedy:   "See in the report of the earlier pass why it failed, fix that, and start another pass.",
		Commands: []string{"heron job start JOB"}},
	plan.CauseUnverified: {Title: "Not verified",
		Sentence: "The target has a file of this name, but nothing shows that its content is the same.",
		Remedy:   "Start another final pass: it reads both if it has to.", Commands: []string{"heron job start JOB"}},
	plan.CauseDiffers: {Title: "Different content", Sentence: "The two sides have different contents.",
		Remedy: "Compare the two, decide which is correct, and start another pass.", Commands: []string{"heron job start JOB"}},
	plan.CauseCleared: {Title: "Cleared", Sentence: "The file was verified at the target and deleted at the source.",
		Remedy:   "Nothing to do. It can be brought back, and is in the provider's trash if there is one.",
		Commands: []string{"heron job bring-back JOB"}},
	plan.CauseExported: {Title: "Original of an export", Sentence: "The document was exported. The original stays at the source, because " +
		"an export is not all of it.", Remedy: "Delete the document at the source if its export is enough."},
	plan.CauseDuplicate: {Title: "Duplicate", Sentence: "The target already has the same content from another source.",
		Remedy: "Nothing to do. The report says where it is."},

	plan.CausePersonMissing: {Title: "Person not in the table", Sentence: "The table of people does not say who the person is at the " +
		"target.", Remedy: "Add the person to the table, and start another pass.", Commands: []string{"heron job people JOB"}},
	plan.CausePersonLeft: {Title: "Person left out", Sentence: "The table of people leaves the person out.", Remedy: nothing},
	plan.CausePersonUnknown: {Title: "Person unknown at the target", Sentence: "The target's provider does not know the person, and " +
		"shares nothing with them.", Remedy: "Invite the person at the target's provider, or correct the table, and start another pass.",
		Commands: []string{"heron job people JOB"}},
	plan.CauseLevelLowered: {Title: "Shared at a lower level", Sentence: "The target's provider does not have the level. The person " +
		"has the next lower one there.", Remedy: "Nothing to do, unless the person needs more; then share the entry at the provider."},
	plan.CauseNoLevel: {Title: "No such level", Sentence: "The target's provider only has higher levels than the person has at the " +
		"source.", Remedy: "Share the entry at the provider if the person may have more there."},
	plan.CauseOwnerEdits: {Title: "Owner may edit", Sentence: "The target's provider did not make the person the owner. They may " +
		"edit the entry.", Remedy: "Change the owner at the provider if that is needed."},
	plan.CauseShareLink: {Title: "Share link", Sentence: "The entry has a link at the source that anybody may use. Links have other " +
		"addresses at the target and are not carried over.", Remedy: "Create a new link at the target if it is still needed."},
	plan.CauseShowsMore: {Title: "Folder holds more", Sentence: "The folder at the target holds more than the one at the source, or may " +
		"later, and sharing it would show that too.", Remedy: "Share the folder at the provider if the people may see all of it, or " +
		"migrate to a folder of its own."},
	plan.CauseNoSharing: {Title: "Target without share lists",
		Sentence: "The target's provider has no share lists, or offers none to this program.",
		Remedy:   "Keep the list with the certificate, and give the people access in the target's own way."},
	plan.CauseSharesUnread: {Title: "Share list not readable", Sentence: "The provider did not let the account read the share list of " +
		"the entry.", Remedy: "Look at the entry at its provider, and share it at the target."},
	plan.CausePeople: {Title: "People not found", Sentence: "The table of people names somebody whom the target's provider does not " +
		"know.", Remedy: "Correct the table, or leave the person out with an empty second column. Then start the pass again.",
		Commands: []string{"heron job people JOB", "heron job start JOB"}},

	plan.CauseSameStorage: {Title: "Same storage", Sentence: "Both ends are the same storage, reached in two ways. A deletion at one end " +
		"deletes at the other.", Remedy: "Choose two different storages, or one account for both ends. " +
		"Nothing was deleted, unless the record of the run says so."},
	plan.CauseMerging: {Title: "First run", Sentence: "The file is only at the target. It is not known whether it was deleted at the " +
		"source, because this is the first run between these folders.",
		Remedy: "Delete it at the target if you do not need it. Later runs follow deletions."},
	plan.CauseGrowing: {Title: "Copied while growing", Sentence: "The file kept growing while it was read. Its content at the start " +
		"was copied and verified.", Remedy: "Nothing to do: the next run copies what was added."},
	plan.CauseStays: {Title: "Still at the source", Sentence: "The file should have been moved, and is still at the source too.",
		Remedy: "Compare both sides. Delete the source's file if nothing is missing at the target."},
}
