package store

import (
	"context"
	"encoding/binary"
	"encoding/hex"
)

// PartLimits say when and how a store takes a file in parts.
type PartLimits struct {
	// Above this size, in bytes, a file goes in parts.
	Above int64
	// Size of a part, in bytes, for a file of the size given; all parts but
	// the last have it.
	Size func(file int64) int64
	// Parallel is how many parts of one file may be written at once.
	Parallel int
	// Uneven is set if parts may have different sizes, within the store's limits.
	Uneven bool
}

// Part is the receipt of one stored part. It is kept in the records.
type Part struct {
	Number int    `json:"number"` // from 1
	Size   int64  `json:"size"`   // bytes
	Tag    string `json:"tag"`    // the store's receipt
	Hash   string `json:"hash"`   // hexadecimal, of kind Traits.VerificationKind
}

// PartWriter is the ability to take a file in parts, so that a transfer that
// broke off goes on where it was. Nothing is visible under the name until
// CommitParts.
type PartWriter interface {
	// PartLimits of this account; ok is false where it takes none.
	PartLimits() (limits PartLimits, ok bool)
	// BeginParts opens an upload and returns its id.
	BeginParts(ctx context.Context, writing Writing) (upload string, err error)
	// WritePart stores a part, replacing one of the same number. The stream
	// hashes with Traits.VerificationKind and is closed by the caller.
	WritePart(ctx context.Context, writing Writing, upload string, number int, size int64, stream *Stream) (Part, error)
	// CommitParts makes the file of all its parts, in order, under the
	// writing's condition. ErrNotFound where the upload is gone.
	CommitParts(ctx context.Context, writing Writing, upload string, parts []Part) (Written, error)
	// AbortParts gives an upload up. One that is gone is fine.
	AbortParts(ctx context.Context, place Ref, upload string) error
}

// Parts returns the store's way of taking a file of that size in parts; ok is
// false where it goes in one request.
func Parts(s Store, size int64) (writer PartWriter, limits PartLimits, ok bool) {
	writer = s.Capabilities().Parts
	if writer == nil {
		return nil, PartLimits{}, false
	}
	limits, ok = writer.PartLimits()
	if !ok || size <= limits.Above {
		return nil, PartLimits{}, false
	}
	return writer, limits, true
}

// WholeOf returns the CRC64NVME of all parts put together, in their order; ok is false if one
// of them has none.
func WholeOf(parts []Part) (whole Hash, ok bool) {
	var sum uint64
	for i, part := range parts {
		raw, err := hex.DecodeString(part.Hash)
		if err != nil || len(raw) != 8 {
			return whole, false
		}
		one := binary.BigEndian.Uint64(raw)
		if i > 0 {
			one = CombineCRC64NVME(sum, one, part.Size)
		}
		sum = one
	}
	return HashOf(CRC64NVME, binary.BigEndian.AppendUint64(nil, sum)), len(parts) > 0
}
