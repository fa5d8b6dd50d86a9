package transfer

import (
	"context"
	"hash"
	"io"
	"time"

	"deftheron/core/bandwidth"
	"deftheron/core/compare"
	"deftheron/core/store"
)

// content is a source's file, hashed on its way with the kind that the target
// gives as verification.
type content struct {
	a      *attempt
	kind   store.HashKind
	stream *store.Stream // of the last reading
	// spooled is the content, where its size was not known.
	spooled *spooled
	// digest is the digest of the last reading, if the rules ask for one.
	digest *digesting
	// size is how many bytes are sent.
	size int64
}

// Open implements store.Content.
func (c *content) Open(ctx context.Context) (*store.Stream, error) {
	c.a.flight.moved.Store(0)
	if c.spooled != nil {
		return c.streamOf(c.spooled.open()), nil
	}
	body, err := c.a.openSource(ctx, 0, 0)
	if err != nil {
		return nil, err
	}
	return c.streamOf(body), nil
}

// openSource reads the item's content, or a part of it: with the other targets that want it,
// where there are any.
func (a *attempt) openSource(ctx context.Context, offset, length int64) (io.ReadCloser, error) {
	direct := func(offset, length int64) (io.ReadCloser, error) {
		body, err := a.route.Source.Store.Open(ctx, store.Reading{
			Place: a.source(), Revision: a.item.Source.Revision, Offset: offset, Length: length,
		})
		if err != nil {
			return nil, compare.NewSourceError(err)
		}
		return a.paying(ctx, body), nil
	}
	if shared, ok := a.sharedReading(); ok {
		body, err := shared.open(a.item.Route, offset, length, func() (io.ReadCloser, error) {
			body, err := direct(0, 0)
			if err != nil {
				return nil, err
			}
			return &sourceBody{body, ctx, a.Bandwidth, &a.progress.waits, []bandwidth.Direction{bandwidth.Down}}, nil
		})
		if err == nil {
			body = &sourceBody{body, ctx, a.Bandwidth, &a.progress.waits, []bandwidth.Direction{bandwidth.Up}}
		}
		return body, err
	}
	body, err := direct(offset, length)
	if err != nil {
		return nil, err
	}
	return a.read(ctx, body), nil
}

// streamOf hashes a body, and records its hash before the last byte is sent.
func (c *content) streamOf(body io.ReadCloser) *store.Stream {
	counted := func(n int) {
		c.a.counted(n)
		if c.stream.Count() == c.size {
			c.a.note(c.stream.Sum().String())
		}
	}
	c.stream = store.NewStream(c.digested(body), c.kind, counted)
	if c.size == 0 {
		c.a.note(c.stream.Sum().String())
	}
	return c.stream
}

// digested has a body hashed for the certificate as well.
func (c *content) digested(body io.ReadCloser) io.ReadCloser {
	if !c.a.Rules.Digest && !c.a.Rules.TracksFiles() {
		return body
	}
	c.digest = &digesting{ReadCloser: body, hash: store.BLAKE3.New()}
	return c.digest
}

// digesting hashes what is read through it.
type digesting struct {
	io.ReadCloser
	hash hash.Hash
}

func (d *digesting) Read(p []byte) (int, error) {
	n, err := d.ReadCloser.Read(p)
	d.hash.Write(p[:n])
	return n, err
}

// ContentHashes implements store.ContentHasher.
func (d *digesting) ContentHashes() store.Hashes {
	if told, ok := d.ReadCloser.(store.ContentHasher); ok {
		return told.ContentHashes()
	}
	return nil
}

func (d *digesting) String() string {
	return store.HashOf(store.BLAKE3, d.hash.Sum(nil)).String()
}

func (a *attempt) counted(n int) { a.flight.moved.Add(int64(n)) }

// read marks the errors of a body as errors of the source, keeps the hashes that came with
// it, and limits it to the run's bandwidth: what is downloaded is uploaded at the same rate.
func (a *attempt) read(ctx context.Context, body io.ReadCloser) io.ReadCloser {
	return &sourceBody{body, ctx, a.Bandwidth, &a.progress.waits, []bandwidth.Direction{bandwidth.Down, bandwidth.Up}}
}

type sourceBody struct {
	io.ReadCloser
	ctx       context.Context
	bandwidth *bandwidth.Limiter
	waits     *waits
	counts    []bandwidth.Direction
}

func (b *sourceBody) Read(p []byte) (int, error) {
	for _, direction := range b.counts {
		p = p[:b.bandwidth.Most(direction, len(p))]
	}
	started := time.Now()
	n, err := b.ReadCloser.Read(p)
	read := time.Now()
	b.waits.source.Add(int64(read.Sub(started)))
	defer func() { b.waits.limit.Add(int64(time.Since(read))) }()
	for _, direction := range b.counts {
		if waiting := b.bandwidth.Wait(b.ctx, direction, n); waiting != nil {
			return n, waiting
		}
	}
	if err != nil && err != io.EOF {
		err = compare.NewSourceError(err)
	}
	return n, err
}

// ContentHashes implements store.ContentHasher.
func (b *sourceBody) ContentHashes() store.Hashes {
	if told, ok := b.ReadCloser.(store.ContentHasher); ok {
		return told.ContentHashes()
	}
	return nil
}

// verificationKind is the hash that the bytes are given on their way.
func (a *attempt) verificationKind() store.HashKind {
	if kind := a.route.Target.Store.Traits().VerificationKind; kind != "" {
		return kind
	}
	return store.CRC64NVME
}

// moveContent writes the source's content to a place, in one request or in
// parts, and verifies it.
func (a *attempt) moveContent(ctx context.Context, place store.Ref,
	condition store.Condition) (written store.Written, verification string, err error) {
	writing := store.Writing{
		Place: place, Size: a.item.Size, Modified: a.item.Source.Modified, If: condition, Run: a.ID,
		Verification: a.Rules.Verification,
	}
	if a.keeping != nil {
		writing.Keep = a.keeping.Place
	}
	if writer, limits, ok := store.Parts(a.route.Target.Store, a.item.Size); ok {
		return a.moveParts(ctx, writer, limits, writing)
	}
	content := &content{a: a, kind: a.verificationKind()}
	writing.Content = content
	if writing.Size < 0 {
		spooled, err := a.spool(ctx)
		if err != nil {
			return store.Written{}, "", err
		}
		defer spooled.close()
		defer func() {
			if err != nil { // another try reads it again, and it may be of another size
				a.progress.resize(a.item, -1)
				a.item.Size = -1
			}
		}()
		content.spooled, writing.Size = spooled, spooled.size
	}
	content.size = writing.Size
	if written, err = a.route.Target.Store.Write(ctx, writing); err != nil {
		a.broke.Store(true)
		return written, "", err
	}
	if content.digest != nil {
		a.digest = content.digest.String()
	}
	verification, err = store.Verify(ctx, a.route.Target.Store, writing, written, content.stream.Sum(), content.stream.Count())
	return written, verification, err
}

// reading says how two contents are compared that may be the same.
func (a *attempt) reading() compare.Reading {
	if a.Rules.Verification == store.VerifyByReading {
		return compare.Read
	}
	return compare.ReadUnreported
}

// sameContent compares a file of the target with the source: by size, by a hash that
// both report, and otherwise by reading both.
func (a *attempt) sameContent(ctx context.Context, place store.Ref, target store.Entry) (bool, string, error) {
	if target.Kind != store.KindFile {
		return false, "", nil
	}
	source, err := a.route.Source.Store.Stat(ctx, a.source())
	if err != nil {
		return false, "", compare.NewSourceError(err)
	}
	if source.Revision != a.item.Source.Revision { // what is remembered is of what was compared
		a.progress.resize(a.item, source.Size)
		a.item.Source, a.item.Size = compare.RememberedOf(source), source.Size
		a.item.Mark = compare.MarkOf(source)
	}
	mine, theirs := compare.File{Store: a.route.Source.Store, Place: a.source(), Entry: source},
		compare.File{Store: a.route.Target.Store, Place: place, Entry: target}
	if a.Rules.Digest && (source.Size < 0 || target.Size < 0 || source.Size == target.Size) {
		same, verification, digest, err := compare.Digested(ctx, mine, theirs)
		a.digest = digest
		return same, verification, err
	}
	same, _, verification, err := compare.Contents(ctx, mine, theirs, a.reading())
	return same, verification, err
}
