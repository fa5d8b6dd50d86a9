package store

import "io"

// Exactly reads from r and ends well only if r holds exactly size bytes. It
// gives its last bytes only once r has ended as it should, so that whoever
// sends them on never completes what the source takes back at its end.
func Exactly(r io.Reader, size int64) *ExactReader { return &ExactReader{r: r, left: size, size: size} }

// ExactReader is what Exactly returns.
type ExactReader struct {
	r          io.Reader
	left, size int64
	err        error
}

// Err is the error that reading ended with, other than io.EOF.
func (e *ExactReader) Err() error {
	if e.err == io.EOF {
		return nil
	}
	return e.err
}

// Left is how many bytes have not been read.
func (e *ExactReader) Left() int64 { return e.left }

// Read implements io.Reader.
func (e *ExactReader) Read(p []byte) (int, error) {
	if e.err != nil {
		return 0, e.err
	}
	if len(p) == 0 {
		return 0, nil
	}
	var n int
	if e.left > 0 {
		n, e.err = e.r.Read(p[:min(int64(len(p)), e.left)])
		e.left -= int64(n)
		if e.err == io.EOF && e.left > 0 {
			e.err = ShortBody(e.size-e.left, e.size)
		}
	}
	if e.err == nil && e.left == 0 {
		e.err = e.end()
	}
	if e.err != nil && e.err != io.EOF {
		return 0, e.err
	}
	return n, e.err
}

// end reads past the last byte, where there must be nothing.
func (e *ExactReader) end() error {
	var one [1]byte
	for {
		n, err := e.r.Read(one[:])
		if n > 0 {
			return Errorf(ErrChanged, "the content is longer than the %d bytes it was listed with", e.size)
		}
		if err != nil {
			return err
		}
	}
}
