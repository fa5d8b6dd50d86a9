package fileserver

import (
	"context"
	"hash"
	"io"
	"slices"

	"deftheron/core/publish"
	"deftheron/core/store"
)

// Write implements store.Store.
func (s *Store) Write(ctx context.Context, writing store.Writing) (written store.Written, err error) {
	if _, err := s.Path(writing.Place); err != nil {
		return store.Written{}, err
	}
	if err := s.Prepare(ctx); err != nil {
		return store.Written{}, err
	}
	// Looked at before the content is read, so that nothing is read in vain.
	there, err := s.Stat(ctx, writing.Place.As(""))
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return store.Written{}, err
	}
	if err := publish.ConditionHolds(writing, there, err == nil); err != nil {
		return store.Written{}, err
	}
	arriving := writing.Place.Folder.Ref(arrivingName(writing.Run))
	defer func() {
		if err != nil {
			s.Discard(ctx, arriving)
		}
	}()
	sent, count, err := s.send(ctx, writing, arriving)
	if err != nil {
		return store.Written{}, err
	}
	written, err = s.verified(ctx, writing, arriving, sent, count)
	if err != nil {
		return store.Written{}, err
	}
	if err := publish.Publish(ctx, s, writing, arriving); err != nil {
		return store.Written{}, err
	}
	written.Name = writing.Place.Name
	return written, nil
}

// Prepare is store.Capabilities.Prepare, where the server has something to find out.
func (s *Store) Prepare(ctx context.Context) error {
	if preparer, ok := s.server.(Preparer); ok {
		return preparer.Prepare(ctx)
	}
	return nil
}

// send writes the content under the name of ours, and returns its hash and size.
func (s *Store) send(ctx context.Context, writing store.Writing, arriving store.Ref) (store.Hash, int64, error) {
	path, err := s.Path(arriving)
	if err != nil {
		return store.Hash{}, 0, err
	}
	stream, err := writing.Content.Open(ctx)
	if err != nil {
		return store.Hash{}, 0, err
	}
	defer stream.Close()
	content := &source{ctx: ctx, from: stream}
	if writing.Size >= 0 {
		content.from = store.Exactly(stream, writing.Size)
	}
	// Where the server tells another hash than the one that is computed already,
	// that is computed too.
	kind := s.Traits().VerificationKind
	if kind != "" && stream.Sum().Kind != kind {
		content.also = kind.New()
	}
	err = s.pass(ctx, "write", writing.Place.String(), func() error {
		return s.server.Create(ctx, path, content, writing.Size, writing.Modified)
	})
	switch {
	case content.failed != nil:
		return store.Hash{}, 0, content.failed
	case err != nil:
		if store.KindOf(err) == store.ErrNotFound || store.KindOf(err) == store.ErrRefused {
			err = s.withoutParent(ctx, writing.Place, err)
		}
		return store.Hash{}, 0, err
	case !content.ended:
		return store.Hash{}, 0, store.Errorf(store.ErrTryAgain, "the server took %s without reading all of it", writing.Place)
	}
	if content.also != nil {
		return store.HashOf(kind, content.also.Sum(nil)), stream.Count(), nil
	}
	return stream.Sum(), stream.Count(), nil
}

// source is a content on its way, which remembers how it ended.
type source struct {
	ctx    context.Context
	from   io.Reader
	also   hash.Hash // nil for none
	failed error
	ended  bool
}

func (s *source) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil && s.failed == nil {
		s.failed = err
	}
	if s.failed != nil {
		return 0, s.failed
	}
	n, err := s.from.Read(p)
	if s.also != nil {
		s.also.Write(p[:n])
	}
	switch err {
	case nil:
	case io.EOF:
		s.ended = true
	default:
		s.failed = err
	}
	return n, err
}

// verified compares the arrived content with the content sent: by the server's own hash,
// otherwise by reading it back.
func (s *Store) verified(ctx context.Context, writing store.Writing, arriving store.Ref, sent store.Hash,
	count int64) (store.Written, error) {
	entry, err := s.Stat(ctx, arriving)
	if err != nil {
		return store.Written{}, err
	}
	if entry.Size != count {
		return store.Written{}, store.Errorf(store.ErrTryAgain, "%s was sent with %d bytes, and %d arrived", writing.Place, count, entry.Size)
	}
	if sent.IsZero() {
		return store.Written{Entry: entry}, nil
	}
	if slices.Contains(s.SumKinds(), sent.Kind) {
		stored, err := s.hash(ctx, arriving, sent.Kind)
		if err == nil && stored != sent {
			return store.Written{}, store.Errorf(store.ErrTryAgain, "%s was sent with %s, and the server has %s", writing.Place, sent, stored)
		}
		if err == nil {
			return store.Written{Entry: entry, Verification: stored}, nil
		}
		if store.KindOf(err) != store.ErrUnsupported {
			return store.Written{}, err
		}
	}
	if writing.Verification == store.VerifyBySize {
		return store.Written{Entry: entry}, nil
	}
	read, size, err := store.ReadBack(ctx, s, arriving, entry.Revision, sent.Kind)
	if err != nil {
		return store.Written{}, store.Errorf(store.ErrTryAgain, "%s was sent and could not be read back: %w", writing.Place, err)
	}
	if read != sent || size != count {
		return store.Written{}, store.Errorf(store.ErrTryAgain, "%s was sent with %s and read back with %s, %d bytes", writing.Place, sent, read,
			size)
	}
	return store.Written{Entry: entry, Verification: read, ReadBack: true}, nil
}

// Open implements store.Store. The file is looked up before and after it is read: a
// write in between gives ErrChanged.
func (s *Store) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	path, err := s.existing(reading.Place)
	if err != nil {
		return nil, err
	}
	entry, err := s.Stat(ctx, reading.Place.As(store.KindFile))
	if err != nil {
		return nil, err
	}
	switch {
	case entry.Kind != store.KindFile:
		return nil, store.Errorf(store.ErrRefused, "%s is not a file", reading.Place)
	case reading.Revision != "" && !store.SameRevision(entry.Revision, reading.Revision):
		return nil, store.Errorf(store.ErrChanged, "%s changed in the meantime", reading.Place)
	case reading.Offset > entry.Size:
		return nil, store.Errorf(store.ErrRefused, "%s has %d bytes and cannot be read from %d", reading.Place, entry.Size, reading.Offset)
	}
	r := &reader{ctx: ctx, store: s, place: reading.Place, opened: entry, growing: reading.Growing, size: entry.Size - reading.Offset}
	if reading.Length > 0 {
		r.size = min(r.size, reading.Length)
	}
	r.left = r.size
	if r.left == 0 {
		return r, nil
	}
	if r.done, err = s.gate.Pass(ctx); err != nil {
		return nil, err
	}
	if r.body, err = s.server.Open(ctx, path, reading.Offset, r.size); err != nil {
		r.done(err)
		return nil, again(wrap(ctx, "read", reading.Place.String(), err))
	}
	if _, fetched := r.body.(Fetched); fetched {
		r.done(nil)
		if err := r.look(); err != nil {
			r.body.Close()
			return nil, err
		}
		r.looked = true
	}
	return r, nil
}

// Fetched is a body that a Server has fetched completely before it returned it. The file
// is looked up again at that time, not when the body was read, because there may be only
// one connection, and the reader may need it to write.
type Fetched struct{ io.ReadCloser }

// reader is the body of a file, or of a range of it.
type reader struct {
	ctx        context.Context
	store      *Store
	place      store.Ref
	opened     store.Entry
	growing    bool
	size, left int64
	body       io.ReadCloser // nil where there is nothing to read
	done       func(error)
	looked     bool
	err        error
}

func (r *reader) Read(p []byte) (int, error) {
	if r.err != nil {
		return 0, r.err
	}
	if r.left == 0 {
		r.err = r.end()
		return 0, r.err
	}
	n, err := r.body.Read(p[:min(int64(len(p)), r.left)])
	r.left -= int64(n)
	switch {
	case err == io.EOF && r.left > 0:
		r.err = store.ShortBody(r.size-r.left, r.size)
		if changed := r.end(); store.KindOf(changed) == store.ErrChanged {
			r.err = changed
		}
	case err != nil && err != io.EOF:
		r.err = again(wrap(r.ctx, "read", r.place.String(), err))
	}
	return n, r.err
}

// end looks at the file once more.
func (r *reader) end() error {
	_ = r.release(nil) // the content has come, and is held against its size and revision below
	if r.looked {
		return io.EOF
	}
	if err := r.look(); err != nil {
		return err
	}
	return io.EOF
}

// look holds the file to what it was when it was opened.
func (r *reader) look() error {
	entry, err := r.store.Stat(r.ctx, r.place)
	switch {
	case err == nil && r.growing && entry.Size >= r.opened.Size:
		return nil
	case store.KindOf(err) == store.ErrNotFound, err == nil && !store.SameRevision(entry.Revision, r.opened.Revision):
		return store.Errorf(store.ErrChanged, "%s changed while it was read", r.place)
	}
	return err
}

// release gives back the body and the gate's slot, so that to look again needs no
// second of either.
func (r *reader) release(outcome error) error {
	if r.body == nil {
		return nil
	}
	err := r.body.Close()
	r.body = nil
	r.done(outcome)
	return err
}

func (r *reader) Close() error {
	if r.err == nil {
		r.err = store.Errorf(store.ErrRefused, "%s was closed", r.place)
	}
	outcome := r.err
	if outcome == io.EOF || store.KindOf(outcome) == store.ErrRefused {
		outcome = nil
	}
	return r.release(outcome)
}
