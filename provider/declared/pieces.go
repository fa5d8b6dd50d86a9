package declared

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"reflect"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sync/semaphore"

	"deftheron/core/retry"
	"deftheron/core/store"
)

const (
	giveUpTime = 20 * time.Second
	// heldAtOnce bounds the pieces that are held in memory because their
	// hash has to be known first, in bytes.
	heldAtOnce = 64 << 20
)

// sendingOn is how an upload is gone on with after a piece failed.
var sendingOn = retry.Policy{First: 100 * time.Millisecond, Longest: 2 * time.Second, Tries: 7}

var held = semaphore.NewWeighted(heldAtOnce)

// tus are the requests of tus 1.0 after its creation, as a definition would
// have them.
var tus = sync.OnceValue(func() *tusRequests {
	u := &tusRequests{}
	err := yaml.Unmarshal([]byte(`
send:
  request: PATCH {+kept.location}
  headers: {Tus-Resumable: '"1.0.0"', Upload-Offset: .part.offset}
  content: true
  content-type: '"application/offset+octet-stream"'
ask:
  request: HEAD {+kept.location}
  headers: {Tus-Resumable: '"1.0.0"'}
  offset: '$headers["upload-offset"] | tonumber'
give-up:
  request: DELETE {+kept.location}
  headers: {Tus-Resumable: '"1.0.0"'}
`), u)
	if err == nil {
		err = compileAll(reflect.ValueOf(u).Elem(), "tus", "")
	}
	if err != nil {
		panic(err) // it is a constant
	}
	return u
})

type tusRequests struct {
	Send   Operation `yaml:"send"`
	Ask    Ask       `yaml:"ask"`
	GiveUp Operation `yaml:"give-up"`
}

func (w *writer) sendOperation() *Operation {
	if w.upload.Tus && w.upload.Send == nil {
		return &tus().Send
	}
	return w.upload.Send
}

func (w *writer) askOperation() *Ask {
	if w.upload.Tus && w.upload.Ask == nil {
		return &tus().Ask
	}
	return w.upload.Ask
}

func (w *writer) giveUpOperation() *Operation {
	if w.upload.Tus && w.upload.GiveUp == nil {
		return &tus().GiveUp
	}
	return w.upload.GiveUp
}

// content sends the content, whole or in pieces, and returns the last answer and
// what each piece kept.
func (w *writer) content(ctx context.Context) (*answer, []any, error) {
	send := w.sendOperation()
	if send == nil {
		return nil, nil, store.Errorf(store.ErrUnsupported, "the provider definition does not say how content is sent (uploads.send)")
	}
	last := w.upload.Finish == nil // its last request makes the file visible
	if w.upload.Pieces == nil {
		got, err := w.whole(ctx, send, last)
		return got, nil, err
	}
	size, err := w.partSize(ctx)
	if err != nil {
		return nil, nil, err
	}
	p := &pieces{writer: w, send: send, size: size, visible: last}
	defer p.close()
	for tries := 0; ; {
		err := p.run(ctx)
		if err == nil {
			return p.got, p.parts, nil
		}
		if tries++; tries >= sendingOn.Tries || p.source != nil || w.askOperation() == nil || !mayPass(err) {
			return nil, nil, err
		}
		if waited := retry.Sleep(ctx, max(store.Wait(err), sendingOn.After(tries+1))); waited != nil {
			return nil, nil, err
		}
		if asked := p.goOn(ctx); asked != nil {
			return nil, nil, fmt.Errorf("%w (and then %w)", err, asked)
		}
	}
}

// mayPass reports whether a piece may be sent again after an error.
func mayPass(err error) bool {
	kind := store.KindOf(err)
	return kind == store.ErrTryAgain || kind == store.ErrOutcomeUnknown || kind == store.ErrSlowDown
}

// whole sends all of the content in one request.
func (w *writer) whole(ctx context.Context, send *Operation, visible bool) (*answer, error) {
	var source error
	content := &payload{size: w.writing.Size, again: w.writing.Size <= smallSize}
	content.open = func() (io.ReadCloser, error) {
		stream, err := w.writing.Content.Open(ctx)
		if err != nil {
			source = err
			return nil, err
		}
		body := &watchedBody{ExactReader: store.Exactly(stream, w.writing.Size), stream: stream, failed: func(err error) { source = err }}
		if visible && w.writing.Size > smallSize {
			body.last = func() error { return w.stillHolds(ctx) }
		}
		return body, nil
	}
	if w.writing.Size == 0 { // a request without a body reads nothing
		body, err := content.open()
		if err == nil {
			_, err = io.Copy(io.Discard, body)
			body.Close()
		}
		if err != nil {
			return nil, err
		}
	}
	w.in["part"] = map[string]any{"number": 1, "offset": 0, "length": int(w.writing.Size), "last": int(w.writing.Size) - 1, "final": true}
	got, err := w.a.do(ctx, "writing", send, w.in, doing{content: content, changes: visible})
	if err != nil && source != nil {
		return nil, source
	}
	return got, err
}

// smallSize is up to which size content is read again for a request that has to
// be sent again.
const smallSize = 1 << 20

// watchedBody tells of the error of the source, which the one of the request
// hides.
type watchedBody struct {
	*store.ExactReader
	stream *store.Stream
	failed func(error)
	// last, where not nil, is asked before the last bytes are given: an error of it
	// breaks the request off, and nothing gets its name.
	last func() error
}

// Read implements io.Reader.
func (b *watchedBody) Read(p []byte) (int, error) {
	n, err := b.ExactReader.Read(p)
	if b.last != nil && (err == io.EOF || err == nil && b.ExactReader.Left() == 0) {
		if broken := b.last(); broken != nil {
			n, err = 0, broken
		}
		b.last = nil
	}
	if err != nil && err != io.EOF {
		b.failed(err)
	}
	return n, err
}

// Close implements io.Closer.
func (b *watchedBody) Close() error { return b.stream.Close() }

// pieces sends content a piece at a time.
type pieces struct {
	*writer
	send    *Operation
	size    int64
	visible bool

	stream *store.Stream
	exact  *store.ExactReader
	source error // of the stream
	offset int64
	parts  []any
	got    *answer
}

func (p *pieces) close() {
	if p.stream != nil {
		p.stream.Close()
		p.stream = nil
	}
}

// run sends the remaining pieces.
func (p *pieces) run(ctx context.Context) error {
	if p.stream == nil {
		if err := p.open(ctx); err != nil {
			return err
		}
	}
	total := p.writing.Size
	for p.offset < total || total == 0 && p.got == nil {
		length := min(p.size, total-p.offset)
		if err := p.piece(ctx, length); err != nil {
			return err
		}
		p.offset += length
	}
	return nil
}

// open reads the content again, up to where the upload is.
func (p *pieces) open(ctx context.Context) error {
	stream, err := p.writing.Content.Open(ctx)
	if err != nil {
		p.source = err
		return err
	}
	p.stream, p.exact, p.source = stream, store.Exactly(stream, p.writing.Size), nil
	if p.offset >= p.writing.Size { // even the end has to be read: it says whether the content was whole
		_, p.source = io.Copy(io.Discard, p.exact)
		return p.source
	}
	_, p.source = io.CopyN(io.Discard, p.exact, p.offset)
	return p.source
}

// piece sends one piece.
func (p *pieces) piece(ctx context.Context, length int64) error {
	number := int(p.offset/p.size) + 1
	final := p.offset+length == p.writing.Size
	part := map[string]any{"number": number, "offset": int(p.offset), "length": int(length), "last": int(p.offset+length) - 1, "final": final}
	content := &payload{size: length, open: func() (io.ReadCloser, error) {
		return &watchedPiece{Reader: io.LimitReader(p.exact, length), p: p}, nil
	}}
	if len(p.upload.Pieces.Hashes) > 0 || length <= smallSize {
		if err := held.Acquire(ctx, min(length, heldAtOnce)); err != nil {
			return err
		}
		defer held.Release(min(length, heldAtOnce))
		data := make([]byte, length)
		if _, err := io.ReadFull(p.exact, data); err != nil {
			p.source = err
			return err
		}
		sums, err := hashesOf(bytes.NewReader(data), p.upload.Pieces.Hashes)
		if err != nil {
			return err
		}
		part["hash"] = sums
		content = bytesPayload(data)
	}
	p.in["part"] = part
	if p.visible && final {
		if err := p.stillHolds(ctx); err != nil {
			return err
		}
	}
	in := p.in.with(nil)
	got, err := p.a.do(ctx, "writing", p.send, in, doing{content: content, changes: p.visible && final})
	if err != nil {
		if p.source != nil {
			return p.source
		}
		return err
	}
	p.in["kept"] = in["kept"]
	p.got = got
	p.parts = append(p.parts, partOf(part, in))
	return nil
}

// partOf is a piece as .parts has it.
func partOf(part map[string]any, in scope) map[string]any {
	one := map[string]any{"kept": in["kept"]}
	for name, value := range part {
		one[name] = value
	}
	return one
}

type watchedPiece struct {
	io.Reader
	p *pieces
}

// Read implements io.Reader.
func (w *watchedPiece) Read(b []byte) (int, error) {
	n, err := w.Reader.Read(b)
	if err != nil && err != io.EOF {
		w.p.source = err
	}
	return n, err
}

// Close implements io.Closer. The stream goes on with the next piece.
func (w *watchedPiece) Close() error { return nil }

// goOn asks how far the upload got, and opens the content there.
func (p *pieces) goOn(ctx context.Context) error {
	ask := p.askOperation()
	in := p.in.with(nil)
	got, err := p.a.do(ctx, "asking how far an upload got", &ask.Operation, in, doing{})
	if err != nil {
		return err
	}
	value, err := ask.Offset.run(ctx, got.input(in), nil)
	if err != nil {
		return err
	}
	offset, ok := intOf(value)
	if !ok || offset < 0 || offset > p.writing.Size {
		return store.Errorf(store.ErrTryAgain, "the service says that %s of %d bytes have arrived", textOf(value), p.writing.Size)
	}
	p.close()
	p.offset, p.got = offset, got
	if offset == 0 {
		p.got = nil
	}
	return nil
}
