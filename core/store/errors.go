package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"deftheron/core/remedy"
)

// The errors of a store. A provider wraps one of them in every error that it
// returns (see [Errorf]), and the engine decides by them alone. An error that
// wraps none of them is treated as ErrTryAgain is, with fewer tries.
var (
	// ErrNotFound: there is no such entry, folder or upload.
	ErrNotFound = errors.New("not found")
	// ErrExists: something has the name already.
	ErrExists = errors.New("already there")
	// ErrChanged: the revision is not the expected one.
	ErrChanged = errors.New("changed in the meantime")
	// ErrRefused: the store understood and will not, now or later.
	ErrRefused = errors.New("refused")
	// ErrSignInExpired: the sign-in is no longer accepted; a person has to mend it.
	ErrSignInExpired = errors.New("sign-in not accepted")
	// ErrSuspended: the account is out of use until a person resumes it.
	ErrSuspended = errors.New("suspended")
	// ErrNoSpace: the account or the disk is full.
	ErrNoSpace = errors.New("no space left")
	// ErrNameRefused: the store cannot hold the name.
	ErrNameRefused = errors.New("name refused")
	// ErrTooLarge: the store cannot hold a file of that size.
	ErrTooLarge = errors.New("too large")
	// ErrSlowDown: too many requests; see [Wait].
	ErrSlowDown = errors.New("asked to slow down")
	// ErrTryAgain: a fault that may pass: a lost connection, a 5xx answer,
	// a body that broke off, bytes that did not arrive as sent.
	ErrTryAgain = errors.New("temporary fault")
	// ErrOutcomeUnknown: the request may have been carried out.
	ErrOutcomeUnknown = errors.New("outcome unknown")
	// ErrLocked: the entry is locked; the text names the owner if the store
	// reports it. The lock may end.
	ErrLocked = errors.New("locked")
	// ErrReplaced: the account's start is another folder than it was when the
	// account was opened. Nothing that is remembered of it holds of this one.
	ErrReplaced = errors.New("another folder is there")
	// ErrUnsupported: the store has no such ability.
	ErrUnsupported = errors.New("not supported")
)

// typed carries one of the values above beside the words and the cause.
type typed struct {
	kind  error
	words string
	cause error
	wait  time.Duration
}

func (e *typed) Error() string { return e.words }

func (e *typed) Unwrap() []error {
	if e.cause == nil {
		return []error{e.kind}
	}
	return []error{e.kind, e.cause}
}

// Errorf returns an error of a kind with a text of the form "what is wrong; what to do",
// see [remedy.Errorf]. A %w in the format becomes its cause.
func Errorf(kind error, format string, args ...any) error {
	formatted := remedy.Errorf(format, args...)
	return &typed{kind: kind, words: formatted.Error(), cause: formatted}
}

// SlowDown returns an ErrSlowDown with the wait that the provider named, or 0.
func SlowDown(wait time.Duration, cause error) error {
	return &typed{kind: ErrSlowDown, words: fmt.Sprintf("asked to slow down: %v", cause), cause: cause, wait: wait}
}

// Wait returns how long the provider asked to wait, 0 where it did not say.
func Wait(err error) time.Duration {
	var t *typed
	if errors.As(err, &t) {
		return t.wait
	}
	return 0
}

// Transport turns an error of the network into one of ours: a request that may
// have reached the other side (sent) into ErrOutcomeUnknown, any other into
// ErrTryAgain. An error that is of ours already, and a cancelled context, are
// returned as they are.
func Transport(err error, sent bool) error {
	if err == nil || KindOf(err) != nil || errors.Is(err, context.Canceled) {
		return err
	}
	var op *net.OpError
	if sent && !(errors.As(err, &op) && op.Op == "dial") {
		return Errorf(ErrOutcomeUnknown, "the connection was lost before the answer came: %w", err)
	}
	return Errorf(ErrTryAgain, "the connection failed: %w", err)
}

// KindOf returns which of the values above err wraps, or nil: the outermost,
// where an error of one kind is the cause of another.
func KindOf(err error) error {
	var t *typed
	if errors.As(err, &t) {
		return t.kind
	}
	for _, kind := range []error{
		ErrNotFound, ErrExists, ErrChanged, ErrRefused, ErrSignInExpired, ErrSuspended, ErrNoSpace, ErrNameRefused,
		ErrTooLarge, ErrSlowDown, ErrOutcomeUnknown, ErrLocked, ErrReplaced, ErrUnsupported, ErrTryAgain,
	} {
		if errors.Is(err, kind) {
			return kind
		}
	}
	return nil
}

// WaitsForPerson reports whether an error lasts until a person has done something
// about the account. The work waits until then.
func WaitsForPerson(err error) bool {
	kind := KindOf(err)
	return kind == ErrSignInExpired || kind == ErrSuspended
}

// ShortBody is the error of a body that ended early.
func ShortBody(got, want int64) error {
	return Errorf(ErrTryAgain, "the body ended after %d of %d bytes: %w", got, want, io.ErrUnexpectedEOF)
}
