// Package unit describes units of work: files that a run has another process copy, which reaches both
// accounts. A unit holds all that the other process needs, and names the rows of the run that it is of.
package unit

import (
	"time"

	"deftheron/core/store"
)

// Unit is copied from one account to another. It has either copies, or parts of one.
type Unit struct {
	Run    string // marks what is left behind by a process that dies
	Copies []Copy
	// Parts, if not nil, are the parts of the only copy that the unit writes; the run does the rest.
	Parts *Parts
	// Verification is how what arrives is compared with what was sent.
	Verification store.VerifyLevel
	// Digest asks for the BLAKE3 of each content.
	Digest bool
}

// Copy is a file to be copied.
type Copy struct {
	Seq      int64 // of the row in the run
	From, To store.Ref
	Revision string // of the source
	Size     int64  // in bytes; -1 is unknown
	Modified time.Time
	If       store.Condition
}

// Parts are parts of a file whose upload has begun.
type Parts struct {
	Upload  string
	Size    int64 // of a part in bytes; the last may have less
	Numbers []int // from 1
}

// Copied is what became of a copy.
type Copied struct {
	Seq int64
	// Entry is the file at the target, and Size how many bytes were sent.
	Entry store.Entry
	Size  int64
	// Verification says with which hash the content was verified, and how, in words.
	Verification string
	Digest       string
	// Parts are those that were written.
	Parts []store.Part
	// Err is why it was not copied; nil if it was. Some parts may be written all the same.
	Err error
}
