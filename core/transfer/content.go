package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"deftheron/core/store"
)

// proofError says that what arrived is not what was sent.
type proofError struct{ error }

func (e proofError) Unwrap() error { return e.error }

// content is a source's file, hashed on its way with the kind that the target
// gives as proof.
type content struct {
	a      *attempt
	kind   store.HashKind
	stream *store.Stream // of the last reading
}

// Open implements store.Content.
func (c *content) Open(ctx context.Context) (*store.Stream, error) {
	c.a.flight.moved.Store(0)
	body, err := c.a.route.Source.Store.Open(ctx, store.Reading{Place: c.a.source(), Revision: c.a.item.Source.Revision})
	if err != nil {
		return nil, sourceError{err}
	}
	c.stream = store.NewStream(c.a.read(body), c.kind, c.a.counted)
	return c.stream, nil
}

func (a *attempt) counted(n int) { a.flight.moved.Add(int64(n)) }

// read marks the errors of a body as the source's, and keeps the hashes that
// came with it.
func (a *attempt) read(body io.ReadCloser) io.ReadCloser { return &sourceBody{body} }

type sourceBody struct{ io.ReadCloser }

func (b *sourceBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		err = sourceError{err}
	}
	return n, err
}

// Told implements store.Told.
func (b *sourceBody) Told() store.Hashes {
	if told, ok := b.ReadCloser.(store.Told); ok {
		return told.Told()
	}
	return nil
}

// proofKind is the hash that the bytes are given on their way.
func (a *attempt) proofKind() store.HashKind {
	if kind := a.route.Target.Store.Traits().ProofKind; kind != "" {
		return kind
	}
	return store.CRC64NVME
}

// moveContent writes the source's content to a place, in one request or in
// parts, and proves it.
func (a *attempt) moveContent(ctx context.Context, place store.Place, condition store.Condition) (store.Written, string, error) {
	writing := store.Writing{
		Place: place, Size: a.item.Size, Modified: a.item.Source.Modified, If: condition, Run: a.ID,
	}
	if writer, limits, ok := store.Parts(a.route.Target.Store, a.item.Size); ok {
		return a.moveParts(ctx, writer, limits, writing)
	}
	content := &content{a: a, kind: a.proofKind()}
	writing.Content = content
	written, err := a.route.Target.Store.Write(ctx, writing)
	if err != nil {
		return written, "", err
	}
	proof, err := a.prove(ctx, place, written, content.stream.Sum())
	return written, proof, err
}

// prove compares what the target says it holds with what was sent. Where it
// says nothing, the file is read back. What is wrong is removed again.
func (a *attempt) prove(ctx context.Context, place store.Place, written store.Written, sent store.Hash) (string, error) {
	stored, how := written.Proof, "told by the target"
	if stored.Kind != sent.Kind {
		var err error
		how = "read back"
		stored, _, err = store.ReadBack(ctx, a.route.Target.Store, place, written.Revision, sent.Kind)
		if err != nil {
			return "", store.Errorf(store.ErrOutcomeUnknown, "%s could not be read back: %w", place, err)
		}
	}
	if stored == sent {
		return sent.String() + " (" + how + ")", nil
	}
	_, err := a.route.Target.Store.Remove(ctx, place, written.Revision)
	return "", proofError{store.Errorf(store.ErrTryAgain, "%s arrived with %s and was sent with %s: %w", place, stored, sent, errors.Join(errWrongBytes, err))}
}

var errWrongBytes = errors.New("the bytes differ")

// sameContent compares what is at a place of the target with the source: by
// size, by a hash that both can tell, and else by reading both.
func (a *attempt) sameContent(ctx context.Context, place store.Place, target store.Entry) (bool, string, error) {
	if target.Kind != store.KindFile {
		return false, "", nil
	}
	source, err := a.route.Source.Store.Stat(ctx, a.source())
	if err != nil {
		return false, "", sourceError{err}
	}
	if source.Size >= 0 && target.Size >= 0 && source.Size != target.Size {
		return false, "", nil
	}
	for _, kind := range sharedKinds(a.route.Source.Store, a.route.Target.Store, source, target) {
		theirs, err := store.Sum(ctx, a.route.Target.Store, place, target, kind)
		if store.KindOf(err) == store.ErrUnsupported {
			continue
		} else if err != nil {
			return false, "", err
		}
		mine, err := store.Sum(ctx, a.route.Source.Store, a.source(), source, kind)
		if store.KindOf(err) == store.ErrUnsupported {
			continue
		} else if err != nil {
			return false, "", sourceError{err}
		}
		return mine == theirs, mine.String() + " (told by both)", nil
	}
	mine, _, err := store.ReadBack(ctx, a.route.Source.Store, a.source(), source.Revision, store.CRC64NVME)
	if err != nil {
		return false, "", sourceError{err}
	}
	theirs, _, err := store.ReadBack(ctx, a.route.Target.Store, place, target.Revision, store.CRC64NVME)
	if err != nil {
		return false, "", err
	}
	return mine == theirs, fmt.Sprintf("%s (both read)", mine), nil
}

// sharedKinds are the hashes that both stores may tell: the one that is known of
// both already, or else the cheapest first.
func sharedKinds(a, b store.Store, source, target store.Entry) (kinds []store.HashKind) {
	if mine, _, ok := store.Shared(source.Hashes, target.Hashes); ok {
		return []store.HashKind{mine.Kind}
	}
	tells := func(s store.Store, entry store.Entry, kind store.HashKind) bool {
		if !entry.Hashes.Get(kind).IsZero() {
			return true
		}
		summer, ok := s.(store.Summer)
		return ok && slices.Contains(summer.SumKinds(), kind)
	}
	for _, kind := range store.HashKinds() {
		if tells(a, source, kind) && tells(b, target, kind) {
			kinds = append(kinds, kind)
		}
	}
	return kinds
}
