// Package standin holds the places that ship with the program for its demo and
// its tests.
package standin

import (
	"net/http"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// ObjectStore returns an S3-compatible server that keeps its objects in memory,
// with the empty buckets named. It takes any access key and secret.
func ObjectStore(buckets ...string) (http.Handler, error) {
	backend := s3mem.New()
	for _, bucket := range buckets {
		if err := backend.CreateBucket(bucket); err != nil {
			return nil, err
		}
	}
	return gofakes3.New(backend, gofakes3.WithTimeSkewLimit(15*time.Minute)).Server(), nil
}
