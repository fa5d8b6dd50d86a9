package s3

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net/http"
	"path"
	"strings"

	"github.com/minio/minio-go/v7"

	"deftheron/core/publish"
	"deftheron/core/store"
)

// findings are what the server was found to do.
type findings struct {
	verification store.HashKind // CRC64NVME, MD5 or ""
	etagIsMD5    bool
	conditional  bool // If-Match and If-None-Match on PUT are obeyed
	emptyNames   bool // "a//b" stays what it is
}

func (a *account) found() findings {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.probed == nil {
		return findings{emptyNames: true}
	}
	return *a.probed
}

// Prepare is store.Capabilities.Prepare with a few requests on an object of ours,
// which is removed again: a CRC64NVME that is wrong must be refused, the ETag of
// known bytes must be their MD5, a second creation must be refused, and the
// key without its double slash must not exist.
func (a *account) Prepare(ctx context.Context) error {
	a.mu.Lock()
	done := a.probed != nil
	a.mu.Unlock()
	if done {
		return nil
	}
	found, err := a.probe(ctx)
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.probed = &found
	return nil
}

func (a *account) probe(ctx context.Context) (findings, error) {
	name := publish.NewProbe()
	folded := a.prefix + store.OwnFolder + "/" + name
	key := a.prefix + store.OwnFolder + "//" + name
	data := []byte("Deft Heron looks what this server can do, and removes this again.\n")

	var found findings
	first, err := a.putProbe(ctx, key, data, nil)
	if kind := store.KindOf(err); kind == store.ErrRefused || kind == store.ErrNameRefused {
		key = folded // the double slash itself is refused
		first, err = a.putProbe(ctx, key, data, nil)
	}
	if err != nil {
		return found, store.Errorf(store.KindOf(err), "could not find out what the object store can do: %w", err)
	}
	defer func() {
		if !found.emptyNames {
			key = folded // so it is listed
		}
		a.removeProbes(context.WithoutCancel(ctx), key)
	}()

	found.emptyNames = key != folded
	if found.emptyNames {
		_, err := a.core.StatObject(ctx, a.bucket, folded, minio.StatObjectOptions{})
		found.emptyNames = store.KindOf(wrap("look", err, false)) == store.ErrNotFound
	}
	found.etagIsMD5 = strings.EqualFold(strings.Trim(first.ETag, `"`), hex.EncodeToString(sumOf(store.MD5, data)))
	_, right := a.putProbe(ctx, key, data, func(o *minio.PutObjectOptions) { checksum(o, sumOf(store.CRC64NVME, data)) })
	_, wrong := a.putProbe(ctx, key, data, func(o *minio.PutObjectOptions) { checksum(o, make([]byte, 8)) })
	_, created := a.putProbe(ctx, key, data, func(o *minio.PutObjectOptions) { o.SetMatchETagExcept("*") })
	_, replaced := a.putProbe(ctx, key, data, func(o *minio.PutObjectOptions) { o.SetMatchETag("00000000000000000000000000000000") })
	found.conditional = store.KindOf(created) == store.ErrChanged && store.KindOf(replaced) == store.ErrChanged
	for _, err := range []error{right, wrong} {
		if err != nil && !isRefusal(err) {
			return found, err // an accident says nothing; it is asked again
		}
	}
	switch {
	case right == nil && wrong != nil:
		found.verification = store.CRC64NVME
	case found.etagIsMD5:
		found.verification = store.MD5
	}
	return found, ctx.Err()
}

// removeProbes removes a probe, and the leftovers of other probes. They stay if the sign-in
// may not remove objects; that shows when a run removes something.
func (a *account) removeProbes(ctx context.Context, key string) {
	folder, name := path.Split(key)
	if page, err := a.page(ctx, folder+publish.ProbePrefix, "", "", 1000); err == nil {
		var entries []store.Entry
		for _, object := range page.Objects {
			entries = append(entries, store.Entry{Name: strings.TrimPrefix(object.Key, folder), Modified: object.Modified})
		}
		for _, stale := range publish.StaleProbes(entries, name) {
			a.removeProbe(ctx, folder+stale.Name)
		}
	}
	a.removeProbe(ctx, key)
}

// removeProbe removes a probe, and every version of it where the bucket keeps any.
func (a *account) removeProbe(ctx context.Context, key string) {
	listing, cancel := context.WithCancel(ctx)
	defer cancel()
	removed := false
	for object := range a.core.Client.ListObjects(listing, a.bucket, minio.ListObjectsOptions{Prefix: key, WithVersions: true}) {
		if object.Err != nil {
			break // not every server lists versions
		}
		if object.Key == key && object.VersionID != "" {
			err := a.core.RemoveObject(ctx, a.bucket, key, minio.RemoveObjectOptions{VersionID: object.VersionID})
			removed = removed || err == nil
		}
	}
	if !removed {
		_ = a.core.RemoveObject(ctx, a.bucket, key, minio.RemoveObjectOptions{})
	}
}

// isRefusal reports whether the server refused what was sent, and did not just
// fail.
func isRefusal(err error) bool {
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) {
		return false
	}
	switch status := answer.StatusCode; status {
	case http.StatusRequestTimeout, http.StatusTooManyRequests:
		return false
	default:
		return status >= 400 && status < 500 || status == http.StatusNotImplemented
	}
}

func (a *account) putProbe(ctx context.Context, key string, data []byte, change func(*minio.PutObjectOptions)) (minio.UploadInfo, error) {
	options := minio.PutObjectOptions{DisableContentSha256: true, UserMetadata: map[string]string{}}
	if change != nil {
		change(&options)
	}
	info, err := a.plain.PutObject(ctx, a.bucket, key, bytes.NewReader(data), int64(len(data)), "", "", options)
	return info, wrap("write "+key, err, true)
}

func sumOf(kind store.HashKind, data []byte) []byte {
	sum := kind.New()
	sum.Write(data)
	return sum.Sum(nil)
}

const checksumHeader = "x-amz-checksum-crc64nvme"

// checksum adds a CRC64NVME that is known before the content is sent.
func checksum(options *minio.PutObjectOptions, sum []byte) {
	if options.UserMetadata == nil {
		options.UserMetadata = map[string]string{}
	}
	options.UserMetadata[checksumHeader] = base64.StdEncoding.EncodeToString(sum)
}
