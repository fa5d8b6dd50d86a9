package s3

import (
	"context"

	"github.com/minio/minio-go/v7"

	"deftheron/core/store"
)

// largestCopy is what one request copies at most.
const largestCopy = 5 << 30

// Copy is store.Capabilities.Copy, by CopyObject. It is looked just before whether
// something is there: the request itself cannot be made to depend on that.
func (a *account) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, _ string) (store.Entry, error) {
	if err := a.checkName(to.Folder.Path, to.Name); err != nil {
		return store.Entry{}, err
	}
	there, err := a.Stat(ctx, from.As(store.KindFile))
	switch {
	case err != nil:
		return store.Entry{}, err
	case there.Kind != store.KindFile || there.Size > largestCopy:
		return store.Entry{}, store.Errorf(store.ErrUnsupported, "%s cannot be copied by one request", from)
	case revision != "" && there.Revision != revision:
		return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed meanwhile", from)
	}
	switch _, err := a.core.StatObject(ctx, a.bucket, a.keyOf(to), minio.StatObjectOptions{}); store.KindOf(wrap("look at "+to.String(), err, false)) {
	case nil:
		return store.Entry{}, store.Errorf(store.ErrExists, "%s is there already", to)
	case store.ErrNotFound:
	default:
		return store.Entry{}, wrap("look at "+to.String(), err, false)
	}
	_, err = a.plain.CopyObject(ctx, a.bucket, a.keyOf(from), a.bucket, a.keyOf(to), nil,
		minio.CopySrcOptions{Bucket: a.bucket, Object: a.keyOf(from), MatchETag: there.Revision}, minio.PutObjectOptions{})
	if err := wrap("copy "+from.String(), err, true); err != nil {
		return store.Entry{}, err
	}
	return a.Stat(ctx, to.As(store.KindFile))
}
