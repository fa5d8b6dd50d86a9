package s3

import (
	"bytes"
	"context"
	"encoding/xml"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/s3utils"

	"deftheron/core/store"
)

// listing is one page of a listing.
type listing struct {
	Objects  []listed `xml:"Contents"`
	Prefixes []prefix `xml:"CommonPrefixes"`
	More     bool     `xml:"IsTruncated"`
	Next     string   `xml:"NextContinuationToken"`
	Encoding string   `xml:"EncodingType"`
}

// listed is an object in a listing.
type listed struct {
	Key      string
	ETag     string
	Size     int64
	Modified time.Time `xml:"LastModified"`
}

type prefix struct {
	Prefix string
}

// pageBuffers are what pages are read into.
var pageBuffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// page lists one page below a prefix.
func (a *account) page(ctx context.Context, below, token, delimiter string, most int) (listing, error) {
	query := url.Values{
		"list-type": {"2"}, "encoding-type": {"url"}, "prefix": {below}, "delimiter": {delimiter}, "max-keys": {strconv.Itoa(most)},
	}
	if token != "" {
		query.Set("continuation-token", token)
	}
	response, ok, err := a.send(ctx, request{method: http.MethodGet, query: s3utils.QueryEncode(query)})
	if !ok {
		return a.pageElsewhere(ctx, below, token, delimiter, most)
	}
	if err != nil {
		return listing{}, wrap("list /"+below, err, false)
	}
	defer response.Body.Close()
	buffer := pageBuffers.Get().(*bytes.Buffer)
	defer pageBuffers.Put(buffer)
	buffer.Reset()
	if _, err := buffer.ReadFrom(response.Body); err != nil {
		return listing{}, wrap("list /"+below, err, false)
	}
	page, err := parseListing(buffer.Bytes())
	if err != nil {
		return page, store.Errorf(store.ErrTryAgain, "the listing of /%s is not what the protocol asks for: %w", below, err)
	}
	return page, nil
}

// pageElsewhere lists by the library, which follows where the server sends it. Its call
// for a single page takes no context, so it is given a client of its own whose requests
// carry it.
func (a *account) pageElsewhere(ctx context.Context, below, token, delimiter string, most int) (listing, error) {
	options := a.options
	options.Transport = bound{ctx, a.options.Transport}
	core, err := minio.NewCore(a.endpoint.Host, &options)
	if err != nil {
		return listing{}, err
	}
	result, err := core.ListObjectsV2(a.bucket, below, "", token, delimiter, most)
	if ctx.Err() != nil {
		return listing{}, ctx.Err()
	}
	page := listing{More: result.IsTruncated, Next: result.NextContinuationToken}
	for _, object := range result.Contents {
		page.Objects = append(page.Objects, listed{object.Key, object.ETag, object.Size, object.LastModified})
	}
	for _, one := range result.CommonPrefixes {
		page.Prefixes = append(page.Prefixes, prefix(one))
	}
	return page, wrap("list /"+below, err, false)
}

type bound struct {
	ctx  context.Context
	base http.RoundTripper
}

func (b bound) RoundTrip(request *http.Request) (*http.Response, error) {
	return b.base.RoundTrip(request.WithContext(b.ctx))
}

// parseListing parses a page as servers commonly write it, and any other by the standard
// library, which takes ten times as long.
func parseListing(data []byte) (listing, error) {
	page, ok := parsePlain(data)
	if !ok {
		page = listing{}
		if err := xml.Unmarshal(data, &page); err != nil {
			return listing{}, err
		}
	}
	if page.Encoding != "url" {
		return page, nil
	}
	for i := range page.Objects {
		if err := unescape(&page.Objects[i].Key); err != nil {
			return listing{}, err
		}
	}
	for i := range page.Prefixes {
		if err := unescape(&page.Prefixes[i].Prefix); err != nil {
			return listing{}, err
		}
	}
	return page, nil
}

func unescape(name *string) error {
	if !strings.ContainsAny(*name, "%+") {
		return nil
	}
	plain, err := url.QueryUnescape(*name)
	*name = plain
	return err
}

// parsePlain parses a page of elements and text, with attributes only at the first. It
// returns false for a page with anything else, and for one that is not well formed.
func parsePlain(data []byte) (page listing, ok bool) {
	if !utf8.Valid(data) || bytes.Contains(data, []byte("<!")) {
		return page, false
	}
	s := &scanner{data: data}
	if !s.open() {
		return page, false
	}
	for s.next() {
		switch s.name {
		case "Contents":
			page.Objects = append(page.Objects, listed{})
			s.object(&page.Objects[len(page.Objects)-1])
		case "CommonPrefixes":
			page.Prefixes = append(page.Prefixes, prefix{})
			s.prefix(&page.Prefixes[len(page.Prefixes)-1])
		case "IsTruncated":
			text := s.text()
			page.More = text == "true"
			s.failed = s.failed || text != "true" && text != "false"
		case "NextContinuationToken":
			page.Next = s.text()
		case "EncodingType":
			page.Encoding = s.text()
		default:
			s.skip()
		}
	}
	return page, !s.failed && len(bytes.TrimSpace(s.data)) == 0
}

func (s *scanner) object(object *listed) {
	for s.next() {
		switch s.name {
		case "Key":
			object.Key = s.text()
		case "ETag":
			object.ETag = s.text()
		case "Size":
			size, err := strconv.ParseInt(s.text(), 10, 64)
			object.Size = size
			s.failed = s.failed || err != nil
		case "LastModified":
			at, err := time.Parse(time.RFC3339, s.text())
			object.Modified = at.Truncate(time.Millisecond)
			s.failed = s.failed || err != nil
		default:
			s.skip()
		}
	}
}

func (s *scanner) prefix(one *prefix) {
	for s.next() {
		if s.name == "Prefix" {
			one.Prefix = s.text()
		} else {
			s.skip()
		}
	}
}

// scanner goes through elements that have no attributes.
type scanner struct {
	data   []byte
	name   string // of the element that next has come to
	empty  bool   // it was closed at once
	within []string
	failed bool
}

// beginning is how the first element of a page begins.
var beginning = regexp.MustCompile(`^(<\?xml version="1\.0"( encoding="(UTF|utf)-8")?( standalone="(yes|no)")? ?\?>)?\s*<ListBucketResult( [a-z]+(:[a-z]+)?="[^"<>&\x00-\x1f]*")*>`)

// open goes into the first element.
func (s *scanner) open() bool {
	found := beginning.Find(s.data)
	s.data, s.within = s.data[len(found):], append(s.within, "ListBucketResult")
	return found != nil
}

// next goes into the next element of the one that the scanner is in; false at its end,
// which is passed, or where something is wrong.
func (s *scanner) next() bool {
	if s.failed {
		return false
	}
	if s.empty { // the one that it is in
		s.leave()
		return false
	}
	s.data = bytes.TrimLeft(s.data, " \t\r\n")
	end := bytes.IndexByte(s.data, '>')
	if end < 2 || s.data[0] != '<' {
		s.failed = true
		return false
	}
	tag := s.data[1:end]
	if tag[0] == '/' {
		s.end()
		return false
	}
	if tag[len(tag)-1] == '/' {
		s.empty, tag = true, tag[:len(tag)-1]
	}
	for _, c := range tag {
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') {
			s.failed = true
			return false
		}
	}
	if s.failed = len(tag) == 0 || tag[0] <= '9' || len(s.within) > 8; s.failed {
		return false
	}
	s.name = string(tag)
	s.within, s.data = append(s.within, s.name), s.data[end+1:]
	return true
}

// end passes the end of the element that the scanner is in.
func (s *scanner) end() {
	end := bytes.IndexByte(s.data, '>')
	if end < 2 || string(s.data[:2]) != "</" || string(s.data[2:end]) != s.within[len(s.within)-1] {
		s.failed = true
		return
	}
	s.data = s.data[end+1:]
	s.leave()
}

func (s *scanner) leave() {
	s.within, s.empty = s.within[:len(s.within)-1], false
}

// text returns the text of an element that holds nothing else, and skips the element.
func (s *scanner) text() string {
	switch {
	case s.failed:
		return ""
	case s.empty:
		s.leave()
		return ""
	}
	end := bytes.IndexByte(s.data, '<')
	if end < 0 {
		s.failed = true
		return ""
	}
	raw := s.data[:end]
	s.data = s.data[end:]
	s.end()
	for _, c := range raw {
		if c < ' ' || c == '>' { // line ends mean something of their own
			s.failed = true
			return ""
		}
	}
	if bytes.IndexByte(raw, '&') < 0 {
		return string(raw)
	}
	text := string(raw)
	for _, one := range entities {
		text = strings.ReplaceAll(text, one[0], one[1])
	}
	if strings.Contains(text, "&") {
		s.failed = true
		return ""
	}
	return strings.ReplaceAll(text, ampersand, "&")
}

// ampersand stands for one while a text is not whole; nothing that is allowed has it.
const ampersand = "\x00"

var entities = [][2]string{{"&amp;", ampersand}, {"&lt;", "<"}, {"&gt;", ">"}, {"&quot;", `"`}, {"&#34;", `"`}, {"&apos;", "'"},
	{"&#39;", "'"}}

// skip passes an element with all that is in it.
func (s *scanner) skip() {
	inside := bytes.TrimLeft(s.data, " \t\r\n")
	if !s.empty && len(inside) > 0 && inside[0] != '<' {
		s.text()
		return
	}
	for s.next() {
		s.skip()
	}
}
