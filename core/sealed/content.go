package sealed

import (
	"context"
	"errors"
	"hash"
	"io"
	"time"

	"deftheron/core/store"
)

// mostHashed is up to what size, in bytes, MD5 and SHA-256 of a content are kept beside its
// CRC64NVME, so that it is compared with accounts that report only these without being read.
const mostHashed = 1 << 20

// sealing is a content on its way, sealed. Each reading of it has the same bytes.
type sealing struct {
	plain   store.Content
	seal    *seal
	with    payload
	size    int64  // bytes, opened
	set     string // of recipients
	kind    store.HashKind
	began   bool          // the source was there
	stream  *store.Stream // sealed, of the last reading
	hashing *hashing
}

// newSealing seals a content of a size in bytes, for a base that verifies by kind.
func (p *Place) newSealing(writing store.Writing, folder string) (*sealing, error) {
	is := origin{Folder: folder, Path: writing.Place.String()}
	if !writing.Modified.IsZero() {
		is.Modified = writing.Modified.UTC().Format(time.RFC3339Nano)
	}
	keys, set := p.sealedTo()
	made, err := keys.newSeal(&is)
	if err != nil {
		return nil, err
	}
	with, err := made.payload()
	kind := p.base.Traits().VerificationKind
	if kind == "" {
		kind = store.CRC64NVME
	}
	return &sealing{plain: writing.Content, seal: made, with: with, size: writing.Size, kind: kind, set: set}, err
}

// sealedSize is how many bytes it takes at the provider.
func (s *sealing) sealedSize() int64 { return int64(len(s.seal.start)) + payloadSize(s.size) }

// Open implements store.Content.
func (s *sealing) Open(ctx context.Context) (*store.Stream, error) {
	plain, err := s.plain.Open(ctx)
	if err != nil {
		return nil, err
	}
	s.began = true
	s.hashing = newHashing(plain, s.size)
	source := store.Exactly(s.hashing, s.size)
	body := io.MultiReader(newReader(s.seal.start), newSealer(source, s.with, s.size, 0, true))
	s.stream = store.NewStream(closing{body, plain}, s.kind, nil)
	return s.stream, nil
}

type closing struct {
	io.Reader
	io.Closer
}

// hashing hashes what is read through it, with the kinds that a manifest keeps. The stream
// itself computes CRC64NVME, if it was asked for that.
type hashing struct {
	*store.Stream
	hashes map[store.HashKind]hash.Hash
}

func newHashing(source *store.Stream, size int64) *hashing {
	h := &hashing{source, map[store.HashKind]hash.Hash{}}
	if source.Sum().Kind != store.CRC64NVME {
		h.hashes[store.CRC64NVME] = store.CRC64NVME.New()
	}
	if size <= mostHashed {
		h.hashes[store.MD5], h.hashes[store.SHA256] = store.MD5.New(), store.SHA256.New()
	}
	return h
}

func (h *hashing) Read(p []byte) (int, error) {
	n, err := h.Stream.Read(p)
	for _, one := range h.hashes {
		one.Write(p[:n])
	}
	return n, err
}

func (h *hashing) texts() (texts []string) {
	if sum := h.Sum(); sum.Kind == store.CRC64NVME {
		texts = append(texts, sum.String())
	}
	for _, kind := range []store.HashKind{store.CRC64NVME, store.MD5, store.SHA256} {
		if one := h.hashes[kind]; one != nil {
			texts = append(texts, store.HashOf(kind, one.Sum(nil)).String())
		}
	}
	return texts
}

// Write implements store.Store: first the content, under a random name, and its entry when
// the whole content is there and verified.
func (p *Place) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	ref := writing.Place.As(store.KindFile)
	id, err := p.allows(ctx, ref, writing.If)
	if err != nil {
		return store.Written{}, err
	}
	if writing.Size < 0 {
		return store.Written{}, store.Errorf(store.ErrUnsupported, "%s: the size of what goes to a sealed place has to be known", ref)
	}
	content, end := p.begin(writing.Run)
	defer end()
	sealed, err := p.newSealing(writing, id)
	if err != nil {
		return store.Written{}, err
	}
	if err := p.writeContent(ctx, writing, content, sealed); err != nil {
		return store.Written{}, err
	}
	one := &entry{
		Content: content, Size: writing.Size, Modified: writing.Modified, Key: append(append([]byte{}, sealed.seal.fileKey...),
			sealed.seal.nonce...),
		Header: int64(len(sealed.seal.start)), Hashes: sealed.hashing.texts(), For: sealed.set,
	}
	if one.Modified.IsZero() {
		one.Modified = p.now()
	}
	return p.enterFile(ctx, writing, one)
}

// writeContent writes and verifies a content at the provider.
func (p *Place) writeContent(ctx context.Context, writing store.Writing, content string, sealed *sealing) error {
	at := p.contentPlace(content)
	beneath := store.Writing{
		Place: at, Size: sealed.sealedSize(), If: store.Absent, Run: writing.Run, Content: sealed, Verification: writing.Verification,
	}
	if err := p.makeFolder(ctx, at.Folder.Path); err != nil {
		return err
	}
	written, err := p.base.Write(ctx, beneath)
	if store.KindOf(err) == store.ErrNotFound && sealed.began { // somebody has removed the folder
		p.forgetMade(at.Folder.Path)
		err = store.Errorf(store.ErrTryAgain, "the folder of %s is gone at the provider: %w", at, err)
	}
	if err == nil {
		_, err = store.Verify(ctx, p.base, beneath, written, sealed.stream.Sum(), sealed.stream.Count())
	}
	switch store.KindOf(err) {
	case store.ErrExists, store.ErrOutcomeUnknown: // another try takes another name
		p.discard(removal{Content: content})
		return store.Errorf(store.ErrTryAgain, "the content of %s may not be there whole: %w", writing.Place, err)
	}
	return err
}

// allows looks whether a write may happen, and returns the id of the folder that it is in.
func (p *Place) allows(ctx context.Context, ref store.Ref, condition store.Condition) (folder string, err error) {
	f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
	if err != nil {
		return "", err
	}
	defer f.mu.Unlock()
	_, err = f.allows(ref, condition)
	return f.id, err
}

// allows returns the present entry, or an error if the condition does not hold. f.mu is held.
func (f *folder) allows(ref store.Ref, condition store.Condition) (*entry, error) {
	there, err := f.findRef(ref.As(store.KindFile))
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return nil, err
	}
	revision, expects := condition.Expect()
	switch {
	case there != nil && condition.IsAbsent():
		return nil, store.Errorf(store.ErrExists, "%s already exists", ref)
	case there == nil && expects:
		return nil, store.Errorf(store.ErrChanged, "%s is not there any more", ref)
	case expects && there.Content != revision:
		return nil, store.Errorf(store.ErrChanged, "%s is another version now", ref)
	}
	return there, nil
}

// enterFile gives a content its name, if that may still happen; else it is removed.
func (p *Place) enterFile(ctx context.Context, writing store.Writing, one *entry) (store.Written, error) {
	ref := writing.Place.As(store.KindFile)
	one.setName(ref.Name)
	err := p.enterEntry(ctx, writing, one)
	if err != nil {
		p.discard(removal{Content: one.Content})
		return store.Written{}, err
	}
	shown := one.shown()
	return store.Written{Entry: shown, Verification: shown.Hashes.Get(store.CRC64NVME)}, nil
}

func (p *Place) enterEntry(ctx context.Context, writing store.Writing, one *entry) error {
	ref := writing.Place.As(store.KindFile)
	if writing.Keep != (store.Ref{}) {
		return p.replaceAndKeep(ctx, writing, one)
	}
	f, err := p.folderAt(ctx, ref.Folder.Path, freshLook)
	if err != nil {
		return err
	}
	defer f.mu.Unlock()
	there, err := f.allows(ref, writing.If)
	if err != nil {
		return err
	}
	f.set(p, one.key(), change{entry: one, old: there})
	return nil
}

// openContent reads a content from an offset on, as far as it goes.
func (p *Place) openContent(ctx context.Context, one *entry, offset int64) (io.ReadCloser, error) {
	place := p.contentPlace(one.Content)
	if len(one.Key) != 16+nonceSize || one.Header <= 0 {
		return nil, damaged(place, errors.New("its entry has no key"))
	}
	with, err := (&seal{fileKey: one.Key[:16], nonce: one.Key[16:]}).payload()
	if err != nil {
		return nil, err
	}
	if offset > one.Size {
		return nil, store.Errorf(store.ErrRefused, "%s has %d bytes and cannot be read from %d", place, one.Size, offset)
	}
	first := offset / chunkSize
	if first > 0 && first*chunkSize == one.Size {
		first-- // the last chunk says that it is the last
	}
	body, err := p.base.Open(ctx, store.Reading{Place: place, Offset: one.Header + first*sealedChunk})
	if err != nil {
		return nil, err
	}
	opened := newUnsealer(body, with, first, one.Size, func(why error) error { return damaged(place, why) })
	if _, err := io.CopyN(io.Discard, opened, offset-first*chunkSize); err != nil {
		return nil, errors.Join(err, body.Close())
	}
	return opened, nil
}
