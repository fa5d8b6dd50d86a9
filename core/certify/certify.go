// Package certify makes the certificate of a migration: what each file of the sources was
// verified with at the targets, and what was not verified and why.
package certify

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"slices"
	"strings"
	"time"

	"deftheron/core/plan"
	"deftheron/core/transfer"
)

// File is a file of a source, as certified.
type File struct {
	Address, Target string
	Size            int64 // in bytes; less than 0 if unknown
	// Verification is the hash that the target holds the file with, as KIND=HEXADECIMAL, or
	// plan.VerifiedBySize. If it is empty, Cause says why.
	Verification string
	Cause        plan.Cause
	Digest       string // the BLAKE3 of the file, as KIND=HEXADECIMAL; empty if unknown
	Run          string // that transferred it; empty if it was found at the target
}

// Folder returns the address of the folder that holds the file.
func (f File) Folder() string { return f.Address[:max(1, strings.LastIndexByte(f.Address, '/'))] }

// Tally counts the files of a certificate.
type Tally struct {
	Verified, Unverified plan.Count
	By                   []ByKind  // of those verified, in the order of their first file
	Why                  []ByCause // of the others, likewise
	Excluded             plan.Count
	FoldersExcluded      int64 // with all that they hold
}

// ByKind counts the files that were verified with one kind of hash, or by size.
type ByKind struct {
	Kind string
	plan.Count
}

// ByCause counts the files that were not verified for one cause.
type ByCause struct {
	Cause plan.Cause
	plan.Count
}

// Add counts a file.
func (t *Tally) Add(file File) {
	size := max(0, file.Size)
	if file.Verification == "" {
		add(&t.Unverified, size)
		i := slices.IndexFunc(t.Why, func(why ByCause) bool { return why.Cause == file.Cause })
		if i < 0 {
			i, t.Why = len(t.Why), append(t.Why, ByCause{Cause: file.Cause})
		}
		add(&t.Why[i].Count, size)
		return
	}
	add(&t.Verified, size)
	kind, _, _ := strings.Cut(file.Verification, "=")
	i := slices.IndexFunc(t.By, func(by ByKind) bool { return by.Kind == kind })
	if i < 0 {
		i, t.By = len(t.By), append(t.By, ByKind{Kind: kind})
	}
	add(&t.By[i].Count, size)
}

func add(to *plan.Count, size int64) {
	to.Items++
	to.Bytes += size
}

// Take lists both sides of the routes again, as transfer.Certify does, and calls each with
// every file of the sources. It writes nothing.
func Take(ctx context.Context, routes []transfer.Route, rules plan.Rules, began time.Time, memory transfer.Memory,
	each func(File) error) (tally Tally, err error) {
	tally.Excluded, tally.FoldersExcluded, err = transfer.Certify(ctx, routes, rules, began, memory, func(one transfer.Certified) error {
		if one.Cause == plan.CauseNotAFile {
			return nil // it has no content of its own
		}
		route := routes[one.Route]
		file := File{Address: route.SourceAddress(one.Item), Target: route.TargetAddress(one.Item, ""), Size: one.Item.Size,
			Verification: one.Verification, Cause: one.Cause, Digest: one.Digest, Run: one.Run}
		tally.Add(file)
		return each(file)
	})
	return tally, err
}

// Digest is the SHA-256 over the lines of a certificate: its head, and each of its files.
type Digest struct{ sum hash.Hash }

// NewDigest returns a digest of nothing yet.
func NewDigest() Digest { return Digest{sha256.New()} }

// Line adds a line, without the newline that ends it.
func (d Digest) Line(line []byte) {
	d.sum.Write(line)
	d.sum.Write([]byte{'\n'})
}

// String returns the digest of the lines so far, as sha256=HEXADECIMAL.
func (d Digest) String() string { return "sha256=" + hex.EncodeToString(d.sum.Sum(nil)) }
