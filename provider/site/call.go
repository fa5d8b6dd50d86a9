package site

import (
	"context"
	"errors"
	"io"
	"sync"
	"time"

	"github.com/fxamacker/cbor/v2"

	"deftheron/core/store"
)

// state is what is known of an account.
type state struct {
	mu          sync.Mutex
	description *description
	known       uint64
	traits      store.Traits
	able        store.Capabilities
	located     map[store.Folder]string
}

// take takes in a description that came with an answer.
func (a *account) take(d *description) error {
	if d == nil {
		return nil
	}
	traits, err := d.Traits.traits()
	if err != nil {
		return err
	}
	able, known := a.capabilities(d), sumOf(d)
	if ends := a.opening.CertificateEnds; ends != nil && d.Certificate != 0 {
		ends(time.Unix(d.Certificate, 0))
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.description, a.known, a.traits, a.able = d, known, traits, able
	return nil
}

// described returns what is known of the account; nil before it was opened.
func (a *account) described() *description {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.description
}

// answer is an answer whose first frame has been read.
type answer struct {
	body   io.ReadCloser
	frames *frames
	kind   byte // of the current frame
	data   []byte
	done   func(error)
	closed bool
}

// Close gives the answer up, unless it has ended.
func (a *answer) Close() error { return a.end(nil) }

// end ends the request at the gate, once.
func (a *answer) end(err error) error {
	if a.closed {
		return nil
	}
	a.closed = true
	a.done(err)
	return a.body.Close()
}

// changing are the operations after whose failure it is not known whether they were carried
// out.
var changing = map[string]bool{
	opWrite: true, opMakeFolder: true, opRemove: true, opRemoveFolder: true, opMove: true, opCopy: true, opCommitParts: true,
	opCopyVersion: true, opShare: true, opSetOwner: true, opCarry: true, opEndConsent: true,
}

// ungated are the operations that wait for something to happen: they do not take a place
// among the requests that go on at once.
var ungated = map[string]bool{opAwaitChanges: true, opClose: true, opLocate: true}

// send sends a request and returns its answer, from its first frame on. An account that is not
// open at the worker is opened first.
func (a *account) send(ctx context.Context, operation string, with *arguments, content sender) (*answer, error) {
	done := func(error) {}
	if !ungated[operation] {
		var err error
		if done, err = a.gate.Pass(ctx); err != nil {
			return nil, late(err)
		}
	}
	got, err := a.sendOpen(ctx, operation, with, content)
	if err != nil {
		done(err)
		return nil, err
	}
	got.done = done
	return got, nil
}

// sendOpen is send without the gate.
func (a *account) sendOpen(ctx context.Context, operation string, with *arguments, content sender) (*answer, error) {
	if with == nil {
		with = &arguments{}
	}
	a.mu.Lock()
	with.Known = a.known
	a.mu.Unlock()
	call := Call{Request: a.request(ctx, operation, with), Content: content}
	for attempt := 0; ; attempt++ {
		got, worker, err := a.first(ctx, call)
		if err != nil {
			return nil, lost(err, operation)
		}
		if got.kind != frameEnd {
			return got, nil
		}
		ended, err := readEnd(got.data)
		if err != nil {
			_ = got.body.Close()
			return nil, lost(err, operation)
		}
		if ended.Error == nil || ended.Error.Kind != notOpen {
			return got, nil
		}
		_ = got.body.Close()
		if attempt == 2 {
			return nil, store.Errorf(store.ErrTryAgain, "the worker did not keep the account open")
		}
		if err := a.openAt(ctx, worker); err != nil {
			return nil, err
		}
		call.Worker = worker
	}
}

// first sends a request and reads the first frame of its answer.
func (a *account) first(ctx context.Context, call Call) (*answer, string, error) {
	body, worker, err := a.caller.Call(ctx, call)
	if err != nil {
		return nil, worker, err
	}
	got := &answer{body: body, frames: newFrames(body), done: func(error) {}}
	if got.kind, got.data, err = got.frames.next(); err != nil {
		_ = body.Close()
		return nil, worker, err
	}
	return got, worker, nil
}

func (a *account) request(ctx context.Context, operation string, with *arguments) []byte {
	r := request{Account: a.opening.ID, Generation: a.opening.Generation, Operation: operation, Arguments: encode(with)}
	if lock, ok := store.LockOf(ctx); ok {
		r.Lock = &wireLock{refOf(lock.Ref), lock.Token}
	}
	return encode(r)
}

// lost is the error of a request whose answer did not come; nil if it did.
func lost(err error, operation string) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, context.DeadlineExceeded) && !changing[operation]:
		return late(err)
	case errors.Is(err, ErrOffline), !changing[operation]:
		if store.KindOf(err) == nil {
			err = store.Errorf(store.ErrTryAgain, "%w", err)
		}
		return err
	}
	return store.Errorf(store.ErrOutcomeUnknown, "the answer of the worker was lost: %w", err)
}

// late makes of the end of a caller's time an error of the account, as providers do.
func late(err error) error {
	if errors.Is(err, context.DeadlineExceeded) {
		return store.Errorf(store.ErrTryAgain, "the worker did not answer in time: %w", err)
	}
	return err
}

// sealedTo returns what the account is opened with at a worker.
func (a *account) sealedTo(ctx context.Context, worker string) (*opening, error) {
	o := &opening{Name: a.opening.Account, Provider: a.provider, Definition: a.opening.Definition, Options: a.opening.Options,
		Start: string(a.opening.Start), ReadOnly: a.opening.ReadOnly, Lent: a.opening.Lent, Now: momentOf(time.Now())}
	if a.opening.Secrets != nil {
		secret, err := a.opening.Secrets.Load(ctx)
		if err != nil {
			return nil, err
		}
		if len(secret) > 0 {
			if o.Secret, err = a.caller.Seal(ctx, worker, secret); err != nil {
				return nil, err
			}
		}
	}
	return o, nil
}

// openAt opens the account at a worker.
func (a *account) openAt(ctx context.Context, worker string) error {
	o, err := a.sealedTo(ctx, worker)
	if err != nil {
		return err
	}
	got, _, err := a.first(ctx, Call{Worker: worker, Request: a.request(ctx, opOpen, &arguments{Opening: o})})
	if err != nil {
		return lost(err, opOpen)
	}
	defer got.Close()
	_, err = a.finish(got)
	return err
}

// finish reads the end of an answer whose current frame is the last one.
func (a *account) finish(got *answer) (cbor.RawMessage, error) {
	if got.kind != frameEnd {
		return nil, store.Errorf(store.ErrTryAgain, "the worker sent a frame %q in place of the end", got.kind)
	}
	ended, err := readEnd(got.data)
	if err == nil {
		err = a.take(ended.Description)
	}
	if err == nil {
		err = ended.Error.error()
	}
	return ended.Value, err
}

// ask sends a request whose answer is one value.
func ask[T any](ctx context.Context, a *account, operation string, with *arguments, content sender) (result T, err error) {
	got, err := a.send(ctx, operation, with, content)
	if err != nil {
		return result, err
	}
	raw, err := a.finish(got)
	if err == nil && len(raw) > 0 {
		if err = decode(raw, &result); err != nil {
			err = lost(err, operation)
		}
	}
	_ = got.end(err)
	return result, err
}

// tell sends a request whose answer has no value.
func (a *account) tell(ctx context.Context, operation string, with *arguments) error {
	_, err := ask[cbor.RawMessage](ctx, a, operation, with, nil)
	return err
}

// read sends a request whose answer is a content.
func (a *account) read(ctx context.Context, operation string, with *arguments) (io.ReadCloser, error) {
	got, err := a.send(ctx, operation, with, nil)
	if err != nil {
		return nil, err
	}
	if got.kind == frameEnd {
		_, err = a.finish(got)
		if err == nil {
			err = store.Errorf(store.ErrTryAgain, "the worker sent no content")
		}
		_ = got.end(err)
		return nil, err
	}
	var head contentHead
	if err := decode(got.data, &head); err != nil {
		_ = got.end(err)
		return nil, err
	}
	body := &content{frames: got.frames}
	body.closing = func() error {
		if body.err == io.EOF {
			return got.end(nil)
		}
		return got.end(body.err)
	}
	return toldContent(body, head), nil
}

// sender writes a content; see Call.
type sender func(ctx context.Context, w io.Writer) error

// sending sends a content, and keeps the error that reading it ended with.
type sending struct {
	from   store.Content
	failed error
}

// send is a sender.
func (s *sending) send(ctx context.Context, w io.Writer) error {
	stream, err := s.from.Open(ctx)
	if err != nil {
		s.failed = err
		return writeEnd(w, end{Error: wireErrorOf(err)})
	}
	defer stream.Close()
	return sendStream(w, stream, &s.failed)
}

// sendStream writes a stream, after what is known of it. failed becomes the error of the stream.
func sendStream(w io.Writer, stream *store.Stream, failed *error) error {
	head := contentHead{Kind: stream.Kind()}
	if told := stream.Told(); !told.IsZero() {
		head.Hashes = []string{told.String()}
	}
	if err := writeFrame(w, frameItems, encode(head)); err != nil {
		return err
	}
	return sendContent(w, keepsError{stream, failed})
}

// keepsError keeps the error that reading ended with.
type keepsError struct {
	io.Reader
	failed *error
}

// Read implements io.Reader.
func (k keepsError) Read(p []byte) (int, error) {
	n, err := k.Reader.Read(p)
	if err != nil && err != io.EOF {
		*k.failed = err
	}
	return n, err
}
