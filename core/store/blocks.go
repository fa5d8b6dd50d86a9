package store

import (
	"fmt"
	"hash"
	"strconv"
	"strings"
)

// BlocksOf names the hash, by outer, of the hashes, by inner, of blocks of a
// size in bytes, one after the other. Of nothing it is the outer hash of
// nothing. Its text is such as "sha256-of-4194304-sha256".
func BlocksOf(outer, inner HashKind, size int64) HashKind {
	return HashKind(fmt.Sprintf("%s-of-%d-%s", outer, size, inner))
}

// blocks takes apart what BlocksOf made.
func (k HashKind) blocks() (outer, inner HashKind, size int64, ok bool) {
	before, after, found := strings.Cut(string(k), "-of-")
	number, kind, also := strings.Cut(after, "-")
	size, err := strconv.ParseInt(number, 10, 64)
	if !found || !also || err != nil || size <= 0 {
		return "", "", 0, false
	}
	outer, inner = HashKind(before), HashKind(kind)
	return outer, inner, size, !strings.Contains(kind, "-of-") && outer.New() != nil && inner.New() != nil
}

// blockHash is a hash of the hashes of blocks.
type blockHash struct {
	outer, inner hash.Hash
	size, n      int64 // n bytes of the block so far
}

func newBlocks(outer, inner HashKind, size int64) hash.Hash {
	return &blockHash{outer: outer.New(), inner: inner.New(), size: size}
}

// Write implements hash.Hash.
func (b *blockHash) Write(p []byte) (int, error) {
	written := len(p)
	for len(p) > 0 {
		if b.n == b.size {
			b.outer.Write(b.inner.Sum(nil))
			b.inner.Reset()
			b.n = 0
		}
		take := p[:min(int64(len(p)), b.size-b.n)]
		b.inner.Write(take)
		b.n += int64(len(take))
		p = p[len(take):]
	}
	return written, nil
}

// Sum implements hash.Hash. It ends the last block: nothing may be written
// after it.
func (b *blockHash) Sum(to []byte) []byte {
	if b.n > 0 {
		b.outer.Write(b.inner.Sum(nil))
		b.inner.Reset()
		b.n = 0
	}
	return b.outer.Sum(to)
}

// Reset implements hash.Hash.
func (b *blockHash) Reset() {
	b.outer.Reset()
	b.inner.Reset()
	b.n = 0
}

// Size implements hash.Hash.
func (b *blockHash) Size() int { return b.outer.Size() }

// BlockSize implements hash.Hash.
func (b *blockHash) BlockSize() int { return b.inner.BlockSize() }
