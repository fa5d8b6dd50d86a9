package declared

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"deftheron/core/store"
)

// Open implements store.Store.
func (a *account) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	var body io.ReadCloser
	err := a.again(reading.Place.Folder, func() (err error) {
		body, err = a.open(ctx, reading)
		return err
	})
	return body, err
}

func (a *account) open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	d := a.definition.Download
	known := found{Entry: store.Entry{ID: reading.Place.ID, Kind: store.KindFile, Size: -1, Revision: reading.Revision}}
	pathAlone := a.definition.Addressed == "path" || reading.Place.ID != ""
	answers := d.Conditional || d.Revision.Given() // to whether it is that revision
	if !pathAlone || a.definition.Entry.Facts.Given() || reading.Revision == "" || !answers {
		one, err := a.look(ctx, reading.Place)
		switch {
		case err != nil:
			return nil, err
		case one.Kind == store.KindDocument:
			return nil, store.Errorf(store.ErrUnsupported, "%s is a document of the service, and has no bytes to read; it can be exported",
				reading.Place)
		case one.Kind != store.KindFile:
			return nil, store.Errorf(store.ErrNotFound, "%s is not a file", reading.Place)
		case reading.Revision != "" && one.Revision != reading.Revision:
			return nil, store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", reading.Place, one.Revision, reading.Revision)
		}
		known = one
	}
	in, err := a.subject(ctx, reading.Place, known)
	if err != nil {
		return nil, err
	}
	if reading.Revision == "" {
		in["revision"] = nil
	}
	return a.download(ctx, in, reading, known)
}

// download asks for the bytes.
func (a *account) download(ctx context.Context, in scope, reading store.Reading, known found) (io.ReadCloser, error) {
	d := a.definition.Download
	how := doing{stream: true}
	from, last := reading.Offset, int64(-1)
	if reading.Length > 0 {
		last = from + reading.Length - 1
	}
	ranged := from > 0 || last >= 0
	if known.Size >= 0 && from >= known.Size && from > 0 {
		return &body{rest: 0, stream: io.NopCloser(strings.NewReader(""))}, nil
	}
	switch {
	case ranged && (d.Ranges == "" || d.Ranges == "header"):
		value := fmt.Sprintf("bytes=%d-", from)
		if last >= 0 {
			value += strconv.FormatInt(last, 10)
		}
		how.header = http.Header{"Range": {value}}
	case ranged && d.Ranges == "request":
		span := map[string]any{"from": int(from), "last": nil, "length": nil}
		if last >= 0 {
			span["last"], span["length"] = int(last), int(reading.Length)
		}
		in["range"] = span
	}
	got, err := a.do(ctx, "downloading", &d.Operation, in, how)
	if err != nil {
		return nil, err
	}
	response := got.stream
	opened, err := a.checkDownload(ctx, got, in, reading, known)
	if err != nil {
		response.Body.Close()
		return nil, err
	}
	return opened, nil
}

// checkDownload compares an answer with the request.
func (a *account) checkDownload(ctx context.Context, got *answer, in scope, reading store.Reading, known found) (io.ReadCloser, error) {
	d := a.definition.Download
	response := got.stream
	if d.Revision.Given() && reading.Revision != "" {
		value, err := d.Revision.run(ctx, got.input(in), nil)
		if err != nil {
			return nil, err
		}
		if textOf(value) != reading.Revision {
			return nil, store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", reading.Place, textOf(value), reading.Revision)
		}
	}
	skip, whole := int64(0), int64(-1)
	rest := response.ContentLength
	switch {
	case response.StatusCode == http.StatusPartialContent:
		first, total, ok := contentRange(response.Header.Get("Content-Range"))
		if !ok || first != reading.Offset {
			return nil, store.Errorf(store.ErrTryAgain, "asked for the bytes from %d, and got %q", reading.Offset,
				response.Header.Get("Content-Range"))
		}
		whole = total
	case d.Ranges == "request" && (reading.Offset > 0 || reading.Length > 0):
	default:
		skip, whole = reading.Offset, rest
	}
	if known.Size >= 0 {
		if whole >= 0 && whole != known.Size {
			return nil, store.Errorf(store.ErrChanged, "%s is %d bytes long now, not %d", reading.Place, whole, known.Size)
		}
		whole = known.Size
	}
	if whole >= 0 {
		rest = whole - reading.Offset
		if reading.Length > 0 {
			rest = min(rest, reading.Length)
		}
	} else if rest >= 0 {
		rest -= skip
	}
	opened := &body{stream: response.Body, skip: skip, rest: rest, cut: reading.Length > 0}
	if reading.Offset == 0 && reading.Length == 0 {
		opened.told = append(digests(response.Header), known.Hashes...)
	}
	return opened, nil
}

// contentRange reads "bytes 5-9/20" (RFC 9110, section 14.4).
func contentRange(text string) (first, total int64, ok bool) {
	span, whole, _ := strings.Cut(strings.TrimPrefix(text, "bytes "), "/")
	begin, _, _ := strings.Cut(span, "-")
	first, err := strconv.ParseInt(begin, 10, 64)
	if err != nil {
		return 0, 0, false
	}
	total, err = strconv.ParseInt(whole, 10, 64)
	if err != nil {
		total = -1
	}
	return first, total, true
}

// digests reads Repr-Digest (RFC 9530), which is of the whole content.
func digests(header http.Header) store.Hashes {
	var all store.Hashes
	for _, value := range header.Values("Repr-Digest") {
		for _, one := range strings.Split(value, ",") {
			name, digest, _ := strings.Cut(strings.TrimSpace(one), "=")
			kind, ok := map[string]store.HashKind{"sha-256": store.SHA256, "sha-512": store.SHA512, "md5": store.MD5,
				"sha": store.SHA1}[strings.ToLower(name)]
			raw, err := base64.StdEncoding.DecodeString(strings.Trim(digest, ":"))
			if ok && err == nil && len(raw) == kind.New().Size() {
				all = append(all, store.HashOf(kind, raw))
			}
		}
	}
	return all
}

// body is the content of a file. It ends without an error only after the announced
// number of bytes.
type body struct {
	stream io.ReadCloser
	skip   int64
	rest   int64 // -1 is unknown
	got    int64
	cut    bool // what follows was not asked for
	told   store.Hashes
}

// Read implements io.Reader.
func (b *body) Read(p []byte) (int, error) {
	for b.skip > 0 {
		n, err := io.CopyN(io.Discard, b.stream, b.skip)
		b.skip -= n
		if err == io.EOF {
			return 0, store.ShortBody(0, b.rest)
		}
		if err != nil {
			return 0, store.Transport(err, false)
		}
	}
	if b.rest >= 0 && b.got >= b.rest {
		return 0, b.end()
	}
	if b.rest >= 0 {
		p = p[:min(int64(len(p)), b.rest-b.got)]
	}
	n, err := b.stream.Read(p)
	b.got += int64(n)
	switch {
	case err == io.EOF && b.rest >= 0 && b.got < b.rest:
		return n, store.ShortBody(b.got, b.rest)
	case err == io.ErrUnexpectedEOF:
		return n, store.ShortBody(b.got, b.rest)
	case err != nil && err != io.EOF:
		return n, store.Transport(err, false)
	}
	return n, err
}

// end checks that nothing follows the announced number of bytes.
func (b *body) end() error {
	if b.cut {
		return io.EOF
	}
	var one [1]byte
	n, err := b.stream.Read(one[:])
	switch {
	case n > 0:
		return store.Errorf(store.ErrChanged, "the content is longer than the %d bytes it was listed with", b.rest)
	case err == nil || err == io.EOF:
		return io.EOF
	}
	return store.Transport(err, false)
}

// Close implements io.Closer.
func (b *body) Close() error { return b.stream.Close() }

// ContentHashes implements store.ContentHasher.
func (b *body) ContentHashes() store.Hashes { return b.told }

// DocumentKinds implements store.Exporter.
func (a *account) DocumentKinds() []store.DocumentKind {
	if a.definition.Export == nil {
		return nil
	}
	var kinds []store.DocumentKind
	for _, document := range a.definition.Documents {
		kind := store.DocumentKind{Kind: document.Kind, Class: document.Title}
		for _, format := range document.Formats {
			kind.Formats = append(kind.Formats, store.Format(format))
		}
		kinds = append(kinds, kind)
	}
	return kinds
}

// Export implements store.Exporter.
func (a *account) Export(ctx context.Context, place store.Ref, revision, format string) (io.ReadCloser, error) {
	one, err := a.look(ctx, place)
	if err != nil {
		return nil, err
	}
	if one.Kind != store.KindDocument || a.definition.Export == nil {
		return nil, store.Errorf(store.ErrUnsupported, "%s cannot be exported", place)
	}
	if revision != "" && one.Revision != revision {
		return nil, store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", place, one.Revision, revision)
	}
	kind, _ := store.ExportsOf(a, one.Entry)
	for _, known := range kind.Formats {
		if known.Name != format {
			continue
		}
		in, err := a.subject(ctx, place, one)
		if err != nil {
			return nil, err
		}
		in["format"], in["document"] = map[string]any{"name": known.Name, "media": known.Media}, one.Document
		got, err := a.do(ctx, "exporting", a.definition.Export, in, doing{stream: true})
		if err != nil {
			return nil, err
		}
		return &body{stream: got.stream.Body, rest: got.stream.ContentLength}, nil
	}
	return nil, store.Errorf(store.ErrUnsupported, "%s cannot be exported as %q", place, format)
}
