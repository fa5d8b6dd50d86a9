package history

import (
	"context"
	"io"
	"time"

	"deftheron/core/store"
)

// Content is where an earlier content is: a file of its own, or a version that the account
// keeps of a file.
type Content struct {
	Place store.Ref
	// Version is empty of a file of its own.
	Version string
	// Revision, where it is given, is the one that is removed, and no other.
	Revision string
}

// Content is where the content of a change is.
func (c *Change) Content() Content {
	return Content{c.Kept.Ref("", store.KindFile), c.Version, c.Revision}
}

// String is the place, for people who look for it in the account.
func (c Content) String() string {
	if c.Version == "" {
		return c.Place.String()
	}
	return "version " + c.Version + " of " + c.Place.String()
}

// versions returns the versions of the account that has a content.
func versions(s store.Store, c Content) (store.Versions, error) {
	if kept := s.Capabilities().Versions; kept != nil {
		return kept, nil
	}
	return nil, store.Errorf(store.ErrUnsupported, "the account does not give out %s", c)
}

// Stat looks at a content. ErrNotFound where it is not kept any more.
func (c Content) Stat(ctx context.Context, s store.Store) (store.Entry, error) {
	if c.Version == "" {
		return s.Stat(ctx, c.Place)
	}
	kept, err := versions(s, c)
	if err != nil {
		return store.Entry{}, err
	}
	return kept.StatVersion(ctx, c.Place, c.Version)
}

// Open reads a content: what the reading says, but of this place and at any revision.
func (c Content) Open(ctx context.Context, s store.Store, reading store.Reading) (io.ReadCloser, error) {
	reading.Place, reading.Revision = c.Place, ""
	if c.Version == "" {
		return s.Open(ctx, reading)
	}
	kept, err := versions(s, c)
	if err != nil {
		return nil, err
	}
	return kept.OpenVersion(ctx, reading, c.Version)
}

// Remove removes a content for good. One that is not there is no error, nor one of another
// revision, which stays.
func (c Content) Remove(ctx context.Context, s store.Store) error {
	if c.Version == "" {
		_, err := s.Remove(ctx, c.Place, c.Revision)
		if kind := store.KindOf(err); kind == store.ErrNotFound || kind == store.ErrChanged {
			err = nil
		}
		return err
	}
	kept, err := versions(s, c)
	if err != nil {
		return err
	}
	return kept.RemoveVersion(ctx, c.Place, c.Version)
}

// Lock has the store itself keep a content until a time, where it can.
func (c Content) Lock(ctx context.Context, s store.Store, until time.Time) (bool, error) {
	if c.Version == "" {
		return store.Lock(ctx, s, c.Place, until)
	}
	kept, err := versions(s, c)
	if err != nil {
		return false, err
	}
	return kept.LockVersion(ctx, c.Place, c.Version, until)
}
