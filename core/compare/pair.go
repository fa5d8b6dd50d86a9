package compare

import (
	"strconv"
	"strings"
	"time"

	"deftheron/core/store"
)

// Remembered is one side of a finished item, as the records keep it.
type Remembered struct {
	Revision string
	Size     int64
	Modified time.Time
}

// RememberedOf returns what the records keep of an entry.
func RememberedOf(entry store.Entry) Remembered {
	return Remembered{Revision: entry.Revision, Size: entry.Size, Modified: entry.Modified}
}

// Is reports whether an entry is still the remembered one, as far as its metadata shows. It
// is false if the entry was listed too soon after a change for an equal revision to mean
// anything.
func (r Remembered) Is(entry *store.Entry) bool {
	if r.Revision != "" || entry.Revision != "" {
		return store.SameRevision(r.Revision, entry.Revision) && store.Settled(r.Revision)
	}
	return r.LooksLike(entry)
}

// LooksLike reports whether size and time are those that were remembered: the content
// may well be, though the revision is another.
func (r Remembered) LooksLike(entry *store.Entry) bool {
	return r.Size == entry.Size && r.Modified.Equal(entry.Modified)
}

// Pair is the record of earlier runs of a finished item: what each side was when the
// target was last put, or found, in sync with the source.
type Pair struct {
	Key    store.Key
	Source Remembered
	Target Remembered
	// Kept says that the target's content is not the source's: a conflict was
	// settled by leaving it. A later change of the source is a conflict again.
	Kept bool
	// Run that wrote the pair.
	Run string
	// To is the key at the target, where it is another than Key.
	To store.Key
	// Mark is the mark of the source file; see MarkOf.
	Mark string
	// Verification is the hash that the content was verified with, as KIND=HEXADECIMAL;
	// empty where it was not.
	Verification string
	// TargetMark is the mark of the target file; see MarkOf.
	TargetMark string
	// Digest is the BLAKE3 of the content, as KIND=HEXADECIMAL, where it was asked
	// for; see plan.Rules.Digest.
	Digest string
}

// SourceIs reports whether the source is still the record of earlier runs.
func (p *Pair) SourceIs(entry *store.Entry) bool { return p.Source.Is(entry) }

// TargetIs reports whether the target is still the record of earlier runs.
func (p *Pair) TargetIs(entry *store.Entry) bool { return p.Target.Is(entry) }

// At is the key at the target.
func (p *Pair) At() store.Key {
	if p.To != "" {
		return p.To
	}
	return p.Key
}

// isFolder reports whether the pair is of two folders.
func (p *Pair) kind() store.Kind {
	if strings.HasSuffix(string(p.Key), "/") {
		return store.KindFolder
	}
	return store.KindFile
}

// MarkOf returns the mark by which a moved file is found: its hash and size; or its id or
// identity, with size and time; empty if the store reports none of these. A mark without a
// hash identifies the file, but not its content: see MarkIsContent.
func MarkOf(entry store.Entry) string {
	if entry.Kind != store.KindFile || entry.Size <= 0 {
		return ""
	}
	for _, kind := range store.HashKinds() {
		if hash := entry.Hashes.Get(kind); !hash.IsZero() {
			return hash.String() + " " + strconv.FormatInt(entry.Size, 10)
		}
	}
	lasting := entry.ID
	if lasting == "" {
		lasting = entry.Identity
	}
	if lasting == "" || entry.Modified.IsZero() {
		return ""
	}
	return lasting + " " + strconv.FormatInt(entry.Size, 10) + " " + strconv.FormatInt(entry.Modified.UnixNano(), 10)
}

// MarkIsContent reports whether a mark is of the content itself: a hash.
func MarkIsContent(mark string) bool {
	hash, _, _ := strings.Cut(mark, " ")
	_, ok := store.ParseHash(hash)
	return ok
}
