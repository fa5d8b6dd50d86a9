// Package spill sorts more than memory should hold: what does not fit goes, in
// sorted runs, to a scratch file that has no name and is gone when the sorter is
// closed or the process ends.
package spill

import (
	"bufio"
	"cmp"
	"container/heap"
	"encoding/gob"
	"fmt"
	"io"
	"iter"
	"os"
	"slices"
)

// Hold is how many values a sorter of its zero value holds in memory.
const Hold = 20_000

// blockOf is how many values are encoded at once: each message has a cost of its own.
const blockOf = 256

// Sorter sorts values by key, and those of one key by tie, both as raw bytes. The
// zero value is ready to use. It is for one goroutine.
type Sorter[T any] struct {
	// Hold is how many values are held in memory; 0 is the constant Hold.
	Hold int

	held []record[T]
	file *os.File
	runs []int64 // where each run begins in the file
	end  int64
}

type record[T any] struct {
	Key, Tie string
	Value    T
}

func compareRecords[T any](a, b record[T]) int {
	if c := cmp.Compare(a.Key, b.Key); c != 0 {
		return c
	}
	return cmp.Compare(a.Tie, b.Tie)
}

// Add takes a value. An error is of the scratch file.
func (s *Sorter[T]) Add(key, tie string, value T) error {
	most := s.Hold
	if most == 0 {
		most = Hold
	}
	if len(s.held) >= most {
		if err := s.spill(); err != nil {
			return fmt.Errorf("failed to write to a scratch file: %w", err)
		}
	}
	s.held = append(s.held, record[T]{key, tie, value})
	return nil
}

// spill writes what is held as one more run.
func (s *Sorter[T]) spill() error {
	if s.file == nil {
		file, err := os.CreateTemp("", "heron-scratch-*")
		if err != nil {
			return err
		}
		s.file = file
		if err := os.Remove(file.Name()); err != nil {
			return err
		}
	}
	slices.SortStableFunc(s.held, compareRecords)
	buffered := bufio.NewWriterSize(io.NewOffsetWriter(s.file, s.end), 1<<16)
	counted := &counter{w: buffered}
	encoder := gob.NewEncoder(counted)
	for block := range slices.Chunk(s.held, blockOf) {
		if err := encoder.Encode(block); err != nil {
			return err
		}
	}
	if err := buffered.Flush(); err != nil {
		return err
	}
	s.runs = append(s.runs, s.end)
	s.end += counted.n
	clear(s.held) // what they point to is not held either
	s.held = s.held[:0]
	return nil
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// All yields the values in order, each with its key. It ends after an error, which
// is of the scratch file. Nothing may be added any more.
func (s *Sorter[T]) All() iter.Seq2[Sorted[T], error] {
	return func(yield func(Sorted[T], error) bool) {
		slices.SortStableFunc(s.held, compareRecords)
		if len(s.runs) == 0 {
			for _, r := range s.held {
				if !yield(Sorted[T]{r.Key, r.Value}, nil) {
					return
				}
			}
			return
		}
		m := merge[T]{{next: fromMemory(s.held), order: len(s.runs)}}
		for i, begin := range s.runs {
			end := s.end
			if i+1 < len(s.runs) {
				end = s.runs[i+1]
			}
			decoder := gob.NewDecoder(bufio.NewReaderSize(io.NewSectionReader(s.file, begin, end-begin), 1<<15))
			m = append(m, &run[T]{next: fromFile[T](decoder), order: i})
		}
		if err := m.run(yield); err != nil {
			yield(Sorted[T]{}, fmt.Errorf("failed to read a scratch file: %w", err))
		}
	}
}

// Sorted is a value and the key that it was added with.
type Sorted[T any] struct {
	Key   string
	Value T
}

// Close gives the scratch file back.
func (s *Sorter[T]) Close() {
	if s.file != nil {
		s.file.Close()
	}
	*s = Sorter[T]{Hold: s.Hold}
}

func fromMemory[T any](held []record[T]) func() (record[T], error) {
	i := 0
	return func() (record[T], error) {
		if i == len(held) {
			return record[T]{}, io.EOF
		}
		i++
		return held[i-1], nil
	}
}

func fromFile[T any](decoder *gob.Decoder) func() (record[T], error) {
	var block []record[T]
	at := 0
	return func() (record[T], error) {
		if at == len(block) {
			block, at = nil, 0 // values that were returned are not decoded into
			if err := decoder.Decode(&block); err != nil {
				return record[T]{}, err
			}
		}
		at++
		return block[at-1], nil
	}
}

// run is one sorted run and its first record that was not yielded.
type run[T any] struct {
	next  func() (record[T], error)
	order int // of what is the same, the earlier comes first
	head  record[T]
}

// merge is a heap of runs.
type merge[T any] []*run[T]

func (m merge[T]) Len() int { return len(m) }
func (m merge[T]) Less(i, j int) bool {
	if c := compareRecords(m[i].head, m[j].head); c != 0 {
		return c < 0
	}
	return m[i].order < m[j].order
}
func (m merge[T]) Swap(i, j int) { m[i], m[j] = m[j], m[i] }
func (m *merge[T]) Push(x any)   { *m = append(*m, x.(*run[T])) }
func (m *merge[T]) Pop() any {
	last := (*m)[len(*m)-1]
	*m = (*m)[:len(*m)-1]
	return last
}

func (m merge[T]) run(yield func(Sorted[T], error) bool) error {
	var going merge[T]
	for _, r := range m {
		head, err := r.next()
		if err == io.EOF {
			continue
		}
		if err != nil {
			return err
		}
		r.head = head
		going = append(going, r)
	}
	heap.Init(&going)
	for len(going) > 0 {
		first := going[0]
		if !yield(Sorted[T]{first.head.Key, first.head.Value}, nil) {
			return nil
		}
		head, err := first.next()
		switch {
		case err == io.EOF:
			heap.Pop(&going)
		case err != nil:
			return err
		default:
			first.head = head
			heap.Fix(&going, 0)
		}
	}
	return nil
}
