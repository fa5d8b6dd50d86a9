package store

import "io"

// Bounded reads the answer of a remote server element by element: no more than a
// number of bytes between two calls of Next. A longer element is an error of the kind
// ErrRefused, before it is held in memory.
type Bounded struct {
	reader     io.Reader
	most, left int64
}

// NewBounded returns one that allows most bytes for the first element.
func NewBounded(reader io.Reader, most int64) *Bounded {
	return &Bounded{reader: reader, most: most, left: most}
}

// Next begins the next element.
func (b *Bounded) Next() { b.left = b.most }

// Read implements io.Reader.
func (b *Bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, Errorf(ErrRefused, "the server's answer has an element of more than %d bytes, and is not read on", b.most)
	}
	n, err := b.reader.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}
