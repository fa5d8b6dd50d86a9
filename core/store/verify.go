package store

import (
	"context"
	"errors"
)

// ErrVerification is the error if a store holds other content than was sent to it.
var ErrVerification = errors.New("the bytes differ")

// Verify compares the hash that a store reports after a write with the hash of the
// content sent. If the store reports none of that kind, the file is read back. Verify
// returns the verification as a text, such as "crc64nvme=… (read back)". A wrong file is
// removed again, and the error is ErrTryAgain that wraps ErrVerification. size is the
// size of the content sent, in bytes.
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
