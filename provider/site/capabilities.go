package site

import (
	"context"
	"io"
	"iter"
	"maps"
	"slices"
	"time"

	"deftheron/core/store"
)

// Capabilities implements store.Store.
func (a *account) Capabilities() store.Capabilities {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.able
}

// capabilities are what the account at the worker can do, but for two that only views of this
// program have.
func (a *account) capabilities(d *description) store.Capabilities {
	has := func(name string) bool { return slices.Contains(d.Has, name) }
	//nolint:govet // without the fields' names, so that the compiler finds one that is forgotten
	return store.Capabilities{
		only(has("ListFlat"), a.listFlat),
		only(has("Move"), a.move),
		only(has("Copy"), a.copy),
		only(has("Keeps"), d.Keeps.of),
		nil, // Origin: of views
		nil, // Kept: of views
		only[store.PartWriter](has("Parts"), partWriter{a}),
		only[store.Checksummer](has("Checksums"), sums{a}),
		only[store.Exporter](has("Exports"), exports{a}),
		only(has("Changes"), a.changes),
		only(has("AwaitChanges"), a.awaitChanges),
		only(has("Clean"), a.clean),
		only(has("Prepare"), func(ctx context.Context) error { return a.tell(ctx, opPrepare, nil) }),
		only(has("Sync"), func(ctx context.Context) error { return a.tell(ctx, opSync, nil) }),
		only(has("Check"), func(ctx context.Context) error { return a.tell(ctx, opCheck, nil) }),
		only(has("Space"), a.space),
		only(has("Owner"), func(ctx context.Context) (string, error) { return ask[string](ctx, a, opOwner, nil, nil) }),
		only(has("Locate"), a.locate),
		only(has("Areas"), func(ctx context.Context) ([]string, error) { return ask[[]string](ctx, a, opAreas, nil, nil) }),
		only(has("Pinned"), func() map[string]string { return maps.Clone(d.Pinned) }),
		only(has("Lock"), a.lock),
		nil, // Sealing: an account in a folder of this one is opened by the service
		only[store.Sharing](has("Sharing"), sharing{a}),
		only[store.Locker](has("Locker"), locker{a}),
		only[store.Versions](has("Versions"), versions{a}),
		only(has("Close"), a.close),
	}
}

// only returns a capability, which is a function or an interface, if the account has it, else nil.
func only[C any](has bool, capability C) C {
	var none C
	if has {
		return capability
	}
	return none
}

func (a *account) listFlat(ctx context.Context, in store.Folder) iter.Seq2[store.Listed, error] {
	return list(ctx, a, opListFlat, in, entry.listed)
}

func (a *account) move(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
	moved, err := ask[entry](ctx, a, opMove, between(from, revision, to), nil)
	return moved.entry(), err
}

func (a *account) copy(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
	with := between(from, revision, to)
	with.Run = run
	made, err := ask[entry](ctx, a, opCopy, with, nil)
	return made.entry(), err
}

func (a *account) changes(ctx context.Context, in store.Folder, cursor string) (store.ChangePage, error) {
	at := folderOf(in)
	got, err := ask[page](ctx, a, opChanges, &arguments{Folder: &at, Cursor: cursor}, nil)
	return got.page(), err
}

func (a *account) awaitChanges(ctx context.Context, in store.Folder, cursor string, wait time.Duration) (store.ChangePage, error) {
	at := folderOf(in)
	got, err := ask[page](ctx, a, opAwaitChanges, &arguments{Folder: &at, Cursor: cursor, Wait: wait}, nil)
	return got.page(), err
}

func (a *account) clean(ctx context.Context, of store.Cleaning) ([]store.Leftover, error) {
	found, err := ask[[]leftover](ctx, a, opClean, &arguments{Cleaning: cleaningOf(of)}, nil)
	var removed []store.Leftover
	for _, one := range found {
		removed = append(removed, store.Leftover{Run: one.Run, Place: one.Place.ref(), Upload: one.Upload})
	}
	return removed, err
}

func (a *account) space(ctx context.Context) (store.Space, error) {
	space, err := ask[store.Space](ctx, a, opSpace, nil, nil)
	if space.Volume != "" {
		space.Volume = a.opening.Network + "+" + space.Volume
	}
	return space, err
}

// locate is store.Capabilities.Locate. A worker is asked once for each folder.
func (a *account) locate(in store.Folder) string {
	a.mu.Lock()
	known, ok := a.located[in]
	a.mu.Unlock()
	if ok {
		return known
	}
	ctx, cancel := context.WithTimeout(context.Background(), locateTime)
	defer cancel()
	at := folderOf(in)
	url, err := ask[string](ctx, a, opLocate, &arguments{Folder: &at}, nil)
	if err != nil || url == "" {
		return ""
	}
	if a.opening.Network != "" {
		url = a.opening.Network + "+" + url
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.located == nil || len(a.located) >= mostLocated {
		a.located = map[store.Folder]string{}
	}
	a.located[in] = url
	return url
}

// mostLocated is of how many folders it is remembered where they are.
const mostLocated = 1000

func (a *account) lock(ctx context.Context, place store.Ref, until time.Time) (bool, error) {
	with := withRef(place)
	with.Until = momentOf(until)
	return ask[bool](ctx, a, opLock, with, nil)
}

// close closes the account at the worker, as far as it is there.
func (a *account) close() error {
	ctx, cancel := context.WithTimeout(context.Background(), locateTime)
	defer cancel()
	got, _, err := a.first(ctx, Call{Request: a.request(ctx, opClose, &arguments{})})
	if err == nil {
		err = got.Close()
	}
	return lost(err, opClose)
}

// partWriter is store.PartWriter at a site.
type partWriter struct{ *account }

// PartLimits implements store.PartWriter.
func (p partWriter) PartLimits() (store.PartLimits, bool) {
	return p.described().Parts.limits()
}

// BeginParts implements store.PartWriter.
func (p partWriter) BeginParts(ctx context.Context, w store.Writing) (string, error) {
	return ask[string](ctx, p.account, opBeginParts, &arguments{Writing: writingOf(w)}, nil)
}

// WritePart implements store.PartWriter.
func (p partWriter) WritePart(ctx context.Context, w store.Writing, upload string, number int, size int64, stream *store.Stream) (
	store.Part, error) {
	with := &arguments{Writing: writingOf(w), Upload: upload, Number: number, Size: size}
	var failed error
	once := func(_ context.Context, w io.Writer) error {
		if stream.Count() > 0 {
			return writeEnd(w, end{Error: wireErrorOf(store.Errorf(store.ErrTryAgain, "the part was read before"))})
		}
		return sendStream(w, stream, &failed)
	}
	part, err := ask[store.Part](ctx, p.account, opWritePart, with, once)
	if err != nil && failed != nil {
		err = failed
	}
	return part, err
}

// CommitParts implements store.PartWriter.
func (p partWriter) CommitParts(ctx context.Context, w store.Writing, upload string, parts []store.Part) (store.Written, error) {
	with := &arguments{Writing: writingOf(w), Upload: upload, Parts: parts}
	result, err := ask[written](ctx, p.account, opCommitParts, with, nil)
	return result.written(), err
}

// AbortParts implements store.PartWriter.
func (p partWriter) AbortParts(ctx context.Context, place store.Ref, upload string) error {
	with := withRef(place)
	with.Upload = upload
	return p.tell(ctx, opAbortParts, with)
}

// sums is store.Checksummer at a site.
type sums struct{ *account }

// SumKinds implements store.Checksummer.
func (s sums) SumKinds() []store.HashKind {
	return s.described().SumKinds
}

// Sum implements store.Checksummer.
func (s sums) Sum(ctx context.Context, place store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	with := withRevision(place, revision)
	with.Kind = kind
	text, err := ask[string](ctx, s.account, opSum, with, nil)
	hash, _ := store.ParseHash(text)
	return hash, err
}

// exports is store.Exporter at a site.
type exports struct{ *account }

// DocumentKinds implements store.Exporter.
func (e exports) DocumentKinds() []store.DocumentKind {
	return e.described().Documents
}

// Export implements store.Exporter.
func (e exports) Export(ctx context.Context, place store.Ref, revision, format string) (io.ReadCloser, error) {
	with := withRevision(place, revision)
	with.Format = format
	return e.read(ctx, opExport, with)
}
