package worker

import (
	"io"
	"sync"
)

// handoff is a pipe whose reader takes pieces as large as they were written: the body of a request writes
// them to its connection at once, in place of copying 32 KiB at a time.
type handoff struct {
	pieces chan []byte
	taken  chan struct{}
	ended  chan struct{} // closed by the writer's end
	broken chan struct{} // closed by the reader's end

	// using is held while the reader has a piece, which is the writer's again after Write.
	using              sync.Mutex
	endOnce, breakOnce sync.Once
	end, cause         error
	rest               []byte // of a piece that Read took a part of
}

func newHandoff() *handoff {
	return &handoff{pieces: make(chan []byte), taken: make(chan struct{}), ended: make(chan struct{}), broken: make(chan struct{})}
}

// Write gives a piece to the reader and returns when it has been written.
func (h *handoff) Write(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	select {
	case h.pieces <- p:
	case <-h.broken:
		return 0, h.cause
	}
	select {
	case <-h.taken:
		return len(p), nil
	case <-h.broken:
		h.using.Lock() // until nobody reads the piece
		defer h.using.Unlock()
		return 0, h.cause
	}
}

// CloseWithError ends what is written: the reader gets the error, or io.EOF for nil.
func (h *handoff) CloseWithError(err error) {
	h.endOnce.Do(func() {
		if h.end = err; err == nil {
			h.end = io.EOF
		}
		close(h.ended)
	})
}

// Break ends what is read: the writer gets the error.
func (h *handoff) Break(err error) {
	h.breakOnce.Do(func() {
		h.cause = err
		close(h.broken)
	})
}

// WriteTo implements io.WriterTo.
func (h *handoff) WriteTo(w io.Writer) (written int64, err error) {
	for {
		n, err := h.writeNext(w)
		written += int64(n)
		if err == io.EOF {
			return written, nil
		}
		if err != nil {
			return written, err
		}
		h.took()
	}
}

// writeNext writes the next piece; io.EOF at the end.
func (h *handoff) writeNext(w io.Writer) (int, error) {
	h.using.Lock()
	defer h.using.Unlock()
	piece, err := h.next()
	if err != nil {
		return 0, err
	}
	n, err := w.Write(piece)
	if err != nil {
		h.Break(err)
	}
	return n, err
}

// next waits for a piece.
func (h *handoff) next() ([]byte, error) {
	select {
	case piece := <-h.pieces:
		return piece, nil
	case <-h.ended:
		return nil, h.end
	case <-h.broken:
		return nil, h.cause
	}
}

// took says that a piece was written.
func (h *handoff) took() {
	select {
	case h.taken <- struct{}{}:
	case <-h.broken:
	}
}

// Read implements io.Reader.
func (h *handoff) Read(p []byte) (int, error) {
	n, err := h.readNext(p)
	if err == nil && len(h.rest) == 0 {
		h.took()
	}
	return n, err
}

// readNext copies what is left of a piece, or the next one.
func (h *handoff) readNext(p []byte) (int, error) {
	h.using.Lock()
	defer h.using.Unlock()
	select {
	case <-h.broken:
		return 0, h.cause
	default:
	}
	if len(h.rest) == 0 {
		piece, err := h.next()
		if err != nil {
			return 0, err
		}
		h.rest = piece
	}
	n := copy(p, h.rest)
	h.rest = h.rest[n:]
	return n, nil
}

// Close implements io.Closer.
func (h *handoff) Close() error {
	h.Break(io.ErrClosedPipe)
	return nil
}
