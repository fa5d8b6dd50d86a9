package drive

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
)

// TestReader reads random places of a content, and holds what comes to it, and the requests to a bound.
func TestReader(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	content := make([]byte, 20<<20)
	for i := range content {
		content[i] = byte(random.Uint32())
	}
	requests := 0
	r := &reader{size: int64(len(content)), open: func(offset, length int64) (io.ReadCloser, error) {
		requests++
		return io.NopCloser(bytes.NewReader(content[offset : offset+length])), nil
	}}
	read := func(offset, length int) {
		t.Helper()
		p := make([]byte, length)
		n, err := r.readAt(p, int64(offset))
		if want := content[min(offset, len(content)):min(offset+length, len(content))]; err != nil || !bytes.Equal(p[:n], want) {
			t.Fatalf("%d bytes at %d: %d, %v", length, offset, n, err)
		}
	}
	for range 300 {
		read(random.IntN(len(content)+1000), random.IntN(200_000))
	}
	requests = 0
	r.close()
	r.piece, r.at, r.kept = 0, 0, nil
	const piece = 128 << 10
	for offset := 0; offset < len(content); offset += 2 * piece { // two pieces at a time, in the wrong order
		read(offset+piece, piece)
		read(offset, piece)
	}
	if requests > 90 {
		t.Errorf("%d requests for %d pieces", requests, len(content)/piece)
	}
	if len(r.kept) > 2*window {
		t.Errorf("%d bytes are kept", len(r.kept))
	}
	r.open = func(int64, int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content[:10])), nil }
	r.close()
	r.at, r.kept = 0, nil
	if _, err := r.readAt(make([]byte, 100), 5<<20); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a body that ends early: %v", err)
	}
	whole := &reader{size: 1 << 62, whole: true, open: func(offset, _ int64) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(content[offset:100])), nil
	}}
	p := make([]byte, 1000)
	if n, err := whole.readAt(p, 0); n != 100 || err != nil || !bytes.Equal(p[:n], content[:100]) {
		t.Errorf("a content of unknown size: %d, %v", n, err)
	}
}
