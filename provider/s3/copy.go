package s3

import (
	"context"
	"strings"

	"github.com/minio/minio-go/v7"

	"deftheron/core/store"
)

// largestCopy is what one request copies at most.
const largestCopy = 5 << 30

// Copy is store.Capabilities.Copy, by CopyObject. It checks just before whether the name is
// taken, because the request has no condition for that. For a copy of a known revision it
// returns no size: the size is that of the revision.
func (a *account) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, _ string) (store.Entry, error) {
	if err := a.nameRules().Check(to.Folder.Path, to.Name); err != nil {
		return store.Entry{}, err
	}
	size := int64(-1)
	if revision == "" {
		there, err := a.Stat(ctx, from.As(store.KindFile))
		switch {
		case err != nil:
			return store.Entry{}, err
		case there.Kind != store.KindFile || there.Size > largestCopy:
			return store.Entry{}, store.Errorf(store.ErrUnsupported, "%s cannot be copied by one request", from)
		}
		revision, size = there.Revision, there.Size
	}
	if err := a.isFree(ctx, to); err != nil {
		return store.Entry{}, err
	}
	copied, err := a.plain.CopyObject(ctx, a.bucket, a.keyOf(from), a.bucket, a.keyOf(to), nil,
		minio.CopySrcOptions{Bucket: a.bucket, Object: a.keyOf(from), MatchETag: revision}, minio.PutObjectOptions{})
	if err := wrap("copy "+from.String(), err, true); err != nil {
		return store.Entry{}, err
	}
	if etag := strings.Trim(copied.ETag, `"`); etag == revision && !copied.LastModified.IsZero() {
		copied.Size = size
		entry := a.entryOf(to.Name, listedOf(copied))
		entry.Revision = etag
		return entry, nil
	}
	// One that went in parts gets another tag; and not every server obeys the condition.
	there, err := a.Stat(ctx, from.As(store.KindFile))
	entry, looked := a.Stat(ctx, to.As(store.KindFile))
	if err == nil && there.Revision == revision || looked != nil {
		return entry, looked
	}
	if _, err := a.Remove(ctx, to.As(store.KindFile), entry.Revision); err != nil {
		return store.Entry{}, store.Errorf(store.ErrOutcomeUnknown, "%s changed in the meantime, and its copy could not be taken back: %w",
			from, err)
	}
	return store.Entry{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", from)
}

// isFree looks whether nothing is at a place. In history, names are given once.
func (a *account) isFree(ctx context.Context, to store.Ref) error {
	if strings.HasPrefix(string(to.Folder.Path), string(store.HistoryFolder)) {
		return nil
	}
	_, err := a.core.StatObject(ctx, a.bucket, a.keyOf(to), minio.StatObjectOptions{})
	switch err = wrap("look at "+to.String(), err, false); store.KindOf(err) {
	case nil:
		return store.Errorf(store.ErrExists, "%s already exists", to)
	case store.ErrNotFound:
		return nil
	}
	return err
}
