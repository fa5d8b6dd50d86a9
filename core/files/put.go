package files

import (
	"bytes"
	"context"
	"io"
	"os"
	"strings"
	"time"

	"deftheron/core/store"
)

// Putting is content from outside that is to become a file.
type Putting struct {
	Place    store.Ref
	Size     int64 // in bytes; -1 is unknown
	Modified time.Time
	If       store.Condition
	// Run marks the leftovers of a process that dies.
	Run  string
	Body io.ReadCloser
	// Scratch is the folder for content of unknown size, if the store
	// needs the size before the content.
	Scratch string
	// Counted, if not nil, is called with the size of every chunk that was read.
	Counted func(int)
}

// Put is a file that was written and verified.
type Put struct {
	store.Entry
	Verification string
	// Received is the CRC64NVME of what came from outside.
	Received store.Hash
}

// Write writes content that can be read only once, creates the folders for it, and
// verifies it. If the store takes files of its size in parts, the parts are written one
// after the other.
func Write(ctx context.Context, s store.Store, putting Putting) (Put, error) {
	if putting.Place.IsStart() {
		return Put{}, store.Errorf(store.ErrRefused, "this is the start of an account, and no file can be there; name a file in it")
	}
	if err := s.Traits().NameError(putting.Place.Folder.Path, putting.Place.Name); err != nil {
		return Put{}, err
	}
	if limit := s.Traits().LargestFile; limit > 0 && putting.Size > limit {
		return Put{}, store.Errorf(store.ErrTooLarge, "%s has %d bytes, and the account holds files of %d at most", putting.Place, putting.Size,
			limit)
	}
	if err := store.Prepare(ctx, s); err != nil {
		return Put{}, err
	}
	if err := MakeFolders(ctx, s, putting.Place.Folder.Path); err != nil {
		return Put{}, err
	}
	received := &tally{small: putting.Size >= 0 && putting.Size <= smallSize,
		hash: store.NewStream(putting.Body, store.CRC64NVME, putting.Counted)}
	put, err := write(ctx, s, putting, received)
	if store.KindOf(err) == store.ErrUnsupported && putting.Size < 0 && !received.begun {
		put, err = spool(ctx, s, putting, received)
	}
	put.Received = received.hash.Sum()
	return put, err
}

// MakeFolders makes a folder, and those that it is in, where they are missing.
func MakeFolders(ctx context.Context, s store.Store, path store.Path) error {
	if path == "" || s.Traits().Folders == store.FoldersImplied {
		return nil
	}
	entry, err := store.Occupant(ctx, s, path.Ref())
	if err == nil && entry.Kind == store.KindFolder {
		return nil
	}
	if err == nil {
		return store.Errorf(store.ErrExists, "%s is a file, where a folder is needed", path.Ref())
	}
	if store.KindOf(err) != store.ErrNotFound {
		return err
	}
	parent, name := path.Split()
	if err := s.Traits().NameError(parent, name); err != nil {
		return err
	}
	if err := MakeFolders(ctx, s, parent); err != nil {
		return err
	}
	_, err = s.MakeFolder(ctx, path.Ref())
	return err
}

// smallSize is up to which size content is held, so that a provider can read it
// again, as it has to where a sign-in is asked for again.
const smallSize = 256 << 10

// tally is the body from outside, which can be read once unless it is small.
type tally struct {
	hash  *store.Stream
	begun bool
	small bool
	data  []byte
}

// take returns the body for one reading.
func (t *tally) take() (io.Reader, error) {
	if t.small {
		if !t.begun {
			t.begun = true
			data, err := io.ReadAll(io.LimitReader(t.hash, smallSize+1)) // more than was announced is found out by who reads it
			if err != nil {
				return nil, err
			}
			t.data = data
		}
		return bytes.NewReader(t.data), nil
	}
	if t.begun {
		return nil, store.Errorf(store.ErrTryAgain, "what was sent can be read only once; send it again")
	}
	t.begun = true
	return t.hash, nil
}

// once is store.Content of a tally.
type once struct {
	tally *tally
	kind  store.HashKind
	last  *store.Stream
}

// Open implements store.Content.
func (o *once) Open(context.Context) (*store.Stream, error) {
	body, err := o.tally.take()
	if err != nil {
		return nil, err
	}
	o.last = store.NewStream(io.NopCloser(body), o.kind, nil)
	return o.last, nil
}

func verificationKind(s store.Store) store.HashKind {
	if kind := s.Traits().VerificationKind; kind != "" {
		return kind
	}
	return store.CRC64NVME
}

func (p Putting) writing() store.Writing {
	return store.Writing{Place: p.Place, Size: p.Size, Modified: p.Modified, If: p.If, Run: p.Run}
}

func write(ctx context.Context, s store.Store, putting Putting, received *tally) (Put, error) {
	writing := putting.writing()
	if writer, limits, ok := store.Parts(s, putting.Size); ok {
		return writeParts(ctx, s, writer, limits, writing, received)
	}
	content := &once{tally: received, kind: verificationKind(s)}
	writing.Content = content
	written, err := s.Write(ctx, writing)
	if err != nil {
		return Put{}, err
	}
	return verify(ctx, s, putting, written, content.last.Sum())
}

func verify(ctx context.Context, s store.Store, putting Putting, written store.Written, sent store.Hash) (Put, error) {
	verification, err := store.Verify(ctx, s, store.Writing{Place: putting.Place}, written, sent, written.Size)
	if err == nil {
		err = store.Sync(ctx, s)
	}
	return Put{Entry: written.Entry, Verification: verification}, err
}

func writeParts(ctx context.Context, s store.Store, writer store.PartWriter, limits store.PartLimits, writing store.Writing,
	received *tally) (put Put, err error) {
	if writing.If.IsAbsent() { // not to be found out after all has been sent
		if _, err := store.Occupant(ctx, s, writing.Place.As(store.KindFile)); err == nil {
			return put, store.Errorf(store.ErrExists, "%s already exists", writing.Place)
		}
	}
	body, err := received.take()
	if err != nil {
		return put, err
	}
	upload, err := writer.BeginParts(ctx, writing)
	if err != nil {
		return put, err
	}
	defer func() {
		if err != nil {
			lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
			defer cancel()
			_ = writer.AbortParts(lasting, writing.Place, upload)
		}
	}()
	partSize := limits.Size(writing.Size)
	var parts []store.Part
	for offset := int64(0); offset < writing.Size; offset += partSize {
		size := min(partSize, writing.Size-offset)
		stream := store.NewStream(io.NopCloser(io.LimitReader(body, size)), verificationKind(s), nil)
		part, err := writer.WritePart(ctx, writing, upload, len(parts)+1, size, stream)
		if err != nil {
			return put, err
		}
		if sum := stream.Sum(); part.Hash != "" && part.Hash != sum.Hex {
			return put, store.Errorf(store.ErrTryAgain, "part %d of %s arrived with %s and was sent with %s: %w", part.Number, writing.Place,
				part.Hash, sum.Hex, store.ErrVerification)
		}
		parts = append(parts, part)
	}
	if _, err := body.Read(make([]byte, 1)); err != io.EOF {
		return put, store.Errorf(store.ErrChanged, "%s is longer than the %d bytes that were announced", writing.Place, writing.Size)
	}
	written, err := writer.CommitParts(ctx, writing, upload, parts)
	if err != nil {
		return put, err
	}
	return verify(ctx, s, Putting{Place: writing.Place}, written, received.hash.Sum())
}

// spool keeps content of unknown size in a scratch file first.
func spool(ctx context.Context, s store.Store, putting Putting, received *tally) (Put, error) {
	file, err := os.CreateTemp(putting.Scratch, "arriving-*")
	if err != nil {
		return Put{}, store.Errorf(store.ErrRefused, "the account needs the size first, and the content cannot be kept meanwhile: %w", err)
	}
	defer file.Close()
	if err := os.Remove(file.Name()); err != nil { // it lasts as long as it is open
		return Put{}, store.Errorf(store.ErrRefused, "%w", err)
	}
	body, err := received.take()
	if err != nil {
		return Put{}, err
	}
	size, err := io.Copy(file, body)
	if err != nil {
		if strings.Contains(err.Error(), "no space") {
			return Put{}, store.Errorf(store.ErrNoSpace, "the service's own disk has no room to keep the content until its size is known: %w", err)
		}
		return Put{}, err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return Put{}, err
	}
	putting.Size = size
	spooled := &tally{hash: store.NewStream(io.NopCloser(file), store.CRC64NVME, nil)}
	return write(ctx, s, putting, spooled)
}
