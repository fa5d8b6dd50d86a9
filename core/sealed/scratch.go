package sealed

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"sync"
)

// scratch holds sealed segments as they are at the provider, so that an entry of a large
// folder is looked up without a request and without the folder in memory. It is a file
// without a name, which is gone when the process ends or it is not used any more.
type scratch struct {
	file *os.File
	mu   sync.Mutex // held by whoever appends
	end  int64
}

func newScratch() (*scratch, error) {
	file, err := os.CreateTemp("", "heron-scratch-*")
	if err != nil {
		return nil, fmt.Errorf("failed to make a scratch file: %w", err)
	}
	if err := os.Remove(file.Name()); err != nil {
		return nil, fmt.Errorf("failed to make a scratch file: %w", err)
	}
	return &scratch{file: file}, nil
}

// append starts a piece at the end. No other goroutine appends until done is called.
func (s *scratch) append() (added *piece, done func()) {
	s.mu.Lock()
	added = &piece{in: s, begin: s.end}
	return added, func() {
		s.end = added.begin + added.size
		s.mu.Unlock()
	}
}

// reserve returns a piece of a size, to be written by whoever asked for it.
func (s *scratch) reserve(size int64) *piece {
	s.mu.Lock()
	defer s.mu.Unlock()
	reserved := &piece{in: s, begin: s.end}
	s.end += size
	return reserved
}

// piece writes a piece of a scratch file.
type piece struct {
	in    *scratch
	begin int64
	size  int64
}

// Write implements io.Writer.
func (p *piece) Write(data []byte) (int, error) {
	n, err := p.in.file.WriteAt(data, p.begin+p.size)
	p.size += int64(n)
	if err != nil {
		err = fmt.Errorf("failed to write to a scratch file: %w", err)
	}
	return n, err
}

// ReadAt implements io.ReaderAt.
func (p *piece) ReadAt(data []byte, offset int64) (int, error) {
	return p.in.file.ReadAt(data, p.begin+offset)
}

// size is how many bytes are in it.
func (s *scratch) size() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.end
}

// newSection reads a piece from its beginning.
func newSection(of *piece) io.ReadCloser { return io.NopCloser(io.NewSectionReader(of, 0, of.size)) }

func newReader(data []byte) io.Reader { return bytes.NewReader(data) }
