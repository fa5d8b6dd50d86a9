package content

import (
	"context"
	"io"
	"strconv"
	"strings"

	"deftheron/core/store"
)

// File is a stored file as http.ServeContent reads it. The store is asked only where it is read, and
// of a range that Begin was told, only for the range. It is for one goroutine.
type File struct {
	ctx     context.Context
	store   store.Store
	reading store.Reading
	size    int64
	at      int64
	body    io.ReadCloser
	opened  int64 // where body is
	counted func(int)
	failed  error
}

// Open returns the file at a place, of a size in bytes; -1 is unknown. counted is called with the
// length of every chunk that was read. Nothing is asked yet. The caller closes the file.
func Open(ctx context.Context, s store.Store, reading store.Reading, size int64, counted func(int)) *File {
	return &File{ctx: ctx, store: s, reading: reading, size: size, counted: counted}
}

// Begin opens the file where a Range header starts, or at its start if the header has no single
// range, so that an error comes before anything is answered.
func (f *File) Begin(header string) error {
	if first, length, ok := oneRange(header, f.size); ok && f.size >= 0 {
		f.at, f.reading.Length = first, length
	}
	return f.open()
}

// Err returns why a read failed; nil if none did.
func (f *File) Err() error { return f.failed }

func (f *File) open() error {
	f.Close()
	reading := f.reading
	reading.Offset = f.at
	if reading.Length > 0 {
		reading.Length = min(reading.Length, f.size-f.at)
	}
	body, err := f.store.Open(f.ctx, reading)
	if err != nil {
		return err
	}
	f.body, f.opened = body, f.at
	if f.at == 0 && reading.Length == 0 && f.size >= 0 {
		// The whole: held to the hash that the store keeps, where it tells one.
		kind := store.HashKind("")
		if told, ok := body.(store.ContentHasher); ok {
			for _, hash := range told.ContentHashes() {
				kind = hash.Kind
			}
		}
		f.body = store.NewStream(body, kind, nil)
	}
	return nil
}

// Read implements io.Reader.
func (f *File) Read(p []byte) (int, error) {
	if f.size >= 0 && f.at >= f.size {
		return 0, io.EOF
	}
	if f.body == nil || f.opened != f.at {
		if err := f.open(); err != nil {
			f.failed = err
			return 0, err
		}
	}
	n, err := f.body.Read(p)
	f.at += int64(n)
	f.opened = f.at
	f.counted(n)
	if err == io.EOF && f.reading.Length > 0 && f.at < f.size {
		// More is wanted than the range that was asked for first.
		f.reading.Length = 0
		return n, f.Close()
	}
	if err != nil && err != io.EOF {
		f.failed = err
	}
	return n, err
}

// Seek implements io.Seeker.
func (f *File) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += f.at
	case io.SeekEnd:
		return f.size + offset, nil // asked for the size alone
	}
	f.at = offset
	return offset, nil
}

// Close closes what is open.
func (f *File) Close() error {
	if f.body == nil {
		return nil
	}
	err := f.body.Close()
	f.body = nil
	return err
}

// oneRange reads a Range header of a single range. Anything else is left to
// ServeContent.
func oneRange(header string, size int64) (first, length int64, ok bool) {
	text, found := strings.CutPrefix(header, "bytes=")
	from, to, dash := strings.Cut(text, "-")
	if !found || !dash || strings.Contains(text, ",") {
		return 0, 0, false
	}
	last := size - 1
	var err error
	if from == "" {
		n, err := strconv.ParseInt(to, 10, 64)
		if err != nil || n <= 0 {
			return 0, 0, false
		}
		return max(0, size-n), min(n, size), true
	}
	if first, err = strconv.ParseInt(from, 10, 64); err != nil || first >= size {
		return 0, 0, false
	}
	if to != "" {
		n, err := strconv.ParseInt(to, 10, 64)
		if err != nil || n < first {
			return 0, 0, false
		}
		last = min(last, n)
	}
	return first, last - first + 1, true
}
