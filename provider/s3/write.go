package s3

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"io"
	"mime"
	"path"
	"strings"
	"sync"

	"github.com/minio/minio-go/v7"

	"deftheron/core/store"
)

// smallSize is up to which size a file is read whole before it is sent, so that
// its checksum goes in the header and a request that fails is not half sent.
const smallSize = 256 << 10

var smallBuffers = sync.Pool{New: func() any { b := make([]byte, smallSize); return &b }}

// Write implements store.Store by one PUT, whose object appears when its last
// byte has arrived and its checksum has been verified.
func (a *account) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := a.Prepare(ctx); err != nil {
		return store.Written{}, err
	}
	if err := a.nameRules().Check(writing.Place.Folder.Path, writing.Place.Name); err != nil {
		return store.Written{}, err
	}
	if writing.Size < 0 {
		return store.Written{}, store.Errorf(store.ErrUnsupported, "the size of %s is not known, and one request needs it", writing.Place)
	}
	if err := a.recheck(ctx, writing); err != nil {
		return store.Written{}, err
	}
	stream, err := writing.Content.Open(ctx)
	if err != nil {
		return store.Written{}, err
	}
	defer stream.Close()
	body := store.Exactly(stream, writing.Size)
	if writing.Size <= smallSize {
		return a.writeSmall(ctx, writing, body)
	}
	options := a.putOptions(writing)
	core := a.plain
	if a.found().verification == store.CRC64NVME {
		// A checksum that the source tells goes ahead of the content, which
		// is then sent as it is; any other follows in a trailer, for which
		// the content has to be cut into chunks.
		if sum, err := hex.DecodeString(stream.Told().Hex); err == nil && stream.Told().Kind == store.CRC64NVME {
			checksum(&options, sum)
		} else {
			core, options.Checksum = a.core, minio.ChecksumCRC64NVME
		}
	}
	info, err := core.PutObject(ctx, a.bucket, a.keyOf(writing.Place), body, writing.Size, "", "", options)
	if read := body.Err(); read != nil {
		return store.Written{}, read
	}
	return a.written(writing, info, err)
}

func (a *account) writeSmall(ctx context.Context, writing store.Writing, body io.Reader) (store.Written, error) {
	buffer := smallBuffers.Get().(*[]byte)
	defer smallBuffers.Put(buffer)
	data := (*buffer)[:writing.Size]
	if _, err := io.ReadFull(body, data); err != nil {
		return store.Written{}, err
	}
	if writing.Size == 0 { // ReadFull asks for nothing, and the end must still be looked at
		if _, err := body.Read(make([]byte, 1)); err != io.EOF {
			return store.Written{}, err
		}
	}
	md5, crc := "", ""
	switch verification := a.found().verification; verification {
	case store.MD5:
		md5 = base64.StdEncoding.EncodeToString(sumOf(verification, data))
	case store.CRC64NVME:
		crc = base64.StdEncoding.EncodeToString(sumOf(verification, data))
	}
	info, err := a.putSmall(ctx, writing, data, md5, crc)
	return a.written(writing, info, err)
}

func (a *account) putOptions(writing store.Writing) minio.PutObjectOptions {
	options := minio.PutObjectOptions{
		DisableContentSha256: true, DisableMultipart: true,
		ContentType: mime.TypeByExtension(path.Ext(writing.Place.Name)),
	}
	a.condition(&options, writing.If)
	return options
}

func (a *account) condition(options *minio.PutObjectOptions, condition store.Condition) {
	if revision, ok := condition.Expect(); ok {
		options.SetMatchETag(revision)
	} else if condition.IsAbsent() {
		options.SetMatchETagExcept("*")
	}
}

// recheck looks just before a write where the server obeys no conditions.
func (a *account) recheck(ctx context.Context, writing store.Writing) error {
	if a.found().conditional || writing.If == store.Any {
		return nil
	}
	object, err := a.core.StatObject(ctx, a.bucket, a.keyOf(writing.Place), minio.StatObjectOptions{})
	err = wrap("look at "+writing.Place.String(), err, false)
	missing := store.KindOf(err) == store.ErrNotFound
	if err != nil && !missing {
		return err
	}
	revision, atRevision := writing.If.Expect()
	switch {
	case writing.If.IsAbsent() && !missing:
		return store.Errorf(store.ErrExists, "%s already exists", writing.Place)
	case atRevision && (missing || object.ETag != revision):
		return store.Errorf(store.ErrChanged, "%s changed in the meantime", writing.Place)
	}
	return nil
}

// written makes the answer to a write of a server's.
func (a *account) written(writing store.Writing, info minio.UploadInfo, err error) (store.Written, error) {
	if err != nil {
		err = wrap("write "+writing.Place.String(), err, true)
		_, atRevision := writing.If.Expect()
		if store.KindOf(err) == store.ErrChanged && writing.If.IsAbsent() {
			err = store.Errorf(store.ErrExists, "%s already exists", writing.Place)
		} else if store.KindOf(err) == store.ErrNotFound && atRevision {
			err = store.Errorf(store.ErrChanged, "%s was removed meanwhile", writing.Place)
		}
		return store.Written{}, err
	}
	entry := a.entryOf(writing.Place.Name, listed{ETag: info.ETag, Size: writing.Size})
	written := store.Written{Entry: entry, Verification: entry.Hashes.Get(a.found().verification)}
	if told := crcOf(info.ChecksumCRC64NVME); !told.IsZero() {
		written.Verification = told
		written.Hashes = append(written.Hashes, told)
	}
	return written, nil
}

// crcOf is the CRC64NVME that a server tells in base64; zero where it tells none.
func crcOf(text string) store.Hash {
	sum, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(sum) != 8 {
		return store.Hash{}
	}
	return store.HashOf(store.CRC64NVME, sum)
}

// MakeFolder implements store.Store with a marker object.
func (a *account) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	if err := a.Prepare(ctx); err != nil {
		return store.Entry{}, err
	}
	if err := a.nameRules().Check(place.Folder.Path, place.Name); err != nil {
		return store.Entry{}, err
	}
	_, err := a.plain.PutObject(ctx, a.bucket, a.keyOf(place)+"/", bytes.NewReader(nil), 0, "", "",
		minio.PutObjectOptions{DisableContentSha256: true})
	return store.Entry{Name: place.Name, Kind: store.KindFolder}, wrap("make the folder "+place.String(), err, false)
}

// Remove implements store.Store. The protocol has no conditional deletion that
// all servers obey, so the revision is looked at just before.
func (a *account) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	entry, err := a.Stat(ctx, place.As(store.KindFile))
	if err != nil {
		return "", err
	}
	if revision != "" && entry.Revision != revision {
		return "", store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	err = a.core.RemoveObject(ctx, a.bucket, a.keyOf(place), minio.RemoveObjectOptions{})
	return store.RemovedFinally, wrap("remove "+place.String(), err, true)
}

// RemoveFolder implements store.Store: it removes the marker's key alone, so that
// whatever comes in the folder meanwhile stays.
func (a *account) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	if place.IsStart() {
		return "", store.Errorf(store.ErrRefused, "the start of an account cannot be removed")
	}
	key := a.keyOf(place) + "/"
	page, err := a.page(ctx, key, "", "", 2)
	if err != nil {
		return "", err
	}
	if len(page.Objects) == 0 {
		return "", store.Errorf(store.ErrNotFound, "the folder %s is not there", place)
	}
	for _, object := range page.Objects {
		if object.Key != key || object.Size > 0 {
			return "", store.Errorf(store.ErrRefused, "the folder %s is not empty: it holds %q", place, strings.TrimPrefix(object.Key, key))
		}
	}
	err = a.core.RemoveObject(ctx, a.bucket, key, minio.RemoveObjectOptions{})
	return store.RemovedFinally, wrap("remove the folder "+place.String(), err, true)
}

// Open implements store.Store.
func (a *account) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	key := a.keyOf(reading.Place)
	if key == "" {
		return nil, store.Errorf(store.ErrRefused, "%s is not a file", reading.Place)
	}
	var body io.ReadCloser
	var info minio.ObjectInfo
	var err error
	length := int64(-1) // the library gives the size of the whole
	whole := reading.Offset == 0 && reading.Length == 0
	if whole {
		body, info, err = a.getWhole(ctx, key)
		length = info.Size
	} else if body, info, err = a.getRange(ctx, key, reading, ""); reading.Length > 0 {
		length = reading.Length
	}
	if err != nil {
		return nil, wrap("read "+reading.Place.String(), err, false)
	}
	if reading.Revision != "" && strings.Trim(info.ETag, `"`) != reading.Revision {
		body.Close() // a whole is read without a condition, and not every server obeys one
		return nil, store.Errorf(store.ErrChanged, "%s changed in the meantime", reading.Place)
	}
	r := &reader{body: body, place: reading.Place, left: length}
	if told := crcOf(info.ChecksumCRC64NVME); whole && info.ChecksumMode == "FULL_OBJECT" && !told.IsZero() {
		r.told = store.Hashes{told}
	}
	return r, nil
}

// getRange reads a part of an object, or of a version of it; an empty version is what it is now.
func (a *account) getRange(ctx context.Context, key string, reading store.Reading, version string) (io.ReadCloser, minio.ObjectInfo,
	error) {
	options := minio.GetObjectOptions{VersionID: version}
	if reading.Revision != "" {
		if err := options.SetMatchETag(reading.Revision); err != nil {
			return nil, minio.ObjectInfo{}, store.Errorf(store.ErrChanged, "%s: %w", reading.Place, err)
		}
	}
	last := int64(0) // "to the end", in the library's words
	if reading.Length > 0 {
		last = reading.Offset + reading.Length - 1
	}
	if reading.Offset > 0 || last > 0 {
		if err := options.SetRange(reading.Offset, last); err != nil {
			return nil, minio.ObjectInfo{}, store.Errorf(store.ErrRefused, "%s: %w", reading.Place, err)
		}
	} else if reading.Length > 0 {
		options.Set("Range", "bytes=0-0")
	}
	body, info, _, err := a.core.GetObject(ctx, a.bucket, key, options)
	return body, info, err
}

// reader gives a body that breaks off the error that it deserves.
type reader struct {
	body  io.ReadCloser
	place store.Ref
	left  int64 // -1 where the length is not known
	told  store.Hashes
}

// ContentHashes implements store.ContentHasher.
func (r *reader) ContentHashes() store.Hashes { return r.told }

func (r *reader) Read(p []byte) (int, error) {
	n, err := r.body.Read(p)
	if r.left >= 0 {
		r.left = max(0, r.left-int64(n))
	}
	if err != nil && err != io.EOF {
		err = wrap("read "+r.place.String(), err, false)
	}
	if err == io.EOF && r.left > 0 {
		err = store.Errorf(store.ErrTryAgain, "the body of %s broke off %d bytes early: %w", r.place, r.left, io.ErrUnexpectedEOF)
	}
	return n, err
}

func (r *reader) Close() error { return r.body.Close() }

// SumKinds implements store.Checksummer.
func (a *account) SumKinds() []store.HashKind { return []store.HashKind{store.CRC64NVME, store.MD5} }

// Sum implements store.Checksummer by looking at the object's header.
func (a *account) Sum(ctx context.Context, place store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	object, err := a.core.StatObject(ctx, a.bucket, a.keyOf(place), minio.StatObjectOptions{Checksum: true})
	if err != nil {
		return store.Hash{}, wrap("look at "+place.String(), err, false)
	}
	entry := a.entryOf(place.Name, listedOf(object))
	if revision != "" && entry.Revision != revision {
		return store.Hash{}, store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
	}
	if told := crcOf(object.ChecksumCRC64NVME); object.ChecksumMode == "FULL_OBJECT" && !told.IsZero() {
		entry.Hashes = append(entry.Hashes, told)
	}
	if known := entry.Hashes.Get(kind); !known.IsZero() {
		return known, nil
	}
	return store.Hash{}, store.Errorf(store.ErrUnsupported, "the object store keeps no %s of %s", kind,
		strings.TrimPrefix(place.String(), "/"))
}
