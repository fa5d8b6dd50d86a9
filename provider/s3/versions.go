package s3

import (
	"context"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/lifecycle"

	"deftheron/core/store"
)

// versions implements store.Versions for a bucket that keeps the versions of its objects.
type versions struct{ *account }

// nullVersion is the id of what was written while the bucket kept no versions, and is
// overwritten for good.
const nullVersion = "null"

// VersionOf implements store.Versions by looking at the object's header. A bucket without
// versions, or that deletes them after a time, is remembered.
func (v versions) VersionOf(ctx context.Context, file store.Ref, revision string) (string, error) {
	if v.versionless.Load() {
		return "", nil
	}
	info, err := v.plain.StatObject(ctx, v.bucket, v.keyOf(file), minio.StatObjectOptions{})
	if err != nil {
		return "", wrap("look at "+file.String(), err, false)
	}
	if revision != "" && strings.Trim(info.ETag, `"`) != revision {
		return "", store.Errorf(store.ErrChanged, "%s changed in the meantime", file)
	}
	switch info.VersionID {
	case "":
		v.versionless.Store(true)
		return "", nil
	case nullVersion:
		return "", nil
	}
	last, err := v.versionsLast(ctx)
	if err != nil || !last {
		return "", err
	}
	return info.VersionID, nil
}

// versionsLast asks once whether no rule of the bucket deletes versions after a time.
func (v versions) versionsLast(ctx context.Context) (bool, error) {
	if v.lasting.Load() {
		return true, nil
	}
	rules, err := v.plain.GetBucketLifecycle(ctx, v.bucket)
	answer := minio.ToErrorResponse(err)
	switch {
	case err == nil:
		for _, rule := range rules.Rules {
			if rule.Status == "Enabled" && deletesVersions(&rule) {
				v.versionless.Store(true)
				return false, nil
			}
		}
	case answer.Code == "NoSuchLifecycleConfiguration" || answer.StatusCode == http.StatusNotImplemented ||
		answer.Code == minio.NotImplemented: // the server has no such rules
	case answer.StatusCode == http.StatusForbidden || isOtherXML(err): // nobody knows
		v.versionless.Store(true)
		return false, nil
	default:
		return false, wrap("read the lifecycle rules of the bucket", err, false)
	}
	v.lasting.Store(true)
	return true, nil
}

// isOtherXML reports whether a server has answered another question than it was asked.
func isOtherXML(err error) bool {
	var other xml.UnmarshalError
	var broken *xml.SyntaxError
	return errors.As(err, &other) || errors.As(err, &broken)
}

func deletesVersions(rule *lifecycle.Rule) bool {
	expiry := rule.NoncurrentVersionExpiration
	return !expiry.IsDaysNull() || expiry.NewerNoncurrentVersions > 0 || !rule.AllVersionsExpiration.IsNull()
}

// StatVersion implements store.Versions.
func (v versions) StatVersion(ctx context.Context, file store.Ref, version string) (store.Entry, error) {
	info, err := v.plain.StatObject(ctx, v.bucket, v.keyOf(file), minio.StatObjectOptions{VersionID: version})
	if err != nil {
		return store.Entry{}, wrapVersion("look at a version of "+file.String(), err, false)
	}
	return v.entryOf(file.Name, listedOf(info)), nil
}

// wrapVersion is wrap, with the answers to an id of which there is no version.
func wrapVersion(doing string, err error, changing bool) error {
	answer := minio.ToErrorResponse(err)
	if err != nil && (answer.Code == minio.NoSuchVersion || answer.StatusCode == http.StatusMethodNotAllowed) { // a deletion is the version
		return store.Errorf(store.ErrNotFound, "%s: the version is not there: %w", doing, err)
	}
	return wrap(doing, err, changing)
}

// OpenVersion implements store.Versions.
func (v versions) OpenVersion(ctx context.Context, reading store.Reading, version string) (io.ReadCloser, error) {
	reading.Revision = ""
	body, info, err := v.getRange(ctx, v.keyOf(reading.Place), reading, version)
	if err != nil {
		return nil, wrapVersion("read a version of "+reading.Place.String(), err, false)
	}
	length := int64(-1) // the library gives the size of the whole
	switch {
	case reading.Length > 0:
		length = min(reading.Length, max(0, info.Size-reading.Offset))
	case reading.Offset == 0:
		length = info.Size
	}
	return &reader{body: body, place: reading.Place, left: length}, nil
}

// CopyVersion implements store.Versions by CopyObject.
func (v versions) CopyVersion(ctx context.Context, file store.Ref, version string, to store.Ref) (store.Entry, error) {
	if err := v.nameRules().Check(to.Folder.Path, to.Name); err != nil {
		return store.Entry{}, err
	}
	there, err := v.StatVersion(ctx, file, version)
	switch {
	case err != nil:
		return store.Entry{}, err
	case there.Size > largestCopy:
		return store.Entry{}, store.Errorf(store.ErrUnsupported, "%s cannot be copied by one request", file)
	}
	if err := v.isFree(ctx, to); err != nil {
		return store.Entry{}, err
	}
	copied, err := v.plain.CopyObject(ctx, v.bucket, v.keyOf(file), v.bucket, v.keyOf(to), nil,
		minio.CopySrcOptions{Bucket: v.bucket, Object: v.keyOf(file), VersionID: version}, minio.PutObjectOptions{})
	if err := wrapVersion("copy a version of "+file.String(), err, true); err != nil {
		return store.Entry{}, err
	}
	if copied.LastModified.IsZero() {
		return v.Stat(ctx, to.As(store.KindFile))
	}
	copied.Size = there.Size
	return v.entryOf(to.Name, listedOf(copied)), nil
}

// RemoveVersion implements store.Versions. The server has no condition for it: what the object
// is now is looked at just before.
func (v versions) RemoveVersion(ctx context.Context, file store.Ref, version string) error {
	key := v.keyOf(file)
	info, err := v.plain.StatObject(ctx, v.bucket, key, minio.StatObjectOptions{})
	switch err = wrap("look at "+file.String(), err, false); {
	case err == nil && info.VersionID == version:
		return nil
	case err != nil && store.KindOf(err) != store.ErrNotFound:
		return err
	}
	err = wrapVersion("remove a version of "+file.String(),
		v.plain.RemoveObject(ctx, v.bucket, key, minio.RemoveObjectOptions{VersionID: version}), true)
	if store.KindOf(err) == store.ErrNotFound {
		return nil
	}
	return err
}

// LockVersion implements store.Versions.
func (v versions) LockVersion(ctx context.Context, file store.Ref, version string, until time.Time) (bool, error) {
	if v.lockless.Load() {
		return false, nil
	}
	return v.lockVersion(ctx, file, version, until)
}
