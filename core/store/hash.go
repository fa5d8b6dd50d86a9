package store

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"hash"
	"hash/crc32"
	"io"
	"strings"

	"github.com/minio/crc64nvme"
	"github.com/zeebo/blake3"
)

// HashKind names a hash of content.
type HashKind string

// The hashes that stores are known to report, the cheapest to compute first.
const (
	CRC64NVME HashKind = "crc64nvme" // CRC-64/NVME, big-endian bytes
	CRC32C    HashKind = "crc32c"    // RFC 3720 Castagnoli, big-endian bytes
	CRC32     HashKind = "crc32"     // IEEE 802.3, big-endian bytes
	BLAKE3    HashKind = "blake3"    // BLAKE3, 256 bits
	MD5       HashKind = "md5"       // RFC 1321
	SHA1      HashKind = "sha1"      // FIPS 180-4
	SHA512    HashKind = "sha512"    // FIPS 180-4
	SHA256    HashKind = "sha256"    // FIPS 180-4
)

// HashKinds returns the kinds that are known here by what they cost a byte,
// cheapest first.
func HashKinds() []HashKind {
	return []HashKind{CRC64NVME, CRC32C, CRC32, BLAKE3, MD5, SHA1, SHA512, SHA256}
}

// New returns a new computation of the kind, or nil where it is not known here.
func (k HashKind) New() hash.Hash {
	switch k {
	case CRC64NVME:
		return crc64nvme.New()
	case CRC32C:
		return crc32.New(crc32.MakeTable(crc32.Castagnoli))
	case CRC32:
		return crc32.NewIEEE()
	case BLAKE3:
		return blake3.New()
	case MD5:
		return md5.New()
	case SHA1:
		return sha1.New()
	case SHA512:
		return sha512.New()
	case SHA256:
		return sha256.New()
	}
	if outer, inner, size, ok := k.blocks(); ok {
		return newBlocks(outer, inner, size)
	}
	return nil
}

// Hash is one hash of a whole content: its kind and its bytes in hexadecimal.
type Hash struct {
	Kind HashKind
	Hex  string
}

// HashOf makes a Hash of raw bytes.
func HashOf(kind HashKind, sum []byte) Hash {
	return Hash{Kind: kind, Hex: hex.EncodeToString(sum)}
}

// IsZero reports whether there is no hash.
func (h Hash) IsZero() bool { return h.Kind == "" }

func (h Hash) String() string {
	if h.IsZero() {
		return ""
	}
	return string(h.Kind) + "=" + h.Hex
}

// Hashes are the hashes known of one content, at most one a kind.
type Hashes []Hash

// Get returns the hash of a kind; its zero value where there is none.
func (h Hashes) Get(kind HashKind) Hash {
	for _, hash := range h {
		if hash.Kind == kind {
			return hash
		}
	}
	return Hash{}
}

// ParseHash reads a hash as String writes it; ok is false for anything else.
func ParseHash(text string) (hash Hash, ok bool) {
	kind, value, ok := strings.Cut(text, "=")
	hash = Hash{Kind: HashKind(kind), Hex: value}
	return hash, ok && value != "" && hash.String() == text
}

// Shared returns the cheapest kind that both have, with both values.
func Shared(a, b Hashes) (mine, theirs Hash, ok bool) {
	for _, kind := range HashKinds() {
		if x, y := a.Get(kind), b.Get(kind); !x.IsZero() && !y.IsZero() {
			return x, y, true
		}
	}
	for _, mine := range a { // hashes of blocks: there are too many kinds to list
		if theirs := b.Get(mine.Kind); !theirs.IsZero() {
			return mine, theirs, true
		}
	}
	return Hash{}, Hash{}, false
}

// Stream is content on its way to a store, hashed and counted as it is read.
type Stream struct {
	reader  io.Reader
	closer  io.Closer
	kind    HashKind
	hash    hash.Hash
	n       int64
	onBytes func(int)
	told    Hash
}

// ContentHasher is a body that brings the hashes of the content with it, as the store
// keeps them. Only a body of a whole content may.
type ContentHasher interface {
	ContentHashes() Hashes
}

// NewStream reads from body, hashing with kind ("" for none). onBytes, if not
// nil, is called with the length of every chunk. Closing the stream closes body. If body
// is a [ContentHasher] with a hash of the same kind, the stream ends with ErrTryAgain
// unless the bytes that were read have that hash.
func NewStream(body io.ReadCloser, kind HashKind, onBytes func(int)) *Stream {
	s := &Stream{reader: body, closer: body, kind: kind, hash: kind.New(), onBytes: onBytes}
	if told, ok := body.(ContentHasher); ok {
		s.told = told.ContentHashes().Get(kind)
	}
	return s
}

// Read reads the next bytes and adds them to the hash.
func (s *Stream) Read(p []byte) (int, error) {
	n, err := s.reader.Read(p)
	if n > 0 {
		if s.hash != nil {
			s.hash.Write(p[:n])
		}
		s.n += int64(n)
		if s.onBytes != nil {
			s.onBytes(n)
		}
	}
	if err == io.EOF && !s.told.IsZero() && s.Sum() != s.told {
		err = Errorf(ErrTryAgain, "the bytes that arrived have %s, and the source keeps %s", s.Sum(), s.told)
	}
	return n, err
}

// Told is the hash that the source keeps of the whole content, of the kind that
// is computed; zero where it tells none. It is known before the first byte, so
// that a provider may send it ahead; the stream ends with an error unless the
// bytes had it.
func (s *Stream) Told() Hash { return s.told }

// Kind is the kind of the hash that is computed; empty for none.
func (s *Stream) Kind() HashKind { return s.kind }

// Close closes the body.
func (s *Stream) Close() error { return s.closer.Close() }

// Count is how many bytes have been read.
func (s *Stream) Count() int64 { return s.n }

// Sum is the hash of the bytes read so far; zero where none is computed.
func (s *Stream) Sum() Hash {
	if s.hash == nil {
		return Hash{}
	}
	return HashOf(s.kind, s.hash.Sum(nil))
}

// Checksummer is the ability to tell the hash of a stored file without the file
// crossing a network, be it at the cost of another request or of reading a
// local disk.
type Checksummer interface {
	// SumKinds are the kinds that Sum may answer with.
	SumKinds() []HashKind
	// Sum returns the hash of the kind of a file at a revision (empty:
	// any). ErrUnsupported where this file has none of that kind.
	Sum(ctx context.Context, place Ref, revision string, kind HashKind) (Hash, error)
}

// Sum returns a hash that the store tells of a file, of the kind given.
// ErrUnsupported where it cannot.
func Sum(ctx context.Context, s Store, place Ref, entry Entry, kind HashKind) (Hash, error) {
	if known := entry.Hashes.Get(kind); !known.IsZero() {
		return known, nil
	}
	if sums := s.Capabilities().Checksums; sums != nil {
		return sums.Sum(ctx, place, entry.Revision, kind)
	}
	return Hash{}, Errorf(ErrUnsupported, "%s: no %s is known", place, kind)
}

// ReadBack computes the hash of a stored file by reading it.
func ReadBack(ctx context.Context, s Store, place Ref, revision string, kind HashKind) (Hash, int64, error) {
	body, err := s.Open(ctx, Reading{Place: place, Revision: revision})
	if err != nil {
		return Hash{}, 0, err
	}
	stream := NewStream(body, kind, nil)
	defer stream.Close()
	if _, err := io.Copy(io.Discard, stream); err != nil {
		return Hash{}, 0, err
	}
	return stream.Sum(), stream.Count(), nil
}
