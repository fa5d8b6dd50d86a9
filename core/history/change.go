// Package history describes the earlier states of an account.
//
// A [Change] is one step back: the state of a path just before a run created, overwrote,
// deleted or moved it. The earlier content is kept as a plain file below
// [store.HistoryFolder]; see [PartName] and [Place] for its place, and docs/history.md for
// the layout, which can be read without this program. A [Past] computes the state of the
// account at a time from the changes after it. [Retention] defines which changes are kept
// for how long.
package history

import (
	"fmt"
	"path"
	"strings"
	"time"

	"deftheron/core/store"
)

// How is the kind of a change.
type How string

const (
	// Created put a file where nothing was. Of a folder: nothing was in it or at it.
	Created How = "created"
	// Overwritten replaced the content, which is at Kept.
	Overwritten How = "overwritten"
	// Deleted removed the content, which is at Kept.
	Deleted How = "deleted"
	// Moved gave the content the path To.
	Moved How = "moved"
	// Superseded is a file in the folder of one run, of which a later run has put a new
	// version into its own folder. The path is the file's place without the folders of runs;
	// nothing was there, and the content stays at Kept.
	Superseded How = "superseded"
	// Thinned is an Overwritten whose content is not kept any more.
	Thinned How = "thinned"
)

// Change is one change of a path, with the state before it.
type Change struct {
	// Account of the path, by its name.
	Account string
	// Path is the key of the file from the account's start; of a folder, which is only
	// ever Created, with a closing "/".
	Path store.Key
	// At is when it was changed: before it, the path was what the change says, back to
	// Since. Since is zero where no earlier change is known.
	At, Since time.Time
	How       How
	// Size in bytes, Modified and Hash (KIND=HEXADECIMAL, empty if none is known) describe
	// the earlier content.
	Size     int64
	Modified time.Time
	Hash     string
	// Kept is where the content is, from the account's start; of Overwritten and Deleted.
	// Version, if it is not empty, is the version of Kept that it is: one that the account
	// keeps by itself.
	Kept    store.Key
	Version string
	// Revision of the content at Kept, if others may change it there; otherwise empty.
	Revision string
	// To is where the content went; of Moved.
	To store.Key
	// Run that made the change, and its job; both empty where they are not known.
	Run, Job string
	// Locked is the time until which the content may not be deleted; zero if it may.
	Locked time.Time
	// Enforced is set if the store has confirmed that it refuses to delete it until then.
	Enforced bool
}

// HasContent reports whether the change keeps a content.
func (c *Change) HasContent() bool {
	return c.How == Overwritten || c.How == Deleted || c.How == Superseded
}

// IsLocked reports whether the content must not be deleted at a time.
func (c *Change) IsLocked(now time.Time) bool { return c.HasContent() && now.Before(c.Locked) }

// stampForm is the form of times in names of parts.
const stampForm = "2006-01-02T150405Z"

// partLength is how long a run adds to one part.
const partLength = 24 * time.Hour

// PartName returns the name of the folder below [store.HistoryFolder] to which a run that
// started at a time moves contents now. A run of several days has a part for each day.
func PartName(began, now time.Time, run string) string {
	if days := now.Sub(began) / partLength; days > 0 {
		began = began.Add(days * partLength)
	}
	return began.UTC().Format(stampForm) + "-" + run
}

// ParsePart reads the name of a part. The run is empty in the form of earlier versions,
// TIME alone, whose folder holds the contents themselves.
func ParsePart(name string) (began time.Time, run string, ok bool) {
	stamp, run, named := strings.Cut(name, "Z-")
	if named {
		stamp += "Z"
	}
	began, err := time.Parse(stampForm, stamp)
	return began, run, err == nil && began.UTC().Format(stampForm) == stamp && (!named || run != "")
}

// contents is the folder of a part that holds the contents, each at its path.
const contents = "files"

// PartFolder is the folder of a part.
func PartFolder(part string) store.Path { return store.HistoryFolder.Child(part) }

// longestName is what most file systems hold, in bytes.
const longestName = 255

// Place is where a part keeps the content of a file. n is 0, or a number that makes the
// name unique, where the part keeps another content of the path already.
func Place(part string, file store.Ref, n int64) store.Ref {
	folder := PartFolder(part).Child(contents)
	for _, name := range file.Folder.Path.Names() {
		folder = folder.Child(name)
	}
	name := file.Name
	if n > 0 {
		extension := path.Ext(name)
		tail := fmt.Sprintf(" (%d)%s", n, extension)
		stem := strings.TrimSuffix(name, extension)
		for len(stem)+len(tail) > longestName && stem != "" {
			stem = strings.ToValidUTF8(stem[:len(stem)-1], "")
		}
		name = stem + tail
	}
	return store.Folder{Path: folder}.Ref(name).As(store.KindFile)
}

// keyOf is the key of a place from the account's start.
func keyOf(ref store.Ref) store.Key { return store.KeyOf(ref.Folder.Path, ref.Name, ref.Kind) }

// KeyOf returns the key of a file from the account's start.
func KeyOf(file store.Ref) store.Key { return keyOf(file.As(store.KindFile)) }
