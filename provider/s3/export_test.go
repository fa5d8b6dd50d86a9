package s3

import (
	"context"
	"strings"

	"github.com/minio/minio-go/v7"
)

// PutRaw writes an object under a key that the provider itself might not.
func (a *account) PutRaw(ctx context.Context, key, content string) error {
	if err := a.Prepare(ctx); err != nil {
		return err
	}
	_, err := a.plain.PutObject(ctx, a.bucket, key, strings.NewReader(content), int64(len(content)), "", "",
		minio.PutObjectOptions{DisableContentSha256: true})
	return err
}
