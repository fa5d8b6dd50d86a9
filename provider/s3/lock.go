package s3

import (
	"context"
	"encoding/xml"
	"net/http"
	"net/url"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/s3utils"

	"deftheron/core/store"
)

// lock is store.Capabilities.Lock: a retention in compliance mode, which nobody can shorten,
// for the present version of the key. It counts only if the store reports it afterwards:
// some accept a retention and forget it. A bucket without Object Lock is remembered.
func (a *account) lock(ctx context.Context, ref store.Ref, until time.Time) (bool, error) {
	if a.lockless.Load() {
		return false, nil
	}
	info, err := a.plain.StatObject(ctx, a.bucket, a.keyOf(ref), minio.StatObjectOptions{})
	if err != nil {
		return false, wrap("look at "+ref.String(), err, false)
	}
	if info.VersionID == "" { // without versions there is no lock
		a.lockless.Store(true)
		return false, nil
	}
	return a.lockVersion(ctx, ref, info.VersionID, until)
}

func (a *account) lockVersion(ctx context.Context, ref store.Ref, version string, until time.Time) (bool, error) {
	key := a.keyOf(ref)
	until = until.UTC().Truncate(time.Second).Add(time.Second)
	mode := minio.Compliance
	err := a.plain.PutObjectRetention(ctx, a.bucket, key,
		minio.PutObjectRetentionOptions{Mode: &mode, RetainUntilDate: &until, VersionID: version})
	if answered := minio.ToErrorResponse(err); err != nil && answered.StatusCode >= 400 && answered.StatusCode < 500 &&
		answered.StatusCode != http.StatusTooManyRequests {
		a.lockless.Store(true) // the bucket has no Object Lock, or the sign-in may not use it
		return false, nil
	}
	if err != nil {
		return false, wrap("lock "+ref.String(), err, false)
	}
	kept, err := a.retention(ctx, key, version)
	if err != nil {
		return false, wrap("read the lock of "+ref.String(), err, false)
	}
	return kept.Mode == string(minio.Compliance) && !kept.Until.Before(until), nil
}

// retention is how long a version is kept, as the store reports it. Servers use two names
// for its element, and the library reads only one of them.
type retention struct {
	Mode  string    `xml:"Mode"`
	Until time.Time `xml:"RetainUntilDate"`
}

func (a *account) retention(ctx context.Context, key, version string) (kept retention, err error) {
	query := s3utils.QueryEncode(url.Values{"retention": {""}, "versionId": {version}})
	response, ok, err := a.send(ctx, request{method: http.MethodGet, key: key, query: query})
	if err != nil || !ok {
		return kept, err
	}
	defer response.Body.Close()
	const most = 64 << 10
	return kept, xml.NewDecoder(store.NewBounded(response.Body, most)).Decode(&kept)
}
