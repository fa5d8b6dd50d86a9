package site

import (
	"bufio"
	"encoding/binary"
	"io"
	"sync"

	"deftheron/core/store"
)

// An answer, and a content that is sent, is a sequence of frames: a byte that says what the
// frame holds, the length of that as an unsigned varint, and so many bytes.
const (
	frameItems = 'i' // a CBOR array of what is listed
	frameData  = 'd' // bytes of a content
	frameEnd   = 'e' // the last frame: an end, in CBOR
)

const (
	// mostFrame bounds a frame: nothing larger is read.
	mostFrame = 4 << 20
	// dataFrame is how many bytes of a content go into a frame.
	dataFrame = 256 << 10
)

// writeFrame writes one frame.
func writeFrame(w io.Writer, kind byte, payload []byte) error {
	header := binary.AppendUvarint(append(make([]byte, 0, 1+binary.MaxVarintLen64), kind), uint64(len(payload)))
	if _, err := w.Write(header); err != nil {
		return err
	}
	_, err := w.Write(payload)
	return err
}

// frames reads a sequence of frames.
type frames struct {
	reader *bufio.Reader
	left   int // of a data frame
}

// newFrames buffers no more than headers need: what is read in larger pieces goes past the buffer, and
// most answers are small.
func newFrames(r io.Reader) *frames { return &frames{reader: bufio.NewReaderSize(r, 4<<10)} }

// next returns the kind of the next frame and, unless it is data, what it holds. The bytes
// of data are read with read, up to the next call.
func (f *frames) next() (kind byte, payload []byte, err error) {
	if f.left > 0 {
		if _, err := f.reader.Discard(f.left); err != nil {
			return 0, nil, broken(err)
		}
	}
	if kind, err = f.reader.ReadByte(); err != nil {
		return 0, nil, broken(err)
	}
	length, err := binary.ReadUvarint(f.reader)
	switch {
	case err != nil:
		return 0, nil, broken(err)
	case length > mostFrame:
		return 0, nil, store.Errorf(store.ErrTryAgain, "the answer of the worker has a frame of %d bytes, which is too large", length)
	case kind == frameData:
		f.left = int(length)
		return kind, nil, nil
	}
	payload = make([]byte, length)
	if _, err := io.ReadFull(f.reader, payload); err != nil {
		return 0, nil, broken(err)
	}
	return kind, payload, nil
}

// read reads bytes of the data frame that next returned; 0 and no error where it is at its end.
func (f *frames) read(p []byte) (int, error) {
	if f.left == 0 {
		return 0, nil
	}
	n, err := f.reader.Read(p[:min(len(p), f.left)])
	if f.left -= n; err != nil && n == 0 {
		return 0, broken(err)
	}
	return n, nil
}

// broken is the error of a sequence of frames that ends before its end.
func broken(err error) error {
	if store.KindOf(err) != nil {
		return err
	}
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return store.Errorf(store.ErrTryAgain, "the connection to the worker broke off: %w", err)
}

// mostHeader is how many bytes a frame has before what it holds, at most.
const mostHeader = 1 + binary.MaxVarintLen64

// contentBuffers are what contents go through, one for each content: a frame with its header before it,
// so that both are written at once.
var contentBuffers = sync.Pool{New: func() any { b := make([]byte, mostHeader+dataFrame); return &b }}

// sendContent writes a body as data frames and finishes with an end frame. The error is an error of writing.
func sendContent(w io.Writer, body io.Reader) error {
	buffer := contentBuffers.Get().(*[]byte)
	defer contentBuffers.Put(buffer)
	var header [mostHeader]byte
	for {
		n, err := body.Read((*buffer)[mostHeader:])
		if n > 0 {
			before := binary.AppendUvarint(append(header[:0], frameData), uint64(n))
			from := mostHeader - len(before)
			copy((*buffer)[from:], before)
			if _, wrong := w.Write((*buffer)[from : mostHeader+n]); wrong != nil {
				return wrong
			}
		}
		switch err {
		case nil:
		case io.EOF:
			return writeEnd(w, end{})
		default:
			return writeEnd(w, end{Error: wireErrorOf(err)})
		}
	}
}

// content reads what sendContent wrote.
type content struct {
	frames  *frames
	closing func() error
	err     error
}

// Read implements io.Reader. An error of the source is returned as it is.
func (c *content) Read(p []byte) (int, error) {
	for c.err == nil && len(p) > 0 {
		n, err := c.frames.read(p)
		if n > 0 {
			return n, nil
		}
		if err == nil {
			err = c.advance()
		}
		c.err = err
	}
	if len(p) == 0 {
		return 0, nil
	}
	return 0, c.err
}

// advance goes to the next frame of data; io.EOF at the end.
func (c *content) advance() error {
	kind, payload, err := c.frames.next()
	switch {
	case err != nil:
		return err
	case kind == frameData:
		return nil
	case kind != frameEnd:
		return store.Errorf(store.ErrTryAgain, "the worker sent a frame %q within a content", kind)
	}
	ended, err := readEnd(payload)
	if err == nil {
		err = ended.Error.error()
	}
	if err == nil {
		err = io.EOF
	}
	return err
}

// Close implements io.Closer.
func (c *content) Close() error { return c.closing() }
