package store

import "time"

// Order is the order in which a store lists the children of a folder.
type Order string

const (
	// OrderByKey is the order of raw bytes with "/" appended to folder names.
	OrderByKey Order = "by-key"
	// OrderNone is none that can be relied on: the engine sorts.
	OrderNone Order = "none"
)

// Folders is what a folder is in an account.
type Folders string

const (
	// FoldersReal exist by themselves and must be made before files.
	FoldersReal Folders = "real"
	// FoldersImplied exist because something is below them; one made by
	// itself is a marker object.
	FoldersImplied Folders = "implied"
)

// Revisions says what an account's revisions are made of.
type Revisions string

const (
	// RevisionsOfContent change whenever the bytes do: the service makes them of
	// the content, or counts them up. What has an equal one is believed to be
	// the same.
	RevisionsOfContent Revisions = "content"
	// RevisionsOfClock are made of times that the system itself sets, to a
	// fraction of a second, and that programs cannot set. They miss writes
	// through a memory mapping, and are not trusted alone before a file is
	// finally removed.
	RevisionsOfClock Revisions = "clock"
	// RevisionsOfTimes are made of sizes and times that anybody sets, or of
	// whole seconds. Content is read before it is overwritten or removed on
	// their account. It is the zero value.
	RevisionsOfTimes Revisions = ""
)

// Traits are what an account can and cannot keep. The zero value is an account
// that promises nothing.
type Traits struct {
	// Order of List.
	Order Order
	// Folders: real or implied.
	Folders Folders
	// FileBesideFolder: a file and a folder may have the same name.
	FileBesideFolder bool
	// Twins: a folder may hold two entries of one name.
	Twins bool
	// CaseIgnored: letter case is kept, and does not tell names apart.
	CaseIgnored bool
	// Names are the names that the account can hold; nil for all.
	Names *NameRules
	// LargestFile in bytes; 0 has no known limit.
	LargestFile int64
	// Revisions says how far equal revisions are of the same content.
	Revisions Revisions
	// TimePrecision of Modified; 0 if no times are reported.
	TimePrecision time.Duration
	// KeepsTimes: Writing.Modified is kept, so that times of this account
	// mean the same as the times of the account that was copied from.
	KeepsTimes bool
	// VerificationKind is the hash that Write gives as verification; "" for none, and a
	// verification has to be read back.
	VerificationKind HashKind
	// Conditional: a write's condition is checked by the server itself. If
	// not, a window is left, which docs/providers.md states.
	Conditional bool
	// Whole: a file gets its name only once all of it is there, by the
	// server's own doing or by ours.
	Whole bool
	// Windows are what the protocol and the server leave open, each as a
	// sentence for people; docs/providers.md is made of them.
	Windows []string
	// Trash: removed entries can be restored from the provider's trash.
	Trash bool
	// ReadOnly: nothing can be written.
	ReadOnly bool
	// Streams is how many transfers at once are sensible to start with.
	Streams int
}

// NameError returns why the account cannot hold the name, or nil.
func (t Traits) NameError(folder Path, name string) error {
	if t.Names == nil {
		return CheckName(name)
	}
	return t.Names.Check(folder, name)
}
