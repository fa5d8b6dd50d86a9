package sealed

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"iter"

	"github.com/zeebo/blake3"
	"golang.org/x/crypto/chacha20poly1305"

	"deftheron/core/store"
)

// segment is one file of a folder's manifest, sorted by key: an age file of JSON Lines, of
// which the first is a head and the last a tail. The lines between say what the names in
// the folder have become since the segments before.
type segment struct {
	head
	mac     string
	entries int
	piece   *piece // as it is at the provider
	begins  int64  // where the payload begins in it
	plain   int64  // bytes, opened
	payload payload
}

// longestLine is how long a line may be: a name of the longest with all that belongs to it.
const longestLine = 1 << 20

// segmentReader reads a segment, opened, from an offset on.
type segmentReader struct {
	of     *segment
	offset int64
	chunk  []byte // opened; the rest from offset on
	buffer []byte
}

func (s *segment) from(offset int64) *segmentReader { return &segmentReader{of: s, offset: offset} }

// Read implements io.Reader.
func (r *segmentReader) Read(p []byte) (int, error) {
	if len(r.chunk) == 0 {
		if r.offset >= r.of.plain {
			return 0, io.EOF
		}
		number := r.offset / chunkSize
		length := min(chunkSize, r.of.plain-number*chunkSize)
		if int64(cap(r.buffer)) < length+chacha20poly1305.Overhead {
			r.buffer = make([]byte, length+chacha20poly1305.Overhead)
		}
		sealed := r.buffer[:length+chacha20poly1305.Overhead]
		if _, err := r.of.piece.ReadAt(sealed, r.of.begins+number*sealedChunk); err != nil {
			return 0, fmt.Errorf("failed to read a scratch file: %w", err)
		}
		plain, err := r.of.payload.open(number, number == (r.of.plain-1)/chunkSize, sealed)
		if err != nil {
			return 0, err
		}
		r.chunk = plain[r.offset-number*chunkSize:]
	}
	n := copy(p, r.chunk)
	r.chunk, r.offset = r.chunk[n:], r.offset+int64(n)
	return n, nil
}

// at returns the entry whose line begins at an offset.
func (s *segment) at(offset int64) (*entry, error) {
	line, err := bufio.NewReaderSize(s.from(offset), 4<<10).ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		line, err = bufio.NewReaderSize(s.from(offset), longestLine).ReadSlice('\n')
	}
	if err != nil {
		return nil, fmt.Errorf("failed to read an entry of a manifest: %w", err)
	}
	return parseEntry(line)
}

// all yields the entries.
func (s *segment) all() iter.Seq2[*entry, error] {
	return func(yield func(*entry, error) bool) {
		for line, err := range s.lines() {
			if err != nil {
				yield(nil, err)
				return
			}
			one, err := parseEntry(line.text)
			if !yield(one, err) || err != nil {
				return
			}
		}
	}
}

type line struct {
	text   []byte // valid until the next one
	offset int64
}

// lines yields the lines between the first and the last.
func (s *segment) lines() iter.Seq2[line, error] {
	return func(yield func(line, error) bool) {
		reader := bufio.NewReaderSize(s.from(0), 4<<10)
		var offset int64
		var long []byte
		for number := 0; ; number++ {
			begin := offset
			text, err := reader.ReadSlice('\n')
			offset += int64(len(text))
			for long = long[:0]; errors.Is(err, bufio.ErrBufferFull); offset += int64(len(text)) {
				long = append(long, text...)
				if len(long) > longestLine {
					break
				}
				text, err = reader.ReadSlice('\n')
			}
			if len(long) > 0 {
				long = append(long, text...)
				text = long
			}
			if err != nil {
				yield(line{}, fmt.Errorf("failed to read a line of a manifest: %w", err))
				return
			}
			if bytes.HasPrefix(text, tailBegins) || number > 0 && !yield(line{text, begin}, nil) {
				return
			}
		}
	}
}

// check reads a segment that came from the provider to its end: that it is what the place
// wrote, whole, at this number of this folder.
func (s *segment) check(secret []byte, folder string, number int) error {
	mac, err := blake3.NewKeyed(secret)
	if err != nil {
		return err
	}
	reader := bufio.NewReaderSize(s.from(0), 64<<10)
	read := func() ([]byte, error) {
		var text []byte
		for {
			part, err := reader.ReadSlice('\n')
			text = append(text, part...)
			if !errors.Is(err, bufio.ErrBufferFull) || len(text) > longestLine {
				return text, err
			}
		}
	}
	first, err := read()
	if err != nil {
		return fmt.Errorf("it has no first line: %w", err)
	}
	if err := json.Unmarshal(first, &s.head); err != nil {
		return fmt.Errorf("its first line is damaged: %w", err)
	}
	if s.Folder != folder || s.Number != number || s.From < 1 || s.From > s.Number {
		return fmt.Errorf("it is segment %d of the folder %s", s.Number, s.Folder)
	}
	last := first
	for s.entries = -1; !bytes.HasPrefix(last, tailBegins); s.entries++ {
		_, _ = mac.Write(last) // which never fails
		if last, err = read(); err != nil {
			return fmt.Errorf("it has no last line: %w", err)
		}
	}
	var end tail
	if err := json.Unmarshal(last, &end); err != nil || end.MAC != hex.EncodeToString(mac.Sum(nil)) {
		return errors.New("it was not written by this place")
	}
	if _, err := reader.ReadByte(); err == nil {
		return errors.New("something follows its last line")
	}
	s.mac = end.MAC
	return nil
}

// segmentWriter writes a segment into a scratch file.
type segmentWriter struct {
	made    *segment
	done    func()
	chunk   []byte
	number  int64
	mac     hash.Hash
	written int64 // bytes, opened
	sealed  []byte
}

// newSegment begins one. done has to be called at the end, also after an error.
func (p *Place) newSegment(begin head) (*segmentWriter, error) {
	keys, set := p.sealedTo()
	begin.For = set
	seal, err := keys.newSeal(nil)
	if err != nil {
		return nil, err
	}
	with, err := seal.payload()
	if err != nil {
		return nil, err
	}
	mac, err := blake3.NewKeyed(p.secret)
	if err != nil {
		return nil, err
	}
	files, err := p.scratchFile()
	if err != nil {
		return nil, err
	}
	at, done := files.append()
	w := &segmentWriter{
		made: &segment{head: begin, piece: at, begins: int64(len(seal.start)), payload: with},
		done: done, mac: mac,
	}
	if _, err := at.Write(seal.start); err != nil {
		done()
		return nil, err
	}
	if _, err := w.line(begin); err != nil {
		done()
		return nil, err
	}
	return w, nil
}

// add writes an entry, and returns where its line begins.
func (w *segmentWriter) add(one *entry) (offset int64, err error) {
	w.made.entries++
	return w.line(one)
}

func (w *segmentWriter) line(value any) (offset int64, err error) {
	text, err := json.Marshal(value)
	if err != nil {
		return 0, err
	}
	text = append(text, '\n')
	w.mac.Write(text)
	offset = w.written
	return offset, w.write(text)
}

func (w *segmentWriter) write(text []byte) error {
	w.written += int64(len(text))
	for len(text) > 0 {
		if len(w.chunk) == chunkSize {
			if err := w.flush(false); err != nil {
				return err
			}
		}
		take := min(len(text), chunkSize-len(w.chunk))
		w.chunk = append(w.chunk, text[:take]...)
		text = text[take:]
	}
	return nil
}

func (w *segmentWriter) flush(last bool) error {
	w.sealed = w.made.payload.seal(w.sealed[:0], w.number, last, w.chunk)
	w.number++
	w.chunk = w.chunk[:0]
	_, err := w.made.piece.Write(w.sealed)
	return err
}

// end writes the last line, and returns the segment.
func (w *segmentWriter) end() (*segment, error) {
	w.made.mac = hex.EncodeToString(w.mac.Sum(nil))
	text, err := json.Marshal(tail{w.made.mac})
	if err != nil {
		return nil, err
	}
	if err := w.write(append(text, '\n')); err != nil {
		return nil, err
	}
	w.made.plain = w.written
	return w.made, w.flush(true)
}

// largestSegment is how large a segment may be, in bytes.
const largestSegment = 1 << 36

// readSegment reads a whole segment of a size from the provider, and checks that it was not
// changed.
func (p *Place) readSegment(body io.Reader, size int64, folder string, number int) (*segment, error) {
	if size < 0 || size > largestSegment {
		return nil, corrupt{fmt.Errorf("it has %d bytes", size)}
	}
	files, err := p.scratchFile()
	if err != nil {
		return nil, err
	}
	at := files.reserve(size)
	if _, err := io.Copy(at, io.LimitReader(body, size)); err != nil {
		return nil, err
	}
	if at.size < size {
		return nil, store.ShortBody(at.size, size)
	}
	start := make([]byte, min(at.size, longestStart))
	if _, err := at.ReadAt(start, 0); err != nil {
		return nil, fmt.Errorf("failed to read a scratch file: %w", err)
	}
	seal, err := p.keys.openSeal(start)
	if err != nil {
		return nil, corrupt{err}
	}
	with, err := seal.payload()
	if err != nil {
		return nil, err
	}
	made := &segment{piece: at, begins: int64(len(seal.start)), payload: with}
	var ok bool
	if made.plain, ok = plainSize(at.size - made.begins); !ok {
		return nil, corrupt{errors.New("it was cut off")}
	}
	if err := made.check(p.secret, folder, number); err != nil {
		return nil, corrupt{err}
	}
	return made, nil
}

// longestStart is how long the header of an age file may be here: some hundred recipients.
const longestStart = 64 << 10

// corrupt marks the error of a segment that was changed.
type corrupt struct{ error }

func (c corrupt) Unwrap() error { return c.error }
