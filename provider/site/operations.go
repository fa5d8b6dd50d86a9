package site

import (
	"context"
	"io"
	"iter"
	"time"

	"github.com/fxamacker/cbor/v2"

	"deftheron/core/store"
)

// The operations: the methods of a store, and its capabilities.
const (
	opOpen          = "open"
	opClose         = "close"
	opStat          = "stat"
	opList          = "list"
	opListFlat      = "list-flat"
	opRead          = "read"
	opWrite         = "write"
	opMakeFolder    = "make-folder"
	opRemove        = "remove"
	opRemoveFolder  = "remove-folder"
	opMove          = "move"
	opCopy          = "copy"
	opSum           = "sum"
	opExport        = "export"
	opChanges       = "changes"
	opAwaitChanges  = "await-changes"
	opClean         = "clean"
	opPrepare       = "prepare"
	opSync          = "sync"
	opCheck         = "check"
	opSpace         = "space"
	opOwner         = "owner"
	opLocate        = "locate"
	opAreas         = "areas"
	opLock          = "lock"
	opBeginParts    = "begin-parts"
	opWritePart     = "write-part"
	opCommitParts   = "commit-parts"
	opAbortParts    = "abort-parts"
	opShareList     = "share-list"
	opShare         = "share"
	opSetOwner      = "set-owner"
	opKnowsPerson   = "knows-person"
	opLockEntry     = "lock-entry"
	opUnlockEntry   = "unlock-entry"
	opVersionOf     = "version-of"
	opStatVersion   = "stat-version"
	opReadVersion   = "read-version"
	opCopyVersion   = "copy-version"
	opRemoveVersion = "remove-version"
	opLockVersion   = "lock-version"
)

// operation answers one request. What it returns is the value of the end, unless the exchange
// has written that.
type operation func(ctx context.Context, x *exchange) (cbor.RawMessage, error)

// returns makes an operation of a function that returns a value to be sent.
func returns[T any](f func(ctx context.Context, s store.Store, a *arguments) (T, error)) operation {
	return func(ctx context.Context, x *exchange) (cbor.RawMessage, error) {
		result, err := f(ctx, x.store, x.arguments)
		if err != nil {
			return nil, err
		}
		return encode(result), nil
	}
}

// returnsEntry is returns of an entry.
func returnsEntry(f func(ctx context.Context, s store.Store, a *arguments) (store.Entry, error)) operation {
	return returns(func(ctx context.Context, s store.Store, a *arguments) (entry, error) {
		found, err := f(ctx, s, a)
		return entryOf(found), err
	})
}

// does makes an operation of a function that returns nothing but an error.
func does(f func(ctx context.Context, s store.Store, a *arguments) error) operation {
	return func(ctx context.Context, x *exchange) (cbor.RawMessage, error) {
		return nil, f(ctx, x.store, x.arguments)
	}
}

// reads makes an operation of a function that opens a content.
func reads(f func(ctx context.Context, s store.Store, a *arguments) (io.ReadCloser, error)) operation {
	return func(ctx context.Context, x *exchange) (cbor.RawMessage, error) {
		body, err := f(ctx, x.store, x.arguments)
		if err != nil {
			return nil, err
		}
		defer body.Close()
		x.streamed = true
		x.answer.Stream()
		var head contentHead
		if told, ok := body.(store.ContentHasher); ok {
			for _, hash := range told.ContentHashes() {
				head.Hashes = append(head.Hashes, hash.String())
			}
		}
		if x.failed = writeFrame(x.answer, frameItems, encode(head)); x.failed == nil {
			x.failed = sendContent(x.answer, body)
		}
		return nil, nil
	}
}

// lists makes an operation of a function that lists.
func lists[T any](f func(ctx context.Context, s store.Store, a *arguments) iter.Seq2[T, error], of func(T) entry) operation {
	return func(ctx context.Context, x *exchange) (cbor.RawMessage, error) {
		const most, longest = 256, 100 * time.Millisecond
		var batch []entry
		sent := time.Now()
		flush := func() error {
			err := writeFrame(x.answer, frameItems, encode(batch))
			batch, sent = batch[:0], time.Now()
			return err
		}
		for one, err := range f(ctx, x.store, x.arguments) {
			if err != nil {
				return nil, err
			}
			batch = append(batch, of(one))
			if len(batch) < most && (len(batch)%32 != 0 || time.Since(sent) < longest) {
				continue
			}
			if x.failed = flush(); x.failed != nil {
				return nil, nil
			}
		}
		if len(batch) > 0 {
			x.failed = flush()
		}
		return nil, nil
	}
}

// sent is the content that comes with a request.
type sent struct {
	open func(ctx context.Context) (io.ReadCloser, error)
}

// Open implements store.Content.
func (s sent) Open(ctx context.Context) (*store.Stream, error) {
	body, err := s.open(ctx)
	if err != nil {
		return nil, store.Transport(err, false)
	}
	incoming := newFrames(body)
	kind, payload, err := incoming.next()
	var head contentHead
	if err == nil && kind == frameItems {
		err = decode(payload, &head)
	} else if err == nil { // an end, whose error says why there is no content
		var ended end
		if ended, err = readEnd(payload); err == nil {
			err = ended.Error.error()
		}
		if err == nil {
			err = store.Errorf(store.ErrTryAgain, "the service sent no content")
		}
	}
	if err != nil {
		body.Close()
		return nil, err
	}
	return store.NewStream(toldContent(&content{frames: incoming, closing: body.Close}, head), head.Kind, nil), nil
}

// toldContent returns a body that brings the hashes with it that the head tells, if any.
func toldContent(body *content, head contentHead) io.ReadCloser {
	var hashes store.Hashes
	for _, text := range head.Hashes {
		if hash, ok := store.ParseHash(text); ok {
			hashes = append(hashes, hash)
		}
	}
	if len(hashes) == 0 {
		return body
	}
	return &hashedContent{body, hashes}
}

type hashedContent struct {
	*content
	hashes store.Hashes
}

// ContentHashes implements store.ContentHasher.
func (h *hashedContent) ContentHashes() store.Hashes { return h.hashes }

// unsupported is the error of a capability that the account does not have any more.
func unsupported(what string) error {
	return store.Errorf(store.ErrUnsupported, "the account at the worker cannot %s", what)
}

func writeOperation(ctx context.Context, x *exchange) (cbor.RawMessage, error) {
	result, err := x.store.Write(ctx, x.arguments.Writing.writing(sent{x.content}))
	if err != nil {
		return nil, err
	}
	return encode(writtenOf(result)), nil
}

func writePartOperation(ctx context.Context, x *exchange) (cbor.RawMessage, error) {
	parts, a := x.store.Capabilities().Parts, x.arguments
	if parts == nil {
		return nil, unsupported("take a file in parts")
	}
	stream, err := sent{x.content}.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer stream.Close()
	part, err := parts.WritePart(ctx, a.Writing.writing(nil), a.Upload, a.Number, a.Size, stream)
	if err != nil {
		return nil, err
	}
	return encode(part), nil
}
