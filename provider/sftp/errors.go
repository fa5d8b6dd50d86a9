package sftp

import (
	"errors"
	"io"
	"io/fs"
	"net"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"deftheron/core/store"
)

// The status codes of SFTP: those of version 3 (draft-ietf-secsh-filexfer-02,
// section 7), and of later versions, which servers send too (…-13, section 9.1).
const (
	statusFailure        = 4
	statusNoConnection   = 6
	statusConnectionLost = 7
	statusUnsupported    = 8
	statusExists         = 11
	statusReadOnly       = 12
	statusNoSpace        = 14
	statusQuota          = 15
	statusLocked         = 17
	statusNotEmpty       = 18
	statusNameInvalid    = 20
)

// wrap gives an error its kind.
func wrap(err error) error {
	if err == nil || store.KindOf(err) != nil {
		return err
	}
	var status *sftp.StatusError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return store.Errorf(store.ErrNotFound, "there is no such file or folder: %w", err)
	case errors.Is(err, fs.ErrPermission):
		return store.Errorf(store.ErrRefused, "the server permits it not to this user: %w", err)
	case errors.As(err, &status):
		return store.Errorf(kindOf(status.Code), "the server answered %q", status.Error())
	case isLost(err):
		return store.Errorf(store.ErrOutcomeUnknown, "the connection was lost before the answer came: %w", err)
	}
	return err
}

func kindOf(code uint32) error {
	switch code {
	case statusNoConnection, statusConnectionLost:
		return store.ErrOutcomeUnknown
	case statusUnsupported:
		return store.ErrUnsupported
	case statusExists:
		return store.ErrExists
	case statusNoSpace, statusQuota:
		return store.ErrNoSpace
	case statusLocked:
		return store.ErrLocked
	case statusNameInvalid:
		return store.ErrNameRefused
	case statusNotEmpty, statusReadOnly, statusFailure:
		return store.ErrRefused
	}
	return store.ErrRefused
}

// isFailure reports whether the server said no more than that it failed.
func isFailure(err error) bool { return store.KindOf(err) == store.ErrRefused }

// isLost reports whether an error is one of the connection.
func isLost(err error) bool {
	if err == nil {
		return false
	}
	var network net.Error
	var exit *ssh.ExitMissingError
	var status *sftp.StatusError
	return errors.Is(err, errLost) || errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.ErrClosedPipe) || errors.Is(err, net.ErrClosed) ||
		errors.As(err, &network) || errors.As(err, &exit) ||
		errors.As(err, &status) && (status.Code == statusConnectionLost || status.Code == statusNoConnection) ||
		store.KindOf(err) == store.ErrOutcomeUnknown
}
