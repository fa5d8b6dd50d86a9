package bench

import (
	"crypto/md5"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
)

// synthetic is an object store of made-up listings: each bucket holds the same
// entries below "all/", of perFolder to a folder (0: all in one), which are computed as they are asked for.
// Other objects, such as those by which it is found out what it can do, are kept.
type synthetic struct {
	entries, perFolder int

	mu     sync.Mutex
	others map[string][]byte // by path
}

func (s *synthetic) key(i int) string {
	if s.perFolder == 0 {
		return fmt.Sprintf("all/file %07d.csv", i)
	}
	return fmt.Sprintf("all/folder %04d/file %07d.csv", i/s.perFolder, i)
}

// revision of every object's number, as both buckets hold the same.
func (s *synthetic) revision(i int) string { return fmt.Sprintf("%032x", i) }

func startSynthetic(t *testing.T, entries, perFolder int) (*synthetic, string) {
	t.Helper()
	s := &synthetic{entries: entries, perFolder: perFolder, others: map[string][]byte{}}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	return s, server.URL
}

// ServeHTTP implements http.Handler.
func (s *synthetic) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	switch {
	case bucket == "":
		io.WriteString(w, `<ListAllMyBucketsResult></ListAllMyBucketsResult>`)
	case key == "" && query.Has("location"):
		io.WriteString(w, `<LocationConstraint>us-east-1</LocationConstraint>`)
	case key == "" && r.Method == http.MethodGet:
		s.list(w, bucket, query.Get("prefix"), query.Get("delimiter"), query.Get("continuation-token"), query.Get("start-after"),
			query.Get("max-keys"))
	case key == "":
	default:
		s.object(w, r, bucket+"/"+key)
	}
}

func (s *synthetic) object(w http.ResponseWriter, r *http.Request, path string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	data, there := s.others[path]
	fail := func(status int, code string) {
		w.WriteHeader(status)
		fmt.Fprintf(w, "<Error><Code>%s</Code></Error>", code)
	}
	switch r.Method {
	case http.MethodPut:
		if r.Header.Get("If-None-Match") == "*" && there || r.Header.Get("If-Match") != "" {
			fail(http.StatusPreconditionFailed, "PreconditionFailed")
			return
		}
		data, _ = io.ReadAll(r.Body)
		if r.Header.Get("X-Amz-Checksum-Crc64nvme") != "" { // it cannot check those
			fail(http.StatusNotImplemented, "NotImplemented")
			return
		}
		sum := md5.Sum(data)
		s.others[path] = data
		w.Header().Set("ETag", `"`+hex.EncodeToString(sum[:])+`"`)
	case http.MethodDelete:
		delete(s.others, path)
		w.WriteHeader(http.StatusNoContent)
	default:
		if !there {
			fail(http.StatusNotFound, "NoSuchKey")
			return
		}
		w.Header().Set("Last-Modified", "Mon, 01 Jun 2026 00:00:00 GMT")
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		if r.Method == http.MethodGet {
			w.Write(data)
		}
	}
}

// list answers ListObjectsV2.
func (s *synthetic) list(w http.ResponseWriter, bucket, prefix, delimiter, token, after, most string) {
	begin, _ := strconv.Atoi(token)
	limit, err := strconv.Atoi(most)
	if err != nil {
		limit = 1000
	}
	var b strings.Builder
	n, next := 0, -1
	common := ""
	for i := begin; i < s.entries && strings.HasPrefix("all/", prefix[:min(len(prefix), 4)]); i++ {
		key := s.key(i)
		if !strings.HasPrefix(key, prefix) {
			if key > prefix && n > 0 {
				break
			}
			if s.perFolder > 0 { // the rest of that folder does not match either
				i += s.perFolder - i%s.perFolder - 1
			}
			continue
		}
		if key <= after {
			continue
		}
		if n == limit {
			next = i
			break
		}
		if cut := strings.IndexByte(key[len(prefix):], '/'); delimiter == "/" && cut >= 0 {
			if folder := key[:len(prefix)+cut+1]; folder != common {
				common = folder
				b.WriteString("<CommonPrefixes><Prefix>" + folder + "</Prefix></CommonPrefixes>")
				n++
			}
			if s.perFolder > 0 && prefix == "all/" {
				i += s.perFolder - i%s.perFolder - 1
			} else {
				i = s.entries
			}
			continue
		}
		b.WriteString(`<Contents><Key>` + key + `</Key><LastModified>2026-06-01T00:00:00.000Z</LastModified><ETag>&#34;` + s.revision(i) +
			`&#34;</ETag><Size>4096</Size><StorageClass>STANDARD</StorageClass></Contents>`)
		n++
	}
	w.Header().Set("Content-Type", "application/xml")
	fmt.Fprintf(w, `%s<ListBucketResult><Name>%s</Name><Prefix>%s</Prefix><KeyCount>%d</KeyCount><MaxKeys>%d</MaxKeys><IsTruncated>%v</IsTruncated><NextContinuationToken>%d</NextContinuationToken>%s</ListBucketResult>`,
		xml.Header, bucket, prefix, n, limit, next >= 0, next, b.String())
}
