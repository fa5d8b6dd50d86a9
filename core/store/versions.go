package store

import (
	"context"
	"io"
	"time"
)

// Versions are the earlier contents of files that an account itself keeps, for good, when a
// file is overwritten or deleted. A version has an id, which is unique among the versions of one path.
type Versions interface {
	// VersionOf returns the version that a file has now, at a revision (empty: any). It is
	// empty where the account does not keep this content for good. ErrChanged where the
	// revision is another, ErrNotFound where there is no file.
	VersionOf(ctx context.Context, file Ref, revision string) (string, error)
	// StatVersion returns a version as an entry. ErrNotFound where it is not kept any more.
	StatVersion(ctx context.Context, file Ref, version string) (Entry, error)
	// OpenVersion reads a version, as Open does; the revision of the reading is not looked at.
	OpenVersion(ctx context.Context, reading Reading, version string) (io.ReadCloser, error)
	// CopyVersion copies a version within the account to where nothing is, as Copy does.
	CopyVersion(ctx context.Context, file Ref, version string, to Ref) (Entry, error)
	// RemoveVersion removes a version for good. It does nothing if the version is not there,
	// or is what the file is now.
	RemoveVersion(ctx context.Context, file Ref, version string) error
	// LockVersion has the store itself keep a version until a time. It returns false where the
	// store does not say afterwards that it does.
	LockVersion(ctx context.Context, file Ref, version string, until time.Time) (bool, error)
}

// VersionOf returns the version that a file has now in an account that keeps it for good; empty
// where the account does not.
func VersionOf(ctx context.Context, s Store, file Ref, revision string) (string, error) {
	versions := s.Capabilities().Versions
	if versions == nil {
		return "", nil
	}
	return versions.VersionOf(ctx, file.As(KindFile), revision)
}
