package s3

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"math"
	"net/http"
	"time"

	"github.com/minio/minio-go/v7"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// mostParts is the most parts that an upload may have.
const mostParts = 10_000

// PartLimits implements store.PartWriter.
func (a *account) PartLimits() (store.PartLimits, bool) {
	return store.PartLimits{
		Above: a.partsAbove, Parallel: 2, Uneven: true,
		Size: func(file int64) int64 {
			size := a.partSize
			for size*mostParts < file {
				size *= 2
			}
			return size
		},
	}, true
}

// BeginParts implements store.PartWriter. It asks for the checksum of the whole object,
// which the server combines from those of the parts.
func (a *account) BeginParts(ctx context.Context, writing store.Writing) (string, error) {
	if err := a.Prepare(ctx); err != nil {
		return "", err
	}
	if err := a.nameRules().Check(writing.Place.Folder.Path, writing.Place.Name); err != nil {
		return "", err
	}
	options := minio.PutObjectOptions{ContentType: a.putOptions(writing).ContentType, UserMetadata: map[string]string{}}
	if a.found().verification == store.CRC64NVME {
		options.UserMetadata["x-amz-checksum-algorithm"] = "CRC64NVME"
		options.UserMetadata["x-amz-checksum-type"] = "FULL_OBJECT"
	}
	id, err := a.core.NewMultipartUpload(ctx, a.bucket, a.keyOf(writing.Place), options)
	return id, wrap("begin "+writing.Place.String(), err, false)
}

// WritePart implements store.PartWriter. A part streams; its checksum goes in a
// trailer where the server verifies one, and its ETag is compared otherwise.
func (a *account) WritePart(ctx context.Context, writing store.Writing, upload string, number int, size int64,
	stream *store.Stream) (store.Part, error) {
	body := store.Exactly(stream, size)
	options := minio.PutObjectPartOptions{DisableContentSha256: true}
	verification := a.found().verification
	if verification == store.CRC64NVME {
		options.Trailer = http.Header{"X-Amz-Checksum-Crc64nvme": {"AAAAAAAAAAA="}} // as long as the value will be
		trailed := &trailedReader{ExactReader: body, stream: stream, trailer: options.Trailer}
		part, err := a.core.PutObjectPart(ctx, a.bucket, a.keyOf(writing.Place), upload, number, trailed, size, options)
		return a.part(writing, part, stream, body, err)
	}
	part, err := a.plain.PutObjectPart(ctx, a.bucket, a.keyOf(writing.Place), upload, number, body, size, options)
	return a.part(writing, part, stream, body, err)
}

func (a *account) part(writing store.Writing, part minio.ObjectPart, stream *store.Stream, body *store.ExactReader,
	err error) (store.Part, error) {
	if read := body.Err(); read != nil {
		return store.Part{}, read
	}
	if err != nil {
		// A part that is written twice is written once, so nothing is unknown.
		return store.Part{}, wrap("write a part of "+writing.Place.String(), err, false)
	}
	receipt := store.Part{Number: part.PartNumber, Size: part.Size, Tag: part.ETag}
	switch a.found().verification {
	case store.CRC64NVME:
		receipt.Hash = crcOf(part.ChecksumCRC64NVME).Hex
	case store.MD5:
		receipt.Hash = part.ETag
	}
	if sum := stream.Sum(); receipt.Hash != "" && sum.Kind == a.found().verification && sum.Hex != receipt.Hash {
		return store.Part{}, store.Errorf(store.ErrTryAgain, "a part of %s did not arrive as it was sent", writing.Place)
	}
	return receipt, nil
}

// trailedReader fills in the trailer when the last byte has been read.
type trailedReader struct {
	*store.ExactReader
	stream  *store.Stream
	trailer http.Header
}

func (t *trailedReader) Read(p []byte) (int, error) {
	n, err := t.ExactReader.Read(p)
	if err != nil {
		if sum, decoded := hex.DecodeString(t.stream.Sum().Hex); decoded == nil {
			t.trailer.Set("X-Amz-Checksum-Crc64nvme", base64.StdEncoding.EncodeToString(sum))
		}
	}
	return n, err
}

// CommitParts implements store.PartWriter.
func (a *account) CommitParts(ctx context.Context, writing store.Writing, upload string, parts []store.Part) (store.Written, error) {
	if err := a.recheck(ctx, writing); err != nil {
		return store.Written{}, err
	}
	complete := make([]minio.CompletePart, len(parts))
	for i, part := range parts {
		complete[i] = minio.CompletePart{PartNumber: part.Number, ETag: part.Tag}
		if sum, err := hex.DecodeString(part.Hash); err == nil && a.found().verification == store.CRC64NVME {
			complete[i].ChecksumCRC64NVME = base64.StdEncoding.EncodeToString(sum)
		}
	}
	var options minio.PutObjectOptions
	a.condition(&options, writing.If)
	info, err := a.core.CompleteMultipartUpload(ctx, a.bucket, a.keyOf(writing.Place), upload, complete, options)
	if store.KindOf(wrap("", err, false)) == store.ErrNotFound {
		return store.Written{}, store.Errorf(store.ErrNotFound, "the upload of %s is gone", writing.Place)
	}
	written, err := a.written(writing, info, err)
	if err != nil {
		return written, err
	}
	// Servers differ in whether this answer's ETag is the one kept.
	entry, err := a.together(ctx, writing)
	if err != nil {
		return store.Written{}, store.Errorf(store.ErrOutcomeUnknown, "%s was put together, but cannot be looked at: %w", writing.Place, err)
	}
	written.Entry = entry
	if written.Verification.IsZero() {
		written.Verification = entry.Hashes.Get(a.found().verification)
	}
	return written, nil
}

// A server that is asked a second time to put parts together, as by a process that was
// killed while it asked, may say at once that this was done, while it is still at it.
// It is waited for at least patience, and longer by the size at rate bytes a second.
const (
	patience = 30 * time.Second
	rate     = 20 << 20
)

// together is the object that was put together, once it is there.
func (a *account) together(ctx context.Context, writing store.Writing) (entry store.Entry, err error) {
	looking := retry.Policy{
		First: 100 * time.Millisecond, Longest: 2 * time.Second, Tries: math.MaxInt,
		Within: patience + time.Duration(writing.Size/rate)*time.Second,
		May:    func(err error) bool { return store.KindOf(err) == store.ErrNotFound },
	}
	err = looking.Do(ctx, func() error {
		entry, err = a.Stat(ctx, writing.Place.As(store.KindFile))
		return err
	})
	return entry, err
}

// AbortParts implements store.PartWriter.
func (a *account) AbortParts(ctx context.Context, place store.Ref, upload string) error {
	err := wrap("give up "+place.String(), a.core.AbortMultipartUpload(ctx, a.bucket, a.keyOf(place), upload), false)
	if store.KindOf(err) == store.ErrNotFound {
		return nil
	}
	return err
}

// Clean is store.Capabilities.Clean: the open uploads of the places named.
func (a *account) Clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	var cleaned []store.Leftover
	for _, place := range cleaning.Uploads {
		key := a.keyOf(place)
		open, err := a.core.ListMultipartUploads(ctx, a.bucket, key, "", "", "", 1000)
		if err := wrap("look for uploads of "+place.String(), err, false); store.KindOf(err) == store.ErrNotFound {
			continue // some servers say so where there is none
		} else if err != nil {
			return cleaned, err
		}
		for _, upload := range open.Uploads {
			if upload.Key != key || cleaning.Keep[upload.UploadID] {
				continue
			}
			if err := a.AbortParts(ctx, place, upload.UploadID); err != nil {
				return cleaned, err
			}
			cleaned = append(cleaned, store.Leftover{Run: cleaning.Run, Place: place, Upload: upload.UploadID})
		}
	}
	return cleaned, nil
}
