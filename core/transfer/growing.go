package transfer

import (
	"context"
	"errors"
	"io"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// writeGrowing copies a file that keeps changing while it is read, if it only grows: a log,
// or a recording. The content up to its present size is read twice, and counts only if both
// readings are equal. Otherwise writeGrowing returns the error changed.
func (a *attempt) writeGrowing(ctx context.Context, place store.Ref, condition store.Condition, changed error) (*Ending, error) {
	if err := a.refresh(ctx, changed); err != changed {
		return nil, err
	}
	first, _, err := a.readGrowing(ctx)
	if err != nil || a.item.Size <= 0 {
		return nil, changed
	}
	kind := a.verificationKind()
	content := &growing{a: a, want: first, kind: kind}
	writing := store.Writing{
		Place: place, Size: a.item.Size, Modified: a.item.Source.Modified, If: condition, Run: a.ID, Verification: a.Rules.Verification,
		Content: content,
	}
	if a.keeping != nil {
		writing.Keep = a.keeping.Place
	}
	written, err := a.route.Target.Store.Write(ctx, writing)
	var source compare.SourceError
	switch {
	case errors.As(err, &source):
		return nil, changed
	case err != nil:
		return a.lookAgain(ctx, place, err)
	}
	verification, err := store.Verify(ctx, a.route.Target.Store, store.Writing{Place: place, Verification: a.Rules.Verification}, written,
		content.stream.Sum(), content.stream.Count())
	if err != nil {
		return nil, err
	}
	a.item.Source.Revision = compare.Nothing.Revision // the next run looks at it again
	if a.keeping != nil {
		a.item.version = a.keeping
	}
	ending := &Ending{State: Done, Cause: plan.CauseGrowing, Verification: verification, Moved: a.item.Size,
		Pair: a.pairWith(written.Entry, verification)}
	a.changed(ctx, ending, place)
	return ending, nil
}

// readGrowing hashes the source up to the size that it had when it was looked up.
func (a *attempt) readGrowing(ctx context.Context) (store.Hash, int64, error) {
	body, err := a.openGrowing(ctx)
	if err != nil {
		return store.Hash{}, 0, err
	}
	stream := store.NewStream(body, store.BLAKE3, nil)
	defer stream.Close()
	n, err := io.Copy(io.Discard, stream)
	return stream.Sum(), n, err
}

func (a *attempt) openGrowing(ctx context.Context) (io.ReadCloser, error) {
	return a.route.Source.Store.Open(ctx, store.Reading{Place: a.source(), Length: a.item.Size, Growing: true})
}

// growing is the content of a growing file, which must equal its first reading.
type growing struct {
	a      *attempt
	want   store.Hash
	kind   store.HashKind
	stream *store.Stream
}

// Open implements store.Content.
func (g *growing) Open(ctx context.Context) (*store.Stream, error) {
	g.a.flight.moved.Store(0)
	body, err := g.a.openGrowing(ctx)
	if err != nil {
		return nil, compare.NewSourceError(err)
	}
	g.stream = store.NewStream(&sameAgain{ReadCloser: g.a.read(ctx, body), hash: &digesting{hash: store.BLAKE3.New()}, want: g.want}, g.kind,
		g.a.counted)
	return g.stream, nil
}

// sameAgain ends without an error only if the content read has the given hash.
type sameAgain struct {
	io.ReadCloser
	hash *digesting
	want store.Hash
}

// Read implements io.Reader.
func (s *sameAgain) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	s.hash.hash.Write(p[:n])
	if err == io.EOF && s.hash.String() != s.want.String() {
		err = compare.NewSourceError(store.Errorf(store.ErrChanged, "it was changed while it was read, and not only added to"))
	}
	return n, err
}
