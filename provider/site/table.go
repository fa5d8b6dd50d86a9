package site

import (
	"context"
	"io"
	"iter"

	"deftheron/core/store"
)

// operations are what a worker does for each operation but open.
var operations = map[string]operation{
	opClose: does(func(_ context.Context, s store.Store, _ *arguments) error { return store.Close(s) }),
	opStat: returnsEntry(func(ctx context.Context, s store.Store, a *arguments) (store.Entry, error) {
		return s.Stat(ctx, a.ref())
	}),
	opList: lists(func(ctx context.Context, s store.Store, a *arguments) iter.Seq2[store.Entry, error] {
		return s.List(ctx, a.folder())
	}, entryOf),
	opListFlat: lists(func(ctx context.Context, s store.Store, a *arguments) iter.Seq2[store.Listed, error] {
		if flat := s.Capabilities().ListFlat; flat != nil {
			return flat(ctx, a.folder())
		}
		return func(yield func(store.Listed, error) bool) {
			yield(store.Listed{}, unsupported("list all folders at once"))
		}
	}, listedOf),
	opRead: reads(func(ctx context.Context, s store.Store, a *arguments) (io.ReadCloser, error) {
		return s.Open(ctx, a.Reading.reading())
	}),
	opExport: reads(func(ctx context.Context, s store.Store, a *arguments) (io.ReadCloser, error) {
		return store.Export(ctx, s, a.ref(), a.Revision, a.Format)
	}),
	opWrite: writeOperation,
	opMakeFolder: returnsEntry(func(ctx context.Context, s store.Store, a *arguments) (store.Entry, error) {
		return s.MakeFolder(ctx, a.ref())
	}),
	opRemove: returns(func(ctx context.Context, s store.Store, a *arguments) (store.Removal, error) {
		return s.Remove(ctx, a.ref(), a.Revision)
	}),
	opRemoveFolder: returns(func(ctx context.Context, s store.Store, a *arguments) (store.Removal, error) {
		return s.RemoveFolder(ctx, a.ref())
	}),
	opMove: returnsEntry(func(ctx context.Context, s store.Store, a *arguments) (store.Entry, error) {
		return store.Move(ctx, s, a.ref(), a.Revision, a.to())
	}),
	opCopy: returnsEntry(func(ctx context.Context, s store.Store, a *arguments) (store.Entry, error) {
		return store.Copy(ctx, s, a.ref(), a.Revision, a.to(), a.Run)
	}),
	opSum: returns(func(ctx context.Context, s store.Store, a *arguments) (string, error) {
		hash, err := store.Sum(ctx, s, a.ref(), store.Entry{Revision: a.Revision}, a.Kind)
		return hash.String(), err
	}),
	opChanges: returns(func(ctx context.Context, s store.Store, a *arguments) (page, error) {
		changes, err := store.Changes(ctx, s, a.folder(), a.Cursor)
		return pageOf(changes), err
	}),
	opAwaitChanges: returns(func(ctx context.Context, s store.Store, a *arguments) (page, error) {
		changes, err := store.AwaitChanges(ctx, s, a.folder(), a.Cursor, a.Wait)
		return pageOf(changes), err
	}),
	opClean: returns(func(ctx context.Context, s store.Store, a *arguments) (removed []leftover, err error) {
		found, err := store.Clean(ctx, s, a.Cleaning.cleaning())
		for _, one := range found {
			removed = append(removed, leftover{one.Run, refOf(one.Place), one.Upload})
		}
		return removed, err
	}),
	opPrepare: does(func(ctx context.Context, s store.Store, _ *arguments) error { return store.Prepare(ctx, s) }),
	opSync:    does(func(ctx context.Context, s store.Store, _ *arguments) error { return store.Sync(ctx, s) }),
	opCheck:   does(func(ctx context.Context, s store.Store, _ *arguments) error { return store.Check(ctx, s) }),
	opSpace: returns(func(ctx context.Context, s store.Store, _ *arguments) (store.Space, error) {
		return store.SpaceOf(ctx, s)
	}),
	opOwner: returns(func(ctx context.Context, s store.Store, _ *arguments) (string, error) { return store.OwnerOf(ctx, s) }),
	opLocate: returns(func(_ context.Context, s store.Store, a *arguments) (string, error) {
		return store.Locate(s, a.folder()), nil
	}),
	opAreas: returns(func(ctx context.Context, s store.Store, _ *arguments) ([]string, error) { return store.AreasOf(ctx, s) }),
	opLock: returns(func(ctx context.Context, s store.Store, a *arguments) (bool, error) {
		return store.Lock(ctx, s, a.ref(), a.Until.time())
	}),
	opWritePart: writePartOperation,
	opBeginParts: withParts(func(ctx context.Context, p store.PartWriter, a *arguments) (string, error) {
		return p.BeginParts(ctx, a.Writing.writing(nil))
	}),
	opCommitParts: withParts(func(ctx context.Context, p store.PartWriter, a *arguments) (written, error) {
		result, err := p.CommitParts(ctx, a.Writing.writing(nil), a.Upload, a.Parts)
		return writtenOf(result), err
	}),
	opAbortParts: withParts(func(ctx context.Context, p store.PartWriter, a *arguments) (bool, error) {
		return true, p.AbortParts(ctx, a.ref(), a.Upload)
	}),
	opShareList: withSharing(func(ctx context.Context, s store.Sharing, a *arguments) (store.ShareList, error) {
		return s.ShareList(ctx, a.ref())
	}),
	opShare: withSharing(func(ctx context.Context, s store.Sharing, a *arguments) (bool, error) {
		return true, s.Share(ctx, a.ref(), a.With)
	}),
	opSetOwner: withSharing(func(ctx context.Context, s store.Sharing, a *arguments) (bool, error) {
		return true, s.SetOwner(ctx, a.ref(), a.Person)
	}),
	opKnowsPerson: withSharing(func(ctx context.Context, s store.Sharing, a *arguments) (bool, error) {
		return s.KnowsPerson(ctx, a.Person)
	}),
	opLockEntry: withLocker(func(ctx context.Context, l store.Locker, a *arguments) (heldLock, error) {
		held, err := l.LockEntry(ctx, a.ref(), a.Person, a.Wait, a.Token)
		return heldLock{held.Token, momentOf(held.Until)}, err
	}),
	opUnlockEntry: withLocker(func(ctx context.Context, l store.Locker, a *arguments) (bool, error) {
		return true, l.UnlockEntry(ctx, a.ref(), a.Token)
	}),
	opVersionOf: withVersions(func(ctx context.Context, v store.Versions, a *arguments) (string, error) {
		return v.VersionOf(ctx, a.ref(), a.Revision)
	}),
	opStatVersion: withVersions(func(ctx context.Context, v store.Versions, a *arguments) (entry, error) {
		found, err := v.StatVersion(ctx, a.ref(), a.Version)
		return entryOf(found), err
	}),
	opReadVersion: reads(func(ctx context.Context, s store.Store, a *arguments) (io.ReadCloser, error) {
		if versions := s.Capabilities().Versions; versions != nil {
			return versions.OpenVersion(ctx, a.Reading.reading(), a.Version)
		}
		return nil, unsupported("keep versions of its own")
	}),
	opCopyVersion: withVersions(func(ctx context.Context, v store.Versions, a *arguments) (entry, error) {
		made, err := v.CopyVersion(ctx, a.ref(), a.Version, a.to())
		return entryOf(made), err
	}),
	opRemoveVersion: withVersions(func(ctx context.Context, v store.Versions, a *arguments) (bool, error) {
		return true, v.RemoveVersion(ctx, a.ref(), a.Version)
	}),
	opLockVersion: withVersions(func(ctx context.Context, v store.Versions, a *arguments) (bool, error) {
		return v.LockVersion(ctx, a.ref(), a.Version, a.Until.time())
	}),
}

// heldLock is a store.HeldLock.
type heldLock struct {
	Token string
	Until moment
}

// with makes an operation of a function that uses a capability, which is an interface.
func with[C comparable, T any](of func(store.Capabilities) C, cannot string,
	f func(ctx context.Context, c C, a *arguments) (T, error)) operation {
	return returns(func(ctx context.Context, s store.Store, a *arguments) (result T, err error) {
		var none C
		if capability := of(s.Capabilities()); capability != none {
			return f(ctx, capability, a)
		}
		return result, unsupported(cannot)
	})
}

func withParts[T any](f func(ctx context.Context, p store.PartWriter, a *arguments) (T, error)) operation {
	return with(func(c store.Capabilities) store.PartWriter { return c.Parts }, "take a file in parts", f)
}

func withSharing[T any](f func(ctx context.Context, s store.Sharing, a *arguments) (T, error)) operation {
	return with(func(c store.Capabilities) store.Sharing { return c.Sharing }, "share", f)
}

func withLocker[T any](f func(ctx context.Context, l store.Locker, a *arguments) (T, error)) operation {
	return with(func(c store.Capabilities) store.Locker { return c.Locker }, "lock files", f)
}

func withVersions[T any](f func(ctx context.Context, v store.Versions, a *arguments) (T, error)) operation {
	return with(func(c store.Capabilities) store.Versions { return c.Versions }, "keep versions of its own", f)
}
