package drive

import (
	"io"
	"sync"
)

const (
	// firstRead is how much the first request of a place in a file asks for: 1 MiB, and what the kernel
	// reads around it. mostRead is how much one asks for at most, as reading goes on.
	firstRead, mostRead = 1<<20 + 512<<10, 64 << 20
	// window is how much of what was read is kept: the kernel asks for pieces out of order.
	window = 4 << 20
)

// ranges returns length bytes of a content from an offset on.
type ranges func(offset, length int64) (io.ReadCloser, error)

// reader reads a content in ranges, with few requests: what is read on and on comes in larger and
// larger ones.
type reader struct {
	open ranges
	size int64
	// whole says that the size is not known, and that only the whole can be asked for.
	whole bool

	mu    sync.Mutex
	at    int64 // of the first byte of kept
	kept  []byte
	body  io.ReadCloser // what follows kept; nil if nothing is open
	left  int64         // of body
	piece int64         // what the next request asks for
}

// end is the offset after what is kept.
func (r *reader) end() int64 { return r.at + int64(len(r.kept)) }

// readAt reads into p from an offset on, and returns less only at the end of the content.
func (r *reader) readAt(p []byte, offset int64) (n int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for n < len(p) && offset < r.size {
		if offset >= r.at && offset < r.end() {
			copied := copy(p[n:], r.kept[offset-r.at:])
			n, offset = n+copied, offset+int64(copied)
			continue
		}
		if err := r.more(offset, int64(len(p)-n)); err != nil {
			return n, err
		}
	}
	return n, nil
}

// more reads on towards an offset, and asks again if what is open does not lead there soon.
func (r *reader) more(offset, wanted int64) error {
	if ahead := offset - r.end(); r.body == nil || r.left == 0 || ahead < 0 || ahead > firstRead {
		if ahead == 0 && r.piece > 0 {
			r.piece = min(mostRead, 4*r.piece)
		} else {
			r.piece = firstRead
		}
		r.close()
		length, asked := min(max(r.piece, wanted), r.size-offset), int64(0)
		if asked = length; r.whole {
			length, asked = r.size-offset, 0
		}
		body, err := r.open(offset, asked)
		if err != nil {
			return err
		}
		if offset != r.end() {
			r.at, r.kept = offset, r.kept[:0]
		}
		r.body, r.left = body, length
	}
	if len(r.kept) >= window { // the half that was read first goes
		half := len(r.kept) / 2
		r.kept = append(r.kept[:0], r.kept[half:]...)
		r.at += int64(half)
	}
	from := len(r.kept)
	piece := int(min(r.left, 256<<10))
	if cap(r.kept)-from < piece {
		grown := make([]byte, from, max(2*cap(r.kept), from+piece))
		copy(grown, r.kept)
		r.kept = grown
	}
	n, err := io.ReadAtLeast(r.body, r.kept[from:from+piece], 1)
	r.kept, r.left = r.kept[:from+n], r.left-int64(n)
	if err == io.EOF && r.whole { // now it is known
		r.size = r.end()
		r.close()
		return nil
	}
	if err != nil {
		r.close()
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	return nil
}

// close closes what is open.
func (r *reader) close() {
	if r.body != nil {
		r.body.Close()
		r.body, r.left = nil, 0
	}
}
