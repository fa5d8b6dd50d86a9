package smb

import (
	"io"
	"sync"

	"github.com/hirochachacha/go-smb2"
	"golang.org/x/sync/errgroup"
)

const (
	// chunk is what one request carries, and ahead how many of one file are
	// under way at once.
	chunk = 256 << 10
	ahead = 4
)

var chunks = sync.Pool{New: func() any { b := make([]byte, chunk); return &b }}

// writeAll writes all of the content, several requests at once.
func writeAll(file *smb2.File, content io.Reader) error {
	var group errgroup.Group
	group.SetLimit(ahead)
	var reading error
	for offset := int64(0); reading == nil; {
		buffer := chunks.Get().(*[]byte)
		var n int
		n, reading = io.ReadFull(content, *buffer)
		at := offset
		offset += int64(n)
		group.Go(func() error {
			defer chunks.Put(buffer)
			if n == 0 {
				return nil
			}
			_, err := file.WriteAt((*buffer)[:n], at)
			return err
		})
	}
	err := group.Wait()
	if reading != io.EOF && reading != io.ErrUnexpectedEOF {
		return reading
	}
	return err
}

// readAhead reads a file from an offset on, several requests ahead of whoever
// reads what it returns. closed is called when that is closed.
func readAhead(file *smb2.File, offset, length int64, closed func()) io.ReadCloser {
	r := &reader{file: file, done: closed, turns: make(chan chan piece, ahead), closed: make(chan struct{}), ended: make(chan struct{})}
	go r.run(offset, offset+length)
	return r
}

// piece is what one request brought.
type piece struct {
	buffer *[]byte
	data   []byte
	err    error
}

type reader struct {
	file   *smb2.File
	done   func()
	turns  chan chan piece
	closed chan struct{}
	ended  chan struct{}
	once   sync.Once

	now piece
}

func (r *reader) run(offset, end int64) {
	defer close(r.ended)
	var group sync.WaitGroup
	defer group.Wait()
	defer close(r.turns)
	for ; offset < end; offset += chunk {
		turn := make(chan piece, 1)
		select {
		case r.turns <- turn:
		case <-r.closed:
			return
		}
		at, size := offset, min(chunk, end-offset)
		group.Go(func() {
			buffer := chunks.Get().(*[]byte)
			n, err := r.file.ReadAt((*buffer)[:size], at)
			turn <- piece{buffer, (*buffer)[:n], err}
		})
	}
}

func (r *reader) Read(p []byte) (int, error) {
	for len(r.now.data) == 0 {
		if r.now.err != nil {
			if r.now.err == io.EOF {
				return 0, io.EOF
			}
			return 0, wrap(r.now.err)
		}
		r.release()
		turn, ok := <-r.turns
		if !ok {
			return 0, io.EOF
		}
		r.now = <-turn
	}
	n := copy(p, r.now.data)
	r.now.data = r.now.data[n:]
	return n, nil
}

func (r *reader) release() {
	if r.now.buffer != nil {
		chunks.Put(r.now.buffer)
		r.now.buffer = nil
	}
}

func (r *reader) Close() (err error) {
	r.once.Do(func() {
		close(r.closed)
		<-r.ended
		r.release()
		err = wrap(r.file.Close())
		r.done()
	})
	return err
}
