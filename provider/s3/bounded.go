package s3

import (
	"bytes"
	"io"
	"net/http"
	"strings"

	"deftheron/core/store"
)

// largestAnswer is the most bytes of an answer that is not the content of an object: a
// page of a thousand keys of 1024 bytes, escaped, is less.
const largestAnswer = 8 << 20

// bounding bounds what the library holds in memory of an answer.
type bounding struct{ http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (b bounding) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := b.RoundTripper.RoundTrip(request)
	if err == nil && !isContent(request, response) {
		response.Body = &boundedBody{Reader: store.NewBounded(response.Body, largestAnswer), Closer: response.Body, left: mostTags}
	}
	return response, err
}

// isContent reports whether an answer is the content of an object, or of a part of it.
func isContent(request *http.Request, response *http.Response) bool {
	_, key, _ := strings.Cut(strings.TrimPrefix(request.URL.Path, "/"), "/")
	if request.Method != http.MethodGet || key == "" || response.StatusCode != http.StatusOK &&
		response.StatusCode != http.StatusPartialContent {
		return false
	}
	for name := range request.URL.Query() {
		switch name {
		case "versionId", "partNumber", "response-content-type":
		default:
			return false // of what is known about the object
		}
	}
	return true
}

// mostTags is how many tags an answer may have: a page of a thousand objects has about
// thirty thousand. The library allocates a large value for each element, however small.
const mostTags = 100_000

type boundedBody struct {
	io.Reader
	io.Closer
	left int
}

func (b *boundedBody) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if b.left -= bytes.Count(p[:n], []byte("<")); b.left < 0 {
		return 0, store.Errorf(store.ErrRefused, "the server's answer has more than %d tags, and is not read on", mostTags)
	}
	return n, err
}
