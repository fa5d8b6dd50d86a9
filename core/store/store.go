// Package store says what a storage account is, in words that fit an object
// store, a file server and a document drive alike.
//
// A provider implements [Store] and says in a [Capabilities] value what else its
// protocol can do. The engine calls the helper of each capability (listing.Flat,
// [Sum], [Move], …), which uses it or falls back on the methods of Store. A
// provider is opened with an [Opening],
// which is all that it may know of the program around it, and passes every
// protocol request through the account's [Gate].
//
// What every implementation promises, and package storetest checks:
//
//   - Nothing is partly there. A file appears under its name whole or not at
//     all, whatever is cancelled or killed, and an error from List means that
//     the listing was incomplete, never that the folder is empty.
//   - Errors are few. The engine decides by errors.Is against the values in
//     errors.go and by nothing else.
//   - Names are bytes. A store returns names as they are there; it neither
//     normalises nor cleans them, and ".." is a name like any other.
//   - All methods may be called from many goroutines at once.
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

// Folder says which folder is meant. Path is always set ("" is the start of
// the account). ID is set where it is known to the caller and the store gave
// it out; a store that addresses by id may use it in place of a look-up.
type Folder struct {
	Path Path
	ID   string
}

// Ref says which entry is meant, and is the only way to say so: a name in a
// folder, and the kind of what has the name. A file and a folder may share a
// name, in one store at all times and in any other from one moment to the next;
// a request for the one never touches the other. Make a Ref with [Folder.Ref],
// [Entry.Ref], [Key.Ref] or [Path.Ref]. The zero Ref is the account's start.
type Ref struct {
	Folder Folder
	Name   string
	// ID, where set, is the id of the entry itself as the store gave it out.
	ID string
	// Kind that is meant: KindFolder, or any other for what is not a folder.
	// Empty, which only [Store.Stat] takes to mean "whatever has the name".
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

// As returns the ref of what has the same name and is of a kind.
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
	// Elsewhere says that the entry is listed in several folders, as pictures
	// are in albums, and belongs to another of them than the one listed: whoever
	// takes the whole account takes it there.
	Elsewhere bool
	// HasShares says that the entry has an owner other than the account's, or is itself shared
	// with somebody; see [Sharing]. It is false if listings do not say so.
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

// IsAbsent reports whether nothing may have the name.
func (c Condition) IsAbsent() bool { return c.kind == conditionAbsent }

// Content is what is written: bytes that can be read again from the start, as
// often as a provider has to.
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
	// Run marks whatever is left behind by a process that dies, so that
	// Cleaner can find it: letters and digits, unique to a run.
	Run     string
	Content Content
	// Keep is where what is replaced goes, in the same account and a folder that is
	// there, of a store that [Capabilities.Keeps]; the zero Ref keeps nothing. It is there
	// before the name has the new content, and stays where the write fails after that.
	Keep Ref
	// Verification is what is wanted as verification. A store that has to read back what
	// arrived, to verify it, does so only where it is not VerifyBySize.
	Verification VerifyLevel
}

// VerifyLevel is how what arrived is compared with what was sent.
type VerifyLevel string

const (
	// VerifyByHash is by a hash that the store tells or verifies, and else by
	// reading back. It is the default.
	VerifyByHash VerifyLevel = ""
	// VerifyBySize is content with the size where the store tells no hash.
	VerifyBySize VerifyLevel = "size"
	// VerifyByReading reads back in any case.
	VerifyByReading VerifyLevel = "read-back"
)

// Written is the answer to a write: the entry as stored.
type Written struct {
	Entry
	// Verification is a hash of the whole content that the store computed, or
	// verified, from what it received. Its zero value says that the store
	// gave none and a verification has to be read back.
	Verification Hash
	// ReadBack says that Verification was computed by the provider from what it read
	// back before the file got its name.
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
	// Growing says that the file may grow meanwhile: the Length bytes that it has
	// at its beginning are wanted, at no particular revision. That it became
	// shorter, or another file, is ErrChanged still.
	Growing bool
}

// Removal tells what became of something removed.
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
	// Traits tells what the account can and cannot keep. It does not wait:
	// what had to be probed was probed when the account was opened, or is
	// probed by the first write, before it.
	Traits() Traits

	// Capabilities returns what the account can do beyond these methods. It
	// does not wait, and may change with what the first write finds out.
	Capabilities() Capabilities

	// Stat looks at one entry of the ref's kind. ErrNotFound where there is
	// none, whatever else has the name. The start of the account is a folder
	// and exists if the account does. A ref of no kind finds what has the
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

	// Remove removes what is not a folder, at a revision (empty: any).
	// ErrNotFound where there is none, even if a folder has the name;
	// ErrChanged for another revision.
	Remove(ctx context.Context, ref Ref, revision string) (Removal, error)

	// RemoveFolder removes an empty folder and can remove nothing else.
	// ErrNotFound where there is none, even if a file has the name; ErrRefused
	// where it holds something, of any origin.
	RemoveFolder(ctx context.Context, ref Ref) (Removal, error)
}
