package site

import (
	"context"
	"io"
	"time"

	"deftheron/core/store"
)

// sharing is store.Sharing at a site.
type sharing struct{ *account }

// ShareList implements store.Sharing.
func (s sharing) ShareList(ctx context.Context, place store.Ref) (store.ShareList, error) {
	return ask[store.ShareList](ctx, s.account, opShareList, withRef(place), nil)
}

// Share implements store.Sharing.
func (s sharing) Share(ctx context.Context, place store.Ref, with store.SharedWith) error {
	arguments := withRef(place)
	arguments.With = with
	return s.tell(ctx, opShare, arguments)
}

// SetOwner implements store.Sharing.
func (s sharing) SetOwner(ctx context.Context, place store.Ref, person string) error {
	with := withRef(place)
	with.Person = person
	return s.tell(ctx, opSetOwner, with)
}

// KnowsPerson implements store.Sharing.
func (s sharing) KnowsPerson(ctx context.Context, person string) (bool, error) {
	return ask[bool](ctx, s.account, opKnowsPerson, &arguments{Person: person}, nil)
}

// ShareLevels implements store.Sharing.
func (s sharing) ShareLevels() []store.ShareLevel {
	return s.described().Levels
}

// locker is store.Locker at a site.
type locker struct{ *account }

// LockEntry implements store.Locker.
func (l locker) LockEntry(ctx context.Context, place store.Ref, owner string, within time.Duration, token string) (store.HeldLock, error) {
	with := withRef(place)
	with.Person, with.Wait, with.Token = owner, within, token
	held, err := ask[heldLock](ctx, l.account, opLockEntry, with, nil)
	return store.HeldLock{Token: held.Token, Until: held.Until.time()}, err
}

// UnlockEntry implements store.Locker.
func (l locker) UnlockEntry(ctx context.Context, place store.Ref, token string) error {
	with := withRef(place)
	with.Token = token
	return l.tell(ctx, opUnlockEntry, with)
}

// versions is store.Versions at a site.
type versions struct{ *account }

// VersionOf implements store.Versions.
func (v versions) VersionOf(ctx context.Context, file store.Ref, revision string) (string, error) {
	return ask[string](ctx, v.account, opVersionOf, withRevision(file, revision), nil)
}

// StatVersion implements store.Versions.
func (v versions) StatVersion(ctx context.Context, file store.Ref, version string) (store.Entry, error) {
	found, err := ask[entry](ctx, v.account, opStatVersion, withVersion(file, version), nil)
	return found.entry(), err
}

// OpenVersion implements store.Versions.
func (v versions) OpenVersion(ctx context.Context, r store.Reading, version string) (io.ReadCloser, error) {
	return v.read(ctx, opReadVersion, &arguments{Reading: readingOf(r), Version: version})
}

// CopyVersion implements store.Versions.
func (v versions) CopyVersion(ctx context.Context, file store.Ref, version string, to store.Ref) (store.Entry, error) {
	with := between(file, "", to)
	with.Version = version
	made, err := ask[entry](ctx, v.account, opCopyVersion, with, nil)
	return made.entry(), err
}

// RemoveVersion implements store.Versions.
func (v versions) RemoveVersion(ctx context.Context, file store.Ref, version string) error {
	return v.tell(ctx, opRemoveVersion, withVersion(file, version))
}

// LockVersion implements store.Versions.
func (v versions) LockVersion(ctx context.Context, file store.Ref, version string, until time.Time) (bool, error) {
	with := withVersion(file, version)
	with.Until = momentOf(until)
	return ask[bool](ctx, v.account, opLockVersion, with, nil)
}

func withVersion(file store.Ref, version string) *arguments {
	with := withRef(file)
	with.Version = version
	return with
}
