package webdav

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"deftheron/core/store"
)

// Open implements store.Store. The revision is that of the answer: what is read
// is one content, be the file replaced meanwhile or not.
func (a *account) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	if err := checkPlace(reading.Place); err != nil {
		return nil, store.Errorf(store.ErrNotFound, "%s: %w", reading.Place, err)
	}
	header := http.Header{"Accept-Encoding": {"identity"}}
	ranged := reading.Offset > 0 || reading.Length > 0
	if ranged {
		last := ""
		if reading.Length > 0 {
			last = strconv.FormatInt(reading.Offset+reading.Length-1, 10)
		}
		header.Set("Range", fmt.Sprintf("bytes=%d-%s", reading.Offset, last))
	}
	answer, err := a.send(ctx, request{method: http.MethodGet, url: a.urlOfPlace(reading.Place), header: header})
	if err != nil {
		return nil, doing("read", reading.Place.String(), a.locked(ctx, reading.Place, a.urlOfPlace(reading.Place), err))
	}
	body := &reader{body: answer.Body, place: reading.Place, left: answer.ContentLength, size: answer.ContentLength}
	if err := a.expected(reading, answer); err != nil {
		answer.Body.Close()
		return nil, err
	}
	if ranged && answer.StatusCode == http.StatusOK { // the server knows no ranges
		if err := body.skip(reading.Offset, reading.Length); err != nil {
			answer.Body.Close()
			return nil, err
		}
	}
	return body, nil
}

// expected holds an answer to the revision and the range that were asked for.
func (a *account) expected(reading store.Reading, answer *http.Response) error {
	size := answer.ContentLength
	if answer.StatusCode == http.StatusPartialContent {
		var first, last int64
		var whole string
		if _, err := fmt.Sscanf(answer.Header.Get("Content-Range"), "bytes %d-%d/%s", &first, &last, &whole); err != nil ||
			first != reading.Offset {
			return store.Errorf(store.ErrRefused, "the server answered with the range %q of %s, which was not asked for",
				answer.Header.Get("Content-Range"), reading.Place)
		}
		size, _ = strconv.ParseInt(whole, 10, 64)
	}
	if reading.Revision == "" {
		return nil
	}
	modified, _ := http.ParseTime(strings.TrimSpace(answer.Header.Get("Last-Modified")))
	if revisionOf(answer.Header.Get("ETag"), size, modified) != reading.Revision {
		return store.Errorf(store.ErrChanged, "%s changed in the meantime", reading.Place)
	}
	return nil
}

// reader gives a body that breaks off the error that it deserves.
type reader struct {
	body  io.ReadCloser
	place store.Ref
	size  int64
	left  int64 // -1 where the length is not known
}

// skip passes over what comes before a range and ends with it.
func (r *reader) skip(offset, length int64) error {
	if _, err := io.CopyN(io.Discard, r, offset); err != nil {
		return err
	}
	if length > 0 && (r.left < 0 || length < r.left) {
		r.body = &limited{io.LimitReader(r.body, length), r.body}
		r.left, r.size = length, length
	}
	return nil
}

type limited struct {
	io.Reader
	io.Closer
}

func (r *reader) Read(p []byte) (int, error) {
	n, err := r.body.Read(p)
	if r.left >= 0 {
		r.left = max(0, r.left-int64(n))
	}
	switch {
	case err == io.EOF && r.left > 0:
		err = store.ShortBody(r.size-r.left, r.size)
	case err != nil && err != io.EOF:
		err = doing("read", r.place.String(), store.Transport(err, false))
	}
	return n, err
}

func (r *reader) Close() error { return r.body.Close() }
