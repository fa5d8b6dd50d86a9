// Package store defines storage accounts, in terms that fit object stores, file
// servers and document drives alike.
//
// A provider implements [Store], and lists the other abilities of its protocol in a
// [Capabilities] value. The engine calls the helper of each capability (listing.Flat,
// [Sum], [Move], …), which uses it or falls back on the methods of Store. A provider
// is opened with an [Opening], which holds everything that it may know about the
// program around it, and passes every protocol request through the account's [Gate].
//
// Every implementation promises, and package storetest checks:
//
//   - Nothing is partial. A file appears under its name completely or not at
//     all, whatever is cancelled or killed, and an error from List means that
//     the listing was incomplete, never that the folder is empty.
//   - Errors are few. The engine decides by errors.Is against the values in
//     errors.go and by nothing else.
//   - Names are bytes. A store returns names as they are; it neither normalises
//     nor cleans them, and ".." is a name like any other.
//   - All methods may be called from many goroutines.
package store

import (
	"context"
	"io"
	"iter"
	"time"
)

// Kind is what an entry is.
type Kind string

const (
	// KindFolder holds other entries.
	KindFolder Kind = "folder"
	// KindFile has bytes that can be read.
	KindFile Kind = "file"
	// KindDocument exists only inside a service and has to be exported.
	KindDocument Kind = "document"
	// KindOther is listed so that it does not vanish from the record, but
	// cannot be read: a symbolic link, a socket, a device.
	KindOther Kind = "other"
)

// Folder identifies a folder. Path is always set ("" is the start of the
// account). ID is set if the store has returned it and the caller knows it; a store
// that addresses by id may use it instead of a lookup.
type Folder struct {
	Path Path
	ID   string
}

// Ref identifies an entry, and is the only way to do so: a name in a folder, and
// the kind of the entry. A file and a folder may share a name, always in some
// stores, and in any other from one moment to the next; a request for one of them
// never touches the other. Make a Ref with [Folder.Ref], [Entry.Ref], [Key.Ref] or
// [Path.Ref]. The zero Ref is the account's start.
type Ref struct {
	Folder Folder
	Name   string
	// ID, if set, is the id of the entry itself, as the store has returned it.
	ID string
	// Kind of the entry: KindFolder, or any other kind for an entry that is no folder.
	// Empty means any entry with the name; only [Store.Stat] accepts that.
	Kind      Kind
	emptyName bool
}

// Ref returns the entry called name in f, of no particular kind.
func (f Folder) Ref(name string) Ref {
	return Ref{Folder: f, Name: name, emptyName: name == ""}
}

// At returns the entry at the end of the names given, of no particular kind.
// At() with no name is the account's start: an empty Folder and an empty Name.
func At(names ...string) Ref {
	if len(names) == 0 {
		return Ref{}
	}
	return Folder{Path: MakePath(names[:len(names)-1]...)}.Ref(names[len(names)-1])
}

// As returns the ref of the entry with the same name and another kind.
func (r Ref) As(kind Kind) Ref {
	r.Kind = kind
	return r
}

// Means reports whether an entry of a kind is what the ref asks for.
func (r Ref) Means(kind Kind) bool {
	return r.Kind == "" || (r.Kind == KindFolder) == (kind == KindFolder)
}

// IsStart reports whether the ref is of the start of the account.
func (r Ref) IsStart() bool {
	r.Kind = ""
	return r == Ref{}
}

// AsFolder returns the entry as a folder to list or to write into.
func (r Ref) AsFolder() Folder {
	if r.IsStart() {
		return Folder{}
	}
	return Folder{Path: r.Folder.Path.Child(r.Name), ID: r.ID}
}

// String returns the ref as an address without its account, for errors.
func (r Ref) String() string {
	if r.IsStart() {
		return "/"
	}
	return "/" + r.Folder.Path.address() + escapeStep(r.Name)
}

// Entry is one child of a folder as the store knows it.
type Entry struct {
	Name string
	Kind Kind
	// ID is the store's own id, empty where it has none.
	ID string
	// Size is in bytes; -1 is unknown. 0 for folders.
	Size int64
	// Modified is when the content was last changed by the store's clock;
	// zero where the store does not tell.
	Modified time.Time
	// Revision changes whenever the content does. It is opaque, compared
	// for equality alone, and empty where the store has nothing to offer.
	Revision string
	// Identity stays with a file that is renamed or moved within the account,
	// and no other file has it at the same time. It says nothing of the
	// content. Empty where the store has nothing to offer beyond ID.
	Identity string
	// Hashes are the hashes of the whole content that come without another
	// request. A value that is not a hash of the whole content, such as
	// the ETag of an S3 multipart upload, must not be given as one.
	Hashes Hashes
	// Document is what kind of document it is, of a KindDocument; see
	// DocumentKind.
	Document string
	// Elsewhere is set if the entry is listed in several folders, as pictures are
	// in albums, and belongs to another of them: a copy of the whole account
	// copies it there.
	Elsewhere bool
	// HasShares is set if the entry has another owner than the account, or is itself shared;
	// see [Sharing]. It is false if listings do not report this.
	HasShares bool
}

// Folder returns the entry, listed in parent, as a folder.
func (e Entry) Folder(parent Folder) Folder {
	return Folder{Path: parent.Path.Child(e.Name), ID: e.ID}
}

// Ref returns the ref of the entry, listed in parent.
func (e Entry) Ref(parent Folder) Ref {
	ref := parent.Ref(e.Name)
	ref.ID, ref.Kind = e.ID, e.Kind
	return ref
}

// Condition says under which circumstances a write may happen.
type Condition struct {
	kind     conditionKind
	revision string
}

type conditionKind uint8

const (
	conditionAbsent conditionKind = iota
	conditionRevision
	conditionAny
)

var (
	// Absent lets a write happen only where nothing has the name. It is
	// the zero value.
	Absent = Condition{}
	// Any lets a write replace whatever has the name.
	Any = Condition{kind: conditionAny}
)

// AtRevision lets a write replace only the revision given. An empty revision
// is treated as Any, as there is nothing to compare.
func AtRevision(revision string) Condition {
	if revision == "" {
		return Any
	}
	return Condition{kind: conditionRevision, revision: revision}
}

// Expect returns the revision that must be there, and whether there must be one.
func (c Condition) Expect() (revision string, ok bool) {
	return c.revision, c.kind == conditionRevision
}

// IsAbsent reports whether the condition is that no entry has the name.
func (c Condition) IsAbsent() bool { return c.kind == conditionAbsent }

// Content is the content of a write: bytes that a provider can read from the
// start as often as it needs to.
type Content interface {
	// Open starts reading at the first byte. The caller closes the stream.
	// A source that has changed since it was looked at gives ErrChanged.
	Open(ctx context.Context) (*Stream, error)
}

// Writing is one file to be written.
type Writing struct {
	Place Ref
	// Size of the content in bytes; -1 is unknown. Content of another
	// length than promised is an error and leaves nothing behind.
	Size int64
	// Modified is the time to keep, where the store can; zero for none.
	Modified time.Time
	// If is the condition under which the write may happen.
	If Condition
	// Run marks the leftovers of a process that dies, so that Clean can find
	// them: letters and digits, unique to a run.
	Run     string
	Content Content
	// Keep is the place for the replaced content, in an existing folder of the same
	// account, if the store has [Capabilities.Keeps]; the zero Ref keeps nothing. The
	// old content is there before the name has the new one, and stays there if the
	// write fails after that.
	Keep Ref
	// Verification is the wanted level. A store that must read the content back to verify
	// it does so only if this is not VerifyBySize.
	Verification VerifyLevel
}

// VerifyLevel is how the written content is compared with the content sent.
type VerifyLevel string

const (
	// VerifyByHash compares a hash that the store reports or verifies, and
	// otherwise reads back. It is the default.
	VerifyByHash VerifyLevel = ""
	// VerifyBySize accepts the size if the store reports no hash.
	VerifyBySize VerifyLevel = "size"
	// VerifyByReading reads back in any case.
	VerifyByReading VerifyLevel = "read-back"
)

// Written is the answer to a write: the entry as stored.
type Written struct {
	Entry
	// Verification is a hash of the whole content that the store computed, or
	// verified, from what it received. Its zero value means that the store
	// reports none, and the content must be read back to verify it.
	Verification Hash
	// ReadBack is set if the provider has computed Verification from the content that it
	// read back before the file got its name.
	ReadBack bool
}

// Reading is one file, or a range of it, to be read.
type Reading struct {
	Place Ref
	// Revision that is expected; another one gives ErrChanged. Empty: any.
	Revision string
	// Offset is the first byte wanted.
	Offset int64
	// Length is how many bytes are wanted; 0 is "to the end".
	Length int64
	// Growing is set if the file may grow meanwhile: the first Length bytes are
	// read, at any revision. If it became shorter, or another file, that is still
	// ErrChanged.
	Growing bool
}

// Removal is what became of a removed entry.
type Removal string

const (
	// RemovedFinally cannot be brought back.
	RemovedFinally Removal = "final"
	// RemovedToTrash can be restored from the provider's trash.
	RemovedToTrash Removal = "trash"
)

// Store is one storage account. See the package comment for what all methods
// have in common.
type Store interface {
	// Traits returns what the account can and cannot store. It does not wait:
	// what must be probed is probed when the account is opened, or before the
	// first write.
	Traits() Traits

	// Capabilities returns what the account can do beyond these methods. It
	// does not wait, and may change with what the first write finds out.
	Capabilities() Capabilities

	// Stat looks up one entry of the ref's kind. ErrNotFound if there is none,
	// whatever else has the name. The start of the account is a folder and
	// exists if the account does. A ref of no kind finds any entry with the
	// name: of a file and a folder, the file.
	Stat(ctx context.Context, ref Ref) (Entry, error)

	// List yields the children of a folder, paged beneath. The order is the
	// one that Traits declares. After an error nothing more is yielded; what
	// came before it must not be taken for the whole. ErrNotFound where
	// there is no such folder: missing is not empty. The consumer may stop
	// early, and the store then stops asking.
	List(ctx context.Context, folder Folder) iter.Seq2[Entry, error]

	// Open reads a file, never a folder of its name, from an offset, at an
	// expected revision. A body
	// that ends before the promised length is io.ErrUnexpectedEOF wrapped
	// in ErrTryAgain, never a clean end. The caller closes the reader.
	Open(ctx context.Context, reading Reading) (io.ReadCloser, error)

	// Write stores one file atomically under its condition and returns it
	// as stored. ErrExists or ErrChanged where the condition does not hold,
	// and then nothing has changed. ErrOutcomeUnknown where the request may
	// or may not have been carried out: the caller looks before it tries
	// again. The folder must exist (ErrNotFound) unless folders are implied.
	Write(ctx context.Context, writing Writing) (Written, error)

	// MakeFolder makes one folder in an existing one. That it exists
	// already is fine; that a file has its name is ErrExists.
	MakeFolder(ctx context.Context, place Ref) (Entry, error)

	// Remove removes a file or link at a revision (empty: any). ErrNotFound if
	// there is none, even if a folder has the name; ErrChanged for another
	// revision.
	Remove(ctx context.Context, ref Ref, revision string) (Removal, error)

	// RemoveFolder removes an empty folder and can remove nothing else.
	// ErrNotFound where there is none, even if a file has the name; ErrRefused
	// where it holds something, of any origin.
	RemoveFolder(ctx context.Context, ref Ref) (Removal, error)
}
