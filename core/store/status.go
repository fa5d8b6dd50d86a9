package store

import "net/http"

// KindOfStatus is the kind of error that an HTTP status alone stands for (RFC 9110,
// RFC 4918). What 409 means depends on the protocol.
func KindOfStatus(status int) error {
	switch status {
	case http.StatusUnauthorized:
		return ErrSignInExpired
	case http.StatusNotFound, http.StatusGone:
		return ErrNotFound
	case http.StatusPreconditionFailed:
		return ErrChanged
	case http.StatusRequestEntityTooLarge:
		return ErrTooLarge
	case http.StatusRequestURITooLong:
		return ErrNameRefused
	case http.StatusLocked:
		return ErrLocked
	case http.StatusInsufficientStorage:
		return ErrNoSpace
	case http.StatusRequestTimeout, http.StatusTooEarly:
		return ErrTryAgain
	case http.StatusNotImplemented, http.StatusMethodNotAllowed:
		return ErrUnsupported
	}
	if status >= 500 {
		return ErrTryAgain
	}
	return ErrRefused
}
