package s3

import (
	"bytes"
	"cmp"
	"context"
	"encoding/xml"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/s3utils"

	"deftheron/core/store"
)

// Objects are listed, and small ones read and written, by requests of our own: what the
// library does for each, most of it the signature, takes as long as the rest of the way
// of a small file.

// request is one for an object as a whole, or for the bucket.
type request struct {
	method  string
	key     string
	query   string      // as it is signed
	headers [][2]string // canonical names; an empty value is left out
	body    []byte
}

// send sends a request. The answer is a success: its body is to be closed. ok is false
// where the server sends to another place, which is the library's to follow.
func (a *account) send(ctx context.Context, r request) (response *http.Response, ok bool, err error) {
	path := "/" + a.bucket + "/" + r.key
	escaped := s3utils.EncodePath(path)
	out := (&http.Request{
		Method: r.method, URL: &url.URL{Scheme: a.endpoint.Scheme, Host: a.endpoint.Host, Path: path, RawPath: escaped, RawQuery: r.query},
		Host:  a.endpoint.Host,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Header: make(http.Header, len(r.headers)+4),
	}).WithContext(ctx)
	for _, header := range r.headers {
		if header[1] != "" {
			out.Header[header[0]] = []string{header[1]}
		}
	}
	a.signer.sign(out, escaped, time.Now())
	out.Header["User-Agent"] = []string{"DeftHeron"}
	out.Header["Accept-Encoding"] = []string{"identity"} // a stored .gz is what is wanted
	if r.method == http.MethodPut {
		out.ContentLength = int64(len(r.body))
		out.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(r.body)), nil }
		out.Body, _ = out.GetBody()
		if len(r.body) == 0 {
			out.Body = http.NoBody
		}
	}
	if response, err = a.options.Transport.RoundTrip(out); err != nil {
		return nil, true, err
	}
	if response.StatusCode == http.StatusOK {
		return response, true, nil
	}
	defer response.Body.Close()
	if response.StatusCode/100 == 3 && response.StatusCode != http.StatusNotModified {
		return nil, false, nil
	}
	return nil, true, a.answered(response, r.key)
}

// answered is the error of an answer, as the library gives it.
func (a *account) answered(response *http.Response, key string) error {
	answer := minio.ErrorResponse{}
	if err := xml.NewDecoder(response.Body).Decode(&answer); err != nil || answer.Code == "" {
		answer = minio.ErrorResponse{Message: response.Status}
		switch response.StatusCode {
		case http.StatusNotFound:
			if answer.Code = minio.NoSuchKey; key == "" {
				answer.Code = minio.NoSuchBucket
			}
		case http.StatusForbidden:
			answer.Code = minio.AccessDenied
		case http.StatusPreconditionFailed:
			answer.Code = minio.PreconditionFailed
		default:
			answer.Code = response.Status
		}
	}
	answer.StatusCode, answer.Server = response.StatusCode, response.Header.Get("Server")
	answer.BucketName, answer.Key = a.bucket, key
	return answer
}

// putSmall writes an object by one request, with the checksum of its content in base64:
// an MD5, a CRC64NVME, or none.
func (a *account) putSmall(ctx context.Context, writing store.Writing, data []byte, md5, crc string) (minio.UploadInfo, error) {
	key, options := a.keyOf(writing.Place), a.putOptions(writing)
	r := request{method: http.MethodPut, key: key, body: data, headers: [][2]string{
		{"Content-Type", cmp.Or(options.ContentType, "application/octet-stream")}, {"Content-Md5", md5}, {"X-Amz-Checksum-Crc64nvme", crc},
	}}
	if revision, ok := writing.If.Expect(); ok {
		r.headers = append(r.headers, [2]string{"If-Match", `"` + revision + `"`})
	} else if writing.If.IsAbsent() {
		r.headers = append(r.headers, [2]string{"If-None-Match", "*"})
	}
	response, ok, err := a.send(ctx, r)
	switch {
	case !ok:
		if crc != "" {
			options.UserMetadata = map[string]string{checksumHeader: crc}
		}
		return a.plain.PutObject(ctx, a.bucket, key, bytes.NewReader(data), int64(len(data)), md5, "", options)
	case err != nil:
		return minio.UploadInfo{}, err
	}
	defer response.Body.Close()
	if _, err := io.Copy(io.Discard, response.Body); err != nil {
		return minio.UploadInfo{}, err
	}
	return minio.UploadInfo{
		ETag: strings.Trim(response.Header.Get("Etag"), `"`), Size: int64(len(data)),
		ChecksumCRC64NVME: response.Header.Get("X-Amz-Checksum-Crc64nvme"), ChecksumMode: response.Header.Get("X-Amz-Checksum-Type"),
	}, nil
}

// getWhole reads an object as a whole. The caller compares the revision: a condition in the request
// would cost the server more than the rare body that is not wanted.
func (a *account) getWhole(ctx context.Context, key string) (io.ReadCloser, minio.ObjectInfo, error) {
	response, ok, err := a.send(ctx, request{method: http.MethodGet, key: key, headers: [][2]string{{"X-Amz-Checksum-Mode", "ENABLED"}}})
	switch {
	case !ok:
		body, info, _, err := a.core.GetObject(ctx, a.bucket, key, minio.GetObjectOptions{Checksum: true})
		return body, info, err
	case err != nil:
		return nil, minio.ObjectInfo{}, err
	}
	return response.Body, minio.ObjectInfo{
		ETag: strings.Trim(response.Header.Get("Etag"), `"`), Size: response.ContentLength,
		ChecksumCRC64NVME: response.Header.Get("X-Amz-Checksum-Crc64nvme"), ChecksumMode: response.Header.Get("X-Amz-Checksum-Type"),
	}, nil
}
