package plaintext

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

const (
	mostPacked   = 10_000    // files of an archive
	mostUnpacked = 256 << 20 // bytes of XML of one document that are read
	oleMagic     = "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
	encryption   = "http://www.w3.org/2001/04/xmlenc#"
	manifestName = "META-INF/manifest.xml"
)

// unpack opens an archive. An Office file with a password is not one, but a compound file.
func unpack(from Source, size int64) (*zip.Reader, error) {
	head := make([]byte, len(oleMagic))
	if _, err := from.ReadAt(head, 0); err == nil && string(head) == oleMagic {
		return nil, ErrEncrypted
	}
	archive, err := zip.NewReader(from, size)
	if err != nil {
		return nil, fmt.Errorf("the file is damaged: %w", err)
	}
	if len(archive.File) > mostPacked {
		return nil, fmt.Errorf("the file holds more than %d parts", mostPacked)
	}
	return archive, nil
}

// unpacking counts what is unpacked, over all parts of a document.
type unpacking struct{ left int64 }

var errBomb = errors.New("the file unpacks to more than 256 MiB")

// open opens a part.
func (u *unpacking) open(file *zip.File) (io.ReadCloser, error) {
	if file.Flags&1 != 0 {
		return nil, ErrEncrypted
	}
	body, err := file.Open()
	if err != nil {
		return nil, err
	}
	return &counted{ReadCloser: body, of: u}, nil
}

type counted struct {
	io.ReadCloser
	of *unpacking
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	if c.of.left -= int64(n); c.of.left < 0 {
		return 0, errBomb
	}
	return n, err
}

// part reads the text of one part.
func (u *unpacking) part(file *zip.File, to *Text, within map[string]bool) error {
	body, err := u.open(file)
	if err != nil {
		return err
	}
	defer body.Close()
	if err := xmlText(body, to, within); err != nil {
		return err
	}
	return to.Break()
}

// readOpen reads a document of OpenDocument (ISO/IEC 26300): its content, and its title.
func readOpen(from Source, size int64, to *Text) error {
	archive, err := unpack(from, size)
	if err != nil {
		return err
	}
	u := &unpacking{left: mostUnpacked}
	for _, file := range archive.File {
		if file.Name != manifestName {
			continue
		}
		body, err := u.open(file)
		if err != nil {
			return err
		}
		manifest, err := io.ReadAll(io.LimitReader(body, 4<<20))
		body.Close()
		if err != nil {
			return err
		}
		if bytes.Contains(manifest, []byte("encryption-data")) || bytes.Contains(manifest, []byte(encryption)) {
			return ErrEncrypted
		}
	}
	found := false
	for _, name := range []string{"meta.xml", "content.xml"} {
		i := slices.IndexFunc(archive.File, func(file *zip.File) bool { return file.Name == name })
		if i < 0 {
			continue
		}
		found = found || name == "content.xml"
		within := map[string]bool{"body": true}
		if name == "meta.xml" {
			within = map[string]bool{"title": true, "subject": true, "keyword": true, "description": true}
		}
		if err := u.part(archive.File[i], to, within); err != nil {
			return err
		}
	}
	if !found {
		return errors.New("the file is not a document: it has no content")
	}
	return nil
}

// officeParts are the parts of Office Open XML (ISO/IEC 29500) that hold text.
var officeParts = regexp.MustCompile(`^(word/(document|footnotes|endnotes|comments|header\d*|footer\d*)\.xml|xl/(sharedStrings|comments\d*)\.xml|` +
	`xl/worksheets/sheet\d+\.xml|ppt/(slides/slide|notesSlides/notesSlide)\d+\.xml|docProps/core\.xml)$`)

func readOffice(from Source, size int64, to *Text) error {
	archive, err := unpack(from, size)
	if err != nil {
		return err
	}
	var parts []*zip.File
	for _, file := range archive.File {
		if officeParts.MatchString(file.Name) {
			parts = append(parts, file)
		}
	}
	if len(parts) == 0 {
		return errors.New("the file is not a document: it has no content")
	}
	slices.SortFunc(parts, func(a, b *zip.File) int {
		if len(a.Name) != len(b.Name) && strings.TrimRight(a.Name, "0123456789.xml") == strings.TrimRight(b.Name, "0123456789.xml") {
			return len(a.Name) - len(b.Name)
		}
		return strings.Compare(a.Name, b.Name)
	})
	u := &unpacking{left: mostUnpacked}
	for _, file := range parts {
		within := map[string]bool{"t": true}
		if strings.HasPrefix(file.Name, "docProps/") {
			within = map[string]bool{"title": true, "subject": true, "keywords": true, "description": true}
		}
		if strings.HasPrefix(file.Name, "xl/worksheets/") {
			within = map[string]bool{"is": true} // other cells hold numbers, or refer to the shared strings
		}
		if err := u.part(file, to, within); err != nil {
			return err
		}
	}
	return nil
}
