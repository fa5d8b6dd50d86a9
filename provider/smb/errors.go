package smb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"

	"github.com/hirochachacha/go-smb2"

	"deftheron/core/store"
)

// Codes of errors (MS-ERREF, section 2.3.1) that mean something here.
const (
	statusNameInvalid    = 0xC0000033
	statusSharing        = 0xC0000043
	statusQuota          = 0xC0000044
	statusLockConflict   = 0xC0000054
	statusDeletePending  = 0xC0000056
	statusLogonFailure   = 0xC000006D
	statusRestriction    = 0xC000006E
	statusExpired        = 0xC0000071
	statusDisabled       = 0xC0000072
	statusDiskFull       = 0xC000007F
	statusFewResources   = 0xC000009A
	statusWriteProtected = 0xC00000A2
	statusIsFolder       = 0xC00000BA
	statusNetworkGone    = 0xC00000C9
	statusBadNetworkName = 0xC00000CC
	statusNotEmpty       = 0xC0000101
	statusNoFolder       = 0xC0000103
	statusMustChange     = 0xC0000224
	statusLockedOut      = 0xC0000234
	statusSessionDeleted = 0xC0000203
	statusFewServer      = 0xC0000205
	statusDisconnected   = 0xC000020C
	statusSessionExpired = 0xC000035C
	statusTooLarge       = 0xC0000904
)

// expired are those of a sign-in that a person has to mend.
var expired = []uint32{statusLogonFailure, statusRestriction, statusExpired, statusDisabled, statusMustChange, statusLockedOut}

func meaning(code uint32) string {
	switch code {
	case statusExpired, statusMustChange:
		return "its password has expired and has to be changed"
	case statusDisabled:
		return "it was disabled"
	case statusLockedOut:
		return "it is locked, as it is after too many wrong passwords"
	case statusRestriction:
		return "it is not allowed in from here or now"
	}
	return "its name or its password is wrong"
}

func codeOf(err error) uint32 {
	var response *smb2.ResponseError
	if errors.As(err, &response) {
		return response.Code
	}
	return 0
}

func kindOf(code uint32) error {
	switch code {
	case statusNameInvalid:
		return store.ErrNameRefused
	case statusSharing, statusLockConflict, statusDeletePending:
		return store.ErrLocked
	case statusQuota, statusDiskFull:
		return store.ErrNoSpace
	case statusLogonFailure, statusRestriction, statusExpired, statusDisabled, statusMustChange, statusLockedOut:
		return store.ErrSignInExpired
	case statusFewResources, statusFewServer:
		return store.ErrTryAgain
	case statusNetworkGone, statusSessionDeleted, statusDisconnected, statusSessionExpired:
		return store.ErrOutcomeUnknown
	case statusNoFolder:
		return store.ErrNotFound
	case statusTooLarge:
		return store.ErrTooLarge
	}
	return store.ErrRefused
}

// wrap gives an error its kind.
func wrap(err error) error {
	if err == nil || store.KindOf(err) != nil || errors.Is(err, context.Canceled) {
		return err
	}
	var lost *smb2.TransportError
	var internal *smb2.InternalError
	var network net.Error
	switch code := codeOf(err); {
	case errors.Is(err, fs.ErrNotExist):
		return store.Errorf(store.ErrNotFound, "there is no such file or folder")
	case errors.Is(err, fs.ErrExist):
		return store.Errorf(store.ErrExists, "something has that name already")
	case errors.Is(err, fs.ErrPermission):
		return store.Errorf(store.ErrRefused, "the server permits it not to this user")
	case code == statusSharing:
		return store.Errorf(store.ErrLocked, "somebody has it open")
	case code == statusNotEmpty || code == statusIsFolder || code == statusWriteProtected:
		return store.Errorf(store.ErrRefused, "the server answered %w", err)
	case code != 0:
		return store.Errorf(kindOf(code), "the server answered with %#x: %w", code, err)
	case errors.As(err, &lost), errors.As(err, &network), errors.Is(err, net.ErrClosed):
		return store.Errorf(store.ErrOutcomeUnknown, "the connection was lost before the answer came: %w", err)
	case errors.As(err, &internal):
		return store.Errorf(store.ErrTryAgain, "%w", err)
	}
	return fmt.Errorf("%w", err)
}

// isLost reports whether an error is one of the connection.
func isLost(err error) bool { return store.KindOf(err) == store.ErrOutcomeUnknown }
