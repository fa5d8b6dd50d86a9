package sealed

import (
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"

	"golang.org/x/crypto/chacha20poly1305"
)

// The payload of an age file, as age-encryption.org/v1 has it: chunks of 64 KiB, each
// sealed with ChaCha20-Poly1305 under a counter and a flag that marks the last one. The
// age package can neither write the same file twice, as a transfer that is tried again
// has to, nor read a range without a look at the end of the file first.
const (
	chunkSize   = 64 << 10
	sealedChunk = chunkSize + chacha20poly1305.Overhead
	nonceSize   = 16
)

// payloadSize is how many bytes a payload of n bytes takes, sealed, without what the file
// begins with.
func payloadSize(n int64) int64 {
	chunks := max(1, (n+chunkSize-1)/chunkSize)
	return n + chunks*chacha20poly1305.Overhead
}

// plainSize is how many bytes a sealed payload of n bytes holds; ok is false for a length
// that none has.
func plainSize(n int64) (size int64, ok bool) {
	chunks := (n + sealedChunk - 1) / sealedChunk
	size = n - chunks*chacha20poly1305.Overhead
	return size, size >= 0 && payloadSize(size) == n
}

// payload seals and opens chunks.
type payload struct{ aead cipher.AEAD }

func (s *seal) payload() (payload, error) {
	key, err := hkdf.Key(sha256.New, s.fileKey, s.nonce, "payload", chacha20poly1305.KeySize)
	if err != nil {
		return payload{}, err
	}
	aead, err := chacha20poly1305.New(key)
	return payload{aead}, err
}

func chunkNonce(number int64, last bool) []byte {
	nonce := make([]byte, chacha20poly1305.NonceSize)
	binary.BigEndian.PutUint64(nonce[3:11], uint64(number))
	if last {
		nonce[11] = 1
	}
	return nonce
}

// seal appends a chunk, sealed, to a slice.
func (p payload) seal(to []byte, number int64, last bool, chunk []byte) []byte {
	return p.aead.Seal(to, chunkNonce(number, last), chunk, nil)
}

// open opens a chunk in place.
func (p payload) open(number int64, last bool, chunk []byte) ([]byte, error) {
	plain, err := p.aead.Open(chunk[:0], chunkNonce(number, last), chunk, nil)
	if err != nil {
		return nil, errSeal
	}
	return plain, nil
}

var errSeal = errors.New("a block of it was changed, moved or cut off")

// sealer gives what it reads, sealed. The chunks that it makes begin at a number; ends
// says whether its last chunk is the last of the file.
type sealer struct {
	source io.Reader
	from   payload
	number int64
	ends   bool
	out    []byte // what is made and not given out, a part of buffer
	buffer []byte
	plain  []byte // one byte ahead, to know which chunk is the last
	ahead  int
	err    error
}

// newSealer seals size bytes, -1 for unknown, as the chunks from first on.
func newSealer(source io.Reader, with payload, size, first int64, ends bool) *sealer {
	hold := chunkSize
	if size >= 0 {
		hold = int(min(size, chunkSize))
	}
	return &sealer{
		source: source, from: with, number: first, ends: ends, buffer: make([]byte, 0, hold+chacha20poly1305.Overhead),
		plain: make([]byte, hold+1),
	}
}

// Read implements io.Reader.
func (s *sealer) Read(p []byte) (int, error) {
	for len(s.out) == 0 {
		if s.err != nil {
			return 0, s.err
		}
		s.next()
	}
	n := copy(p, s.out)
	s.out = s.out[n:]
	return n, nil
}

func (s *sealer) next() {
	n, err := io.ReadFull(s.source, s.plain[s.ahead:])
	n += s.ahead
	last := false
	switch {
	case err == nil:
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		// The reader of a body that ends early wraps its error, so that it is never the plain
		// io.ErrUnexpectedEOF of ReadFull.
		if err != io.EOF && err != io.ErrUnexpectedEOF { //nolint:errorlint // the very values of ReadFull
			s.err = err
			return
		}
		last, s.err = true, io.EOF
	default:
		s.err = err
		return
	}
	whole := min(n, len(s.plain)-1)
	if last && whole == 0 && s.number > 0 {
		return // it ended with the chunk before
	}
	s.out = s.from.seal(s.buffer[:0], s.number, last && s.ends, s.plain[:whole])
	s.number++
	s.ahead = copy(s.plain[:], s.plain[whole:n])
}

// unsealer gives what it reads, opened. It reads the chunks from a number on; size is that
// of the whole, opened.
type unsealer struct {
	source io.ReadCloser
	with   payload
	number int64
	last   int64
	size   int64
	out    []byte
	err    error
	failed func(error) error
	buffer []byte
}

func newUnsealer(source io.ReadCloser, with payload, first, size int64, failed func(error) error) *unsealer {
	return &unsealer{
		source: source, with: with, number: first, last: max(0, (size+chunkSize-1)/chunkSize-1), size: size, failed: failed,
		buffer: make([]byte, min(size, chunkSize)+chacha20poly1305.Overhead),
	}
}

// Read implements io.Reader.
func (u *unsealer) Read(p []byte) (int, error) {
	for len(u.out) == 0 {
		if u.err != nil {
			return 0, u.err
		}
		if u.number > u.last {
			u.err = u.end()
			continue
		}
		u.next()
	}
	n := copy(p, u.out)
	u.out = u.out[n:]
	return n, nil
}

func (u *unsealer) next() {
	length := chunkSize
	if u.number == u.last {
		length = int(u.size - u.last*chunkSize)
	}
	chunk := u.buffer[:length+chacha20poly1305.Overhead]
	if _, err := io.ReadFull(u.source, chunk); err != nil {
		if err == io.EOF || err == io.ErrUnexpectedEOF { //nolint:errorlint // the very values of ReadFull
			err = u.failed(errors.New("it is shorter than it was"))
		}
		u.err = err
		return
	}
	plain, err := u.with.open(u.number, u.number == u.last, chunk)
	if err != nil {
		u.err = u.failed(err)
		return
	}
	u.number++
	u.out = plain
}

// end is io.EOF where nothing follows the last chunk.
func (u *unsealer) end() error {
	var one [1]byte
	n, err := u.source.Read(one[:])
	if n > 0 {
		return u.failed(errors.New("it is longer than it was"))
	}
	if err != nil && err != io.EOF { //nolint:errorlint // a plain end
		return err
	}
	return io.EOF
}

// Close closes the source.
func (u *unsealer) Close() error { return u.source.Close() }
