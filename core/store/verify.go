package store

import (
	"context"
	"errors"
)

// ErrVerification says that what a store holds is not what was sent to it.
var ErrVerification = errors.New("the bytes differ")

// Verify compares what a store says that it holds, after a write, with the hash
// of what was sent. Where it says nothing of that kind, the file is read back.
// It returns the verification in words, such as "crc64nvme=… (read back)". A file that
// is wrong is removed again, and the error is ErrTryAgain that wraps ErrVerification.
// size is what was sent, in bytes.
func Verify(ctx context.Context, s Store, writing Writing, written Written, sent Hash, size int64) (string, error) {
	place := writing.Place
	stored, how := written.Verification, "told by the target"
	if written.ReadBack {
		how = "read back"
	}
	if writing.Verification == VerifyBySize && stored.Kind != sent.Kind && written.Size == size {
		return "size alone, as asked", nil
	}
	if stored.Kind != sent.Kind || writing.Verification == VerifyByReading && !written.ReadBack {
		var err error
		how = "read back"
		if stored, _, err = ReadBack(ctx, s, place, written.Revision, sent.Kind); err != nil {
			return "", Errorf(ErrOutcomeUnknown, "%s could not be read back: %w", place, err)
		}
	}
	if stored == sent {
		return sent.String() + " (" + how + ")", nil
	}
	_, err := s.Remove(ctx, place, written.Revision)
	return "", Errorf(ErrTryAgain, "%s arrived with %s and was sent with %s: %w", place, stored, sent, errors.Join(ErrVerification, err))
}
