package sealed

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/zeebo/blake3"

	"deftheron/core/store"
)

// partWriter takes a file in parts, each sealed apart: a part begins at a chunk, and
// the first one with what the file begins with.
type partWriter struct {
	place   *Place
	beneath store.PartWriter
}

// upload is the state that is needed to continue an upload, also after a restart. The key
// of the content is in its header, sealed.
type upload struct {
	Content string `json:"content"`
	Start   []byte `json:"start"`
	For     string `json:"for"`
	ID      string `json:"id"` // the base's
}

func parseUpload(text string) (upload, error) {
	var up upload
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(raw, &up)
	}
	if err != nil {
		return up, store.Errorf(store.ErrNotFound, "the upload is not one of a sealed place")
	}
	return up, nil
}

func (u upload) String() string {
	text, _ := json.Marshal(u) // of texts alone
	return base64.RawURLEncoding.EncodeToString(text)
}

// PartLimits implements store.PartWriter.
func (w *partWriter) PartLimits() (store.PartLimits, bool) {
	limits, ok := w.beneath.PartLimits()
	size := limits.Size
	limits.Size = func(file int64) int64 {
		return max(chunkSize, size(payloadSize(file)+longestStart)/chunkSize*chunkSize)
	}
	return limits, ok
}

// uploadContent is where the n-th content that goes in parts to a place by a run is: it is
// found again without an id.
func (p *Place) uploadContent(run string, ref store.Ref, n int) string {
	sum := blake3.Sum256(append([]byte(ref.String()+"\n"), p.secret...))
	return fmt.Sprintf("%s-parts/%s-%d", run, hex.EncodeToString(sum[:12]), n)
}

// BeginParts implements store.PartWriter.
func (w *partWriter) BeginParts(ctx context.Context, writing store.Writing) (string, error) {
	p := w.place
	ref := writing.Place.As(store.KindFile)
	folder, err := p.allows(ctx, ref, writing.If)
	if err != nil {
		return "", err
	}
	sealed, err := p.newSealing(writing, folder)
	if err != nil {
		return "", err
	}
	opened := upload{Start: sealed.seal.start, For: sealed.set}
	for n := 0; ; n++ {
		opened.Content = p.uploadContent(writing.Run, ref, n)
		_, err := p.base.Stat(ctx, p.contentPlace(opened.Content))
		if store.KindOf(err) == store.ErrNotFound {
			break
		}
		if err != nil {
			return "", err
		}
	}
	at := p.contentPlace(opened.Content)
	if err := p.makeFolder(ctx, at.Folder.Path); err != nil {
		return "", err
	}
	opened.ID, err = w.beneath.BeginParts(ctx, w.writing(writing, opened))
	return opened.String(), err
}

// writing returns the writing of the sealed content at the base.
func (w *partWriter) writing(writing store.Writing, up upload) store.Writing {
	return store.Writing{
		Place: w.place.contentPlace(up.Content), Size: int64(len(up.Start)) + payloadSize(writing.Size), If: store.Absent, Run: writing.Run,
		Verification: writing.Verification,
	}
}

// WritePart implements store.PartWriter.
func (w *partWriter) WritePart(ctx context.Context, writing store.Writing, id string, number int, size int64,
	stream *store.Stream) (store.Part, error) {
	up, seal, err := w.open(id)
	if err != nil {
		return store.Part{}, err
	}
	with, err := seal.payload()
	if err != nil {
		return store.Part{}, err
	}
	limits, _ := w.PartLimits()
	offset := int64(number-1) * limits.Size(writing.Size)
	ends := offset+size == writing.Size
	length := size + (size+chunkSize-1)/chunkSize*(sealedChunk-chunkSize)
	var body io.Reader = newSealer(store.Exactly(stream, size), with, size, offset/chunkSize, ends)
	if number == 1 {
		body = io.MultiReader(newReader(up.Start), body)
		length += int64(len(up.Start))
	}
	kind := w.place.base.Traits().VerificationKind
	if kind == "" {
		kind = store.CRC64NVME
	}
	sealed := store.NewStream(io.NopCloser(body), kind, nil)
	part, err := w.beneath.WritePart(ctx, w.writing(writing, up), up.ID, number, length, sealed)
	if err != nil {
		return store.Part{}, err
	}
	if part.Hash == "" {
		part.Hash = sealed.Sum().Hex
	}
	return store.Part{Number: number, Size: size, Tag: fmt.Sprintf("%d %s %s", length, part.Hash, part.Tag)}, nil
}

func (w *partWriter) open(id string) (upload, *seal, error) {
	up, err := parseUpload(id)
	if err != nil {
		return up, nil, err
	}
	seal, err := w.place.keys.openSeal(up.Start)
	return up, seal, err
}

// CommitParts implements store.PartWriter.
func (w *partWriter) CommitParts(ctx context.Context, writing store.Writing, id string, parts []store.Part) (store.Written, error) {
	p := w.place
	up, seal, err := w.open(id)
	if err != nil {
		return store.Written{}, err
	}
	if _, err := p.allows(ctx, writing.Place.As(store.KindFile), writing.If); err != nil {
		return store.Written{}, err
	}
	beneath := w.writing(writing, up)
	var sealed []store.Part
	for _, part := range parts {
		one := store.Part{Number: part.Number}
		if _, err := fmt.Sscanf(part.Tag, "%d %s", &one.Size, &one.Hash); err != nil {
			return store.Written{}, store.Errorf(store.ErrNotFound, "the receipt of a part of %s is damaged", writing.Place)
		}
		one.Tag = strings.SplitN(part.Tag, " ", 3)[2]
		sealed = append(sealed, one)
	}
	written, err := w.beneath.CommitParts(ctx, beneath, up.ID, sealed)
	if kind := store.KindOf(err); kind == store.ErrExists || kind == store.ErrNotFound { // it may have been put together before
		there, failed := p.base.Stat(ctx, beneath.Place)
		if failed != nil || there.Size != beneath.Size {
			return store.Written{}, err
		}
		written.Entry, err = there, nil
	}
	if err != nil {
		return store.Written{}, err
	}
	if written.Size >= 0 && written.Size != beneath.Size {
		return store.Written{}, store.Errorf(store.ErrTryAgain, "the content of %s has %d bytes instead of %d", writing.Place, written.Size,
			beneath.Size)
	}
	one := &entry{
		Content: up.Content, Size: writing.Size, Modified: writing.Modified,
		Key: append(append([]byte{}, seal.fileKey...), seal.nonce...), Header: int64(len(up.Start)), For: up.For,
	}
	whole, known := store.WholeOf(parts)
	if known {
		one.Hashes = []string{whole.String()}
	}
	made, err := p.enterFile(ctx, writing, one)
	if p.base.Traits().VerificationKind == "" {
		made.Verification = store.Hash{} // what is at the provider has to be read back
	}
	return made, err
}

// AbortParts implements store.PartWriter.
func (w *partWriter) AbortParts(ctx context.Context, _ store.Ref, id string) error {
	up, err := parseUpload(id)
	if err != nil {
		return nil // there is nothing to be given up
	}
	return w.beneath.AbortParts(ctx, w.place.contentPlace(up.Content), up.ID)
}
