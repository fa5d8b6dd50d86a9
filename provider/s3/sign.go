package s3

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// signer signs requests by version 4 of the protocol's signature. What is derived from
// the secret holds for a day, and is kept.
//
// The bodies are not part of the signature: a checksum in a header that is signed says
// more, and costs no second hash.
type signer struct {
	key, secret, region string

	mu      sync.Mutex
	day     string
	derived *sync.Pool // of hash.Hash, keyed with what was derived for the day
}

// unsignedBody stands in a signature in place of the hash of a body.
const unsignedBody = "UNSIGNED-PAYLOAD"

// sign adds what a request is signed with, of which path is the path as it is escaped. All
// its headers are signed.
func (s *signer) sign(request *http.Request, path string, now time.Time) {
	at := now.UTC().Format("20060102T150405Z")
	request.Header["X-Amz-Date"] = []string{at}
	request.Header["X-Amz-Content-Sha256"] = []string{unsignedBody}

	headers := make([][2]string, 0, 8)
	headers = append(headers, [2]string{"host", request.Host})
	for name, values := range request.Header {
		headers = append(headers, [2]string{strings.ToLower(name), strings.TrimSpace(values[0])})
	}
	slices.SortFunc(headers, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
	signed := make([]byte, 0, 128)
	for _, header := range headers {
		signed = append(append(signed, header[0]...), ';')
	}
	signed = signed[:len(signed)-1]

	canonical := make([]byte, 0, 768)
	canonical = append(append(append(canonical, request.Method...), '\n'), path...)
	canonical = append(append(append(canonical, '\n'), request.URL.RawQuery...), '\n')
	for _, header := range headers {
		canonical = append(append(append(append(canonical, header[0]...), ':'), header[1]...), '\n')
	}
	canonical = append(append(canonical, '\n'), signed...)
	canonical = append(append(canonical, '\n'), unsignedBody...)
	sum := sha256.Sum256(canonical)

	day := at[:8]
	scope := day + "/" + s.region + "/s3/aws4_request"
	text := append(canonical[:0], "AWS4-HMAC-SHA256\n"...)
	text = append(append(append(text, at...), '\n'), scope...)
	text = hex.AppendEncode(append(text, '\n'), sum[:])

	pool := s.derivedFor(day)
	mac := pool.Get().(hash.Hash)
	mac.Reset()
	mac.Write(text)
	signature := hex.EncodeToString(mac.Sum(sum[:0]))
	pool.Put(mac)
	request.Header["Authorization"] = []string{"AWS4-HMAC-SHA256 Credential=" + s.key + "/" + scope + ", SignedHeaders=" + string(signed) +
		", Signature=" + signature}
}

// derivedFor returns hashes that are keyed for a day.
func (s *signer) derivedFor(day string) *sync.Pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.day != day {
		key := []byte("AWS4" + s.secret)
		for _, part := range []string{day, s.region, "s3", "aws4_request"} {
			mac := hmac.New(sha256.New, key)
			mac.Write([]byte(part))
			key = mac.Sum(nil)
		}
		s.day, s.derived = day, &sync.Pool{New: func() any { return hmac.New(sha256.New, key) }}
	}
	return s.derived
}
