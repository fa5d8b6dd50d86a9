// Package plaintext reads the text of documents: plain text, Markdown, CSV and JSON, HTML,
// RTF, e-mail (RFC 5322), PDF, OpenDocument and Office Open XML. [Extract] is for a process that
// may come to harm, as files come from anywhere: it bounds what it writes, and its caller
// bounds memory and time.
package plaintext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// ErrEncrypted says that a file cannot be read without a password, and ErrNoText that it
// holds no text.
var (
	ErrEncrypted = errors.New("the file is encrypted")
	ErrNoText    = errors.New("the file holds no text")
)

// Source is a file that is read.
type Source interface {
	io.Reader
	io.ReaderAt
}

// readers are what reads each kind of file.
var readers = map[string]func(from Source, size int64, to *Text) error{
	".txt": readPlain, ".text": readPlain, ".md": readPlain, ".markdown": readPlain, ".csv": readPlain, ".tsv": readPlain,
	".log": readPlain, ".json": readPlain, ".geojson": readPlain, ".xml": readXML, ".yaml": readPlain, ".yml": readPlain,
	".html": readHTML, ".htm": readHTML, ".xhtml": readHTML, ".rtf": readRTF, ".eml": readMail,
	".pdf": readPDF, ".odt": readOpen, ".ods": readOpen, ".odp": readOpen, ".ott": readOpen, ".odg": readOpen,
	".docx": readOffice, ".xlsx": readOffice, ".pptx": readOffice,
}

// Reads reports whether there is a reader for a file, by its name.
func Reads(name string) bool { return readers[strings.ToLower(path.Ext(name))] != nil }

// Extract writes the text of a file, of at most so many bytes of UTF-8: words with spaces or
// line feeds between them. name is that of the file, whose ending says how it is read.
func Extract(name string, from Source, size int64, to io.Writer, most int) error {
	read := readers[strings.ToLower(path.Ext(name))]
	if read == nil {
		return fmt.Errorf("no text is read from files such as %s", name)
	}
	text := &Text{to: to, left: most}
	if err := read(from, size, text); err != nil && !errors.Is(err, errEnough) {
		return err
	}
	if text.failed != nil {
		return text.failed
	}
	if !text.any {
		return ErrNoText
	}
	return nil
}

// errEnough ends the reading of a file whose text is as long as is asked for.
var errEnough = errors.New("the text is long enough")

// Text takes text, and writes it with single spaces and line feeds.
type Text struct {
	to     io.Writer
	left   int
	space  byte // that stands before what comes next: a space, a line feed, or 0
	any    bool
	failed error
}

// Add adds a piece of text. The error is errEnough if no more is wanted.
func (t *Text) Add(piece string) error {
	var b strings.Builder
	b.Grow(len(piece))
	for _, r := range piece {
		switch {
		case r == '\n':
			t.space = '\n'
		case unicode.IsSpace(r) || unicode.IsControl(r) || r == utf8.RuneError || r == '\ufeff':
			if t.space == 0 {
				t.space = ' '
			}
		default:
			if t.space != 0 && t.any {
				b.WriteByte(t.space)
			}
			b.WriteRune(r)
			t.space, t.any = 0, true
		}
	}
	out := b.String()
	if len(out) > t.left {
		out = out[:t.left]
		for !utf8.ValidString(out[max(0, len(out)-utf8.UTFMax):]) && len(out) > 0 {
			out = out[:len(out)-1]
		}
	}
	if _, t.failed = io.WriteString(t.to, out); t.failed != nil {
		return t.failed
	}
	if t.left -= len(out); t.left <= 0 || len(out) < b.Len() {
		return errEnough
	}
	return nil
}

// Break ends a line.
func (t *Text) Break() error { return t.Add("\n") }

// readPlain reads text in UTF-8, in UTF-16 with a mark, and else in Windows-1252.
func readPlain(from Source, _ int64, to *Text) error {
	buffer := make([]byte, 64<<10)
	n, err := io.ReadFull(from, buffer)
	head := buffer[:n]
	switch {
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}), bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return readUTF16(io.MultiReader(bytes.NewReader(head), from), to)
	case bytes.IndexByte(head, 0) >= 0:
		return errors.New("the file is not text")
	}
	latin := !isUTF8(head, err == nil)
	var rest []byte
	for {
		chunk := append(rest, buffer[:n]...)
		rest = nil
		if !latin {
			chunk, rest = wholeRunes(chunk)
		}
		if added := to.Add(decoded(chunk, latin)); added != nil {
			return added
		}
		if err != nil {
			break
		}
		n, err = io.ReadFull(from, buffer)
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return to.Add(string(rest))
	}
	return err
}

func decoded(chunk []byte, latin bool) string {
	if !latin {
		return string(chunk)
	}
	text, err := charmap.Windows1252.NewDecoder().Bytes(chunk)
	if err != nil {
		return ""
	}
	return string(text)
}

// isUTF8 reports whether text is UTF-8, if it was cut but for its end.
func isUTF8(text []byte, cut bool) bool {
	if cut {
		text, _ = wholeRunes(text)
	}
	return utf8.Valid(text)
}

// wholeRunes splits off what a chunk was cut in.
func wholeRunes(chunk []byte) (whole, rest []byte) {
	for back := 1; back <= min(utf8.UTFMax-1, len(chunk)); back++ {
		if at := len(chunk) - back; utf8.RuneStart(chunk[at]) {
			if !utf8.FullRune(chunk[at:]) {
				return chunk[:at], bytes.Clone(chunk[at:])
			}
			break
		}
	}
	return chunk, nil
}

func readUTF16(from io.Reader, to *Text) error {
	buffer := make([]byte, 64<<10)
	var big bool
	for first := true; ; first = false {
		n, err := io.ReadFull(from, buffer)
		if first {
			big = n > 0 && buffer[0] == 0xfe
		}
		units := make([]uint16, n/2)
		for i := range units {
			if big {
				units[i] = uint16(buffer[2*i])<<8 | uint16(buffer[2*i+1])
			} else {
				units[i] = uint16(buffer[2*i+1])<<8 | uint16(buffer[2*i])
			}
		}
		if added := to.Add(string(utf16.Decode(units))); added != nil {
			return added
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
